"""The evidence of one finding, in words and figures."""

from __future__ import annotations

import os
import textwrap

from rich.text import Text

from ...client.sources import place_words
from ...protocol import DIGITS, Finding
from ...protocol.names import in_processes, shown
from ..plotting.pictures import picture
from ..shell.theme import Palette

ROWS = 12  # of a list in the evidence
NAME = 24  # columns of an operand's text


def colour_of(finding: Finding, palette: Palette) -> str:
    if finding.accepted:
        return palette.quiet
    return {"wrong": palette.error, "doubtful": palette.warning, "digits": palette.text}.get(finding.word, palette.at)


def entry(finding: Finding, palette: Palette, width: int) -> Text:
    """One entry of the list: word, line, sentence, how often."""
    colour = colour_of(finding, palette)
    word = "accepted" if finding.accepted else finding.word
    of_digits = finding.rule == DIGITS
    often = f"{finding.times:,} {'passes' if of_digits else 'times'}" if finding.times > 1 else ""
    since = f"{'lowest in' if of_digits else 'since'} pass {finding.at_pass:,}" if finding.at_pass else ""
    after = sorted({f.line for f in finding.follows})
    many = ", ".join(map(str, after[:4])) + (" …" if len(after) > 4 else "")
    comes = "1 more comes" if len(finding.follows) == 1 else f"{len(finding.follows)} more come"
    from_it = f"{comes} from it: line{'s' if len(after) > 1 else ''} {many}" if after else ""
    tail = ", ".join(part for part in (often, since, from_it) if part)
    out = Text()
    head = f"{word:<9} {finding.line:>5}  "
    lines = textwrap.wrap(finding.headline, max(20, width - len(head))) or [""]
    out.append(head, f"bold {colour}")
    out.append(lines[0], palette.quiet if finding.accepted else palette.text)
    for line in lines[1:]:
        out.append("\n" + " " * len(head) + line, palette.quiet if finding.accepted else palette.text)
    if tail:
        out.append("\n" + " " * len(head) + tail, palette.quiet)
    return out


def evidence(finding: Finding, palette: Palette) -> Text:
    """Operands with their values, the figures, what is right, and where it is."""
    p, out = palette, Text()

    def section(title: str) -> None:
        out.append(("\n\n" if out else "") + title + "\n", f"bold {p.quiet}")

    section("where")
    place = f"{os.path.basename(finding.file)}, {place_words(finding.file, finding.line)}"
    out.append(f"{place}{f', in {shown(finding.function)}' if finding.function else ''}\n", p.text)
    out.append("term  ", p.quiet)
    out.append(" ".join(finding.term.split()) + "\n", f"bold {p.text}")
    out.append(f"{finding.times:,} times" if finding.times > 1 else "once", p.text)
    passes = [f"pass {k.at_pass:,} of the loop at {place_words(k.file, k.line)}" for k in finding.loops]
    if passes:
        out.append(f", first in {passes[0]}", p.text)
    elif finding.at_pass:
        out.append(f", first in pass {finding.at_pass:,}", p.text)
    if finding.cell:
        out.append(f", cell {finding.cell}", p.text)
    if finding.processes:
        out.append(f"\n{in_processes(finding.processes)}", p.text)
    if finding.operands:
        section("operands")
        wide = min(NAME, max(len(name) for name, _ in finding.operands))
        out.append("\n".join(f"{shortened(name):<{wide}}  {value}" for name, value in finding.operands), p.text)
    for one in finding.pictures:
        section(one.title)
        out.append_text(picture(one, p))
    figures = [(k, v) for k, v in finding.evidence.items() if not isinstance(v, list)]
    lists = [(k, v) for k, v in finding.evidence.items() if isinstance(v, list) and v]
    if figures:
        section("figures")
        wide = max(len(k) for k, _ in figures)
        out.append("\n".join(f"{k:<{wide}}  {number(v)}" for k, v in figures), p.text)
    for name, values in lists:
        section({"near": "near keys: left, right"}.get(name, name))
        rows = [" beside ".join(map(repr, v)) if isinstance(v, list) else str(v) for v in values]
        out.append("\n".join(rows[:ROWS]) + (f"\nand {len(rows) - ROWS:,} more" if len(rows) > ROWS else ""), p.text)
    if finding.right:
        section("right would be")
        out.append(finding.right, p.fine)
    if finding.fix:
        section("a line to try")
        out.append(finding.fix, p.text)
    if finding.follows:
        section("what comes from it")
        out.append("\n".join(f"{place_words(f.file, f.line)}: {f.headline}" for f in finding.follows), p.text)
    if finding.rule == DIGITS:
        section("found by")
        out.append("four runs, three of them with other last digits", p.text)
    else:
        section("found by the rule")
        out.append(finding.rule, p.text)
    return out


def shortened(name: str) -> str:
    text = " ".join(name.split())
    return text if len(text) <= NAME else text[: NAME - 1] + "…"


def number(value: object) -> str:
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        return str(value)
    return f"{value:,}" if isinstance(value, int) else f"{value:.6g}"
