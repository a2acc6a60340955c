"""The pause after the script's last line."""

from __future__ import annotations

import ast
import os
import sys
import types
from typing import Any

from ..core import run_state
from ..core.markers import MARK
from ..core.text import plural
from ..frames import stack
from ..rewrite.linking import put_in
from ..source import registry
from .facts import Pause
from .last_calls import CODE, LastCalls, Left

CALLS = 50  # that have ended are shown


def pause_at_end(
    main: dict[str, object], path: str, seconds: float, last: LastCalls
) -> tuple[Pause, dict[str, object]]:
    """The pause at the end of a script, and its headline.  `last`: what the last calls of its functions left."""
    module = frame_over(main, path)
    ended = last.kept()[:CALLS]
    calls = {frame_over(left.names, left.code.co_filename, left): left for left in ended}
    past = [module, *calls]
    lines = max(1, len(registry.files[path].lines)) if path in registry.files else 1
    # What a script with nothing but functions has to show is in `main()`.
    frame = past[1] if calls and not any(_is_value(name, value) for name, value in main.items()) else module
    file, line = (calls[frame].code.co_filename, calls[frame].line) if frame in calls else (path, lines)
    facts = {
        **dict.fromkeys(("kind", "exception", "culprit", "returned")),
        **{
            "warnings": [],
            "trail": [_told(call, calls.get(call), lines) for call in past] if calls else [],
            "loops": [],
            "terms": [],
            "differs": "",
            "trial": "",
            "retry": False,
            "replace": False,
        },
        **{"reason": "end", "state": "ran", "file": os.path.abspath(file), "line": line, "end_line": line},
        **{"function": stack.function_name(frame), "statement": ""},
        "headline": f"The script finished; it ran {seconds:.2f} s. {_what_is_kept(ended, last.too_often())}",
    }
    arguments = {call: left.arguments for call, left in calls.items()}
    return Pause("end", frame, "ran", place=(file, line), past=past if calls else [], arguments=arguments), facts


def _is_value(name: str, value: object) -> bool:
    return not (name.startswith(("__", MARK)) or isinstance(value, CODE))


def _told(call: types.FrameType, left: Left | None, lines: int) -> dict[str, object]:
    """A line of the trail."""
    return {
        "file": registry.path_of(call),
        "line": left.line if left is not None else lines,
        "function": stack.function_name(call),
        "old": False,
        "text": registry.files[call.f_code.co_filename].print if call.f_code.co_filename in registry.files else 0,
        "arguments": left.arguments if left is not None else "",
    }


def _what_is_kept(ended: list[Left], too_often: list[str]) -> str:
    if not ended:
        return "Inspect or evaluate its values."
    names = f"{ended[0].code.co_qualname}()"
    if len(ended) > 1:
        names += f" and {plural(len(ended) - 1, 'other function')}"
    last = "last call" if len(ended) == 1 else "last calls"
    said = f"Inspect or evaluate its values, and those of the {last} of {names}."
    if too_often:
        more = f" and {len(too_often) - 1} more" if len(too_often) > 1 else ""
        said += f" Not kept: {too_often[0]}(){more}, called too often."
    return said


def frame_over(namespace: dict[str, object], path: str, left: Left | None = None) -> types.FrameType:
    """A frame whose names are a module's, and those that a call `left`, so that its values can be asked for after
    the last line."""
    grab: dict[str, Any] = {}

    def take() -> None:
        grab["frame"] = sys._getframe(1)

    tree = ast.parse("0")
    tree.body = [
        ast.Expr(ast.Call(ast.Constant(MARK + "take"), [], []))  # a probe of its own
    ]
    file = registry.files.get(path)
    if file is not None and file.lines:
        last = len(file.lines) - next((n for n, text in enumerate(reversed(file.lines)) if text.strip()), 0)
        line = left.line if left is not None else last
        text = file.lines[line - 1]
        for node in ast.walk(tree):
            if isinstance(node, (ast.stmt, ast.expr)):
                node.lineno = node.end_lineno = line
                node.col_offset = node.end_col_offset = len(text) - len(text.lstrip())
    ast.fix_missing_locations(tree)
    with run_state.silenced():
        compiled = compile(tree, path, "exec")
    if left is not None:
        compiled = compiled.replace(co_name=left.code.co_name, co_qualname=left.code.co_qualname)
    exec(put_in(compiled, {"take": take}), namespace, left.values if left is not None else namespace)
    frame: types.FrameType = grab["frame"]
    return frame
