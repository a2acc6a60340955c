"""How far a text was read: by a regular expression without a match, by `float`, `int` and `strptime`.

A pattern is split into its pieces.  The longest run of pieces from the start that matches shows how far it went.
"""

from __future__ import annotations

import ast
import contextlib
import datetime
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ..core.records import fact
from ..core.text import clean
from ..core.type_identity import is_one_of
from ..frames.namespace import Scope
from ..source.cells import place_words
from ..source.sites import callee
from ..source.source_file import SourceFile, Statement
from . import data_notes, provenance
from .reasons import NONE, Reason

MATCHING = ("match", "fullmatch", "search")
LONGEST = 20_000  # characters of a text that are looked at
STARTS = 2_000  # places from which a search is tried
SHOWN = 40
PIECE = "piece_"
NO_MATCH = "no match"
ESCAPES = re.compile(r"\\(?:x..|u.{4}|U.{8}|N\{[^}]*\}|[0-7]{1,3}|[1-9]\d?|.)", re.DOTALL)
QUANTIFIER = re.compile(r"(?:[*+?]|\{\d*,?\d*\})[?+]?")
GROUP = re.compile(r"\((?:\?:|\?P<\w+>)?(?!\?)")


@fact
class Reach:
    """How far a pattern went: the pieces that matched, where the match began and ended, and the piece that was wanted
    next (empty: the end of the text)."""

    matched: str
    start: int
    end: int
    wanted: str

    def sentence(self, text: str) -> str:
        """wanted `\\.` at position 2, found `,`; before it `\\d+` matched `12` of `12,5`"""
        found = f"`{text[self.end]}`" if self.end < len(text) else "the end"
        wanted = f"wanted `{self.wanted}`" if self.wanted else "wanted the end"
        there = f"{wanted} at position {self.end}, found {found}"
        if not self.matched or self.end == self.start:
            return f"{there}; nothing of `{clean(text, SHOWN)}` matched"
        took = clean(text[self.start : self.end], SHOWN)
        return f"{there}; before it `{clean(self.matched, SHOWN)}` matched `{took}` of `{clean(text, SHOWN)}`"


# -- pieces of a pattern -------------------------------------------------------------------------------


def pieces(pattern: str) -> list[list[str]]:
    """The alternatives of a pattern, each as its pieces with their quantifiers.  Groups that neither repeat nor choose
    are taken apart, unless the pattern refers to groups."""
    flat = not re.search(r"\\[1-9]|\(\?P=|\(\?\(", pattern)
    return _alternatives(pattern, flat)


def _alternatives(pattern: str, flat: bool) -> list[list[str]]:
    found: list[list[str]] = [[]]
    at = 0
    while at < len(pattern):
        if pattern[at] == "|":
            found.append([])
            at += 1
            continue
        end = _end_of(pattern, at)
        quantified = QUANTIFIER.match(pattern, end)
        piece = pattern[at:end]
        group = GROUP.match(piece)
        if flat and quantified is None and group is not None:
            inner = _alternatives(piece[group.end() : -1], flat)
            found[-1] += inner[0] if len(inner) == 1 else [piece]
        else:
            found[-1].append(piece + (quantified[0] if quantified else ""))
        at = quantified.end() if quantified else end
    return found


def _end_of(pattern: str, at: int) -> int:
    """Where the piece that begins here ends, without its quantifier."""
    first = pattern[at]
    if first == "\\":
        found = ESCAPES.match(pattern, at)
        return found.end() if found else at + 1
    if first == "[":
        return _class_end(pattern, at)
    if first != "(":
        return at + 1
    depth = 0
    while at < len(pattern):
        if pattern[at] == "\\":
            at += 1
        elif pattern[at] == "[":
            at = _class_end(pattern, at) - 1
        else:
            depth += (pattern[at] == "(") - (pattern[at] == ")")
            if depth == 0:
                return at + 1
        at += 1
    return len(pattern)


def _class_end(pattern: str, at: int) -> int:
    at += 1
    at += pattern.startswith("^", at)
    at += pattern.startswith("]", at)
    while at < len(pattern) and pattern[at] != "]":
        at += 2 if pattern[at] == "\\" else 1
    return at + 1


# -- how far it went -----------------------------------------------------------------------------------


