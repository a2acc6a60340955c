"""The part of Uneven Sum that lives inside the script's own interpreter.

Standard library only, and nothing of Uneven Sum outside this package: the script's interpreter need
not have either.  `boot.py` starts it.  The plan, in the order of the run:

`loader`    decides which modules are the user's and gives them rewritten code
`rewrite`   inserts the probes into the syntax tree, `expressions` those below the statement
            (`source` remembers what stood there)
`probes`    are what the rewritten code calls: result checks, statement guards, loop meters
`nonfinite` finds nan and inf in a value; `judge` says created, arrived or carried
`handled`   says whether an exception will be handled further up the stack
`terms`     takes a statement apart; `reasons` words why; `trial` evaluates in a fork
`stack`     reads frames, loops and trails; `motion` steps
`report`    composes what a pause says, `ending` the one after the last line
`engine`    decides when to pause and holds the pause; `requests` answers what the host asks (`ask`, `cards`)
`values`    summarises values, one line each; `wire` frames the messages
"""
