"""The sentences of a pause: what happened and where, in which pass, and which term is at fault."""

from __future__ import annotations

import ast
import contextlib
import os
import re
from typing import Any

from ..core.markers import MISSING
from ..core.text import clean, plural, str_of
from ..diagnosis import assertions
from ..diagnosis.provenance import ARRIVED
from ..frames import stack
from ..source import cells, registry
from ..values import nonfinite, polars_cells
from ..values.describe import summary, text_of
from .facts import Pause, whole_of

TWO_ENDS = re.compile(r"(?<!\.)\.\.(?=\s|$)")  # of a message and of the sentence that it stands in


def would_become(pause: Pause) -> str:
    """What the value that was looked at is for: `flow[day] would become nan`."""
    file = registry.file_of(pause.frame) if pause.frame else None
    node = pause.statement.node if pause.statement else None
    if file is None or node is None:
        return ""
    told = summary(pause.actual)
    bad = bad_word(pause.actual)
    become = f"would become {bad}" if told["kind"] == "scalar" else f"would hold {bad}"
    whole = pause.expression is whole_of(node) or isinstance(pause.expression, ast.AugAssign)
    if whole:
        if isinstance(node, ast.Assign):
            return f"{file.segment(node.targets[0])} {become}"
        if isinstance(node, (ast.AugAssign, ast.AnnAssign)):
            return f"{file.segment(node.target)} {become}"
        if isinstance(node, ast.Return) and pause.frame is not None:
            return f"{stack.function_name(pause.frame).rpartition('.')[2]} would return {bad}"
    text = clean(file.segment(pause.expression), 60) if pause.expression is not None else "a term"
    return f"{text} is {bad}" if told["kind"] == "scalar" else f"{text} holds {bad}"


def bad_word(value: object) -> str:
    """`nan`, `inf`, `3 non-finite cells`, `2 missing cells`."""
    told = summary(value)
    if told["kind"] == "scalar":
        return str(told["text"])
    if told["kind"] == "frame":
        return _missing(value, told["nonfinite"])
    count = told["nonfinite"]
    return plural(count, "non-finite cell")


def _new_cells(pause: Pause, culprit: dict[str, Any] | None) -> str:
    """How many cells were made bad here, where others were so before; empty where all were."""
    made = (culprit or {}).get("made") or 0
    if 0 < made < nonfinite.count(pause.actual) and pause.was_bad is None:
        return plural(made, "non-finite cell")
    if getattr(pause.was_bad, "shape", None) is None:
        return ""
    now = nonfinite.mask(pause.actual)
    if getattr(now, "shape", None) != pause.was_bad.shape:
        return ""
    new = int((now & ~pause.was_bad).sum())
    return plural(new, "non-finite cell") if new else ""


def _frame_word(value: object) -> str:
    """`missing`, `infinite`, `missing or infinite`; of polars also `nan`, which it keeps apart from what is missing."""
    if polars_cells.is_one(value):
        words = [word for word, count in polars_cells.COUNTS.items() if count(value)]
        return " or ".join([", ".join(words[:-1]), words[-1]] if len(words) > 1 else words)
    bad, nan = nonfinite.mask(value), nonfinite.nan_mask(value)
    return " or ".join(word for word, cells in (("missing", nan), ("infinite", bad & ~nan)) if cells.any())


def _first_row(value: Any) -> object:
    """The label of a frame's first row with a bad cell; of polars its number."""
    if polars_cells.is_one(value):
        return polars_cells.first_row(value)
    np, mask = nonfinite.module("numpy"), nonfinite.mask(value)
    return value.index[int(np.argmax(mask if mask.ndim == 1 else mask.any(axis=1)))]


def _missing(value: object, count: int) -> str:
    """`16 missing cells in kg, first at row 6`: of a frame, by column, with the first row's label."""
    try:
        first = f", first at row {clean(str(_first_row(value)).removesuffix(' 00:00:00'), 40)}"
        word = _frame_word(value)
        of_columns = nonfinite.columns(value) if hasattr(value, "columns") else {}
        columns = [f"{n} in {clean(str(name), 30)}" for name, n in of_columns.items()]
    except Exception:  # an index that cannot be read so
        return plural(count, "missing or infinite cell")
    if len(columns) == 1:
        return f"{plural(count, f'{word} cell')} in {columns[0].partition(' in ')[2]}{first}"
    more = ", …" if len(columns) > 3 else ""
    by_column = f" ({', '.join(columns[:3])}{more})" if columns else ""
    return f"{plural(count, f'{word} cell')}{by_column}{first}"


def _bad_cells(value: object) -> str:
    """`Missing cells`, `Infinite cells`: how a headline about a frame begins."""
    word = "missing"
    with contextlib.suppress(Exception):
        word = _frame_word(value)
    return f"{word if word.startswith('nan') else word.capitalize()} cells"


