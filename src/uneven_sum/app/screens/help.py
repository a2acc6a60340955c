"""All keys and words of the Bench."""

from __future__ import annotations

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Input, Static

from ..theme import Palette
from ..widgets.fields import Field

KEYS = [
    ("space", "run this line", "to the next line of this call"),
    ("i", "into the call", "the next line anywhere in your code"),
    ("o", "out of the call", "until this call returns; its value is shown before it is used"),
    ("enter", "go on", "to the next pause"),
    ("z", "interrupt", "a running script"),
    ("backspace", "back", "to the pause before this one: values, random draws, open files, printed text"),
    ("b", "return points", "a list of the pauses one can go back to, with their memory"),
    ("p", "next pass", "the same place in the next pass; outside of loops, in the next call"),
    ("P", "to pass …", "of the innermost loop of this call"),
    ("L", "end of the loop", "until the innermost loop of this call is done"),
    ("h", "run to here", "to the cursor line"),
    ("s", "term by term", "the next term of the paused statement, in the order of evaluation"),
    ("S", "slow run", "steps by itself until a key; < and > change the pace"),
    ("y", "try again", "at an error: the statement that failed"),
    ("k", "skip", "at an error: leave the statement out and go on after it"),
    ("A", "accept here", "non-finite values at this line are meant"),
    ("m", "breakpoint", "on or off at the cursor line; or click its gutter"),
    ("M", "its sentence", "edit the lookout at the cursor line: condition, count, text, …"),
    ("u", "menu of the line", "make it the next one, leave the call, each element, …; or right click"),
    ("1", "desk", "another case; the script is ended"),
    ("6", "notes", "the kept evidence, and the report"),
    ("ctrl+k", "keep", "this pause, the last answer, or a text, with the case"),
    ("e", "edit", "the file in the sheet; once saved: run again, to the same place, or take the change up"),
    ("5", "lookouts", "all that can pause the script, as sentences"),
    ("l 4", "ledger", "the passes of the loops around the cursor line, recorded from now on: table and plot"),
    ("O", "open a file", "another source: yours, or a library's"),
    ("/ n", "search", "in the sheet; n finds the next"),
    ("ctrl+g", "go to", "a line, or the definition of a name"),
    ("ctrl+p", "palette", "all commands, by typing"),
    ("t", "terms", "of the statement at the cursor: unfold or fold"),
    ("tab", "values", "around the line, of this call, of the module, watched"),
    ("c", "close-up", "of the value at the cursor: facts, grid, plots; or click its card"),
    ("f", "find a value", "of this call or the module, by a part of its name"),
    ("E", "expect", "what the next pause will find: head will be 0.4; the answer stands in the headline"),
    ("a", "ask: expect `…`", "kept: expect `head > 0` at line 37 of FILE, or at each pause; listed in Lookouts"),
    ("w", "another version", "of the paused line (or the cursor's): tried beside the present one, put in the file"),
    ("v", "menu of a value", "open, watch, copy, …; or right click on its card"),
    ("+", "watch", "an expression, shown at each pause; again: not any more"),
    ("[ ]", "walk the trail", "to the calling and to the called function"),
    ("a", "ask", "an expression, without consequences; with ! before it, for good"),
    ("ctrl+g", "for good", "in the ask drawer: what was asked last, done in the script itself"),
    ("a", "ask: call f(x)", "run with all lookouts on, in a copy: pause and step in it, then back; x leaves it"),
    ("a", "ask: verify …", "EXPR [against FILE within ABS, REL]: told at the end of each run, beside the run before"),
    ("a", "ask: words", "plot EXPR [as KIND] [to FILE], table EXPR to FILE, open EXPR, watch EXPR, pause at …"),
    ("d", "output", "open or close the drawer; type input for the script there"),
    ("up down", "move the cursor", "also pageup, pagedown"),
    ("home", "paused line", "back to it"),
    ("R", "run again", "from the start, breakpoints kept"),
    ("X", "end the script", ""),
    ("T", "theme", "slate or chalk"),
    ("q", "leave", ""),
]
WORDS = [
    ("in", "the script is paused in the middle of this line"),
    ("next", "this line runs next; it has not run"),
    ("ran", "this line ran last"),
    ("‖", "a lookout of yours: if it has a condition, xN a count, log writes instead of pausing"),
    ("lookout", "anything that can pause the script"),
    ("tripwire", "error, warning, non-finite value: pauses without a breakpoint"),
    ("!", "not finite: nan or infinite"),
    ("culprit", "the deepest term at fault while its own operands are fine"),
    ("pass", "one iteration of a loop"),
    ("trail", "the calls from the script to the paused one"),
    ("return point", "a pause that one can go back to: a sleeping copy of the script"),
    ("trial", "an evaluation in a copy of the script: nothing is changed"),
    ("created", "a non-finite value made here from finite operands"),
    ("arrived", "a non-finite value that came from outside: a file, a text"),
]


