"""The commands of the Close-up: keys, labels, explanations, actions."""

from __future__ import annotations

from ..shell.commands import Command

TITLE = "the Close-up"
COMMANDS = [
    Command("v V", "switch view", "grid, text, parts, and the plots that the value has", "view(1) view(-1)"),
    Command("b B", "next bad cell", "nan, inf, missing; B: the previous", "bad(False) bad(True)"),
    Command("/", "slice", "for more than two dimensions, or a part: [3, :, ::2]; in a text: search", "slice"),
    Command("f", "filter", "rows where an expression over the columns is true: depth < 0", "filter"),
    Command("s", "sort", "by the cursor's column: ascending, descending, off", "sort"),
    Command("g", "go to", "a row, or a row and a column; an element of a list; a line of a text", "go_to"),
    Command("e", "set cell", "to another value, in the script", "set_cell"),
    Command("F", "find origin", "of the cell, or the value: which statement wrote it last, and from what", "origin"),
    Command("w", "compare", "with another value, a file, or itself at the last pause", "compare"),
    Command("m", "analyse matrix", "rank, condition number, symmetry, eigenvalues; z cancels", "matrix"),
    Command("n", "format numbers", "general, fixed, scientific, engineering, exact, hexadecimal, binary", "style"),
    Command(", .", "change digits", "fewer, more", "digits(-1) digits(1)"),
    Command("N", "set as default", "this format for all values that have none of their own", "general"),
    Command("t", "group digits", "by three, or not", "thousands"),
    Command("y Y", "copy", "the cell (exact), the summary; ctrl+y the row", "copy('cell') copy('facts')"),
    Command("ctrl+k", "save to Notes", "the summary or the plot", "keep"),
    Command("x", "export", "the grid as CSV, NPY, Parquet; a plot as SVG, PDF, PNG; the summary as .md", "export"),
    Command("+ -", "zoom", "a plot; left and right pan it, or move the reading line", "zoom(0.5) zoom(2.0)"),
    Command("l", "log axis", "of a plot", "log"),
    Command("k", "choose columns", "that are plotted", "columns"),
    Command(
        "o r", "show str()", "of an object, or one of its properties: its code runs in a copy", "own_text property"
    ),
    Command("tab", "next value", "", "other(1)", priority=True),
    Command("?", "help", "all keys and words, searchable", "help"),
    Command("escape", "back to Bench", "", "back", also="2 q"),
    Command("shift+tab", "", "", "other(-1)", priority=True),
    Command("ctrl+y", "", "", "copy('row')"),
    Command("left", "", "", "pan(-1)"),
    Command("right", "", "", "pan(1)"),
    Command("z", "", "", "cancel"),
]
