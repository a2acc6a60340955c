"""Questions to the paused script, and completion."""

from __future__ import annotations

import asyncio

from ...client import BadUse, CallEnded, Client
from ..widgets.dialogs import Prompt, Sure
from .ask_drawer import AskDrawer, AskLine
from .controller import Controller, background

# What the ask line understands besides Python: see `looking.command` and the lookouts' sentences.
WORDS = (
    *("call ", "plot ", "table ", "open ", "watch ", "verify ", "pause at line ", "pause at the entry of `"),
    *("pause at the return of `", "pause at a change of `", "pause at a raise of `", "write `", "expect `"),
)


FIRST_WORDS = ("call", "expect", "plot", "table", "open", "watch", "verify", "pause", "write")


class Asking(Controller):
    """A controller of the Bench."""

    under_way = False  # a question that takes its time
    called_from = 0  # the return point of the pause in which a call with pauses was asked for

    @background(group="ask")
    async def _ask(self, text: str) -> None:
        """Questions are answered one after another, so that each answer is under its own."""
        self.bench.to_ask.append(text)
        if len(self.bench.to_ask) > 1:
            return
        while self.bench.to_ask:
            try:
                await self._ask_one(self.bench.to_ask[0])
            finally:
                self.bench.to_ask.pop(0)

    async def _ask_one(self, text: str) -> None:
        drawer = self.bench.query_one(AskDrawer)
        client = self.bench.client
        word = text.partition(" ")[0]
        if client is not None and self.bench.state == "paused" and word not in FIRST_WORDS:
            await self._ask_script(client, text)
            return
        drawer.question(text)
        if text.startswith(("pause at ", "write `", "expect `")):
            fine, told = await self.bench.breakpoints.add_sentence(text)
            drawer.say(told) if fine else drawer.refuse(told)
            return
        if client is None or self.bench.state != "paused":
            drawer.refuse("The script is not paused.")
            return
        if text.startswith("call "):
            await self._call(client, text[5:].strip())
            return
        try:
            done = await self.bench.values.command(text)
        except BadUse as e:
            drawer.refuse(str(e))
            return
        if done is not None:
            drawer.say(done)
        else:
            await self._ask_script(client, text, told=True)

    async def _ask_script(self, client: Client, text: str, told: bool = False) -> None:
        """A question to the script; written with its answer in one painting when that comes soon."""
        drawer = self.bench.query_one(AskDrawer)
        asking = asyncio.ensure_future(client.ask(text, self.bench.frame_number()))
        await asyncio.wait({asking}, timeout=0.04)
        self.under_way = not asking.done()
        if not told:
            drawer.question(text)
        if self.under_way:
            drawer.wait("evaluating, escape cancels")
        try:
            answer = (await asking)["unevenSum"]
        except BadUse as e:
            if e.facts.get("impossible"):
                await self._ask_in_place(client, text, str(e))
                return
            drawer.printed(str(e.facts.get("printed", "")))
            drawer.refuse(str(e))
            drawer.would_change(str(e.facts.get("changed", "")))
            return
        finally:
            self.under_way = False
            drawer.wait("")
        drawer.answer(answer)
        if answer.get("forGood"):
            await self.bench.read_call(client)

    async def _ask_in_place(self, client: Client, text: str, why: str) -> None:
        """Where no copy of the script can be made: in the script itself, if the user says so."""
        bench, drawer = self.bench, self.bench.query_one(AskDrawer)
        reason = why.partition(". Start with")[0]
        if not await bench.app.push_screen_wait(
            Sure(bench.palette, f"{reason}.\nEvaluate it in the script itself? What it changes stays changed.")
        ):
            drawer.refuse(f"{reason}. Nothing was evaluated.")
            return
        try:
            drawer.answer((await client.ask("!" + text, bench.frame_number()))["unevenSum"])
            await bench.read_call(client)
        except BadUse as e:
            drawer.refuse(str(e))

    # -- expectations --------------------------------------------------------------------------------

    @background(group="dialog")
    async def action_expect(self) -> None:
        """What the user thinks the coming step will do; the answer is in the headline after it."""
        bench, client = self.bench, self.bench.client
        if client is None or bench.state != "paused":
            return
        question = "What do you expect of the next pause?"
        hint = "head will be 0.4 · flow.sum() is near 12.3 ± 0.1 · volume stays between 0 and 5e6 · head > 0"
        text = await bench.app.push_screen_wait(Prompt(bench.palette, question, "", hint))
        if not text or not text.strip():
            return
        try:
            now = await client.expect(text.strip(), bench.frame_number())
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        bench.notify(f"Will check at the next pause. Now: {now}")

    # -- calls with pauses ---------------------------------------------------------------------------

    async def _call(self, client: Client, text: str) -> None:
        """Runs a call with all lookouts on; at its end the script is taken back to this pause."""
        bench, drawer = self.bench, self.bench.query_one(AskDrawer)
        if not bench.point and not await bench.app.push_screen_wait(
            Sure(bench.palette, f"{bench.no_point}\nRun the call in the script itself? What it changes stays changed.")
        ):
            drawer.refuse("The call was not run.")
            return
        self.called_from = bench.point
        if await bench.stepping.run(lambda: client.call_with_pauses(text, bench.frame_number())):
            drawer.say("runs with all lookouts on; x leaves it")

    @background(group="dialog")
    async def call_again(self) -> None:
        """The paused call once more, with its arguments or with others."""
        bench, client = self.bench, self.bench.client
        if client is None or bench.state != "paused":
            return
        try:
            text = await client.call_text(bench.frame_number())
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        title = "Call it again, with pauses, and then back to here"
        asked = await bench.app.push_screen_wait(Prompt(bench.palette, title, text, "the arguments can be changed"))
        if asked:
            bench.action_ask()
            bench.query_one(AskDrawer).question(f"call {asked}")
            await self._call(client, asked.strip())

    async def call_ended(self, event: CallEnded, client: Client) -> None:
        """The answer; then back to where the call was asked for."""
        drawer = self.bench.query_one(AskDrawer)
        if event.failed:
            drawer.refuse(f"{event.call}: {event.failed}")
        else:
            undone = bool(event.point)
            drawer.answer({**event.told, "seconds": event.seconds, "forGood": not undone})
        self.bench.state = "paused"
        if event.point:
            await client.step_back(event.point)
        else:
            await self.bench.read_call(client)
            self.bench.show_state("paused")

    async def action_leave_nested(self) -> None:
        """Out of a call with pauses, back to where it was asked for."""
        bench = self.bench
        if bench.facts is not None and bench.facts.nested and bench.state == "paused":
            if self.called_from:
                await bench.stepping.back(self.called_from)
            else:
                bench.notify("This call runs in the script itself: go on to its end.")

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
            found = await self.bench.client.complete(message.text, self.bench.frame_number())
        except BadUse:
            return
        start = found[0]["start"] + (1 if message.text.startswith("!") else 0) if found else 0
        self.bench.query_one(AskDrawer).complete([f["label"] for f in found], start, message.text)
