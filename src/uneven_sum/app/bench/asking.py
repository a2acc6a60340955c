"""Questions to the paused script, and completion."""

from __future__ import annotations

from textual import work

from ...client import BadUse
from ..widgets.drawers import AskDrawer, AskLine
from .part import Part

# What the ask line understands besides Python: see `looking.command` and the lookouts' sentences.
WORDS = ("plot ", "table ", "open ", "watch ", "pause at line ", "pause at the entry of `", "pause at the return of `",
         "pause at a change of `", "pause at a raise of `", "write `")  # fmt: skip


class Asking(Part):
    """A part of the Bench."""

    @work(group="ask")
    async def _ask(self, text: str) -> None:
        drawer = self.bench.query_one(AskDrawer)
        drawer.question(text)
        if text.startswith(("pause at ", "write `")):
            fine, told = await self.bench.add_sentence(text)
            drawer.answer(told, "", "", True, False) if fine else drawer.refuse(told)
            return
        client = self.bench.client
        if client is None or self.bench.state != "paused":
            drawer.refuse("The script is not paused.")
            return
        try:
            done = await self.bench.command(text)
            if done is not None:
                drawer.answer(done, "", "", False, False)
                return
            body = await client.ask(text, self.bench._frame())
        except BadUse as e:
            drawer.refuse(str(e))
            return
        told = body.get("unevenSum", {})
        drawer.answer(
            body["result"],
            body.get("type", ""),
            told.get("printed", ""),
            bool(told.get("forGood")),
            bool(told.get("nonfinite")),
        )
        if told.get("forGood"):
            await self.bench._read_call(client)

    def on_ask_drawer_asked(self, message: AskDrawer.Asked) -> None:
        self._ask(message.text)

    async def on_ask_line_complete(self, message: AskLine.Complete) -> None:
        if self.bench.client is None or self.bench.state != "paused":
            return
        words = [w for w in WORDS if w.startswith(message.text)]
        if message.text and words:
            self.bench.query_one(AskDrawer).complete(words, 0, message.text)
            return
        try:
            found = await self.bench.client.complete(message.text, self.bench._frame())
        except BadUse:
            return
        start = found[0]["start"] + (1 if message.text.startswith("!") else 0) if found else 0
        self.bench.query_one(AskDrawer).complete([f["label"] for f in found], start, message.text)
