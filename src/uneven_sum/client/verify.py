"""What a run did differently from the one before: trips, and the results that the user named."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

import msgspec

from ..host.launch import BadUse
from ..protocol import TRIPS, Facts
from ..protocol.names import reason
from .client import Client
from .placing import follow
from .sources import place_words


class Result(msgspec.Struct, frozen=True):
    """A result to be verified: an expression at the end of the run, and maybe a file to compare it with."""

    expression: str
    file: str = ""
    absolute: float = 0.0
    relative: float = 0.0

    @property
    def sentence(self) -> str:
        """`verify volume against volume.npy within 0.0, 1e-6`, as it is typed in the ask drawer."""
        if not self.file:
            return f"verify {self.expression}"
        return f"verify {self.expression} against {self.file} within {self.absolute:g}, {self.relative:g}"


def parse(text: str) -> Result:
    """`EXPRESSION [against FILE [within ABSOLUTE, RELATIVE]]`.  BadUse when it is no such."""
    expression, _, rest = text.partition(" against ")
    file, _, within = rest.partition(" within ")
    try:
        compile(expression.strip(), "<result>", "eval")
    except (SyntaxError, ValueError) as e:
        raise BadUse(f"{expression} is not an expression: {getattr(e, 'msg', e)}.") from None
    numbers = within.replace(",", " ").split()
    try:
        absolute, relative = [float(n) for n in [*numbers, "0", "0"][:2]]
    except ValueError:
        raise BadUse(f"{within} are no two tolerances: absolute, relative.") from None
    path = os.path.abspath(os.path.expanduser(file.strip())) if file.strip() else ""
    if path and not os.path.isfile(path):
        raise BadUse(f"There is no file {file.strip()} to compare with.")
    return Result(expression.strip(), path, absolute, relative)


@dataclass
class Seen:
    """What one run has shown so far."""

    trips: list[Facts] = field(default_factory=list)
    ended: bool = False  # it came to its end by itself
    results: dict[str, str] = field(default_factory=dict)  # of each expression its text, or why there is none
    against: dict[str, str] = field(default_factory=dict)  # how it compares with its file
    texts: dict[str, list[str]] = field(default_factory=dict)  # the files of the trips, as they ran


async def results(client: Client, wanted: list[Result]) -> tuple[dict[str, str], dict[str, str]]:
    """The named results at the end of a run: their texts, and how they compare with their files."""
    texts, against = {}, {}
    for one in wanted:
        try:
            texts[one.expression] = str((await client.ask(one.expression))["result"])
            if one.file:
                told = await client.compare(one.expression, 0, one.file, one.absolute, one.relative)
                name = os.path.basename(one.file)
                differ = told["differ"]
                fine = f"is {name} within {one.absolute:g}, {one.relative:g}"
                against[one.expression] = fine if not differ else f"differs from {name} in {differ} cells"
        except BadUse as e:
            texts.setdefault(one.expression, f"not known: {e}")
            against.setdefault(one.expression, str(e)) if one.file else None
    return texts, against


def at_pause(before: Seen, facts: Facts, now: Seen) -> str:
    """At a trip of a later run: whether it is the old one; empty for the first run."""
    if not before.trips or facts.reason not in TRIPS:
        return ""
    if any(_same(before, old, facts, now) for old in before.trips):
        return "Same problem as in the previous run."
    old = before.trips[-1]
    return f"New: the previous run paused at {place_words(old.file, old.line)} instead ({reason(old.reason)})."


def at_end(before: Seen, now: Seen) -> str:
    """At the end of a later run, in sentences: the old places, new trips, the results."""
    told = []
    gone = [old for old in before.trips if not any(_same(before, old, t, now) for t in now.trips)]
    new = [t for t in now.trips if not any(_same(before, old, t, now) for old in before.trips)]
    if gone:
        told.append(f"fixed: the problem at {_lines(gone)}")
    still = len(before.trips) - len(gone)
    if still:
        told.append(f"unchanged: {still} problem{'s' if still > 1 else ''}")
    if new:
        told.append(f"new: {', '.join(f'{t.reason} at {place_words(t.file, t.line)}' for t in new[:3])}")
    if before.trips and not before.ended and not gone:
        told.append("it ran to its end this time")
    for expression, text in now.results.items():
        old_text = before.results.get(expression)
        against = now.against.get(expression, "")
        change = f"{expression} is {text}" if old_text in (None, text) else f"{expression} was {old_text}, is {text}"
        same = ", as before" if old_text == text else ""
        told.append(change + same + (f", and {against}" if against else ""))
    return f"Compared with the previous run: {'; '.join(told)}." if told else ""


def _lines(trips: list[Facts]) -> str:
    lines = sorted({one.line for one in trips})
    words = [place_words(trips[0].file, line) for line in lines]
    if words[0].startswith("cell"):
        return "; ".join(words)
    return words[0] if len(lines) == 1 else f"lines {', '.join(map(str, lines))}"


def _same(before: Seen, old: Facts, new: Facts, now: Seen) -> bool:
    """Whether two trips are at the same place, though the text was edited between."""
    if old.file != new.file or old.reason != new.reason:
        return False
    texts = before.texts.get(old.file), now.texts.get(new.file)
    line = follow(texts[0], texts[1], old.line) if texts[0] and texts[1] else old.line
    return line == new.line
