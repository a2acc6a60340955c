"""Reads the stream of values that a run tells: see `agent/recording/value_stream.py` for its format."""

from __future__ import annotations

import asyncio
import struct
from dataclasses import dataclass

import msgspec
import numpy as np

PART_BIT = 24
CONTINUED = 0x80  # a further record of the value that the one before began
FLOAT, INTEGER, CONSTANT, IMAGINARY, TEXT, KIND, LENGTH, SUM, LOWEST, HIGHEST, BAD, CELL, LEFT, RIGHT = range(14)
NUMBERS = (
    FLOAT,
    INTEGER,
    IMAGINARY,
    LENGTH,
    SUM,
    LOWEST,
    HIGHEST,
    BAD,
    CELL,
    LEFT,
    RIGHT,
)  # parts that are compared as numbers
WORDS = {
    **{IMAGINARY: "imaginary part", LENGTH: "length", SUM: "sum of the cells", LOWEST: "lowest cell"},
    **{HIGHEST: "highest cell", BAD: "non-finite cells", CELL: "a cell", TEXT: "text", KIND: "type or shape"},
}
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
    """Records: place and part, value, each of length n; `data`: as they came."""

    keys: np.ndarray  # uint32
    values: np.ndarray  # float64
    data: bytes


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


def block(data: bytes) -> Block:
    (count,) = struct.unpack_from("<I", data)
    if len(data) != 4 + 16 * count:
        raise Broken(f"A block of {count} records has {len(data)} bytes.")
    pairs = np.frombuffer(data, np.float64, 2 * count, 4)
    return Block(pairs[::2].astype(np.uint32), pairs[1::2], data)


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
