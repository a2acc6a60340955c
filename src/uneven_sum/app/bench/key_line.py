"""The keys that do something now, for the bottom line."""

from __future__ import annotations

from ..shell.commands import hints
from . import commands
from .controller import Controller
from .stepping import PACES

STEP = ("space", "i", "o")
ALWAYS = ("a", "m", "w", "t", "c", "F", "l", "tab", "d")
LEAVE = ("?", "q")
TROUBLE = ("error", "warning", "nonfinite", "finding")


class KeyLine(Controller):
    """A controller of the Bench."""

    def present_keys(self) -> list[tuple[str, str]]:
        if self.bench.stepping.slow and self.bench.state == "paused":
            slow = [
                ("any key", "stop auto-step"),
                ("< >", f"change speed, now {PACES[self.bench.stepping.pace]:g} s a line"),
            ]
            return [*slow, *hints(commands.COMMANDS, *LEAVE)]
        return hints(commands.COMMANDS, *self._present())

    def _present(self) -> list[str]:
        facts = self.bench.facts
        if self.bench.state == "running":
            return ["z", "d", "m", "R", "X", *LEAVE]
        if self.bench.state != "paused" or facts is None:
            return ["R", "d", "m", "e", "1", *LEAVE]
        back = ["backspace"] if self.bench.stepping.can_go_back() else []
        walk = ["[ ]"] if len(facts.trail) > 1 else []
        if facts.reason == "end":
            return [*back, "a", "c", *walk, "F", "l", "tab", "d", "enter", "R", *LEAVE]
        if facts.reason == "error" and facts.state == "ran":
            return ["a", "c", *walk, "enter", "R", *LEAVE]
        if facts.nested:
            return [*STEP, "enter", "x", *back, *ALWAYS, *LEAVE]
        repairs = ["r"] if self.bench.recording.known_repairs() else []
        loop = ["p"] if facts.loops else []
        rest = [*back, *(["J"] if facts.test is not None else []), "m", "t", "tab", "d", *walk, "R", *LEAVE]
        processes = ["( )"] if facts.waiting or facts.held else []
        if facts.reason not in TROUBLE:
            return [*processes, "space", "enter", "a", *STEP[1:], *loop, "c", "l", *repairs, "F", "w", *rest]
        # First what tells why, then what goes on in spite of it.
        look = ["a", "c", *(["l"] if facts.loops else []), "F"]
        again = ["y"] if facts.retry else []
        again += ["k"] if facts.retry and facts.reason == "error" else ["K"] if facts.replace else []
        again += ["A"] if facts.reason == "nonfinite" else []
        record = [] if facts.loops else ["l"]
        return [*repairs, *look, *processes, "enter", "space", *again, "w", *STEP[1:], *loop, *record, *rest]
