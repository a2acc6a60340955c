"""The first-run guide: five steps on a copy of a shipped case, each over once its user has done it."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from rich.text import Text
from textual.widgets import Static

from ..shell.theme import Palette
from .ask_drawer import AskDrawer

if TYPE_CHECKING:
    from .screen import Bench

OFTEN = 0.25  # seconds between two looks at what the user has done


@dataclass(frozen=True)
class Step:
    """What to do, keys between ‹ and ›; `done` looks at the Bench, and at what was seen since the step began."""

    title: str
    text: str
    done: Callable[[Bench, Seen], bool]


@dataclass
class Seen:
    """What has happened on the Bench in the present step."""

    closeup: bool = False
    highest: int = 0  # pass
    runs: int = 0


def _opened(bench: Bench, seen: Seen) -> bool:
    return seen.closeup and bench.app.screen is bench


def _went_back(bench: Bench, seen: Seen) -> bool:
    loops = bench.facts.loops if bench.facts is not None else []
    return bool(loops) and 0 < loops[-1].number < seen.highest


def _mended(bench: Bench, seen: Seen) -> bool:
    return bench.runs > seen.runs and bench.facts is not None and bench.facts.reason == "end"


STEPS = [
    Step(
        "Read why it stopped",
        "The headline says what happened, in which pass (iteration), and which term is the culprit. The terms are "
        "under the line. At the right are the values that the line uses. Press ‹tab›: it shows all local values.",
        lambda bench, seen: bench.about != "line",
    ),
    Step(
        "Look at a value",
        "‹f› finds a value by its name: type stage, then enter. The Close-up shows its statistics, its cells and a "
        "plot (‹v›). escape goes back here.",
        _opened,
    ),
    Step(
        "Evaluate in a copy",
        "‹a› asks: type  C * max(head, 0.0) ** 1.5 * WIDTH  and enter. It is evaluated in a copy of the script, which "
        "does not change. escape closes the line.",
        lambda bench, seen: bench.query_one(AskDrawer).latest is not None and not bench.typing,
    ),
    Step(
        "Go on, and back",
        "‹p› goes to the same place in the next pass of the loop; ‹backspace› goes back to the previous pause, with "
        "all values as they were. Do both.",
        _went_back,
    ),
    Step(
        "Repair it and compare",
        "‹w› tries an edit of the line: make it  flow[day] = C * max(head, 0.0) ** 1.5 * WIDTH , save it to "
        "the file with ctrl+s, and choose to rerun. At the end the headline says what differs.",
        _mended,
    ),
]
END = (
    "You found the faulty calculation and repaired it. ‹?› lists all keys, ‹l› records a loop, ‹ctrl+k› saves evidence "
    "for a report, ‹1› opens the Desk: choose your own script there."
)


class GuideBar(Static):
    """The present step, above the keys; hidden where there is no guide."""

    DEFAULT_CSS = "GuideBar { height: auto; width: 100%; padding: 0 1; background: $panel; border-top: solid $rule; }"

    def __init__(self, palette: Palette) -> None:
        super().__init__()
        self.palette = palette
        self.step = 0
        self.seen = Seen()

    def on_mount(self) -> None:
        self.draw()
        self.set_interval(OFTEN, self.look)

    def look(self) -> None:
        """Goes on to the next step once this one was done."""
        bench: Any = self.screen
        if self.step >= len(STEPS):
            return
        self.seen.closeup |= getattr(self.app.screen, "KEYS_OF", "") == "closeup"
        loops = bench.facts.loops if bench.facts is not None else []
        done = STEPS[self.step].done(bench, self.seen)
        if loops:
            self.seen.highest = max(self.seen.highest, loops[-1].number)
        if done:
            self.step += 1
            self.seen = Seen(runs=bench.runs)
            self.draw()

    def draw(self) -> None:
        p, out = self.palette, Text()
        over = self.step >= len(STEPS)
        title = "The guide is done" if over else f"Step {self.step + 1} of {len(STEPS)}: {STEPS[self.step].title}"
        out.append(f"{title}   ", f"bold {p.at}")
        text = f"{END if over else STEPS[self.step].text}   ‹G› {'closes' if over else 'leaves'} the guide."
        for number, part in enumerate(re.split("[‹›]", text)):
            # mypy: shown on keyed screens
            out.append(self.screen.key(part) if number % 2 else part, f"bold {p.text}" if number % 2 else p.text)  # type: ignore[attr-defined]
        self.update(out)
