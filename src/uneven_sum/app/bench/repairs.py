"""Versions of the paused line for its known reason, each tried in a copy of the script; one is opened as an edit."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical
from textual.screen import ModalScreen
from textual.widgets import OptionList, Static
from textual.widgets.option_list import Option

from ...client import BadUse
from ...client.fault import Repair
from ...client.keeping.ends import compared, to_the_end
from ...client.keeping.proof import Mended
from ...protocol.messages import Message
from ..shell.theme import Palette
from ..widgets.options import Options
from .output_drawer import OutputDrawer

if TYPE_CHECKING:
    from .screen import Bench


AROUND = 10  # rows of the dialog beside its list
KEYS = "enter: edit this version · e: try all to the end of the script · up/down: move · escape: cancel"


class Repairs(ModalScreen[str | None]):
    """Gives the text of the version that is chosen; escape gives None."""

    DEFAULT_CSS = """
    Repairs { align: center middle; }
    Repairs > Vertical { width: 96%; max-width: 124; height: auto; max-height: 90%; background: $panel; }
    Repairs > Vertical { padding: 1 2; border: solid $rule; }
    Repairs OptionList { height: auto; background: $panel; border: none; padding: 0; margin: 1 0; }
    Repairs OptionList:focus { border: none; }
    Repairs OptionList > .option-list--option-highlighted { background: $rule; color: $foreground; text-style: none; }
    Repairs OptionList:focus > .option-list--option-highlighted { background: $rule; color: $foreground; }
    Repairs Static { height: auto; background: $panel; }
    """
    BINDINGS = [Binding("escape", "dismiss", "close"), Binding("e", "to_the_end", "try to the end")]

    def __init__(self, bench: Bench, palette: Palette, found: list[Repair], frame: int) -> None:
        super().__init__()
        self.ends: dict[int, list[str]] = {}  # by number: what a run to the end has shown
        self.bench, self.palette, self.found, self.frame = bench, palette, found, frame
        self.results: dict[int, tuple[str, bool]] = {}  # by number: what came of it, and whether that is bad

    def compose(self) -> ComposeResult:
        p = self.palette
        with Vertical():
            yield Static(Text("What people write here, tried in a copy; none is right by itself", f"bold {p.text}"))
            yield Options(id="repairs")
            yield Static(Text(KEYS, p.quiet), id="keys")

    def on_mount(self) -> None:
        self._draw()
        self.query_one(OptionList).focus()
        self._try_all()

    def on_resize(self) -> None:
        """The list leaves room for the title and the keys."""
        self.query_one(OptionList).styles.max_height = max(5, self.size.height * 9 // 10 - AROUND)

    def _draw(self) -> None:
        options, p = self.query_one(OptionList), self.palette
        at = options.highlighted or 0
        options.clear_options()
        for number, one in enumerate(self.found):
            row = Text.assemble((one.name, f"bold {p.at}"))
            for line in one.text.split("\n"):
                row.append(f"\n    {line}", p.text)
            said, bad = self.results.get(number, ("is being tried …", False))
            row.append(f"\n    → {said}", p.nonfinite if bad else p.fine if number in self.results else p.quiet)
            row.append(f"\n    assumes: {one.assumes}", p.quiet)
            for line in self.ends.get(number, []):
                row.append(f"\n    ⇥ {line}", p.text)
            options.add_option(Option(row))
        options.highlighted = at

    @work(exclusive=True)
    async def _try_all(self) -> None:
        for number, one in enumerate(self.found):
            client = self.bench.client
            if client is None:
                return
            try:
                tried = (await client.try_change(self.frame, None, one.text))["tried"]
                self.results[number] = _result(tried)
            except BadUse as e:
                self.results[number] = (str(e), True)
            self._draw()

    @work(exclusive=True, group="end")
    async def action_to_the_end(self) -> None:
        """Run the script in a copy, as it is and with each version, to its end."""
        bench, facts = self.bench, self.bench.facts
        if facts is None:
            return
        typed = bench.query_one(OutputDrawer).typed
        texts = bench.sources.changed_since()
        source = bench.sources.text_of(facts.file)
        self.ends = {number: ["waits for its run to the end …"] for number in range(len(self.found))}
        self._draw()
        began = time.monotonic()
        timer = self.set_interval(1.0, lambda: self._tick(time.monotonic() - began))
        try:
            wanted = list(bench.book.results)
            before = await to_the_end(bench.launch, texts, typed, wanted)
            for number, one in enumerate(self.found):
                self.ends[number] = ["runs to the end …"]
                self._draw()
                mended = Mended(facts.line, facts.end_line or facts.line, one.text).applied(source)
                now = await to_the_end(bench.launch, {**texts, facts.file: mended}, typed, wanted)
                self.ends[number] = compared(now, before)
                self._draw()
        except BadUse as e:
            self.ends = {}
            bench.notify(str(e), severity="warning")
            self._draw()
        finally:
            timer.stop()
            self._tick(0.0)

    def _tick(self, seconds: float) -> None:
        """How long the runs take so far; the script itself took some time to come here."""
        if not self.is_attached:
            return
        took = f", the script {self.bench.ran:.0f} s up to here" if self.bench.ran >= 1 else ""
        said = f"{KEYS} · runs for {seconds:.0f} s{took}; escape ends them" if seconds else KEYS
        self.query_one("#keys", Static).update(Text(said, self.palette.quiet))

    def on_option_list_option_selected(self, event: OptionList.OptionSelected) -> None:
        event.stop()
        self.dismiss(self.found[event.option_index].text)


def _result(tried: Message) -> tuple[str, bool]:
    """What a version gives, in words, and whether that is an error or not finite."""
    if tried["failed"]:
        return str(tried["failed"]), True
    last = tried["statements"][-1] if tried["statements"] else None
    if last is None:
        return str(tried["changed"]) or "changes nothing", False
    terms = last["terms"]
    bad = bool(terms) and bool(terms[0]["nonfinite"])
    return str(tried["changed"] or (terms[0]["value"] if terms else last["value"]) or "changes nothing"), bad
