"""The pass strip: the values of the recorded loop around the pause, pass by pass, the present one at the right."""

from __future__ import annotations

from rich.text import Text
from textual.widgets import Static

from ...protocol import Recent
from ..plotting.number_format import Format, shown
from ..shell.theme import Palette

MOST = 6  # rows of values
WIDEST = 14


class PassStrip(Static):
    """Shown while there is something to show."""

    DEFAULT_CSS = """
    PassStrip { height: auto; width: 100%; padding: 0 1; background: $background; border-top: solid $rule; }
    PassStrip { display: none; }
    PassStrip.shown { display: block; }
    """

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.recent = Recent()
        self.present = 0  # the pass under way, 0 for none

    def show(self, recent: Recent, present: int, names: list[str]) -> None:
        """`names`: those that the paused line mentions come first."""
        order = {name: n for n, name in enumerate(names)}
        recent.values.sort(key=lambda v: order.get(v.name, 99))
        self.recent, self.present = recent, present
        self.set_class(bool(recent.line and recent.values), "shown")
        self._draw()

    def on_resize(self) -> None:
        self._draw()

    def _draw(self) -> None:
        p, recent = self.palette, self.recent
        if not recent.line:
            return
        values = recent.values[:MOST]
        names = max([6, *(len(v.name) for v in values)]) + 2
        numbers = [str(n) for n in recent.numbers]
        columns: list[list[str]] = []  # from the present one back
        if self.present and (not recent.numbers or self.present > recent.numbers[-1]):
            columns.append([f"{self.present} now", *(_short(v.now) for v in values)])
        columns += [[numbers[at], *(_short(v.texts[at]) for v in values)] for at in range(len(numbers) - 1, -1, -1)]
        room = max(20, self.size.width - 2) - names
        taken: list[list[str]] = []
        for column in columns:
            room -= max(map(len, column)) + 3
            if room < 0:
                break
            taken.insert(0, column)
        out = Text(no_wrap=True)
        for row, name in enumerate(["passes", *(v.name for v in values)]):
            out.append("\n" if row else "")
            out.append(f"{name[: names - 2]:<{names}}", f"bold {p.text}" if row else p.quiet)
            for column in taken:
                text, width = column[row], max(map(len, column))
                bad = row and text in ("nan", "inf", "-inf")
                style = f"bold {p.nonfinite}" if bad else p.at if "now" in column[0] else p.text if row else p.quiet
                out.append(f"{'! ' + text if bad else text:>{width + 2}} ", style)
        self.update(out)


def _short(text: str) -> str:
    """A number in six digits; anything else as it is."""
    try:
        return shown(float(text), Format()) if "." in text or "e" in text or "n" in text else str(int(text))
    except ValueError:
        return text if len(text) <= WIDEST else text[: WIDEST - 1] + "…"
