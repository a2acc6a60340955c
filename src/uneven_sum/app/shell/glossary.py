"""The words and signs of the screens, each with the words of the trade beside it: for `?` and docs/glossary.md."""

from __future__ import annotations

WORDS = [
    ("in", "the script is paused in the middle of this line"),
    ("next", "this line runs next; it has not run"),
    ("ran", "this line ran last"),
    ("‖", "your breakpoint: if a condition, xN a hit count, log writes and goes on (logpoint)"),
    ("lookout", "anything that can pause the script: a breakpoint or a tripwire"),
    ("tripwire", "automatic pause at an error (exception), a warning, nan or inf"),
    ("!", "non-finite: nan or infinite"),
    ("terms", "the subexpressions of a statement"),
    ("culprit", "innermost faulty term whose operands are fine: the root cause"),
    ("pass", "one iteration of a loop"),
    ("cell 7, line 2", "a place of a notebook: cells are counted from its top; In [12] is the count in its file"),
    ("trail", "the calls from the script to the paused function: call stack, backtrace, frames"),
    ("return point", "snapshot (checkpoint): a sleeping copy of the script to go back to"),
    ("trial", "an evaluation in a copy of the script: the script is unchanged (dry run, sandbox)"),
    ("created", "nan or inf made here from finite operands; a complex number from real ones"),
    (
        "from input",
        "nan or inf that came from outside: a file, a text; from a worker, from another process: passed on by it",
    ),
    ("propagated", "nan or inf that came from an operand or from your own function"),
    ("Desk", "start screen: scripts and their run options (run configuration)"),
    ("Bench", "main screen of a running or paused script (debugger view)"),
    ("Close-up", "one value: statistics, table, plots (inspector, array viewer)"),
    ("Ledger", "the recorded passes of a loop (loop trace, iteration log)"),
    ("Findings", "what an audit has found: results that are finite and wrong (numerical lint, sanity check)"),
    ("audit", "a run without pauses that looks for results that are finite and wrong"),
    ("digits", "decimal digits that hold: they are the same in runs with other last digits (significant digits)"),
    ("origin", "the statement that wrote a value last, and from what; a chain of them (provenance, data flow, slice)"),
    ("Differences", "two runs side by side: where their values differ (comparison, diff, regression)"),
    ("Lookouts", "screen of all that can pause (breakpoints, hit counts, logpoints)"),
    ("Notes", "saved evidence, source of the report (log)"),
    ("case", "a script with its run options and its saved breakpoints, watches and notes (project, session)"),
]
