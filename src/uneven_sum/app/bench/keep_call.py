"""Keeps a call around the pause: as a test that fails with the fault, or as a small script that shows it."""

from __future__ import annotations

import asyncio
import os
import shutil
import tempfile
from collections.abc import Awaitable, Callable
from pathlib import Path

from rich.text import Text
from textual.app import ComposeResult
from textual.binding import Binding
from textual.containers import Vertical, VerticalScroll
from textual.screen import ModalScreen
from textual.widgets import Static

from ...client import BadUse, scratch_prefix
from ...client.fault import Repair
from ...client.keeping.call import SavedCall, calls_of, save
from ...client.keeping.proof import Files, Proof, default_place, free, prove, write
from ...client.keeping.smaller import Smaller
from ...client.keeping.text import FINITE, checked, paths_in, stem
from ...client.sources import as_python
from ...protocol import Facts
from ..shell.theme import Palette
from ..widgets.dialogs import Choice, Choose, Prompt
from .controller import Controller, background
from .output_drawer import OutputDrawer

Made = tuple[SavedCall, Path, str]  # the call, the file to write, and its text
HINT = "finite · result >= 0 · 0.4 · np.allclose(result, 0.4) · rows of frame kept"


class KeepDialog(ModalScreen[bool]):
    """What is known of a test or a small script so far; True once it is to be kept."""

    DEFAULT_CSS = """
    KeepDialog { align: center middle; }
    KeepDialog > Vertical { width: 96%; max-width: 116; height: 90%; background: $panel; padding: 1 2; }
    KeepDialog > Vertical { border: solid $rule; }
    KeepDialog Static { height: auto; background: $panel; }
    KeepDialog VerticalScroll { height: 1fr; margin: 1 0; background: $background; padding: 0 1; }
    KeepDialog VerticalScroll Static { background: $background; }
    """
    BINDINGS = [Binding("enter", "keep", "keep"), Binding("escape", "leave", "leave")]
    AUTO_FOCUS = "VerticalScroll"

    def __init__(self, palette: Palette, title: str) -> None:
        super().__init__()
        self.palette, self.title_ = palette, title
        self.done = self.fine = False

    def compose(self) -> ComposeResult:
        p = self.palette
        with Vertical():
            yield Static(Text(self.title_, f"bold {p.text}"))
            yield Static(Text("The script runs in a copy, up to the call …", p.quiet), id="told")
            yield VerticalScroll(Static("", id="text"))
            yield Static(Text("escape: cancel", p.quiet), id="keys")

    def show(self, rows: list[tuple[str, str, str]], text: str = "", done: bool = False, fine: bool = False) -> None:
        """`rows`: name, what came of it, and its colour by name: fine, error, text, quiet."""
        if not self.is_mounted:
            return
        p = self.palette
        out = Text()
        width = max((len(name) for name, _, _ in rows), default=0)
        for number, (name, said, colour) in enumerate(rows):
            out.append(f"{chr(10) if number else ''}{name:<{width}}   ", p.quiet)
            out.append(said, getattr(p, colour))
        self.query_one("#told", Static).update(out)
        if text:
            self.query_one("#text", Static).update(Text(text, p.text))
        self.done, self.fine = done, fine
        keys = "enter: keep · escape: discard" if done and fine else "escape: close" if done else "escape: cancel"
        self.query_one("#keys", Static).update(Text(keys, p.quiet))

    def action_keep(self) -> None:
        if self.done and self.fine:
            self.dismiss(True)

    def action_leave(self) -> None:
        self.dismiss(False)


