"""The outputs of each cell: what it writes, what it displays, the value of its last expression, its figures."""

from __future__ import annotations

import base64
import os
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import field
from typing import Any

from ..core import run_state
from ..core.records import record
from ..core.transport import Closed, Wire
from ..source.cells import Cell, Cells

MOST_TEXT = 200_000  # characters of a text that is sent
MOST_DATA = 4_000_000  # bytes of a picture that is sent
RICH = {"text/html": "_repr_html_", "text/markdown": "_repr_markdown_", "text/latex": "_repr_latex_"}
PICTURES = {"image/png": "_repr_png_", "image/svg+xml": "_repr_svg_"}


@record
class Output:
    """One output.  `kind`: text (written), value (of the last expression), shown (by `display`), figure."""

    kind: str
    text: str
    data: dict[str, str] = field(default_factory=dict)  # by media type; pictures other than SVG in base64

    def told(self) -> dict[str, object]:
        return {"kind": self.kind, "text": self.text[:MOST_TEXT], "data": self.data}


class Outputs:
    """Keeps the outputs of the cell under way, and tells those of each that ends."""

    def __init__(self, wire: Wire, cells: Cells, names: dict[str, Any]) -> None:
        self.wire, self.cells, self.names = wire, cells, names
        self.cell: Cell | None = None
        self.kept: list[Output] = []
        self.counts = 0  # cells that have begun
        self.began = 0.0
        self.timed = False
        self.captured: tuple[str, int] | None = None  # the name for what is captured, and the first output that is
        self.at_begin: list[Callable[[str], None]] = []  # given the source of each cell that begins
        self.at_end: list[Callable[[], None]] = []  # what is done at the end of each cell
        self.told: dict[int, list[dict[str, Any]]] = {}  # of cells that have ended
        self.values: dict[int, object] = {}  # of their last expressions, where they are arrays or frames
        self.history = cells.uses_history()

    def begins(self, number: int) -> None:
        """A cell begins."""
        self.cell = self.cells.of(number)
        self.values.pop(number, None)
        for ready in self.at_begin:
            ready(self.cells.source(number))
        self.kept, self.timed, self.captured, self.began = [], False, None, time.perf_counter()
        self.counts += 1
        if self.history:
            self.names.setdefault("In", [""]).append(self.cells.source(number))
            self.names.setdefault("Out", {})

    def ends(self) -> None:
        """The cell under way is over: sends its outputs."""
        if self.cell is None or run_state.in_trial:
            return
        for step in self.at_end:
            try:
                step()
            except Exception as e:  # of a figure that cannot be drawn, say
                self.add(Output("text", f"{type(e).__name__}: {e}\n"))
        if self.timed:
            print(f"Wall time: {time.perf_counter() - self.began:.3g} s")
        if self.captured is not None:
            name, first = self.captured
            gone = self.kept[first:]
            del self.kept[first:]
            if name:
                self.names[name] = Captured("".join(one.text for one in gone if one.kind == "text"))
        told = [one.told() for one in self.kept]
        cell, self.cell = self.cell, None
        self.told[cell.number] = told
        self.tell("unevenSum/cellEnded", {"number": cell.number, "id": cell.id, "outputs": told})

    def tell(self, event: str, body: dict[str, object]) -> None:
        try:
            self.wire.event(event, body)
        except Closed:
            pass

    def add(self, output: Output) -> None:
        self.kept.append(output)

    def written(self, text: str) -> bool:
        """What the cell writes; True where it is captured, and so not shown."""
        if self.cell is None or run_state.in_trial:
            return False
        last = self.kept[-1] if self.kept else None
        if last is not None and last.kind == "text" and not (self.captured and self.captured[1] == len(self.kept)):
            if len(last.text) < MOST_TEXT:
                last.text += text
        else:
            self.kept.append(Output("text", text))
        return self.captured is not None

    def shown(self, value: object, number: int) -> object:
        """The value of a cell's last expression."""
        if value is None or run_state.in_trial:
            return value
        if getattr(value, "shape", ()):  # an array or a frame, to be opened later
            self.values[number] = value
        if self.history:
            names = self.names
            names["___"], names["__"], names["_"] = names.get("__", ""), names.get("_", ""), value
            names.setdefault("Out", {})[self.counts] = value
        self.show(value, "value")
        return value

    def display(self, *values: object, **options: object) -> None:
        """Show values as outputs of the cell, in their richest form."""
        for value in values:
            self.show(value, "shown")

    def clear(self, wait: bool = False) -> None:
        """Forget what the cell has given so far, as `clear_output` does."""
        if self.cell is not None and not run_state.in_trial:
            self.kept.clear()

    def show(self, value: object, kind: str) -> None:
        """A rich form that raises is left out; what `repr` raises is the script's."""
        text = _pretty(value) or repr(value)
        data = {}
        if not isinstance(value, type):
            for media, name in (*RICH.items(), *PICTURES.items()):
                found = _form(value, name)
                if found:
                    data[media] = found
        output = Output(kind, text[:MOST_TEXT], data)
        if self.captured is not None:
            self.add(output)
            return
        stream, write = sys.stdout, plain_write
        try:
            (write or stream.write)(text + "\n")
        except Exception:  # the script has closed its output
            pass
        self.add(output)