CLOSE_UP_KEYS = [
    ("v V", "view", "grid, text, parts, and the plots that the value has"),
    ("b B", "bad cell", "the next, the previous that is not finite"),
    ("/", "slice", "for more than two dimensions, or a part: [3, :, ::2]"),
    ("f", "filter", "rows where an expression over the columns holds: depth < 0"),
    ("s", "sort", "by the cursor's column: rising, falling, not"),
    ("g", "go to", "a row, or a row and a column"),
    ("e", "set the cell", "to another value, for good"),
    ("w", "compare", "with another value, a file, or itself at the last pause"),
    ("m", "matrix", "rank, condition number, symmetry, eigenvalues; z gives it up"),
    ("n", "format", "general, fixed, scientific, engineering, exact, hexadecimal, binary"),
    (", .", "digits", "fewer, more"),
    ("N", "in general", "this format for all values that have none of their own"),
    ("t", "thousands", "in groups, or not"),
    ("y Y", "copy", "the cell (exact), the summary; ctrl+y the row"),
    ("ctrl+k", "keep", "the summary or the plot, with the case"),
    ("x", "export", "the grid as CSV, NPY, Parquet; a plot as SVG, PDF; the summary as .md"),
    ("+ -", "zoom", "a plot; left and right pan it, or move the reading line"),
    ("l", "log axis", "of a plot"),
    ("k", "columns", "that are plotted"),
    ("o r", "own text", "of an object, by its own code; one of its properties: in a trial"),
    ("tab", "next value", ""),
    ("escape", "to the Bench", ""),
]


NOTES_KEYS = [
    ("ctrl+k", "keep", "on the Bench, a Close-up and the Ledger: what is shown there"),
    ("w", "write the report", "Markdown, with its pictures beside it"),
    ("t", "add a text", "of your own"),
    ("e", "edit", "the title; of a text of your own, the text"),
    ("< >", "up and down", "the order in the report"),
    ("delete u", "remove, undo", ""),
    ("escape", "to the Bench", ""),
]
DESK_KEYS = [
    ("up down", "cases", "recent ones, then the shipped"),
    ("enter", "run it", "with pauses, on the Bench"),
    ("f", "at full speed", "without pauses, checks and return points"),
    ("tab", "its entries", "arguments, interpreter, folder, environment, what to pause on, input; escape leaves them"),
    ("o", "another file", "by typing a part of its path"),
    ("m", "a module", "run by its name"),
    ("i", "interpreter", "one of the environments found nearby"),
    ("n", "next finding", "what is wrong in the text, errors first"),
    ("e", "edit", "the script's text"),
    ("k", "what is looked for", "each kind of finding can be turned off"),
    ("T", "theme", "slate or chalk"),
    ("q", "leave", ""),
]
LEDGER_KEYS = [
    ("b B", "bad pass", "the first, then the next (the previous) with a value that is not finite"),
    ("d", "largest change", "of the cursor's column from one pass to the next"),
    ("c", "sign", "the next pass in which the column changes its sign"),
    ("< >", "minimum, maximum", "of the column, over all passes"),
    ("s", "sort", "by the column: rising, falling, in the order of the passes"),
    ("f", "filter", "passes where an expression holds: head < 0 and number > 100"),
    ("/ N", "find", "a text in any cell; N finds the next"),
    ("g", "go to", "the row of a pass"),
    ("=", "beside", "keeps this pass; what differs in the one under the cursor is listed"),
    ("enter", "go to this pass", "the script goes back, or runs, to where it begins"),
    ("v", "plot, table", "by pass, with the present one marked"),
    ("k", "columns", "that are plotted"),
    ("h", "how", "values, differences from pass to pass, ratios"),
    ("l", "log axis", "of the plot"),
    ("+ -", "zoom", "the plot; left and right pan it, or move the reading line"),
    ("ctrl+k", "keep", "the rows around the cursor or the plot, with the case"),
    ("x", "export", "the table as CSV or Parquet, the plot as SVG or PDF"),
    ("y", "copy", "the row, exactly"),
    ("n , .", "format", "of the numbers: style, fewer and more digits"),
    ("[ ]", "runs", "of the loop: the previous, the next"),
    ("tab", "next ledger", "of another loop"),
    ("t", "times", "how long each pass takes, too; again: no longer"),
    ("r", "record from the start", "goes back to the start, and returns here with every pass recorded"),
    ("delete", "record no longer", "this loop"),
    ("escape", "to the Bench", ""),
]


