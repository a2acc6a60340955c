"""The report of a run without a screen: as JSON, and for people."""

from __future__ import annotations

import msgspec

from ..client import Launch, Unwatched, notes, reporting
from ..client.sources import around, lines_of, short_place, with_cells
from ..notebooks.hidden import Hidden
from ..protocol import Facts, Finding, Term
from ..protocol.names import in_processes, shown
from ..safe_text import in_one_line, visible, visible_json
from .check import Outcome
from .finding_text import finding_text

SCHEMA = 1
AROUND = 3  # lines shown before and after


def as_json(outcome: Outcome) -> str:
    """One JSON object, as documented in docs/check.md."""
    told: dict[str, object] = {
        "schema": SCHEMA,
        "outcome": outcome.outcome,
        "exit_status": outcome.exit_status,
        "seconds": round(outcome.seconds, 6),
        "pauses": [_pause(p) for p in outcome.pauses],
    }
    if outcome.findings is not None:
        told["findings"] = [msgspec.to_builtins(f) for f in outcome.findings]
        told["notes"] = outcome.notes
        if outcome.digits is not None:
            from .digits import as_dict  # with NumPy, which takes long to import

            told["digits"] = as_dict(outcome.digits)
    if outcome.left_out:
        told["left_out"] = outcome.left_out
    if outcome.failed:
        told["failed"] = outcome.failed
    if outcome.hidden:
        told["notebook"] = [{"cell": one.number, "kind": one.kind, "text": one.text} for one in outcome.hidden]
    if outcome.left:
        told["left"] = outcome.left
    if outcome.dead:
        told["dead"] = outcome.dead
    if outcome.unwatched:
        told["unwatched"] = [_unwatched(u) for u in outcome.unwatched]
    if outcome.outcome == "died":
        told["signal"] = outcome.signal
        told["message"] = outcome.sentence
    return visible_json(msgspec.json.format(msgspec.json.encode(with_cells(told)), indent=2).decode())


def _unwatched(found: Unwatched) -> dict[str, object]:
    told: dict[str, object] = {"file": found.file, "why": found.why}
    return {**told, "function": found.function, "line": found.line} if found.line else told


def _pause(facts: Facts) -> dict[str, object]:
    told: dict[str, object] = msgspec.to_builtins(facts)
    for name in ("state", "end_line", "retry", "replace", "returned"):
        told.pop(name)
    if not told["differs"]:
        told.pop("differs")
    if not told["trial"]:
        told.pop("trial")
    for name in ("process", "waiting", *(name for name in ("processes", "task") if not told[name])):
        told.pop(name)
    return told


def as_report(launch: Launch, outcome: Outcome) -> str:
    """The pauses as a report for people, in Markdown."""
    entries = []
    for facts in outcome.pauses:
        entries.append(notes.of_pause(facts, lines_of(facts.file)))
    for found in outcome.findings or ():
        if not found.accepted:
            entries.append(notes.of_finding(found, lines_of(found.file)))
    if outcome.digits is not None:
        from .digits import results_text

        text = f"```\n{results_text(outcome.digits)}```\n"
        entries.append(notes.Entry("digits", "the digits that hold", text))
    if outcome.hidden:
        entries.append(notes.Entry("cells", "stored outputs", "\n".join(f"- {sentence(h)}" for h in outcome.hidden)))
    if outcome.findings is not None:
        ended = _counted([f for f in outcome.findings if not f.accepted], sum(f.accepted for f in outcome.findings))
        return visible(reporting.report(launch, entries, " ".join(ended.split())))
    ended = {"finished": "It ran to its end; nothing tripped.", "died": outcome.sentence}.get(outcome.outcome, "")
    return visible(reporting.report(launch, entries, ended))


def held_text(facts: Facts, line: str, file: str, seconds: float) -> str:
    """The report of a pause whose script is held, and how to attach to it."""
    where = f"The same line is in {in_one_line(file)}." if file else ""
    return visible(f"{_one(facts)}\nThe script is held here for {seconds:g} s. To look at it:\n  {line}\n{where}")


