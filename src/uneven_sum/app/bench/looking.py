"""Values on the Bench: which one to open, watches, copying."""

from __future__ import annotations

import ast
import asyncio
import shutil
from typing import TYPE_CHECKING, cast

from textual import work

from ...client import BadUse, Client
from ...protocol import Card, Facts
from ..dialogs import Prompt
from ..widgets.cards import Cards
from ..widgets.sheet import Sheet

if TYPE_CHECKING:
    from ..screens.bench import Bench


class Looking:
    """A part of the Bench."""

    client: Client | None
    state: str
    facts: Facts | None
    watches: list[str]

    @property
    def _b(self) -> Bench:
        return cast("Bench", self)

    def action_closeup(self) -> None:
        """The value at the cursor: of the cursor line's names, arrays that are not healthy first."""
        if self.client is None or self.state != "paused":
            self._b.notify("Values are shown at a pause.")
            return
        found = self.candidates()
        if found:
            self.open_closeup(found)
        else:
            self._b.notify("There is no value to open here.")

    def candidates(self) -> list[str]:
        """Names at the cursor line, then of the cards, the most telling first."""
        bench = self._b
        sheet = bench.query_one(Sheet)
        cards = {c.name: c for c in bench.query_one(Cards).cards if c.assigned}
        line = sheet.lines[sheet.cursor - 1] if sheet.lines else ""
        here = [n for n in names_in(line) if n in cards]

        def rank(name: str) -> tuple[bool, bool, int]:
            card = cards[name]
            large = card.kind in ("array", "frame")
            return (not (large and card.nonfinite), not large, here.index(name))

        rest = [n for n in cards if n not in here]
        return sorted(here, key=rank) + sorted(rest, key=lambda n: cards[n].kind not in ("array", "frame"))

    def open_closeup(self, expressions: list[str]) -> None:
        from ..screens.closeup import CloseUp

        bench = self._b
        bench.app.push_screen(CloseUp(bench, bench.palette, expressions, bench._frame()))

    def on_cards_opened(self, message: Cards.Opened) -> None:
        rest = [n for n in self.candidates() if n != message.name]
        self.open_closeup([message.name, *rest])

    # -- watches -------------------------------------------------------------------------------------

    @work(group="dialog")
    async def action_watch(self) -> None:
        """Adds a watch expression; an existing one is removed by giving it again."""
        bench = self._b
        sheet = bench.query_one(Sheet)
        line = sheet.lines[sheet.cursor - 1] if sheet.lines else ""
        names = names_in(line)
        hint = "an expression; one that is watched already is removed"
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Watch what?", names[0] if names else "", hint))
        if not text or not text.strip():
            return
        text = text.strip()
        if text in self.watches:
            self.watches.remove(text)
        else:
            try:
                ast.parse(text, mode="eval")
            except SyntaxError as e:
                bench.notify(f"{text} is no expression: {e.msg}.", severity="warning")
                return
            self.watches.append(text)
        bench.about = "watched"
        await self.show_cards()

    async def show_cards(self) -> None:
        """The cards as chosen: around the line, of the call, of the module, watched."""
        bench, client = self._b, self.client
        if client is None or self.state != "paused":
            return
        try:
            if bench.about == "watched":
                cards = await self.watched()
            else:
                cards = await client.cards(bench._frame(), bench.about)
                cards = await self._filled(client, cards)
        except BadUse:
            return
        bench.query_one(Cards).show(cards, bench.about)

    async def _filled(self, client: Client, cards: list[Card]) -> list[Card]:
        """Cards whose summaries take time are painted first, then filled in."""
        waiting = [c.name for c in cards if c.pending]
        if not waiting:
            return cards
        self._b.query_one(Cards).show(cards, self._b.about)
        told = {c.name: c for c in await client.fill(self._b._frame(), self._b.about, waiting)}
        return [told.get(c.name, c) for c in cards]

    async def watched(self) -> list[Card]:
        assert self.client is not None
        return await asyncio.gather(*(self._one(text) for text in self.watches))

    async def _one(self, text: str) -> Card:
        client, frame = self.client, self._b._frame()
        assert client is not None
        try:
            told = (await client.ask(text, frame, "watch"))["unevenSum"]
        except BadUse as e:
            return Card(text, f"not known here yet: {e}", "", "none", assigned=False)
        return Card(
            text,
            told["text"],
            told["type"],
            told["kind"],
            told["nonfinite"],
            picture=told.get("picture", ""),
            marks=told.get("marks", ""),
        )

    # -- copying -------------------------------------------------------------------------------------

    def copy_text(self, text: str) -> None:
        """To the terminal's clipboard (OSC 52), and to the system's where there is a command for it."""
        self._b.app.copy_to_clipboard(text)
        command = next((c for c in ("wl-copy", "xclip", "xsel", "pbcopy") if shutil.which(c)), None)
        if command is not None:
            self._b.run_worker(_pipe(command, text), group="copy")


async def _pipe(command: str, text: str) -> None:
    options = {"xclip": ["-selection", "clipboard"], "xsel": ["--clipboard", "--input"]}.get(command, [])
    try:
        process = await asyncio.create_subprocess_exec(command, *options, stdin=-1, stdout=-3, stderr=-3)
        await asyncio.wait_for(process.communicate(text.encode()), 2)
    except (OSError, TimeoutError):
        return  # no display: the terminal has it


def names_in(line: str) -> list[str]:
    """The names of a source line, in their order."""
    found: list[str] = []
    word = ""
    for sign in line.partition("#")[0] + " ":
        if sign.isalnum() or sign == "_":
            word += sign
        else:
            if word.isidentifier() and not word.isdigit():
                found.append(word)
            word = ""
    return list(dict.fromkeys(found))
