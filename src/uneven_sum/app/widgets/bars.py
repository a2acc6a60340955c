"""The lines around the sheet: the case's name and state, the headline, the trail, the keys."""

from __future__ import annotations

import textwrap

from rich.text import Text
from textual.widgets import Static

from ...protocol import Expected, TrailCall
from ...protocol.names import shown
from ..shell.keymap import Keyed
from ..shell.theme import Palette


class TopLine(Static):
    """The script at the left, its state at the right."""

    DEFAULT_CSS = "TopLine { height: 1; background: $panel; width: 100%; }"

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette, self.left, self.right = palette, "", ""

    def show(self, left: str, right: str) -> None:
        self.left, self.right = left, right
        self._draw()

    def on_resize(self) -> None:
        self._draw()

    def _draw(self) -> None:
        room = max(4, self.size.width - len(self.right) - 4)
        left = self.left if len(self.left) <= room else "…" + self.left[-room + 1 :]
        gap = " " * max(2, self.size.width - len(left) - len(self.right) - 2)
        self.update(Text.assemble((" " + left, f"bold {self.palette.text}"), gap, (self.right, self.palette.quiet)))


class Headline(Static):
    """Why and where the script is paused, in plain sentences."""

    DEFAULT_CSS = (
        "Headline { height: auto; max-height: 8; min-height: 1; width: 100%; padding: 0 1; background: $background; }"
    )

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.said: tuple[str, str, list[Expected]] = ("", "", [])

    def show(self, text: str, reason: str, expected: list[Expected] | None = None) -> None:
        p = self.palette
        colour = {"nonfinite": p.nonfinite, "error": p.error, "died": p.error, "warning": p.warning, "end": p.fine}.get(
            reason, p.at
        )
        self.said = (text, reason, expected or [])
        out = Text()
        width = max(20, self.size.width - 4)
        for number, part in enumerate(_sentences(text)):
            for line in [w for piece in part.split("\n") for w in textwrap.wrap(piece, width) or [""]][:3]:
                out.append("\n" if out else "")
                out.append("▍", colour)
                out.append(line, f"bold {p.text}" if number == 0 else p.text)
        for one in self.said[2][:3]:
            self._expectation(out, one, width)
        self.update(out)

    def _expectation(self, out: Text, one: Expected, width: int) -> None:
        """What was expected, beside what is."""
        p = self.palette
        colour = p.warning if one.problem else p.fine if one.holds else p.nonfinite
        word = "not told" if one.problem else "as expected" if one.holds else "! not as expected"
        out.append("\n▍", colour)
        out.append(word, f"bold {colour}")
        actual = one.problem or (one.actual if "=" in one.actual else f"it is {one.actual}")
        out.append(f"  {one.text}: {actual}"[: width - len(word)], p.text)

    def on_resize(self) -> None:
        self.show(*self.said)


def _sentences(text: str) -> list[str]:
    """The first statement of what happened, and the rest: pass and culprit."""
    for mark in (" Pass ", " Culprit: "):
        at = text.find(mark)
        if at > 0:
            return [text[:at], text[at + 1 :]]
    return [text]


class Trail(Static):
    """The calls as a breadcrumb, outermost first; the chosen one is highlighted."""

    DEFAULT_CSS = "Trail { height: 1; width: 100%; padding: 0 1; background: $background; }"

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette

    def show(self, trail: list[TrailCall], chosen: int, test: str = "", ended: bool = False) -> None:
        """`test`: the name of the test around, which takes the place of its runner's own line.  `ended`: the calls
        have ended one after the other; none is within another."""
        p = self.palette
        out = Text(no_wrap=True, overflow="ellipsis")
        for number, call in enumerate(trail):
            if number:
                out.append(" · " if ended else " › ", p.quiet)
            if call.function != "<module>":
                name = f"{shown(call.function)}({call.arguments})"
            elif test and not number:
                name = f"test {test}"
            else:
                name = call.file.rpartition("/")[2]
            out.append(name, f"bold {p.at}" if number == chosen else p.quiet)
        if len(out) > self.size.width - 2 > 10:
            out = out[-(self.size.width - 3) :]
            out = Text("…", p.quiet) + out
        self.update(out)


LEAVING = ("?", "q", "2", "escape", "ctrl+o")


class Keys(Static):
    """The keys that do something now: those of the focused field, if it has a `hints`, else the screen's."""

    DEFAULT_CSS = "Keys { height: 1; width: 100%; background: $panel; }"

    def __init__(self, palette: Palette, **kwargs: object) -> None:
        super().__init__(**kwargs)  # type: ignore[arg-type]  # a widget's id and classes
        self.palette = palette
        self.pairs: list[tuple[str, str]] = []
        self.acts = True

    def on_mount(self) -> None:
        self.watch(self.screen, "focused", self._draw, init=False)

    def show(self, pairs: list[tuple[str, str]]) -> None:
        self.pairs = pairs
        self._draw()

    def act(self, acts: bool) -> None:
        """Whether keys reach this screen: not while a dialog is open over it."""
        self.acts = acts
        self._draw()

    def on_resize(self) -> None:
        self._draw()

    def _draw(self) -> None:
        """As many as fit; the way to all keys and the way out always."""
        p = self.palette
        own = getattr(self.screen.focused, "hints", None)
        of = self.screen.key if isinstance(self.screen, Keyed) and own is None else str
        pairs = (own if own is not None else self.pairs) if self.acts else []
        must = [(of(k), word) for k, word in pairs if k in LEAVING]
        room = self.size.width - sum(len(k) + len(w) + 4 for k, w in must) - 2
        shown = []
        for key, word in [(of(k), word) for k, word in pairs if k not in LEAVING]:
            room -= len(key) + len(word) + 4
            if room < 0:
                break
            shown.append((key, word))
        out = Text(" ", no_wrap=True)
        for number, (key, word) in enumerate(shown + must):
            if number:
                out.append(" · ", p.quiet)
            out.append(key, f"bold {p.text}")
            out.append(f" {word}", p.quiet)
        self.update(out)
