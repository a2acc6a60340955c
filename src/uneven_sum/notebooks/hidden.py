"""Whether a notebook still gives what it shows: its stored outputs beside those of a run, and the order of its counts.

Numbers are compared within a tolerance, and everything else as text without its white space: a frame by what its text
shows, its size among it.  Addresses, times that something took, and how a class or a drawing names itself are left out,
since they differ from run to run or from one version of a library to the next.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from .sheet import Place

Told = dict[str, Any]  # an output, as a file or the agent tells it
RELATIVE, ABSOLUTE = 1e-6, 1e-12
NUMBER = re.compile(r"(?<![\w.])[-+]?(?:\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+(?:[eE][-+]?\d+)?)(?![\w])|\b(?:nan|inf)\b")
ADDRESS = re.compile(r"(?:\bobject )?\bat 0x[0-9a-fA-F]+|\b0x[0-9a-fA-F]{6,}")
CLOCK = re.compile(  # when a table was made, how long a fit took
    r"\bTime:\s+\d\d:\d\d:\d\d|\bDate:\s+\w{3}, \d\d \w{3} \d{4}|\btime\s*[=:]\s*[\d.]+\s*(?:m?s|sec|seconds)\b"
)
SCALAR = re.compile(r"\bnp\.(?:float|int|uint|complex|bool|str)\w*\(([^()]*)\)")
CLASS = re.compile(r"<class '([\w.]+)'>")
TIMES = re.compile(r"Wall time|CPU times|per loop|\bit/s\b|\bs/it\b")
ESCAPES = re.compile(r"\x1b\[[0-9;]*[A-Za-z]")
MOST = 200_000  # characters of an output that are compared: as many as a run tells
LONGEST = 60  # characters of an output that a sentence shows


@dataclass(frozen=True)
class Output:
    """`kind`: text (written), value (displayed), figure, error."""

    kind: str
    text: str


@dataclass(frozen=True)
class Hidden:
    """What a notebook hides, of one cell.  `kind`: output (the stored one differs), order (of the counts), name."""

    number: int
    kind: str
    text: str


def stored(data: bytes) -> dict[int, list[Output]]:
    """The outputs in a notebook's file, by the number of the cell; only of cells that have any."""
    found = {}
    for number, cell in enumerate(json.loads(data)["cells"], 1):
        outputs = [made for one in cell.get("outputs") or [] if (made := _stored(one)) is not None]
        if outputs:
            found[number] = outputs
    return found


def _stored(one: Told) -> Output | None:
    kind = one.get("output_type")
    if kind == "stream":
        return Output("text", _joined(one.get("text", ""))) if one.get("name") == "stdout" else None
    if kind == "error":
        return Output("error", f"{one.get('ename', '')}: {one.get('evalue', '')}")
    data = one.get("data") or {}
    text = _joined(data.get("text/plain", ""))
    pictures = any(media.startswith("image/") for media in data)
    return Output("figure" if pictures else "value", text)


def of_run(told: Sequence[Told]) -> list[Output]:
    """The outputs of a cell as the agent tells them."""
    kinds = {"text": "text", "figure": "figure"}
    return [
        Output(
            "figure"
            if any(media.startswith("image/") for media in one.get("data") or {})
            else kinds.get(kind, "value"),
            str(one["text"]),
        )
        for one in told
        for kind in [str(one["kind"])]
    ]


def difference(number: int, was: Sequence[Output], now: Sequence[Output]) -> Hidden | None:
    """How the outputs of a cell differ from the stored ones; None where they are the same."""
    failed = next((one.text for one in was if one.kind == "error"), None)
    if failed is not None:
        return Hidden(number, "output", f"its stored output is an error ({_short(failed)}), and it ran without one")
    before, after = _whole(was), _whole(now)
    if not same(before, after):
        return Hidden(number, "output", _told(before, after))
    figures = [sum(one.kind == "figure" for one in part) for part in (was, now)]
    if figures[0] and figures[0] != figures[1]:  # without one: it was drawn by a script of the page, maybe
        return Hidden(number, "output", f"{_figures(figures[0])} stored, the run draws {figures[1]}")
    return None