def _bad_name(value: object) -> str:
    told = summary(value)
    if type(value) is complex and not told["nonfinite"]:
        return "A complex number"
    if told["kind"] == "scalar":
        text = str(told["text"])
        return text if len(text) < 12 else "A non-finite number"
    return bad_word(value)


def pass_sentence(loops: list[dict[str, Any]]) -> str:
    """`Pass 212 of 365 of the loop over day.`"""
    if not loops:
        return ""
    loop = loops[0]
    if not loop["pass"]:
        return ""
    of = f" of {loop['of']}" if loop["of"] is not None else ""
    about = f"while {loop['target']}" if loop["kind"] == "while" else f"over {loop['target']}"
    where = (
        ""
        if len(loops) < 2 or not loops[1]["pass"]
        else f", in pass {loops[1]['pass']} of the loop at {cells.place_words(loops[1]['file'], loops[1]['line'])}"
    )
    return f"Pass {loop['pass']}{of} of the loop {about}{where}."


def culprit_sentence(found: dict[str, Any] | None) -> str:
    if found is None:
        return ""
    text = f"Culprit: {clean(found['text'], 80)}"
    if found["element"]:
        text += f" in {clean(found['element'], 80)}"
    if found["part"]:
        text += f", {found['part']},"
    if found["cell"] is not None:
        text += f" at [{', '.join(str(i) for i in found['cell'])}]"
    each = {(o["text"], o["value"]): o for o in found["operands"]}.values()
    operands = [o for o in each if o["text"] != o["value"]]  # a list that is written out
    if [o["text"] for o in operands] == [found["text"]]:
        text += f" = {clean(operands[0]['value'], 60)}"
    elif operands:
        text += " with " + ", ".join(f"{clean(o['text'], 40)} = {clean(o['value'], 60)}" for o in operands[:4])
    return text + (f", {found['reason']}" if found["reason"] else "") + "."


class Main:
    """The script's own file: of others the headline gives the name."""

    path = ""


def _line(pause: Pause) -> str:
    """`line 22`, or `line 22 of channel.py` where it is not the script's own file."""
    line = pause.line
    file = registry.file_of(pause.frame) if pause.frame else None
    path = registry.path_of(pause.frame) if pause.frame else ""
    if file is None or not Main.path or path == os.path.abspath(Main.path):
        return cells.place_words(path, line)
    return f"line {line} of {clean(os.path.basename(path), 60)}"


def _told(warnings: list[str], limit: int) -> str:
    """Warnings in one line."""
    return clean(" ".join("; ".join(warnings).split()), limit)


def headline(pause: Pause, loops: list[dict[str, object]], culprit: dict[str, object] | None) -> str:
    line = _line(pause)
    named = bool(pause.said) and culprit is not None and not culprit["operands"]  # the sentence is about it
    second = " ".join(s for s in (pass_sentence(loops), "" if named else culprit_sentence(culprit)) if s)
    why = f": {pause.why}" if pause.why else ""
    why += f" (hit {pause.hits} times)" if pause.hits > 1 else ""
    if pause.said:
        first = f"{pause.said}, at {line}{why}."
    elif pause.reason == "error" and pause.exception is not None:
        message = str_of(pause.exception)
        if pause.statement is not None and assertions.failed(pause.statement.node, pause.exception):
            message, _ = assertions.messages(message)
        message = clean(" ".join(message.split()), 200)
        first = f"{type(pause.exception).__name__} at {line}{': ' + message if message else ''}."
        if pause.why:
            first += f" {pause.why}."
        if pause.kept:
            first += f" The {pause.kept} keeps it until its result is asked for."
    elif pause.reason == "warning":
        first = f"{_told(pause.warnings, 240)}, at {line}."
    elif pause.reason == "nonfinite":
        source = (culprit or {}).get("sender") or "input"
        made = {"created": "created", ARRIVED: f"from {source}", "carried": "propagated", "gaps": "left"}.get(
            pause.kind or "", "found"
        )
        first = f"{_new_cells(pause, culprit) or _bad_name(pause.actual)} {made} at {line}: {would_become(pause)}."
        if summary(pause.actual)["kind"] == "frame":  # by column, and once
            first = f"{_bad_cells(pause.actual)} {made} at {line}: {would_become(pause)}."
        if pause.warnings:
            first += f" ({_told(pause.warnings, 160)}.)"
    elif pause.reached:
        first = f"Reached {line}."
    elif pause.reason == "breakpoint":
        first = f"Breakpoint at {line}{why}."
    elif pause.reason == "pause":
        first = f"{'Held' if pause.held else 'Interrupted'} at {line}{pause.interrupted_in}."
    elif pause.reason == "entry":
        first = f"Paused before the script starts, at {line}."
    else:
        first = f"At {line}."
    if pause.returned is not MISSING and not pause.said:
        first = f"The call returned {text_of(pause.returned)}; next: {line}."
    return TWO_ENDS.sub(".", f"{first} {second}".strip())
