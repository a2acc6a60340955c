"""Lookouts and tripwires as sentences: read, and edited, as such.

pause at line 41 of rating_year.py when `total > CAPACITY`, from the 3rd time, inside `simulate`
write `level {level:.2f}` with the trail at line 36 of rating_year.py, every 10th time
pause at the return of `rate` when `returned < 0`, once
expect `level stays between 0 and 6` at line 37 of rating_year.py
pause at a change of `level` in `simulate`, only after lookout 2 was met
pause where an integer wraps, not inside `checksum`
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass

import msgspec

from ..host.launch import BadUse
from ..protocol import TRIPS, Lookout, Tripwire
from ..protocol.trips import RULE_WORDS
from ..safe_text import cut
from .sources import line_in_cell, place_words

_T = r"`((?:[^`]|``)*)`"
_LINE = r"(?:line (\d+)|cell (\d+)(?:, line |:)(\d+))(?: of (\S+?))?(?=,| |$)"
ORDINAL = r"(?:the )?(\d+)(?:st|nd|rd|th)?"

WHERE: list[tuple[str, str]] = [
    (rf"at {_LINE}", "line"),
    (rf"at each element in {_LINE}", "element"),
    (rf"at each call of the lambda in {_LINE}", "lambda"),
    (r"at each pause", "pause"),
    (r"before each cell", "cell"),
    (rf"where ({'|'.join(RULE_WORDS.values())})(?=,| |$)", "finding"),
    (rf"at the entry of {_T}", "entry"),
    (rf"at the return of {_T}", "return"),
    (rf"at a raise of {_T}", "raise"),
    (rf"at a change of {_T}(?: in {_T})?", "change"),
]
PARTS: list[tuple[str, str]] = [
    (rf"when {_T}", "condition"),
    (rf"from {ORDINAL} time(?: on)?", "start"),
    (rf"every {ORDINAL} time", "every"),
    (rf"not inside {_T}", "outside"),
    (rf"inside {_T}", "inside"),
    (rf"for the object {_T}", "object"),
    (r"only after lookout (\d+) was (?:hit|met)", "after"),
    (r"until lookout (\d+) is (?:hit|met)", "until"),
    (r"once", "once"),
    (r"off", "off"),
]
WORDS = (
    "pause at line N of FILE",
    "pause at cell K, line N of FILE",
    "pause at each element in line N of FILE",
    "pause at each call of the lambda in line N of FILE",
    "pause before each cell",
    "pause at the entry of `FUNCTION`",
    "pause at the return of `FUNCTION`",
    "pause at a raise of `CLASS`",
    "pause at a change of `NAME` in `FUNCTION`",
    *(f"pause where {words}" for words in RULE_WORDS.values()),
    "expect `NAME stays between A and B` at line N of FILE",
    "expect `NAME is near V ± T` at each pause",
    "write `text {expression:.2f}` at …",
    "write `text` with the trail at …",
    "… when `CONDITION`",
    "…, from the Nth time",
    "…, every Nth time",
    "…, inside `FUNCTION`",
    "…, not inside `FUNCTION`",
    "…, for the object `NAME`",
    "…, only after lookout N was hit",
    "…, until lookout N is hit",
    "…, once",
    "…, off",
)


class Unclear(ValueError):
    """A sentence that cannot be read; the text says which part."""

    def __init__(self, message: str, at: int = 0) -> None:
        super().__init__(message)
        self.at = at


def ordinal(n: int) -> str:
    """`1st`, `2nd`, `3rd`, `11th`."""
    ending = "th" if n % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n:,}{ending}"


def _quoted(text: str) -> str:
    return "`" + text.replace("`", "``") + "`"


def _bare(text: str) -> str:
    return text.replace("``", "`")


def sentence(lk: Lookout) -> str:
    """A lookout as its sentence; `parse` reads it again."""
    out = "pause" if not lk.text else f"write {_quoted(lk.text)}" + (" with the trail" if lk.trail else "")
    if lk.expect:
        out = f"expect {_quoted(lk.expect)}"
    of = f" of {os.path.basename(lk.file)}" if lk.file else ""
    at = place_words(lk.file, lk.line)
    out += {
        "line": f" at {at}{of}",
        "element": f" at each element in {at}{of}",
        "lambda": f" at each call of the lambda in {at}{of}",
        "pause": " at each pause",
        "cell": " before each cell",
        "finding": f" where {RULE_WORDS.get(lk.name, lk.name)}",
        "entry": f" at the entry of {_quoted(lk.name)}",
        "return": f" at the return of {_quoted(lk.name)}",
        "raise": f" at a raise of {_quoted(lk.name)}",
        "change": f" at a change of {_quoted(lk.name)}" + (f" in {_quoted(lk.within)}" if lk.within else ""),
    }[lk.where]
    if lk.condition:
        out += f" when {_quoted(lk.condition)}"
    if lk.start > 1 and lk.start != lk.every:
        out += f", from the {ordinal(lk.start)} time"
    if lk.every > 1:
        out += f", every {ordinal(lk.every)} time"
    for name, words in (("inside", "inside"), ("outside", "not inside"), ("object", "for the object")):
        if getattr(lk, name):
            out += f", {words} {_quoted(getattr(lk, name))}"
    if lk.after:
        out += f", only after lookout {lk.after} was hit"
    if lk.until:
        out += f", until lookout {lk.until} is hit"
    return out + (", once" if lk.once else "") + ("" if lk.on else ", off")


def parse(text: str, file: str = "", files: list[str] | None = None) -> Lookout:
    """The lookout that a sentence says.  `file`: the one meant where none is named; `files`: known paths, by
    which a name becomes a path.  Unclear when it cannot be read."""
    rest = text.strip().rstrip(".")
    lk = Lookout()
    done = len(text) - len(text.lstrip())

    def take(pattern: str) -> re.Match[str] | None:
        nonlocal rest, done
        found = re.match(pattern, rest)
        if found is not None:
            after = rest[found.end() :].lstrip(" ,")
            done += len(rest) - len(after)
            rest = after
        return found

    written = take(rf"write {_T}(?P<trail> with the trail)?")
    if written is not None:
        lk.text, lk.trail = _bare(written[1]), bool(written["trail"])
        if not lk.text:
            raise Unclear("The text to write is empty.", done)
    elif (expected := take(rf"expect {_T}")) is not None:
        lk.expect = _bare(expected[1]).strip()
        if not lk.expect:
            raise Unclear("What is expected? `expect ``head > 0`` at line 12`.", done)
    elif take(r"pause\b") is None and not rest.startswith(("at ", "where ", "before ")):
        raise Unclear("A lookout begins with `pause at …`, or with write or expect and a text in backticks.", done)
    for pattern, where in WHERE:
        found = take(pattern)
        if found is not None:
            lk.where = where
            _place(lk, found, file, files or [])
            break
    else:
        raise Unclear(
            "Where? `at line N of FILE`, `at the entry of`, `at a change of`, `where an integer wraps`, …", done
        )
    while rest:
        for pattern, name in PARTS:
            found = take(pattern)
            if found is not None:
                _part(lk, name, found, done)
                break
        else:
            raise Unclear(f"This part is not understood: {cut(rest, 40)}", done)
    if lk.every > 1 and lk.start == 1:
        lk.start = lk.every
    return lk


def _place(lk: Lookout, found: re.Match[str], file: str, files: list[str]) -> None:
    if lk.where == "finding":
        lk.name = next(rule for rule, words in RULE_WORDS.items() if words == found[1])
    elif lk.where in ("line", "element", "lambda"):
        lk.file = _path(found[4], file, files) if found[4] else file
        lk.line = int(found[1]) if found[1] else _line_of_cell(lk.file, int(found[2]), int(found[3]))
    elif lk.where not in ("pause", "cell"):
        lk.name = _bare(found[1]).strip()
        if lk.where == "change" and found[2]:
            lk.within = _bare(found[2]).strip()


def _line_of_cell(path: str, number: int, line: int) -> int:
    try:
        return line_in_cell(path, number, line)
    except BadUse as e:
        raise Unclear(str(e)) from None


def _path(name: str, file: str, files: list[str]) -> str:
    if os.path.isabs(name):
        return name
    for path in (file, *files):
        if os.path.basename(path) == name or path.endswith(os.sep + name):
            return path
    return os.path.join(os.path.dirname(file), name) if file else os.path.abspath(name)


def _part(lk: Lookout, name: str, found: re.Match[str], at: int) -> None:
    if name in ("start", "every"):
        if int(found[1]) < 1:
            raise Unclear("A count begins with 1.", at)
        setattr(lk, name, int(found[1]))
    elif name in ("after", "until"):
        setattr(lk, name, int(found[1]))
    elif name == "once":
        lk.once = True
    elif name == "off":
        lk.on = False
    else:
        value = _bare(found[1]).strip()
        if not value:
            raise Unclear("Between the backticks there is nothing.", at)
        setattr(lk, name, value)


def badge(lk: Lookout) -> str:
    """The gutter's word beside `‖`: `if`, `x3`, `log`, or nothing."""
    if lk.text:
        return "log"
    if lk.expect:
        return "exp"
    if lk.condition:
        return "if"
    if lk.start > 1 or lk.every > 1:
        return f"x{max(lk.start, lk.every)}"
    return ""