class Captured:
    """What `%%capture NAME` keeps."""

    def __init__(self, text: str) -> None:
        self.stdout, self.stderr = text, ""

    def __str__(self) -> str:
        return self.stdout

    def show(self) -> None:
        print(self.stdout, end="")

    __call__ = show


plain_write: Callable[[str], object] | None = None


def keep_what_is_written(outputs: Outputs) -> None:
    """What goes to standard output is kept for the cell, too."""
    global plain_write
    stream = sys.stdout
    if stream is None:
        return
    plain_write = original = stream.write

    def write(text: str) -> int:
        if outputs.written(text):
            return len(text)
        return original(text)

    try:
        stream.write = write  # type: ignore[method-assign]  # print and the script find it there
    except AttributeError:
        plain_write = None


class _Printer:
    """As much of IPython's printer as a `_repr_pretty_` mostly asks for."""

    def __init__(self) -> None:
        self.parts: list[str] = []

    def text(self, text: str) -> None:
        self.parts.append(text)

    def breakable(self, sep: str = " ") -> None:
        self.parts.append(sep)

    def pretty(self, value: object) -> None:
        self.parts.append(repr(value))

    def break_(self) -> None:
        self.parts.append("\n")

    @contextmanager
    def group(self, indent: int = 0, open: str = "", close: str = "") -> Iterator[None]:
        self.parts.append(open)
        yield
        self.parts.append(close)


def _pretty(value: object) -> str:
    """The text that a value gives of itself for notebooks, with IPython's printer where it is loaded; else empty."""
    made = getattr(type(value), "_repr_pretty_", None)
    if made is None or isinstance(value, type):
        return ""
    try:
        known: Any = sys.modules.get("IPython.lib.pretty")
        if known is not None:
            return str(known.pretty(value))
        printer = _Printer()
        made(value, printer, False)
        return "".join(printer.parts)
    except Exception:
        return ""


def _form(value: object, name: str) -> str:
    """One rich form of a value; empty where it has none."""
    made = getattr(type(value), name, None)
    if made is None:
        return ""
    try:
        found = made(value)
    except Exception:
        return ""
    if isinstance(found, tuple):
        found = found[0]
    if isinstance(found, bytes):
        return base64.b64encode(found).decode() if len(found) < MOST_DATA else ""
    return found if isinstance(found, str) and len(found) < MOST_DATA else ""


def figure_of(png: bytes, text: str) -> Output:
    return Output("figure", text, {"image/png": base64.b64encode(png).decode()} if len(png) < MOST_DATA else {})


def use_agg() -> None:
    """matplotlib draws into memory, as a notebook's own does."""
    os.environ.setdefault("MPLBACKEND", "agg")
