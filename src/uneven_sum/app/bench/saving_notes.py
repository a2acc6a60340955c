"""What the Bench keeps as evidence: the pause, the last question, a text."""

from __future__ import annotations

import os

from ...client import BadUse, notes
from ...safe_text import cut
from ..notes.screen import Notes
from ..widgets.dialogs import Choice, Choose, Prompt
from .ask_drawer import AskDrawer
from .cards import Cards
from .controller import Controller, background
from .output_drawer import OutputDrawer
from .output_log import OutputLog


class NoteSaver(Controller):
    """A controller of the Bench."""

    sought = ""  # what was searched for in the output last
    verified = ""  # the sentence of the last run beside the one before it

    @background(group="dialog")
    async def search_output(self) -> None:
        """The next row of the output that holds a text."""
        bench = self.bench
        drawer = bench.query_one(OutputDrawer)
        text = await bench.app.push_screen_wait(Prompt(bench.palette, "Search in the output", self.sought, "a text"))
        if text:
            self.sought = text
            if not drawer.is_open:
                bench.action_output()
            bench.call_after_refresh(lambda: bench.notify(drawer.find(text)))

    @background(group="dialog")
    async def save_output(self) -> None:
        """What is kept of the output, as a text file."""
        bench = self.bench
        log = bench.query_one(OutputLog)
        name = f"{os.path.splitext(bench.launch.name)[0]}-output.txt"
        path = await bench.app.push_screen_wait(Prompt(bench.palette, "Save the output to which file?", name, ".txt"))
        if not path:
            return
        full = os.path.abspath(os.path.expanduser(path))
        if os.path.exists(full):
            choices = [Choice("yes", "replace", ""), Choice("no", "cancel", "")]
            if await bench.app.push_screen_wait(Choose(bench.palette, f"{path} exists.", choices)) != "yes":
                return
        try:
            with open(full, "w", encoding="utf-8", errors="replace") as f:
                f.write(bench.query_one(OutputDrawer).text())
        except OSError as e:
            bench.notify(f"{path} could not be written: {e.strerror}.", severity="warning")
            return
        gone = log.count - len(log.kept)
        bench.notify(f"The output is in {path}." + (f" Its first {gone:,} lines are not kept." if gone else ""))

    def action_notes(self) -> None:
        self.bench.app.push_screen(Notes(self.bench, self.bench.palette))

    def _texts(self) -> dict[str, str]:
        """The script, and the file of the pause, as they run now."""
        bench = self.bench
        paths = {bench.script_path(), *([self.bench.facts.file] if self.bench.facts is not None else [])}
        return {p: text for p in sorted(paths) if not bench.launch.as_module and (text := bench.sources.text_of(p))}

    def keep_entry(self, entry: notes.Entry) -> str:
        """Save evidence with the case; returns the message.  BadUse when it cannot be written."""
        count = notes.add(self.bench.script_path(), entry, self._texts())
        return f"Saved as note {count}: {entry.title}. {self.bench.key('6')} opens Notes."

    @background(group="dialog")
    async def action_keep(self) -> None:
        bench, drawer = self.bench, self.bench.query_one(AskDrawer)
        choices = []
        if self.bench.facts is not None and self.bench.state == "paused":
            choices.append(Choice("pause", "this pause", "its headline, the calls, the lines around, the terms"))
        if drawer.latest is not None:
            choices.append(
                Choice("trial", "the last question and its answer", cut(drawer.latest[0].splitlines()[0], 40))
            )
        choices.append(Choice("text", "a text of your own"))
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Keep what, with the case?", choices))
        entry: notes.Entry | None = None
        if chosen == "pause" and self.bench.facts is not None:
            values = [] if self.bench.facts.terms else bench.query_one(Cards).cards
            entry = notes.of_pause(self.bench.facts, bench.sources.text_of(self.bench.facts.file).split("\n"), values)
        elif chosen == "trial" and drawer.latest is not None:
            question, told = drawer.latest
            answer, changed = str(told.get("text", "")), str(told.get("changed", ""))
            entry = notes.of_trial(question, answer, changed, bool(told.get("forGood")))
        elif chosen == "text":
            text = await bench.app.push_screen_wait(Prompt(bench.palette, "A text of your own", "", "one paragraph"))
            entry = notes.own_text(text.strip()) if text and text.strip() else None
        if entry is None:
            return
        try:
            bench.notify(self.keep_entry(entry))
        except BadUse as e:
            bench.notify(str(e), severity="warning")

    async def runs_on(self) -> str:
        """The script's interpreter and the versions of what it has imported, where they can be asked for."""
        client = self.bench.client
        if client is None or self.bench.state != "paused":
            return ""
        try:
            return str((await client.session.request("unevenSum/versions"))["text"])
        except BadUse:
            return ""