# -- tripwires ---------------------------------------------------------------------------------------

ABOUT = {name: trip.about for name, trip in TRIPS.items()}


@dataclass
class TripwireSaid:
    """What a tripwire's sentence says: its switches, and the extra kinds that count."""

    wire: Tripwire
    extras: set[str]  # handled; arrived, carried, frames


def tripwire_sentence(name: str, wire: Tripwire, extras: set[str]) -> str:
    """`pause at errors, handled ones too, only ``ValueError``, not in ``io.py```"""
    out = f"{'write' if wire.write else 'pause at'} {ABOUT[name]}"
    for name_, extra in TRIPS[name].extras.items():
        if name_ in extras:
            out += f", {extra.words}"
    if wire.only:
        out += ", only " + ", ".join(_quoted(n) for n in wire.only)
    if wire.never:
        out += ", not " + ", ".join(_quoted(n) for n in wire.never)
    if wire.places:
        out += ", not in " + ", ".join(_quoted(n) for n in wire.places)
    return out + ("" if wire.on else ", off")


def parse_tripwire(name: str, text: str) -> TripwireSaid:
    """Reads a tripwire's sentence again.  Unclear when it cannot be."""
    rest = text.strip().rstrip(".")
    wire = Tripwire(never=[])
    extras: set[str] = set()
    head = re.match(rf"(pause at|write) {ABOUT[name]}", rest)
    if head is None:
        raise Unclear(f"It begins with `pause at {ABOUT[name]}` or `write {ABOUT[name]}`.")
    wire.write = head[1] == "write"
    rest = rest[head.end() :].lstrip(" ,")
    while rest:
        for name_, extra in TRIPS[name].extras.items():
            words = next((w for w in (extra.words, extra.old) if w and re.match(rf"{w}(,|$)", rest)), "")
            if words:
                extras.add(name_)
                rest = rest[len(words) :].lstrip(" ,")
                break
        else:
            found = re.match(rf"(only|not in|not) ((?:{_T}(?:, )?)+)|(off)\b", rest)
            if found is None:
                raise Unclear(f"This part is not understood: {cut(rest, 40)}", len(text) - len(rest))
            if found[4]:
                wire.on = False
            else:
                names = [_bare(n) for n in re.findall(_T, found[2])]
                target = {"only": "only", "not": "never", "not in": "places"}[found[1]]
                setattr(wire, target, getattr(wire, target) + names)
            rest = rest[found.end() :].lstrip(" ,")
    if name == "nonfinite":
        wrong = [n for n in wire.only if n not in ("scalar", "array", "frame")]
        if wrong:
            raise Unclear(f"Kinds of data are `scalar`, `array` and `frame`, not `{wrong[0]}`.")
    return TripwireSaid(wire, extras)


def changed(lk: Lookout, **parts: object) -> Lookout:
    """A copy with some fields changed."""
    return msgspec.structs.replace(lk, **parts)
