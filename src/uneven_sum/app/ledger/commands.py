"""The commands of the Ledger: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Ledger"
COMMANDS = [
    Command("b B", "next bad pass", "with a nan or inf, from the first; B: the previous", "bad(False) bad(True)"),
    Command("d", "largest change", "of the cursor's column from one pass to the next", "change"),
    Command("c", "next sign change", "of the column", "sign"),
    Command("< >", "minimum / maximum", "of the column, over all passes", "extreme('min') extreme('max')"),
    Command("s", "sort", "by the column: ascending, descending, off", "sort"),
    Command("f", "filter", "passes where an expression is true: head < 0 and number > 100", "filter"),
    Command("/ N", "find", "a text in any cell; N finds the next", "find find_next"),
    Command("g", "go to row", "of a pass", "jump"),
    Command("=", "mark pass", "lists what differs at the cursor", "compare"),
    Command("enter", "go to pass", "the script goes back, or on, to its start", "go_to_pass", priority=True),
    Command("W", "keep call", "goes to the pass, and keeps a call there as a test or as a small script", "keep_call"),
    Command("v", "switch view", "the table with the plot, the plot alone, or the table alone", "view"),
    Command("k", "choose columns", "that are plotted", "columns"),
    Command("h", "switch curve", "values, differences from pass to pass, ratios", "how"),
    Command("l", "log axis", "of the plot", "log"),
    Command("+ -", "zoom", "the plot; left and right pan it, or move the reading line", "zoom(0.5) zoom(2.0)"),
    Command("ctrl+k", "save to Notes", "the rows around the cursor or the plot", "keep"),
    Command("x", "export", "the table as CSV or Parquet, the plot as SVG, PDF or PNG", "export"),
    Command("y", "copy", "the row, exactly", "copy"),
    Command("n , .", "format numbers", "style, fewer and more digits", "style digits(-1) digits(1)"),
    Command("[ ]", "switch run", "of the loop: the previous, the next", "run(-1) run(1)"),
    Command("tab", "next loop", "its Ledger", "other", priority=True),
    Command("t", "time passes", "on or off", "times"),
    Command(
        "r",
        "record from start",
        "goes back to the start, and returns to this pause with every pass recorded",
        "record_again",
    ),
    Command("delete", "stop recording", "this loop", "record_off"),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back to Bench", "", "back", also="2 q"),
    Command("left", "", "", "pan(-1)"),
    Command("right", "", "", "pan(1)"),
]
