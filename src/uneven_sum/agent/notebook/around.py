"""Puts around a notebook's cells what they expect there."""

from __future__ import annotations

import builtins
import contextlib
import importlib
import os
import sys
from collections.abc import Callable
from typing import Any

from ..core import run_state
from ..probes import runtime
from ..source.cells import Cells
from .figures import Figures
from .outputs import Outputs, keep_what_is_written, use_agg
from .shell import Shell


def put(outputs: Outputs, cells: Cells, names: dict[str, object], compiled: Callable[..., Any]) -> None:
    """Before the first cell runs.  `compiled`: the code of a user's file."""

    def say(number: int, text: str) -> None:
        outputs.tell("unevenSum/leftOut", {"number": number, "text": f"Cell {number}: {text}"})

    use_agg()
    figures = Figures(outputs)
    outputs.at_end.append(figures.flush)

    def ready(source: str) -> None:
        """`from IPython.display import display` would get the original before it is ours."""
        if "IPython" in source and "IPython.display" not in sys.modules:
            with contextlib.suppress(Exception), run_state.silenced():
                importlib.import_module("IPython.display")
                _look_at_display(outputs)

    outputs.at_begin.append(ready)

    def run_file(path: str) -> dict[str, object]:
        with open(path, "rb") as f:
            data = f.read()
        made = {"__name__": "__main__", "__file__": path, "__builtins__": builtins}
        exec(compiled(os.path.abspath(path), data), made)
        return made

    shell = Shell(outputs, names, say, run_file)
    vars(builtins)["get_ipython"] = lambda: shell
    vars(builtins)["display"] = outputs.display
    runtime.PROBES["shown"] = outputs.shown
    keep_what_is_written(outputs)
    seen = 0

    def hook(event: str, args: tuple[object, ...]) -> None:
        nonlocal seen
        if event == "import" or (event != "object.__getattr__" and seen != len(sys.modules)):
            if not run_state.quiet:
                seen = len(sys.modules)
                figures.look()
                _look_at_display(outputs)

    sys.addaudithook(hook)
    for number, what in cells.left_out:
        say(number, f"not run, since {what}.")


def _look_at_display(outputs: Outputs) -> None:
    """`from IPython.display import display` gets ours, which needs no shell."""
    for name in ("IPython.core.display_functions", "IPython.display"):
        module: Any = sys.modules.get(name)
        if module is not None and getattr(module, "display", None) not in (None, outputs.display):
            module.display, module.clear_output = outputs.display, outputs.clear
    shell: Any = sys.modules.get("IPython.core.getipython")
    if shell is not None and getattr(shell, "get_ipython", None) is not vars(builtins)["get_ipython"]:
        shell.get_ipython = vars(builtins)["get_ipython"]
