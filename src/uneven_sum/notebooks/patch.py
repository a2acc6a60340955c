"""Puts an edited text into a notebook's file; what did not change keeps its bytes.

The file is not written anew from its values: its own text is cut where a cell's source stands, so that metadata, ids,
outputs, the order of keys, and the indentation are what they were.
"""

from __future__ import annotations

import difflib
import json
import uuid
from dataclasses import dataclass, field
from json.decoder import JSONDecoder, scanstring  # type: ignore[attr-defined]  # of the module, though not in its stubs

from .cells import Cell
from .sheet import cells_in_sheet, sheet_of

Span = tuple[int, int]
LIKE = 0.5  # share of equal text from which on a cell is an edited one, not a new one
DECODER = JSONDecoder()


@dataclass
class _Raw:
    """A cell in the file's text: where it is, where its source and its metadata are."""

    cell: Cell
    span: Span
    parts: dict[str, Span]
    items: list[tuple[str, str]] = field(default_factory=list)  # of a source that is a list: each line, and as it is


def patched(data: bytes, new: str) -> bytes:
    """The bytes of a notebook whose text is `new`.  ValueError where `data` is no notebook."""
    text = data.decode("utf-8")
    if text.startswith("\ufeff"):
        return b"\xef\xbb\xbf" + patched(text[1:].encode(), new)
    top = _members(text, _skip(text, 0))
    whole = top["cells"]
    old = [_raw(text, span) for span in _items(text, whole[0])]
    cells = cells_in_sheet(new)
    style = _Style.of(text, whole, old)
    with_ids = json.loads(text[slice(*top["nbformat_minor"])]) >= 5 if "nbformat_minor" in top else False
    parts = [
        style.new_cell(cell, with_ids) if was is None else style.changed(text, was, cell)
        for cell, was in _paired(old, cells)
    ]
    if not parts:
        made = "[]"
    else:
        made = "[" + style.lead + style.between.join(parts) + style.end + "]"
    found = (text[: whole[0]] + made + text[whole[1] :]).encode()
    if _text_of(found) != sheet_of(cells)[0]:
        raise ValueError("the notebook would read otherwise than what was typed")
    return found


def _text_of(data: bytes) -> str:
    from .files import sheet

    return sheet(data)[0]


def _paired(old: list[_Raw], cells: list[Cell]) -> list[tuple[Cell, _Raw | None]]:
    """Each new cell with the one that it was, None where there was none."""
    before = [(one.cell.kind, one.cell.source) for one in old]
    after = [(one.kind, one.source) for one in cells]
    found: list[tuple[Cell, _Raw | None]] = []
    matcher = difflib.SequenceMatcher(None, before, after, autojunk=False)
    for tag, first, last, to_first, to_last in matcher.get_opcodes():
        if tag == "equal" or (tag == "replace" and last - first == to_last - to_first):
            found += zip(cells[to_first:to_last], old[first:last])
            continue
        rest = old[first:last]
        for cell in cells[to_first:to_last]:
            was = max(rest, key=lambda one: _alike(one.cell, cell), default=None)
            if was is not None and _alike(was.cell, cell) < LIKE:
                was = None
            found.append((cell, was))
            if was is not None:
                rest = rest[rest.index(was) + 1 :]
    return found


def _alike(a: Cell, b: Cell) -> float:
    """The share of the shorter text that is in the other: 1 for a part of a cell that was taken apart."""
    if a.kind != b.kind:
        return 0.0
    size = min(len(a.source), len(b.source))
    if not size:
        return 0.0
    blocks = difflib.SequenceMatcher(None, a.source, b.source, autojunk=False).get_matching_blocks()
    return sum(block.size for block in blocks) / size


