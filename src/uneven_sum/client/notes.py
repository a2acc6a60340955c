"""The kept evidence of a case: entries in Markdown, pictures as SVG (and as PNG, for pages)."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable
from pathlib import Path

import msgspec

from ..host.launch import BadUse
from ..protocol import Card, Expected, Facts, Finding, Term
from ..protocol.messages import Message
from ..protocol.names import in_processes, reason
from . import case
from .edits import write_whole
from .ledger import Ledger
from .sources import around, place_words, short_place

SCHEMA = 1
LONGEST = 300  # characters of a line of code
ROWS = 24  # of a ledger's part


class Entry(msgspec.Struct):
    """One piece of evidence: `body` is Markdown; `picture` an SVG file in the notes' folder."""

    kind: str  # pause, value, plot, ledger, trial, text, verified
    title: str
    body: str = ""
    picture: str = ""
    when: float = 0.0


class Kept(msgspec.Struct):
    """`texts`: each source file as it was when the first evidence of it was kept, by its path."""

    schema: int = SCHEMA
    entries: list[Entry] = []
    texts: dict[str, str] = {}


def place(script: str) -> Path:
    """The notes' file, beside the case file."""
    beside = case.place(script)
    return beside.with_name(beside.name.replace(".case.toml", ".notes.json"))


def pictures(script: str) -> Path:
    """The folder of the notes' pictures."""
    return place(script).with_suffix("")


def load(script: str) -> list[Entry]:
    """The kept evidence in its order.  BadUse as `load_kept` gives it."""
    return load_kept(script).entries


def load_kept(script: str) -> Kept:
    """BadUse when the file is there but cannot be read: it is left as it is."""
    path = place(script)
    try:
        kept = msgspec.json.decode(path.read_bytes(), type=Kept)
    except FileNotFoundError:
        return Kept()
    except OSError as e:
        raise BadUse(f"{path} cannot be read: {e.strerror}. It is unchanged.") from None
    except msgspec.MsgspecError as e:
        raise BadUse(f"{path} cannot be parsed: {e}. Repair or move it; it is unchanged.") from None
    if kept.schema > SCHEMA:
        raise BadUse(f"{path} is of a later version ({kept.schema}). It is unchanged.")
    return kept


def save(script: str, entries: list[Entry], texts: dict[str, str] | None = None) -> None:
    """At once or not at all; BadUse when it cannot be written.  Of a file the first text is kept, not a later one."""
    kept = Kept(SCHEMA, entries, {**(texts or {}), **load_kept(script).texts})
    path = place(script)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise BadUse(f"{path.parent} cannot be made: {e.strerror}.") from None
    write_whole(str(path), msgspec.json.format(msgspec.json.encode(kept), indent=1))


def add(script: str, entry: Entry, texts: dict[str, str] | None = None) -> int:
    """Keeps one more; how many there are.  `texts`: the source files as they run now."""
    entry.when = entry.when or time.time()
    entries = [*load(script), entry]
    save(script, entries, texts)
    return len(entries)


def picture_path(script: str) -> Path:
    """Where the next picture goes."""
    folder = pictures(script)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise BadUse(f"{folder} cannot be made: {e.strerror}.") from None
    number = 1
    while (folder / f"picture-{number}.svg").exists():
        number += 1
    return folder / f"picture-{number}.svg"


# -- pieces of evidence ------------------------------------------------------------------------------


def of_pause(facts: Facts, text: list[str], values: Iterable[Card] = ()) -> Entry:
    """The headline, the calls, the lines around, and the terms or values."""
    parts = [facts.headline.replace("\n", "\n\n"), ""]
    if facts.trail and facts.reason != "end":  # calls that have ended are no trail
        calls = [f"{short_place(c.file, c.line)} `{c.function}`" for c in facts.trail]
        parts += [" › ".join(calls), ""]
    if text:
        here = range(facts.line, max(facts.line, facts.end_line) + 1)
        shown = around(facts.file, text, facts.line, here[-1], 3)
        word = {"in": "in", "next": "next", "ran": "ran"}.get(facts.state, ">")
        lines = [f"{word if n in here else '':>4} {label:>5}  {cut(line)}" for n, label, line in shown]
        parts += ["```text", *(line.rstrip() for line in lines), "```", ""]
    if facts.expectations:
        parts += [*(_expected(one) for one in facts.expectations), ""]
    if facts.terms:
        parts += [_terms(facts.terms), ""]
    rows = [[f"`{v.name}`", v.text, v.type] for v in values if v.assigned][:ROWS]
    if rows:
        parts += [table([["value", "", "type"], *rows]), ""]
    if facts.passes:
        parts += [_passes(facts.passes), ""]
    title = f"{reason(facts.reason)} at {place_words(facts.file, facts.line)} of {os.path.basename(facts.file)}"
    return Entry("pause", title, "\n".join(parts).rstrip() + "\n")


