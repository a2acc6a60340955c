"""Tells each stored, returned and tested value at once: place and value as small records, in blocks.

The stream is a sequence of frames: a kind (`P` a place as JSON, `R` records, `E` the end), a length (u32,
little-endian), and the data.  Records: their number n (u32), n times the place with the part (the part above PART_BIT;
bit 31: a value goes on) and the value, both as float64; after a record of the part TERM, whose value is a result, comes
one of its two operands.  Places are sent before their first records, also those that never have one, and a text (`T`,
JSON) before its number is.  Blocks hold the same number of records in every run.
"""

from __future__ import annotations

import json
import math
import re
import socket
import struct
import threading
import types
import zlib
from collections.abc import Callable
from typing import Any

from ..core import run_state, signal_masking
from ..core.data_types import Column
from ..core.type_identity import is_one_of
from ..source.sites import sites
from ..values import nonfinite
from ..values.held_arrays import held_array
from . import unset_memory

BLOCK = 8192  # records
FULL = 2 * BLOCK
BUFFER = 1 << 20  # bytes that the socket takes without a reader
PART_BIT = 24  # places below, parts of a value above
MASK = (1 << PART_BIT) - 1
CONTINUED = 0x80  # a further record of the value that the one before began
FLOAT, INTEGER, CONSTANT, IMAGINARY, TEXT, KIND, LENGTH, SUM, LOWEST, HIGHEST, BAD, CELL = range(12)
LEFT, RIGHT, TERM, SINGLE, SINGLE_CELL, LOOP = range(12, 18)  # LOOP: a loop begins; it has no value
EXACT = 2**53
ELEMENTS = 8  # of a list, dict or array that are sent
COLUMNS = 20  # of a frame
DEEP = 3
ROLES = {
    "value",
    "return",
    "yield",
    "test",
    "result",
    "augmented",
    "audit",
    "running",
    "loop",
}  # of sites whose values are sent
TEXTS = 5_000  # that are sent in full, up to so many characters each:
SHOWN = 80
ADDRESS = re.compile(r"0x[0-9a-fA-F]+")
Tell = Callable[[int, int, float | str], None]