def as_text(outcome: Outcome) -> str:
    """Headline, the lines around, and the terms of each pause."""
    parts = [one.sentence + "\n" for one in outcome.unwatched]
    parts += [_one(p) for p in outcome.pauses]
    if outcome.findings is not None:
        open_ = [f for f in outcome.findings if not f.accepted]
        parts += [finding_text(f) for f in open_]
        if outcome.digits is not None:
            from .digits import results_text

            parts.append(results_text(outcome.digits))
        parts += [note + "\n" for note in outcome.notes]
        parts.append(_counted(open_, len(outcome.findings) - len(open_)))
    parts += [f"{text}\n" for text in [*([] if outcome.dead_said else outcome.dead), *outcome.left_out]]
    parts += [
        f"Uneven Sum failed while it looked at a value ({text}). The script is not affected; a pause may be missing.\n"
        for text in outcome.failed
    ]
    if outcome.hidden:
        parts.append("".join(f"{sentence(one)}\n" for one in outcome.hidden))
    if outcome.left:
        parts.append(f"Still running, each in a session of its own: {', '.join(outcome.left)}.\n")
    if outcome.outcome == "died":
        parts.append(outcome.sentence + "\n")
    return visible("\n".join(parts))


def sentence(one: Hidden) -> str:
    """`Cell 7: the output differs. Stored: 3.2; now: 3.4.`"""
    text = f"{one.text[:1].upper()}{one.text[1:]}."
    return (
        f"Cell {one.number}: the output differs. {text}" if one.kind == "output" else f"Cell {one.number}: {one.text}."
    )


def _one(facts: Facts) -> str:
    lines = [facts.headline, *([in_processes(facts.processes) + "."] if facts.processes else [])]
    lines += [f"In {facts.task}."] if facts.task else []
    lines.append("")
    calls = [_call(c.file, c.line, c.function) for c in facts.trail]
    if facts.test is not None:  # in the place of the runner's own line
        calls[: facts.trail[0].function == "<module>"] = [f"test {facts.test.name}"]
    lines.append("  " + " › ".join(_folded(calls)))
    lines.append("")
    lines += _around(facts)
    if facts.terms:
        lines.append("")
        lines += table(facts.terms)
    for remark in (facts.trial, facts.differs and f"({facts.differs})"):
        if remark:
            lines.append(f"  {remark}")
    return "\n".join(lines) + "\n"


def _folded(calls: list[str]) -> list[str]:
    """Calls of a recursion, of up to three functions, once and with how often they come again."""
    found: list[str] = []
    at = 0
    while at < len(calls):
        for size in (1, 2, 3):
            times = 1
            while calls[at + times * size : at + (times + 1) * size] == calls[at : at + size]:
                times += 1
            if times > FOLDED:
                found += [*calls[at : at + size], f"… {times - 1} times more"]
                at += times * size
                break
        else:
            found.append(calls[at])
            at += 1
    return found


FOLDED = 4  # more calls than this that are alike
NO_FINDINGS = "No findings. An audit looks at finite results; without --audit, nan and inf are found.\n"


def _counted(findings: list[Finding], accepted: int) -> str:
    """`2 findings, 1 question.`"""
    questions = sum(f.question for f in findings)
    sure = len(findings) - questions
    parts = [f"{sure} finding{'' if sure == 1 else 's'}"] if sure else []
    parts += [f"{questions} question{'' if questions == 1 else 's'}"] if questions else []
    said = f"{', '.join(parts)}.\n" if parts else NO_FINDINGS
    return said + (f"{accepted} accepted in the case, not listed.\n" if accepted else "")


def _call(file: str, line: int, function: str) -> str:
    return f"{in_one_line(short_place(file, line))} {shown(function)}"


def _around(facts: Facts) -> list[str]:
    text = facts.source_text.split("\n") if facts.source_text else lines_of(facts.file)
    if not text:
        return [f"  in {facts.line:5}  {facts.statement}"]
    shown = around(facts.file, text, facts.line, max(facts.line, facts.end_line), AROUND)
    return [f"  {'in' if n == facts.line else '  '} {label:>5}  {notes.cut(line)}".rstrip() for n, label, line in shown]


def table(terms: list[Term]) -> list[str]:
    """The terms as aligned lines: text, value, type, and who is the culprit."""
    texts = ["  " * t.depth + t.text for t in terms]
    width = min(56, max(map(len, texts)))
    shown = []
    for text, t in zip(texts, terms):
        text = text if len(text) <= width else text[: width - 1] + "…"
        bad = "!" if t.nonfinite or t.culprit else " "
        end = "  culprit" if t.culprit else ""
        shown.append(f"  {text:<{width}}  {bad} {t.value}{'  ' + t.type if t.type else ''}{end}".rstrip())
    return shown
