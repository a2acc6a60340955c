"""Text and bytes."""

from __future__ import annotations

from ...core.text import TEXT_SHOWN, clean
from .base import Fact, Kind, Summary, register

HEX = 16_000_000  # bytes that the reader gets


def _str(value: str) -> Summary:
    size = str.__len__(value)
    if size > TEXT_SHOWN or "\n" in str.__getitem__(value, slice(0, TEXT_SHOWN)):
        lines = str.count(value, "\n") + 1 if size < 10_000_000 else 0
        told = f"{size} characters" + (f", {lines} lines" if lines > 1 else "")
        return {"text": f"'{clean(str.__getitem__(value, slice(0, 61)), 60)}' ({told})", "kind": "text"}
    return {"text": clean(str.__repr__(value)), "kind": "text"}


def _str_facts(value: str) -> list[Fact]:
    size = str.__len__(value)
    facts = [("characters", str(size))]
    if size < 50_000_000:
        facts.append(("lines", str(str.count(value, "\n") + 1)))
    start = str.lstrip(str.__getitem__(value, slice(0, 200)))
    if start.startswith(("{", "[")):
        facts.append(("looks like", "JSON"))
    elif start.startswith("<"):
        facts.append(("looks like", "XML"))
    return facts


def _read(value: str) -> str:
    return str.__getitem__(value, slice(None))


def _bytes(value: bytes | bytearray | memoryview) -> Summary:
    size = len(value)
    return {"text": clean(f"{bytes(value[:40])!r}{'…' if size > 40 else ''} ({size} bytes)"), "kind": "text"}


def _bytes_facts(value: bytes | bytearray | memoryview) -> list[Fact]:
    return [("bytes", str(len(value)))]


def hex_rows(value: bytes | bytearray | memoryview) -> str:
    """Bytes as rows of sixteen: place, hexadecimal, printable characters."""
    rows = []
    data = bytes(value[:HEX])
    for start in range(0, len(data), 16):
        part = data[start : start + 16]
        shown = "".join(chr(b) if 32 <= b < 127 else "·" for b in part)
        rows.append(f"{start:08x}  {part.hex(' '):<47}  {shown}")
    if len(value) > HEX:
        rows.append(f"… {len(value) - HEX} more bytes")
    return "\n".join(rows)


def _memory(value: memoryview) -> Summary:
    return {"text": f"memoryview of {value.nbytes} bytes", "kind": "text"}


register(Kind(_str, _str_facts, text=_read), str)
register(Kind(_bytes, _bytes_facts, text=hex_rows), bytes, bytearray)
register(Kind(_memory, lambda v: [("bytes", str(v.nbytes))], text=lambda v: hex_rows(v.cast("B"))), memoryview)
