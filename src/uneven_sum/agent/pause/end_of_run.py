"""The pause after the script's last line."""

from __future__ import annotations

import ast
import os
import sys
import types
from typing import Any

from ..core import run_state
from ..core.markers import MARK
from ..rewrite.linking import put_in
from ..source import registry
from .facts import Pause


def pause_at_end(main: dict[str, object], path: str, seconds: float) -> tuple[Pause, dict[str, object]]:
    """The pause at the end of a script, and its headline."""
    frame = frame_over(main, path)
    lines = max(1, len(registry.files[path].lines)) if path in registry.files else 1
    facts = {
        **dict.fromkeys(("kind", "exception", "culprit", "returned")),
        **{
            "warnings": [],
            "trail": [],
            "loops": [],
            "terms": [],
            "differs": "",
            "trial": "",
            "retry": False,
            "replace": False,
        },
        **{"reason": "end", "state": "ran", "file": os.path.abspath(path), "line": lines, "end_line": lines},
        **{"function": "<module>", "statement": ""},
        "headline": f"The script finished; it ran {seconds:.2f} s. Inspect or evaluate its values.",
    }
    return Pause("end", frame, "ran", place=(path, lines)), facts


def frame_over(namespace: dict[str, object], path: str) -> types.FrameType:
    """A frame whose names are a module's, so that its values can be asked for after the last line."""
    grab: dict[str, Any] = {}

    def take() -> None:
        grab["frame"] = sys._getframe(1)

    tree = ast.parse("0")
    tree.body = [
        ast.Expr(ast.Call(ast.Constant(MARK + "take"), [], []))  # a probe of its own
    ]
    ast.fix_missing_locations(tree)
    with run_state.silenced():
        compiled = compile(tree, path, "exec")
    exec(put_in(compiled, {"take": take}), namespace)
    frame: types.FrameType = grab["frame"]
    return frame