def same(a: str, b: str) -> bool:
    """Whether two outputs say the same."""
    a, b = _plain(a), _plain(b)
    if "".join(a.split()) == "".join(b.split()):
        return True
    words_a, words_b = _words(a), _words(b)
    if words_a != words_b and sorted("".join(words_a)) != sorted("".join(words_b)):
        return False
    numbers_a, numbers_b = _numbers(a), _numbers(b)
    if len(numbers_a) != len(numbers_b):
        return False
    if all(map(_close, numbers_a, numbers_b)) and words_a == words_b:
        return True
    pairs = zip(sorted(numbers_a, key=_key), sorted(numbers_b, key=_key))  # the elements of a set have no order
    return a.lstrip().startswith("{") and all(_close(x, y) for x, y in pairs)


def out_of_order(places: Sequence[Place]) -> list[Hidden]:
    """Cells that ran after a later one, by their counts in the file."""
    found = []
    ran = [one for one in places if one.kind == "code" and one.count]
    for here, after in pairwise(ran):
        if after.count <= here.count:
            text = f"it ran before cell {here.number}, which stands above it (In [{after.count}] and In [{here.count}])"
            found.append(Hidden(after.number, "order", text))
    return found


def _joined(text: str | list[str]) -> str:
    return text if isinstance(text, str) else "".join(map(str, text))


def _whole(outputs: Sequence[Output]) -> str:
    """What outputs say, in one text; drawings, and objects that only name themselves, are left out."""
    parts = [one.text for one in outputs if one.kind in ("text", "value") and not _only_names_itself(one)]
    return "\n".join(parts)


def _only_names_itself(output: Output) -> bool:
    text = output.text.strip()
    return output.kind == "value" and (text.startswith(("<", "[<")) or "matplotlib" in text or text.startswith("Text("))


def _plain(text: str) -> str:
    kept = [line for line in ESCAPES.sub("", text[:MOST]).split("\n") if not TIMES.search(line)]
    text = CLOCK.sub("", "\n".join(kept))
    for _ in range(3):
        text = SCALAR.sub(r"\1", text)
    return CLASS.sub(r"\1", ADDRESS.sub("", text))


def _words(text: str) -> list[str]:
    return ["".join(part.split()) for part in NUMBER.split(text)]


def _numbers(text: str) -> list[float]:
    return [float(found) for found in NUMBER.findall(text)]


def _close(a: float, b: float) -> bool:
    if math.isnan(a) or math.isnan(b):
        return math.isnan(a) and math.isnan(b)
    return a == b or math.isclose(a, b, rel_tol=RELATIVE, abs_tol=ABSOLUTE)


def _key(x: float) -> tuple[bool, float]:
    return (math.isnan(x), 0.0 if math.isnan(x) else x)


def _told(before: str, after: str) -> str:
    """Where two texts first differ."""
    old, new = before.strip().splitlines(), after.strip().splitlines()
    for a, b in zip(old, new):
        if not same(a, b):
            return f"stored: {_short(a)}; now: {_short(b)}"
    if len(old) != len(new):
        more, word = (old, "stored") if len(old) > len(new) else (new, "now")
        line = more[min(len(old), len(new))]
        return f"{len(old)} line{'s' * (len(old) != 1)} stored, {len(new)} now; only {word}: {_short(line)}"
    return f"stored: {_short(before)}; now: {_short(after)}"


def _short(text: str) -> str:
    line = " ".join(text.split())
    return (line if len(line) <= LONGEST else line[: LONGEST - 1] + "…") or "nothing"


def _figures(number: int) -> str:
    return f"{number} figure{'s' if number != 1 else ''}"