def of_finding(found: Finding, text: list[str]) -> Entry:
    """The sentence, the lines around, the operands, and what a right calculation gives."""
    parts = [found.headline, ""]
    if text:
        shown = around(found.file, text, found.line, found.line, 3)
        lines = [f"{'here' if n == found.line else '':>4} {label:>5}  {cut(line)}" for n, label, line in shown]
        parts += ["```text", *(line.rstrip() for line in lines), "```", ""]
    often = f"{found.times:,} times" if found.times > 1 else "once"
    first_pass = f", first in pass {found.at_pass:,}" if found.at_pass else ""
    where = f" {in_processes(found.processes)}." if found.processes else ""
    parts += [f"{often}{first_pass}, found by the rule {found.rule}.{where}", ""]
    rows = [[f"`{name}`", value] for name, value in found.operands]
    if rows:
        parts += [table([["operand", ""], *rows]), ""]
    if found.right:
        parts += [f"Right would be: {found.right}", ""]
    if found.follows:
        told = [f"- {place_words(f.file, f.line)}: {f.headline}" for f in found.follows]
        parts += ["What comes from it:", "", *told, ""]
    title = f"{found.word} at {place_words(found.file, found.line)} of {os.path.basename(found.file)}: {found.rule}"
    return Entry("finding", title, "\n".join(parts).rstrip() + "\n")


def _terms(terms: list[Term]) -> str:
    """The terms, each under what it is a part of, with their values in a column."""
    names = ["  " * t.depth + cut(t.text) for t in terms]
    width = min(60, max(map(len, names)))
    rows = []
    for name, t in zip(names, terms):
        note = "culprit" if t.culprit else "non-finite" if t.nonfinite else t.how
        sign = "!" if t.nonfinite or t.culprit else " "
        rows.append("  ".join(part for part in (f"{name:<{width}}", f"{sign} {t.value}", t.type, note) if part))
    return "\n".join(["```text", *(row.rstrip() for row in rows), "```"])


def _expected(one: Expected) -> str:
    if one.problem:
        return f"- Expected `{one.text}`: {one.problem}"
    actual = one.actual if "=" in one.actual else f"it is {one.actual}"
    return f"- Expected `{one.text}`: {'yes' if one.holds else '**no**'}, {actual}"


def _passes(passes: list[Message]) -> str:
    names = list(dict.fromkeys(n for p in passes for n in p["values"]))
    rows = [["pass", *names]]
    rows += [[str(p["pass"]), *(_short(p["values"].get(n, "")) for n in names)] for p in passes]
    return table(rows)


def of_value(expression: str, told: Message) -> Entry:
    """A value's summary and figures."""
    summary = told["summary"]
    rows = [["", ""], *([str(a), str(b)] for a, b in told.get("facts", []) if a or b)]
    return Entry("value", f"`{expression}`", f"{summary['type']}: {summary['text']}\n\n{table(rows)}\n")


def of_ledger(ledger: Ledger, title: str, rows: Iterable[int], said: list[str]) -> Entry:
    """Rows of a Ledger, and the sentences about a column."""
    chosen = list(rows)[:ROWS]
    head = ["pass", *(c.name for c in ledger.columns)]
    cells = [[str(ledger.numbers[r]), *(_short(c.plain(r)) for c in ledger.columns)] for r in chosen]
    lines = [f"- {text}" for text in said]
    body = "\n".join([*lines, "", table([head, *cells]), "", ledger.told.kept])
    return Entry("ledger", title, body.strip() + "\n")


def of_trial(question: str, answer: str, changed: str, for_good: bool) -> Entry:
    how = "in the script" if for_good else "in a copy, script unchanged"
    body = f"```python\n{question}\n```\n\n`{answer}`   ({how})\n"
    first = question.splitlines()[0]
    title = f"`{first if len(first) <= 40 else first[:39] + '…'}`"
    return Entry("trial", title, body + (f"\nIt would change: {changed}\n" if changed else ""))


def own_text(text: str) -> Entry:
    """A text of the user's own; its first words are the title."""
    first = text.splitlines()[0]
    return Entry("text", first if len(first) <= 40 else first[:39] + "…", text)


def cut(line: str) -> str:
    """A line of a source file, of which a very long one is not shown whole."""
    return line if len(line) <= LONGEST else line[:LONGEST] + "…"


def table(rows: list[list[str]]) -> str:
    """A Markdown table; the first row is its head."""
    lines = ["| " + " | ".join(_cell(c) for c in row) + " |" for row in rows]
    return "\n".join([lines[0], "|" + "---|" * len(rows[0]), *lines[1:]])


def _cell(text: str) -> str:
    return str(text).replace("|", "\\|").replace("\n", " ")


def _short(value: object) -> str:
    return f"{value:.6g}" if isinstance(value, float) else str(value)