def reach(pattern: str | re.Pattern[str], text: str, how: str, flags: int = 0) -> Reach | None:
    """How far a pattern went in a text that it does not match.  `how`: match, fullmatch or search.  None where that
    cannot be told: a pattern of bytes, one with comments, a text that is too long."""
    pattern, flags = _source(pattern, flags)
    if not is_one_of(type(pattern), str) or not is_one_of(type(text), str):
        return None
    if len(text) > LONGEST or flags & re.VERBOSE:
        return None
    best: Reach | None = None
    try:
        for parts in pieces(pattern):
            for start in range(min(len(text), STARTS) + 1 if how == "search" else 1):
                found = _furthest(parts, text, start, flags & ~re.DEBUG, how)
                if best is None or (found.end - found.start, len(found.matched)) > (
                    best.end - best.start,
                    len(best.matched),
                ):
                    best = found
    except (re.error, RecursionError, OverflowError):
        return None
    return best


def _source(pattern: str | re.Pattern[str], flags: int) -> tuple[str, int]:
    return (pattern.pattern, pattern.flags) if isinstance(pattern, re.Pattern) else (pattern, flags)


def _furthest(parts: list[str], text: str, start: int, flags: int, how: str) -> Reach:
    """By halving: what begins with pieces that do not match does not match, either."""
    low, high, end = 0, len(parts), start
    while low < high:
        middle = (low + high + 1) // 2
        found = re.compile("".join(parts[:middle]), flags).match(text, start)
        if found:
            low, end = middle, found.end()
        else:
            high = middle - 1
    wanted = parts[low] if low < len(parts) else ""
    return Reach("".join(parts[:low]), start, end, wanted)


def steps(pattern: str | re.Pattern[str], text: str, flags: int = 0, start: int = 0) -> list[tuple[str, str]]:
    """Piece by piece, what each took of the text when all before it had matched, and where an earlier one gave back."""
    pattern, flags = _source(pattern, flags)
    found: list[tuple[str, str]] = []
    parts, before = pieces(pattern)[0], start
    for number, part in enumerate(parts):
        made = re.compile("".join(parts[:number]) + f"(?P<{PIECE}>{part})", flags).match(text, start)
        if made is None:
            there = repr(text[before]) if before < len(text) else "the end"
            return [*found, (part, f"takes nothing at position {before}: found {there}")]
        begin, end = made.span(PIECE)
        gave = f", after {parts[number - 1]} gave back {text[begin:before]!r}" if begin < before else ""
        found.append((part, f"takes {clean(text[begin:end], SHOWN)!r}{gave}"))
        before = end
    return found


# -- sentences -----------------------------------------------------------------------------------------


def told(node: ast.AST, operands: Sequence[object], value: object) -> str:
    """For a call of a regular expression that gave None: how far it went; else empty."""
    if value is not None or not isinstance(node, ast.Call) or callee(node) not in MATCHING:
        return ""
    asked = _asked(operands)
    found = reach(asked[0], asked[1], callee(node), asked[2]) if asked is not None else None
    return f"{NO_MATCH}: {found.sentence(asked[1])}" if found is not None and asked is not None else ""


def of_name(name: str, file: SourceFile, statement: Statement, scope: Scope) -> str:
    """For a name that is None: what the last statement above that gives it a match says; else empty."""
    above = [s for s in file.statements if s.scope is statement.scope and s.line < statement.line]
    for one in reversed(above):
        node = one.node
        if not isinstance(node, ast.Assign) or name not in {getattr(t, "id", "") for t in node.targets}:
            continue
        if not isinstance(node.value, ast.Call) or callee(node.value) not in MATCHING:
            return ""
        said = told(node.value, _operands(node.value, scope), None)
        return f"{name} is None since {place_words(file.path, one.line)}: {said}" if said else ""
    return ""


def _operands(node: ast.Call, scope: Scope) -> list[object]:
    """The operands of a call that can be read, its object first."""
    owner = [node.func.value] if isinstance(node.func, ast.Attribute) else []
    found = []
    for part in (*owner, *node.args):
        with contextlib.suppress(provenance.Unreadable):
            found.append(provenance.read(part, scope))
    return found