class Keeping(Controller):
    """A controller of the Bench."""

    @background(group="dialog")
    async def action_keep_call(self) -> None:
        """Choose a call around the pause and a form; write it down, prove it, keep it."""
        bench, facts = self.bench, self.bench.facts
        if facts is None or bench.state != "paused" or facts.state == "ran" or facts.nested:
            bench.notify("A call is kept at a pause, before the script has ended.")
            return
        places = calls_of(facts)
        if not places:
            bench.notify("The pause is in no function: there is no call to keep.")
            return
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Keep which call, and how?", _choices(facts)))
        if chosen is None:
            return
        form, _, number = chosen.partition(" ")
        place = int(number)
        name = facts.trail[place].function
        if form == "script":
            dialog = KeepDialog(bench.palette, f"A small script of {name}")
            await self._kept(dialog, lambda folder: self._shrink(dialog, facts, place, folder))
            return
        question = f"What is expected of the result of {name}?"
        expected = await bench.app.push_screen_wait(Prompt(bench.palette, question, FINITE, HINT))
        if expected is not None:
            dialog = KeepDialog(bench.palette, f"A test of {name}: {expected}")
            await self._kept(dialog, lambda folder: self._prove(dialog, facts, place, expected, folder))

    async def _kept(self, dialog: KeepDialog, make: Callable[[Path], Awaitable[Made]]) -> None:
        """Make a test or a script beside its dialog, and write it once it is wanted."""
        folder = Path(tempfile.mkdtemp(prefix=scratch_prefix()))

        async def made() -> Made | None:
            try:
                return await make(folder)
            except BadUse as e:
                dialog.show([("", str(e), "error")], done=True)
            except (OSError, ValueError) as e:  # a file that cannot be read, or written to the copy
                dialog.show([("", f"It cannot be kept: {e}", "error")], done=True)
            return None

        work = asyncio.create_task(made())
        try:
            found = await work if await self.bench.app.push_screen_wait(dialog) else None
            if found is not None:
                await self._write(*found)
        finally:
            work.cancel()
            await asyncio.gather(work, return_exceptions=True)
            await asyncio.to_thread(shutil.rmtree, folder, True)

    async def _saved(self, facts: Facts, place: int, folder: Path, alone: bool) -> SavedCall:
        bench = self.bench
        typed = bench.query_one(OutputDrawer).typed
        texts = bench.sources.changed_since()
        return await save(bench.launch, facts, place, folder, given=typed, texts=texts, alone=alone)

    async def _prove(self, dialog: KeepDialog, facts: Facts, number: int, expected: str, folder: Path) -> Made:
        bench = self.bench
        known = bench.recording.known_repairs()
        call = await self._saved(facts, number, folder, alone=False)
        checked(expected, call)
        files = Files.of(bench.launch, bench.sources.changed_since())
        proof: Proof | None = None
        async for proof in prove(call, default_place(call), expected, facts, files, known):
            dialog.show(_rows(proof, known, call, waiting=True), _preview(proof.text))
        assert proof is not None
        dialog.show(_rows(proof, known, call), _preview(proof.text), done=True, fine=proof.shows)
        return call, proof.place, proof.text

    async def _shrink(self, dialog: KeepDialog, facts: Facts, number: int, folder: Path) -> Made:
        bench = self.bench
        call = await self._saved(facts, number, folder, alone=True)
        place = free(Path(call.file).with_name(f"small_{stem(call)}.py"))
        source = as_python(call.file, bench.sources.text_of(call.file))
        rows: list[tuple[str, str, str]] = [("file", _beside(place, call), "text")]

        def said(text: str) -> None:
            dialog.show([*rows, (f"run {smaller.runs}", text, "text")])

        smaller = Smaller(call, facts, bench.launch, source, said, bench.recording.present_finding())
        text = await smaller.script(place)
        rows.append(("result", f"shows the same fault at the same term, alone ({smaller.runs} runs)", "fine"))
        notes = [*call.notes, *(f"it names {path}, which others may not have" for path in paths_in(call))]
        dialog.show([*rows, *(("note", note, "quiet") for note in notes)], text, done=True, fine=True)
        call.files = []
        return call, place, text

    async def _write(self, call: SavedCall, place: Path, text: str) -> None:
        try:
            await asyncio.to_thread(write, call, place, text)
        except OSError as e:
            self.bench.notify(f"{place} cannot be written: {e.strerror}.", severity="warning")
            return
        self.bench.notify(f"Written: {_beside(place, call)}")


def _choices(facts: Facts) -> list[Choice]:
    found = []
    for place in calls_of(facts):
        call = facts.trail[place]
        title = f"{call.function}({call.arguments})"
        title = title if len(title) <= 60 else f"{title[:59]}…"
        found.append(Choice(f"test {place}", f"test of {title}", "a pytest file"))
        found.append(Choice(f"script {place}", f"small script of {title}", "one file, by itself"))
    return found


def _beside(place: Path, call: SavedCall) -> str:
    """A path as seen from the folder of the source."""
    return os.path.relpath(place, os.path.dirname(call.file))


def _preview(text: str) -> str:
    """A test without what it is loaded by."""
    return text[text.index("def test_") :]


def _rows(proof: Proof, known: list[Repair], call: SavedCall, waiting: bool = False) -> list[tuple[str, str, str]]:
    """What is known of a test: where it will be, and how it runs with the fault and with each version of the line."""
    rows = [("file", _beside(proof.place, call), "text")]
    if call.files:
        rows.append(("data", f"{', '.join(call.files)} in {proof.place.stem}_data", "text"))
    fault = proof.fault.sentence
    if proof.shows:
        rows.append(("with the fault", fault, "fine"))
    else:
        why = "so it does not show the fault; expect something else" if proof.fault.passed else "which is not the fault"
        rows.append(("with the fault", f"{fault}, {why}", "error"))
    for name, outcome in proof.tried:
        rows.append((name, outcome.sentence, "fine" if outcome.passed else "quiet"))
    if proof.shows and not waiting and not proof.tried:
        rows.append(("with a repair", "none is known or tried: w tries an edit and can save it", "quiet"))
    if waiting and proof.shows and len(proof.tried) < len(known):
        rows.append(("", "runs with versions of the line …", "quiet"))
    return rows + [("note", note, "quiet") for note in call.notes]