class Help(ModalScreen[None]):
    """Searchable; escape leaves."""

    DEFAULT_CSS = """
    Help { align: center middle; }
    Help VerticalScroll { width: 104; max-width: 96%; height: 90%; padding: 1 2; }
    Help VerticalScroll { background: $panel; border: solid $rule; }
    Help Input { border: none; height: 1; background: $background; margin-bottom: 1; padding: 0 1; }
    """
    BINDINGS = [Binding("escape", "dismiss", "close")]

    def __init__(
        self, palette: Palette, keys: list[tuple[str, str, str]] = KEYS, title: str = "Keys of the Bench"
    ) -> None:
        super().__init__()
        self.palette, self.keys_, self.title_ = palette, keys, title

    def compose(self) -> ComposeResult:
        with VerticalScroll():
            yield Field(placeholder="search keys and words; escape closes", compact=True)
            yield Static(self._text(""), id="all")

    def on_mount(self) -> None:
        self.query_one(Input).focus()

    def on_input_changed(self, event: Input.Changed) -> None:
        self.query_one("#all", Static).update(self._text(event.value.strip().lower()))

    def on_input_submitted(self) -> None:
        self.dismiss()

    def _text(self, wanted: str) -> Text:
        p = self.palette
        out = Text()
        keys = [k for k in self.keys_ if wanted in " ".join(k).lower()]
        words = [w for w in WORDS if wanted in " ".join(w).lower()]
        if keys:
            out.append(f"{self.title_}\n", f"bold {p.at}")
        for key, does, more in keys:
            out.append(f"  {key:<9}", f"bold {p.text}")
            out.append(f"{does:<17}", p.text)
            out.append(f"{more}\n", p.quiet)
        if words:
            out.append("\nWords and signs\n", f"bold {p.at}")
        for word, means in words:
            out.append(f"  {word:<9}", f"bold {p.text}")
            out.append(f"{means}\n", p.quiet)
        if not keys and not words:
            out.append("Nothing here is called so.", p.quiet)
        return out


class Sure(ModalScreen[bool]):
    """Asks once before something that cannot be taken back."""

    DEFAULT_CSS = """
    Sure { align: center middle; }
    Sure Static { width: 60; height: auto; background: $panel; padding: 1 2; border: solid $rule; }
    """
    BINDINGS = [
        Binding("enter,q", "answer(True)", "leave"),
        Binding("escape,n", "answer(False)", "stay"),
    ]

    def __init__(self, palette: Palette, question: str, yes: str = "does it", no: str = "leaves it") -> None:
        super().__init__()
        self.palette, self.question, self.yes, self.no = palette, question, yes, no

    def compose(self) -> ComposeResult:
        p = self.palette
        yield Static(
            Text.assemble(
                (self.question + "\n\n", p.text),
                ("enter", f"bold {p.text}"),
                (f" {self.yes} · ", p.quiet),
                ("escape", f"bold {p.text}"),
                (f" {self.no}", p.quiet),
            )
        )

    def action_answer(self, yes: bool) -> None:
        self.dismiss(yes)
