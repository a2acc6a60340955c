"""The keys that do something now, for the bottom line."""

from __future__ import annotations

from ...protocol import Facts
from .moves import PACES, Moves

STEP = ("space", "line"), ("i", "into call"), ("o", "out")
ALWAYS = (
    ("a", "ask"),
    ("l", "ledger"),
    ("w", "another version"),
    ("m", "breakpoint"),
    ("t", "terms"),
    ("tab", "values"),
    ("d", "output"),
)
LEAVE = ("?", "all keys"), ("q", "leave")


class KeyLine(Moves):
    """A part of the Bench."""

    state: str
    facts: Facts | None

    def _keys(self) -> list[tuple[str, str]]:
        if self.state == "running":
            return [
                ("z", "interrupt"),
                ("d", "output and input"),
                ("m", "breakpoint"),
                ("R", "run again"),
                ("X", "end"),
                *LEAVE,
            ]
        if self.state != "paused" or self.facts is None:
            return [("R", "run again"), ("d", "output"), *LEAVE]
        if self.facts.reason == "end":
            back = [("backspace", "back")] if self.can_go_back() else []
            return [
                *back,
                ("a", "ask"),
                ("l", "ledger"),
                ("tab", "values"),
                ("d", "output"),
                ("enter", "let it end"),
                ("R", "run again"),
                *LEAVE,
            ]
        error = [("y", "try again"), ("k", "skip")] if self.facts.retry else []
        accept = [("A", "accept here")] if self.facts.reason == "nonfinite" else []
        walk = [("[ ]", "trail")] if len(self.facts.trail) > 1 else []
        if self.slow:
            return [("any key", "stops the slow run"), ("< >", f"pace: {PACES[self.pace]:g} s a line"), *LEAVE]
        if self.facts.reason == "error" and self.facts.state == "ran":
            return [("a", "ask"), ("[ ]", "trail"), ("enter", "let it end"), ("R", "run again"), *LEAVE]
        if self.facts.nested:
            back = [("backspace", "back")] if self.can_go_back() else []
            return [*STEP, ("enter", "go on"), ("x", "leave the copy"), *back, *ALWAYS, *LEAVE]
        loop = [("p", "next pass")] if self.facts.loops else []
        back = [("backspace", "back")] if self.can_go_back() else []
        return [*error, *STEP, *loop, ("enter", "go on"), *back, *accept, *ALWAYS, *walk, ("R", "run again"), *LEAVE]
