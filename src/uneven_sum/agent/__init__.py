"""The part of Uneven Sum that runs inside the script's own interpreter.

It uses the standard library alone, and nothing of Uneven Sum outside this package: the script's interpreter may have
neither.  `boot.py` starts it; `main.py` becomes the script.  A room imports from those above it in this list only:

`core`       flags of the run, transport, signals, text, errors
`source`     the user's source: syntax trees, statements, sites of the probes
`values`     non-finite values found; values described, measured, compared; `kinds` has one file a kind
`frames`     calls on the stack: names, loops and passes, exception handlers
`diagnosis`  why a value is bad: terms, culprit, provenance, reasons
`recording`  recorded loops; the stream of values for comparing runs
`lookouts`   breakpoints: where they stand, when they count
`rewrite`    puts the probes into a syntax tree
`probes`     the functions that rewritten code calls
`stepping`   line tracing, and jumps
`trials`     evaluation in a copy of the process, and in the script itself
`pause`      what a pause says
`reload`     gives the user's modules their rewritten code; applies edits
`rewind`     snapshots
`triggers`   what pauses the script
`audit`      rules that look at operands and results, for an audit run
`shaking`    moves inexact results by one unit in the last place, for runs that show the digits that hold
`origin`     runs the script again in a copy, to find what wrote a value
`engine`     decides when to pause, and holds the pause
`requests`   answers the host
"""
