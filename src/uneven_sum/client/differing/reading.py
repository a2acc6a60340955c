"""Reads the stream of values that a run tells: see `agent/recording/value_stream.py` for its format."""

from __future__ import annotations

import asyncio
import struct
from dataclasses import dataclass

import msgspec
import numpy as np

PART_BIT = 24
CONTINUED = 0x80  # a further record of the value that the one before began
FLOAT, INTEGER, CONSTANT, IMAGINARY, TEXT, KIND, LENGTH, SUM, LOWEST, HIGHEST, BAD, CELL = range(12)
LEFT, RIGHT, TERM, SINGLE, SINGLE_CELL, LOOP = range(12, 18)
# Parts that are compared as numbers.
NUMBERS = (FLOAT, INTEGER, IMAGINARY, LENGTH, SUM, LOWEST, HIGHEST, BAD, CELL, LEFT, RIGHT)
WORDS = {
    **{IMAGINARY: "imaginary part", LENGTH: "length", SUM: "sum of the cells", LOWEST: "lowest cell"},
    **{HIGHEST: "highest cell", BAD: "non-finite cells", CELL: "a cell", TEXT: "text", KIND: "type or shape"},
    **{LEFT: "left operand", RIGHT: "right operand"},
}
# Numbers of 32 bits count as numbers where two runs are compared, so that another width is a small difference.
WIDE = np.arange(256, dtype=np.uint8)
WIDE[[SINGLE, SINGLE | CONTINUED]] = FLOAT, FLOAT | CONTINUED
WIDE[[SINGLE_CELL, SINGLE_CELL | CONTINUED]] = CELL, CELL | CONTINUED
CONSTANTS = {0.0: "False", 1.0: "True", 2.0: "None"}


class Place(msgspec.Struct):
    """A place of the user's code as a run tells it: lines from 1, columns in bytes."""

    place: int
    file: str
    line: int
    column: int
    last: int
    end: int
    role: str
    statement: int


@dataclass
class Block:
    """Records: place and part, value, each of length n."""

    keys: np.ndarray  # uint32
    values: np.ndarray  # float64


class Broken(Exception):
    """The stream is not in the format that is known."""


async def frames(reader: asyncio.StreamReader) -> tuple[bytes, bytes] | None:
    """The next frame; None where the run has ended without one."""
    try:
        head = await reader.readexactly(5)
        kind, size = head[:1], struct.unpack("<I", head[1:])[0]
        return kind, await reader.readexactly(size)
    except (asyncio.IncompleteReadError, ConnectionError):
        return None


class Blocks:
    """The blocks of one stream.  One may end within a term: its begin waits for the next."""

    def __init__(self) -> None:
        self._rest = np.empty(0)

    def read(self, data: bytes) -> Block:
        (count,) = struct.unpack_from("<I", data)
        if len(data) != 4 + 16 * count:
            raise Broken(f"A block of {count} records has {len(data)} bytes.")
        pairs = np.frombuffer(data, np.float64, 2 * count, 4)
        if len(self._rest):
            pairs, self._rest = np.concatenate([self._rest, pairs]), self._rest[:0]
        keys, values = pairs[::2], pairs[1::2]
        begins = (keys >= TERM << PART_BIT) & (keys < TERM + 1 << PART_BIT)
        if not begins.any():
            return Block(keys.astype(np.uint32), values)
        # The operand of a term may look like the begin of one: of several in a row every other is one.
        at = np.arange(len(keys))
        first = np.maximum.accumulate(np.where(begins & ~np.r_[False, begins[:-1]], at, 0))
        begins &= (at - first) % 2 == 0
        if begins[-1]:
            self._rest = pairs[-2:].copy()
            keys, values, begins = keys[:-1], values[:-1], begins[:-1]
        return _with_operands(keys, values, begins)


def _with_operands(keys: np.ndarray, values: np.ndarray, begins: np.ndarray) -> Block:
    """Three records of each term: its result, and what goes on as the left and the right operand."""
    operands = np.r_[False, begins[:-1]]
    ends = np.cumsum(1 + operands)  # rows, by the end of each pair
    made_keys, made = np.empty(int(ends[-1]), np.uint32), np.empty(int(ends[-1]))
    plain = ~operands
    numbers = np.where(plain, keys, 0.0).astype(np.uint32)
    numbers[begins] &= (1 << PART_BIT) - 1
    made_keys[ends[plain] - 1], made[ends[plain] - 1] = numbers[plain], values[plain]
    of = numbers[begins][: int(operands.sum())] | CONTINUED << PART_BIT
    for back, part, given in ((2, LEFT, keys), (1, RIGHT, values)):
        made_keys[ends[operands] - back] = of | part << PART_BIT
        made[ends[operands] - back] = given[operands]
    return Block(made_keys, made)


def shown(part: int, value: float, texts: dict[float, str]) -> str:
    """A value as text: numbers with all their digits; texts and types as far as they were told."""
    part &= ~CONTINUED
    if part == CONSTANT:
        return CONSTANTS.get(value, repr(value))
    if part in (INTEGER, LENGTH, BAD) and value.is_integer():
        return f"{value:.0f}"
    if part in (TEXT, KIND):
        told = texts.get(value, f"a {WORDS[part]}")
        return repr(told) if part == TEXT else told
    return f"{value!r} ({WORDS[part]})" if part in WORDS else repr(value)