def of_call(text: str, scope: Scope) -> list[tuple[str, str]]:
    """Of a call of a regular expression, piece by piece, what it took; else nothing."""
    with contextlib.suppress(SyntaxError, ValueError, re.error, RecursionError, OverflowError):
        node = ast.parse(text.strip(), mode="eval").body
        if not isinstance(node, ast.Call) or callee(node) not in MATCHING:
            return []
        asked = _asked(_operands(node, scope))
        if asked is None or len(asked[1]) > LONGEST:
            return []
        start = 0
        if callee(node) == "search":
            found = re.compile(*_source(asked[0], asked[2])).search(asked[1])
            far = reach(asked[0], asked[1], "search", asked[2])
            start = found.start() if found else far.start if far is not None else 0
        return [(f"piece {piece}", took) for piece, took in steps(asked[0], asked[1], asked[2], start)]
    return []


def _asked(operands: Sequence[Any]) -> tuple[Any, str, int] | None:
    """The pattern, the text, and flags, among the operands of a call."""
    known = [one for one in operands if isinstance(one, (re.Pattern, re.RegexFlag)) or is_one_of(type(one), str, int)]
    patterns = [one for one in known if isinstance(one, re.Pattern)]
    texts = [one for one in known if is_one_of(type(one), str)]
    flags = next((int(one) for one in known if isinstance(one, int)), 0)
    if patterns and texts:
        return patterns[0], texts[0], 0
    return (texts[0], texts[1], flags) if len(texts) == 2 else None


def of_error(exc: BaseException, operands: Sequence[Any]) -> Reason:
    """How far `float`, `int` or `strptime` read a text; NONE for other errors."""
    if not isinstance(exc, ValueError):
        return NONE
    message = str(exc.args[0]) if exc.args else ""
    if message.startswith("could not convert string to float"):
        return _placed(_of_number(_text_in(message, operands), float), _text_in(message, operands), operands)
    if message.startswith("invalid literal for int() with base 10"):
        return _placed(_of_number(_text_in(message, operands), int), _text_in(message, operands), operands)
    if "does not match format" in message:
        texts = [one for one in operands if is_one_of(type(one), str)]
        return Reason("unread-time", _of_time(texts[0], texts[1])) if len(texts) >= 2 else NONE
    return NONE


def _placed(found: Reason, text: str, operands: Sequence[object]) -> Reason:
    """With where the text is, of a column of texts."""
    place = data_notes.place_of_text(text, list(operands))
    return replace(found, text=f"{found.text}; {place}") if place else found


def _text_in(message: str, operands: Sequence[Any]) -> str:
    """The refused text: the operand that it is, or as the message quotes it."""
    quoted = message.partition(": ")[2]
    try:
        text = ast.literal_eval(quoted)
    except (ValueError, SyntaxError):
        text = quoted
    return next((one for one in operands if is_one_of(type(one), str)), text if is_one_of(type(text), str) else "")


def _of_number(text: str, kind: type) -> Reason:
    if not text.strip():
        return Reason("unread-number", "the text is empty")
    begin = len(text) - len(text.lstrip())
    read = 0
    for end in range(min(len(text), 400), begin, -1):
        try:
            kind(text[begin:end])
        except ValueError:
            continue
        read = end
        break
    while read and text[read - 1].isspace():
        read -= 1
    name = kind.__name__
    if not read:
        why = f"{name} reads nothing of `{clean(text, SHOWN)}`: `{text[begin]}` at position {begin} begins no number"
        return Reason("unread-number", why)
    at = f"`{text[read]}` at position {read}"
    hint = {",": ": a comma is no decimal point", "−": ": a minus sign of typography, not `-`"}.get(text[read], "")
    known = "decimal-comma" if text[read] == "," else "unread-number"
    return Reason(known, f"{name} reads `{text[begin:read]}` of `{clean(text, SHOWN)}`, and stops at {at}{hint}")


def _of_time(text: str, form: str) -> str:
    parts = re.findall(r"%.|[^%]", form, re.DOTALL)
    low = 0
    end = 0
    for number in range(len(parts), 0, -1):
        length = _read_time(text, "".join(parts[:number]))
        if length is not None:
            low, end = number, length
            break
    wanted = parts[low] if low < len(parts) else ""
    return Reach("".join(parts[:low]), 0, end, wanted).sentence(text)


def _read_time(text: str, form: str) -> int | None:
    """How many characters the beginning of a format reads; None when it does not match."""
    for end in range(len(text), -1, -1):
        try:
            datetime.datetime.strptime(text[:end], form)
            return end
        except ValueError as e:
            if "out of range" in str(e):  # read, though there is no such day
                return end
        except (re.error, IndexError, KeyError):
            return None
    return None