class ValueStream:
    """The stream of one run, into a connected socket."""

    def __init__(self, path: str) -> None:
        self.sock = socket.socket(socket.AF_UNIX)
        self.sock.connect(path)
        self.sock.set_inheritable(False)
        # A block or more fits in: the script does not wait for the reader at each.
        self.sock.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, BUFFER)
        self.pending: list[float] = []  # place, value, place, …; both come as one, so that threads do not mix them
        self.lock = threading.Lock()
        self.told = 0  # sites
        self.texts: set[float] = set()
        self.further = 0
        self.gone = False

    def probes(self) -> dict[str, object]:
        """The functions by their marks."""
        return {
            **{"stream": self._probe(), "stream_add": self.pending.extend, "stream_pending": self.pending},
            **{"stream_flush": self.flush, "stream_length": len, "stream_most": FULL},
            "unset": unset_memory.filled,
        }

    def _probe(self) -> Callable[..., object]:
        """`‹stream›(value, site)`: tells the value and gives it back."""
        pending, add = self.pending, self.pending.extend
        other, flush = self._other, self.flush
        constant, integer = CONSTANT << PART_BIT, INTEGER << PART_BIT

        def stream(value: Any, site: int, _: None = None) -> object:
            kind = type(value)
            if kind is float:
                add((site, value))
            elif kind is bool:
                add((site | constant, value))
            elif kind is int and -EXACT <= value <= EXACT:
                add((site | integer, value))
            else:
                other(value, site)
            if len(pending) >= FULL:
                flush()
            return value

        return stream

    def _tell_place(self, site: int) -> None:
        of = sites[site]
        line, column, last, end = of.expression or of.statement
        told = {
            **{"place": site, "file": of.file.path, "line": line, "column": column, "last": last, "end": end},
            **{"role": of.role, "statement": of.statement[0]},
        }
        self._send(b"P", json.dumps(told).encode())

    def in_child(self) -> None:
        """A copy of the process tells nothing."""
        self.gone = True

    def _other(self, value: object, site: int) -> None:
        if run_state.quiet:
            return
        quiet, run_state.quiet = run_state.quiet, True
        self.further = 0
        try:
            tell_value(value, site, self._tell, 0)
        except Exception as e:
            if signal_masking.is_the_scripts(e):
                raise
            self._tell(site, KIND, type(value).__name__)
        finally:
            run_state.quiet = quiet

    def tell_term(self, site: int, result: Any, operands: tuple[object, ...]) -> None:
        """A term of a shaken run with up to two operands: only numbers and arrays of them."""
        if not _is_numeric(result):
            return
        self.further = 0
        np = nonfinite.module("numpy")
        if np is not None and type(result) is np.ndarray:
            part = SINGLE_CELL if result.dtype.itemsize == 4 else CELL
            for number in _numbers_of(result):
                self._tell(site, part, number)
        else:
            tell_value(result, site, self._tell, 0)
        for part, operand in zip((LEFT, RIGHT), operands):
            for number in _numbers_of(operand):
                self._tell(site, part, number)
        if len(self.pending) >= FULL:
            self.flush()

    def _tell(self, site: int, part: int, value: float | str) -> None:
        number = self._number(value) if type(value) is str else value
        self.pending.extend((site | (part | self.further) << PART_BIT, number))  # type: ignore[arg-type]  # no text
        self.further = CONTINUED

    def _number(self, text: str) -> float:
        number = _digest(text)
        if number not in self.texts and len(self.texts) < TEXTS:
            with signal_masking.held(), self.lock:
                self.texts.add(number)
                self._send(b"T", json.dumps([number, text[:SHOWN]]).encode("utf-8", "replace"))
        return number

    def flush(self) -> None:
        """Sends whole blocks, so that equal runs give equal bytes."""
        with signal_masking.held(), self.lock:  # a handler that raises would leave half a frame
            while len(self.pending) >= FULL:
                self._block(FULL)

    def end(self) -> None:
        self.flush()
        with signal_masking.held(), self.lock:
            if self.pending:
                self._block(len(self.pending))
            self._send(b"E", b"")
            self.gone = True
            self.sock.close()

    def _block(self, count: int) -> None:
        taken = self.pending[:count]
        del self.pending[:count]
        while self.told < len(sites):
            if sites[self.told].role in ROLES:
                self._tell_place(self.told)
            self.told += 1
        self._send(b"R", struct.pack(f"<I{count}d", count // 2, *taken))

    def _send(self, kind: bytes, data: bytes) -> None:
        if self.gone:
            return
        try:
            self.sock.sendall(kind + struct.pack("<I", len(data)) + data)
        except OSError:
            self.gone = True  # nobody listens any more: the script goes on


def _is_numeric(value: object) -> bool:
    kind = type(value)
    if kind is float or kind is complex:
        return True
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if np is not None and isinstance(value, (np.inexact, np.ndarray)):
        return bool(value.dtype.kind in "fc")
    if held_array(value) is not None:
        return True
    return kind in (tuple, list) or (pd is not None and isinstance(value, (pd.Series, pd.DataFrame)))


def _numbers_of(value: Any) -> list[float]:
    """A number, or some cells of an array, for comparison with the other runs."""
    kind = type(value)
    if kind is float or (kind is int and -EXACT <= value <= EXACT):
        return [float(value)]
    if kind is complex:
        return [value.real, value.imag]
    np = nonfinite.module("numpy")
    if np is not None and isinstance(value, np.generic) and value.dtype.kind in "fiu":
        return [float(value)]
    if np is None or type(value) is not np.ndarray or value.dtype.kind not in "fiuc" or not value.size:
        return []
    cells = value.reshape(-1)[:: max(1, value.size // ELEMENTS)] if value.flags.c_contiguous else value.flat[:ELEMENTS]
    if cells.dtype.kind == "c":
        cells = np.concatenate([cells.real, cells.imag])
    return [float(v) for v in cells[: 2 * ELEMENTS]]


def tell_value(value: Any, site: int, tell: Tell, depth: int) -> None:
    """The records of one value: numbers exactly, arrays by sum, extremes and some cells, the rest by its text."""
    kind = type(value)
    if kind is float:
        tell(site, FLOAT, value)
    elif kind is bool or value is None:
        tell(site, CONSTANT, 2.0 if value is None else float(value))
    elif kind is int:
        if -EXACT <= value <= EXACT:
            tell(site, INTEGER, float(value))
        else:
            tell(site, TEXT, str(value))
    elif kind is complex:
        tell(site, FLOAT, value.real)
        tell(site, IMAGINARY, value.imag)
    elif is_one_of(kind, str, bytes):
        tell(site, TEXT, value if kind is str else repr(value))
    elif is_one_of(kind, list, tuple):
        _tell_some(list(value[:ELEMENTS]), len(value), site, tell, depth)
    elif kind is dict:
        pairs = [part for pair in list(value.items())[:ELEMENTS] for part in pair]
        _tell_some(pairs, len(value), site, tell, depth)
    elif is_one_of(kind, set, frozenset):
        tell(site, LENGTH, float(len(value)))
    else:
        _tell_object(value, site, tell)


def _tell_some(elements: list[object], length: int, site: int, tell: Tell, depth: int) -> None:
    tell(site, LENGTH, float(length))
    for element in elements if depth < DEEP else ():
        tell_value(element, site, tell, depth + 1)


def _tell_object(value: object, site: int, tell: Tell) -> None:
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if np is not None and isinstance(value, np.float32):
        tell(site, SINGLE, float(value))
        return
    if np is not None and isinstance(value, np.generic):
        value = value.item() if value.dtype.itemsize <= 8 or value.dtype.kind == "c" else float(value)
        if not isinstance(value, np.generic):
            tell_value(value, site, tell, DEEP)
            return
    if np is not None and isinstance(value, np.ndarray):
        _tell_array(np, np.asarray(value), site, tell)
    elif pd is not None and isinstance(value, pd.Series):
        _tell_column(np, value, site, tell)
    elif pd is not None and isinstance(value, pd.DataFrame):
        tell(site, KIND, f"{value.shape} {list(value.columns)[:COLUMNS]}")
        for number in range(min(COLUMNS, value.shape[1])):
            _tell_column(np, value.iloc[:, number], site, tell)
    elif (held := held_array(value)) is not None:
        tell_value(held.cells, site, tell, DEEP)
    else:
        tell(site, KIND, type(value).__name__)


def _tell_array(np: types.ModuleType, cells: Any, site: int, tell: Tell) -> None:
    tell(site, KIND, f"{cells.shape} {cells.dtype}")
    if cells.dtype.kind not in "fiubc" or not cells.size:
        if cells.dtype.kind in "OUSMm":
            tell(site, TEXT, ADDRESS.sub("", str(cells.ravel()[:ELEMENTS].tolist())))
        return
    with np.errstate(all="ignore"):
        if cells.dtype.kind == "c":
            _tell_array(np, np.ascontiguousarray(cells).view(cells.real.dtype), site, tell)
            return
        cells = unset_memory.without(np, cells)
        total = float(np.add.reduce(cells, axis=None, dtype=np.float64))
        fine = cells if math.isfinite(total) else cells[np.isfinite(cells)]
        tell(site, SUM, total if fine is cells else float(fine.sum()))
        tell(site, BAD, float(cells.size - fine.size))
        if fine.size:
            tell(site, LOWEST, float(fine.min()))
            tell(site, HIGHEST, float(fine.max()))
    flat = cells.reshape(-1) if cells.flags.c_contiguous else cells.flat
    part = SINGLE_CELL if cells.dtype.itemsize == 4 and cells.dtype.kind == "f" else CELL
    for number in range(min(ELEMENTS, cells.size)):
        tell(site, part, float(flat[number * cells.size // min(ELEMENTS, cells.size)]))


def _tell_column(np: types.ModuleType, column: Column, site: int, tell: Tell) -> None:
    if isinstance(column.dtype, np.dtype) and column.dtype.kind in "fiub":
        _tell_array(np, column.to_numpy(), site, tell)
        return
    tell(site, LENGTH, float(len(column)))
    tell(site, TEXT, ADDRESS.sub("", str(column.iloc[:ELEMENTS].tolist())))


def _digest(text: str) -> float:
    """A whole number below 2^53 for a text, the same in every run."""
    data = text.encode("utf-8", "surrogatepass")
    return float(zlib.crc32(data) + ((len(data) & 0xFFFFF) << 32))