@dataclass
class _Style:
    """How the file is written: what stands before the first cell, between two, and after the last one."""

    lead: str = "\n  "
    between: str = ",\n  "
    end: str = "\n "
    ascii: bool = False
    listed: tuple[str, str, str] = ("\n    ", ",\n    ", "\n   ")  # around the lines of a source

    @classmethod
    def of(cls, text: str, whole: Span, old: list[_Raw]) -> _Style:
        style = cls()
        style.ascii = text.isascii() and "\\u" in text
        if old:
            style.lead, style.end = text[whole[0] + 1 : old[0].span[0]], text[old[-1].span[1] : whole[1] - 1]
            style.between = "," + style.lead
        if len(old) > 1:
            style.between = text[old[0].span[1] : old[1].span[0]]
        if "\n" not in style.lead:
            style.listed = ("", ", ", "")
        for one in old:
            start, end = one.parts["source"]
            spans = _items(text, start) if text[start] == "[" else []
            if len(spans) > 1:
                between = text[spans[0][1] : spans[1][0]]
                style.listed = (text[start + 1 : spans[0][0]], between, text[spans[-1][1] : end - 1])
                break
        return style

    def changed(self, text: str, was: _Raw, cell: Cell) -> str:
        """The text of a cell with another source, and title."""
        start, end = was.span
        cuts: list[tuple[Span, str]] = []
        if was.cell.source != cell.source:
            span = was.parts["source"]
            as_list = text[span[0]] == "["
            cuts.append((span, self._source(cell.source, was.items) if as_list else self._dumped(cell.source)))
        if was.cell.title != cell.title and "metadata" in was.parts:
            span = was.parts["metadata"]
            metadata = json.loads(text[slice(*span)])
            metadata.pop("title", None)
            cuts.append((span, self._dumped({**metadata, **({"title": cell.title} if cell.title else {})})))
        made, at = "", start
        for (first, last), new in sorted(cuts):
            made += text[at:first] + new
            at = last
        return made + text[at:end]

    def new_cell(self, cell: Cell, with_id: bool) -> str:
        told: dict[str, object] = {"cell_type": cell.kind}
        if cell.kind == "code":
            told["execution_count"] = None
        if with_id:
            told["id"] = uuid.uuid4().hex[:8]
        told["metadata"] = {"title": cell.title} if cell.title else {}
        if cell.kind == "code":
            told["outputs"] = []
        _, _, margin = self.lead.rpartition("\n")
        if "\n" not in self.lead:
            return self._dumped({**told, "source": cell.source})
        step = "\t" if "\t" in margin else " " * max(1, len(margin) // 2)
        rows = [f"{margin}{step}{json.dumps(key)}: {self._dumped(value)}" for key, value in told.items()]
        rows.append(f'{margin}{step}"source": {self._source(cell.source, [])}')
        return "{\n" + ",\n".join(rows) + f"\n{margin}}}"

    def _source(self, source: str, items: list[tuple[str, str]]) -> str:
        """A source as a list of lines; a line that was there is written as it was."""
        if not source:
            return "[]"
        known = dict(items)
        lines = source.split("\n")
        parts = [line + "\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])
        lead, between, end = self.listed
        return "[" + lead + between.join(known.get(part) or self._dumped(part) for part in parts) + end + "]"

    def _dumped(self, value: object) -> str:
        return json.dumps(value, ensure_ascii=self.ascii)


def _raw(text: str, span: Span) -> _Raw:
    parts = _members(text, span[0])
    told = json.loads(text[slice(*span)])
    source = told["source"]
    items = []
    if isinstance(source, list):
        spans = _items(text, parts["source"][0])
        items = [(_plain(line), text[slice(*at)]) for line, at in zip(source, spans)]
        source = "".join(source)
    title = " ".join(str(told.get("metadata", {}).get("title", "")).split())
    return _Raw(Cell(told["cell_type"], _plain(source), title), span, parts, items)


def _plain(text: str) -> str:
    return text.replace("\r\n", "\n").replace("\r", "\n")


# -- places in a JSON text ---------------------------------------------------------------------------


def _skip(text: str, at: int) -> int:
    while text[at] in " \t\r\n":
        at += 1
    return at


def _members(text: str, at: int) -> dict[str, Span]:
    """Where the values of an object stand; `at`: of its brace."""
    found: dict[str, Span] = {}
    at = _skip(text, at + 1)
    while text[at] != "}":
        key, at = scanstring(text, at + 1)
        at = _skip(text, _skip(text, at) + 1)
        _, end = DECODER.raw_decode(text, at)
        found[key] = (at, end)
        at = _skip(text, end)
        if text[at] == ",":
            at = _skip(text, at + 1)
    return found


def _items(text: str, at: int) -> list[Span]:
    """Where the items of an array stand; `at`: of its bracket."""
    found = []
    at = _skip(text, at + 1)
    while text[at] != "]":
        _, end = DECODER.raw_decode(text, at)
        found.append((at, end))
        at = _skip(text, end)
        if text[at] == ",":
            at = _skip(text, at + 1)
    return found
