"""Motion on the Bench: what sets the script going."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable

from ...client import BadUse, Client
from ...protocol import Facts, Term
from ...protocol.names import reason
from ...safe_text import cut
from ..editor.screen import edit
from ..widgets.bars import Headline
from ..widgets.dialogs import Choice, Choose, Prompt, Sure
from ..widgets.sheet import Sheet
from .controller import Controller, background
from .output_drawer import OutputDrawer
from .repairs import Repairs
from .try_edit import TryChange, after_change

PACES = (0.1, 0.25, 0.5, 1.0, 2.0, 4.0)  # seconds a line of a slow run

STEPS = ("line", "into", "out", "pass")
SHORT = 1.0  # seconds in which a step is still taken for one that is about to end
RELEASE = 0.35  # seconds without a key after which it is taken for released
MOST_WAITING = 20  # steps that wait


class Stepping(Controller):
    """A controller of the Bench."""

    slow = False
    pace = 2  # in PACES
    points_on = True
    revealed: tuple[int, list[int]] | None = None  # term by term: the line, and the terms still to come

    async def run(self, how: Callable[[], Awaitable[None]]) -> bool:
        """Let the script go on; a refusal gives a message."""
        bench = self.bench
        if self.bench.client is None or self.bench.state != "paused" or self.bench.facts is None:
            return False
        try:
            self.bench.began = time.perf_counter()
            self.bench.state = "running"
            self.revealed = None
            bench.query_one(OutputDrawer).leave(bench.point)
            await how()
        except BadUse as e:
            self.bench.state = "paused"
            self.slow = False
            bench.notify(str(e), severity="warning")
            return False
        bench.set_timer(0.15, self._still_running)
        return True

    held_until = 0.0  # until then steps are taken for a key that is still held
    stepping = False  # what is under way is a step

    def _is_stepping(self) -> bool:
        return self.stepping and (bool(self.waiting) or time.perf_counter() - self.bench.began < SHORT)

    async def next_step(self) -> None:
        """After a pause: the next of the steps that wait.  They are dropped where there is another reason to pause."""
        if self.bench.facts is None or self.bench.facts.reason != "step":
            if self.stepping:  # a key that is held must not run on over an error
                self.held_until = time.perf_counter() + RELEASE
            self.waiting = []
        elif self.waiting:
            how, *self.waiting = self.waiting
            await self.action_go(how)

    def _still_running(self) -> None:
        if self.bench.state == "running":
            self.bench.show_state("running")
            self.bench.query_one(Headline).show(f"{self.bench.launch.name} is running.", "run")

    waiting: list[str] = []  # steps that were asked for while one was under way

    async def action_go(self, how: str) -> None:
        client = self.bench.client
        if client is not None and self.bench.state == "running" and how in STEPS and self._is_stepping():
            if len(self.waiting) < MOST_WAITING:
                self.waiting = [*self.waiting, how]
            return
        if client is None or self.bench.facts is None:
            return
        if how in STEPS and time.perf_counter() < self.held_until:
            self.held_until = time.perf_counter() + RELEASE
            return
        self.stepping = how in STEPS
        if how != "on" and (
            self.bench.facts.reason == "end" or (self.bench.facts.state == "ran" and self.bench.facts.reason == "error")
        ):
            self.bench.notify(f"The script has run to its end. {self.bench.key('R')} runs it again.")
            return
        calls = {
            "line": client.step_line,
            "into": self._into,
            "out": client.step_out,
            "on": client.go_on,
            "retry": client.retry,
            "skip": client.skip,
            "pass": client.next_pass,
            "loop": client.end_loop,
            "last": client.run_out,
        }
        await self.run(calls[how])

    async def _into(self) -> None:
        """Into the call of the line; with several, the user chooses."""
        assert self.bench.client is not None and self.bench.facts is not None
        if self.bench.facts.state == "next":
            try:
                targets = await self.bench.client.into_targets()
            except BadUse:
                targets = []
            if len(targets) > 1:
                self.bench.state = "paused"
                self._choose_call(targets)
                return
        await self.bench.client.step_into()

    @background(group="dialog")
    async def _choose_call(self, targets: list[tuple[int, str]]) -> None:
        choices = [Choice(str(n), text, "in the order of evaluation" if n == 1 else "") for n, text in targets]
        chosen = await self.bench.app.push_screen_wait(Choose(self.bench.palette, "Into which call?", choices))
        if chosen is not None and self.bench.client is not None:
            client = self.bench.client
            await self.run(lambda: client.step_into(int(chosen)))

    @background(group="dialog")
    async def action_to_pass(self) -> None:
        """To a pass of the innermost loop: forward, or back by a return point."""
        if self.bench.state != "paused" or self.bench.facts is None or self.bench.client is None:
            return
        loop = self.bench.facts.loops[0] if self.bench.facts.loops else None
        of = f" of {loop.of}" if loop and loop.of else ""
        hint = f"now in pass {loop.number}{of}; an earlier one goes back" if loop else "a number"
        text = await self.bench.app.push_screen_wait(Prompt(self.bench.palette, "To which pass?", "", hint))
        if text is None:
            return
        client, facts, number = self.bench.client, self.bench.facts, text.strip()
        if not number.isdigit() or not int(number):
            self.bench.notify(f"{text} is not a pass number.", severity="warning")
        elif loop is not None and int(number) <= loop.number:
            if client.point_before_pass(facts.loops, int(number)) is None:
                self.bench.notify(f"No snapshot before pass {number}. {self.bench.key('R')} reruns the script.")
            else:
                await self.run(lambda: client.back_to_pass(facts.loops, int(number)))
        else:
            await self.run(lambda: client.next_pass(int(number)))

    async def action_here(self) -> None:
        """Runs to the cursor line."""
        sheet, client = self.bench.query_one(Sheet), self.bench.client
        if client is not None:
            await self.run(lambda: client.run_to(sheet.path, sheet.cursor))

    async def make_next(self) -> None:
        """The cursor line becomes the one that runs next."""
        sheet, client = self.bench.query_one(Sheet), self.bench.client
        if client is not None:
            await self.run(lambda: client.make_next(sheet.path, sheet.cursor))

    @background(group="dialog")
    async def action_replace(self) -> None:
        """Another value in the place of the non-finite one, which is not stored yet."""
        facts, client = self.bench.facts, self.bench.client
        if self.bench.state != "paused" or facts is None or client is None:
            return
        if not facts.replace:
            self.bench.notify("A value is replaced at a pause for nan or inf, before it is stored.")
            return
        hint = "an expression; it is evaluated in the script"
        text = await self.bench.app.push_screen_wait(
            Prompt(self.bench.palette, f"Which value shall take its place?  {cut(facts.statement, 50)}", "", hint)
        )
        if text is not None and text.strip():
            await self.run(lambda: client.replace(text.strip()))

    async def into_libraries(self) -> None:
        client = self.bench.client
        if client is not None:
            await self.run(lambda: client.step_into(0, True))

    @background(group="dialog")
    async def leave_call(self) -> None:
        if self.bench.state != "paused" or self.bench.facts is None or self.bench.client is None:
            return
        name = self.bench.facts.function.rpartition(".")[2]
        text = await self.bench.app.push_screen_wait(
            Prompt(self.bench.palette, f"Leave {name} at once: what shall it return?", "None", "an expression")
        )
        client = self.bench.client
        if text is not None:
            await self.run(lambda: client.leave_call(text.strip() or "None"))

    # -- back ----------------------------------------------------------------------------------------

    def can_go_back(self) -> bool:
        client = self.bench.client
        return client is not None and self.bench.state == "paused" and client.has_point_before()

    async def action_back(self) -> None:
        """To the pause before this one: the script's state is as it was there."""
        await self.back(None)

    async def back(self, number: int | None) -> None:
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            return
        if not client.has_point_before() and number is None:
            worker = "A worker process has no snapshots: only the script's own process can go back."
            of_worker = bench.facts is not None and bench.facts.process
            bench.notify(worker if of_worker else bench.no_point or "No earlier pause to go back to.")
            return
        self.slow = False
        cannot = await client.cannot_undo(number)
        if cannot:
            self._back_in_part(client, number, cannot)
        else:
            await self.run(lambda: client.step_back(number))

    @background(group="dialog")
    async def _back_in_part(self, client: Client, number: int | None, cannot: list[str]) -> None:
        """Ask before going back where something cannot be undone."""
        question = f"Going back cannot undo {', nor '.join(cannot)}.\nGo back?"
        if await self.bench.app.push_screen_wait(Sure(self.bench.palette, question, "goes back", "stays here")):
            await self.run(lambda: client.step_back(number))

    async def switch_points(self) -> None:
        """Return points on or off."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            bench.notify("Return points are switched at a pause.")
            return
        self.points_on = not self.points_on
        try:
            await client.switch_points(self.points_on)
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        told = "Snapshots on." if self.points_on else "Snapshots off: you cannot go back."
        bench.notify(told)
        bench.show_state("paused")

    @background(group="dialog")
    async def action_points(self) -> None:
        """The return points: one to go back to."""
        bench, client = self.bench, self.bench.client
        if client is None or self.bench.state != "paused":
            return
        points = client.return_points()
        if not points:
            bench.notify(bench.no_point or "No snapshot yet.")
            return
        choices = []
        for p in sorted(points, key=lambda p: -p["number"]):
            passes = f", pass {p['pass']}" if p["pass"] else ""
            text = cut(p["statement"].splitlines()[0], 44) if p["statement"] else ""
            mark = "memory only   " if p.get("cannot") else ""
            age = f"{(time.monotonic_ns() - p['made']) / 1e9:5.0f} s ago" if p.get("made") else ""
            about = f"{age}  {p['memory'] / 1e6:6.1f} MB   {mark}{text}"
            where = (
                "before the first line"
                if p["reason"] == "start"
                else f"line {p['line']}{passes}  {reason(p['reason'])}"
            )
            choices.append(Choice(str(p["number"]), f"{p['number']}  {where}", about))
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, "Go back to which pause?", choices))
        if chosen is not None:
            await self.back(int(chosen))

    # -- another text --------------------------------------------------------------------------------

    def action_try_change(self) -> None:
        """Another version of the paused statement, or of the one at the cursor."""
        bench = self.bench
        if (
            self.bench.client is None
            or self.bench.state != "paused"
            or self.bench.facts is None
            or self.bench.facts.reason == "end"
        ):
            bench.notify("A line is tried in another version at a pause.")
            return
        sheet = bench.query_one(Sheet)
        frame = bench.frame_number()
        own = frame <= 1 and sheet.at_line <= sheet.cursor <= sheet.at_end
        bench.app.push_screen(TryChange(bench, bench.palette, frame, None if own else sheet.cursor))

    @background(group="dialog")
    async def action_repairs(self) -> None:
        """Versions of the paused line for its known reason, tried; the chosen one is opened as an edit."""
        bench = self.bench
        if bench.client is None or bench.facts is None or bench.state != "paused":
            bench.notify("Repairs are listed at a pause.")
            return
        found = bench.recording.known_repairs()
        if not found:
            bench.notify(f"No repair is known for this pause; {bench.key('w')} tries an edit.")
            return
        frame = bench.frame_number()
        chosen = await bench.app.push_screen_wait(Repairs(bench, bench.palette, found, frame))
        if chosen is not None:
            bench.app.push_screen(TryChange(bench, bench.palette, frame, None, chosen))

    @background(group="dialog")
    async def action_edit(self) -> None:
        """Edits the file in the sheet; once it is saved the user says how the script continues."""
        bench, sheet = self.bench, self.bench.query_one(Sheet)
        path, line = sheet.path, sheet.cursor

        def tell(text: str) -> None:
            bench.notify(text, severity="warning")

        if not path or not await edit(bench, bench.palette, path, line, tell, frozenset(), bench.book):
            await bench.breakpoints.send_lookouts()
            return
        if self.bench.facts is None or self.bench.state != "paused" or self.bench.facts.reason == "end":
            for text in bench.book.follow_edits():
                bench.notify(text, severity="warning")
            bench.texts.pop(path, None)
            bench.sources.show_text(path)
            bench.notify(f"The file is saved. {bench.key('R')} runs the new text.")
            return
        await after_change(bench, path, self.bench.facts)

    async def take_up(self, client: Client, file: str) -> None:
        """Functions have their new text from their next call on."""
        bench = self.bench
        try:
            names = await client.take_up(file)
            bench.texts.pop(file, None)
            await bench.breakpoints.send_lookouts()
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        bench.notify(f"{', '.join(names) or 'Nothing'} changes from the next call on. This call runs its old text.")
        bench.sources.show_place()

    async def restart_call(self, client: Client, facts: Facts) -> None:
        """The paused call begins again with the text of now."""
        bench = self.bench
        bench.texts.pop(facts.file, None)

        async def restart() -> None:
            bench.book.placed(await client.restart_call(facts, bench.book.wanted()))

        await self.run(restart)

    # -- slowly --------------------------------------------------------------------------------------

    async def action_slow(self) -> None:
        """Steps by itself until a key; `<` and `>` change the pace."""
        if self.bench.state == "paused":
            self.slow = True
            self.bench.show_state("paused")
            await self.action_go("line")

    def slow_step(self) -> None:
        """After a pause: the next step of a slow run, if one is on and nothing else has stopped it."""
        if self.slow and self.bench.facts is not None and self.bench.facts.reason == "step":
            self.bench.set_timer(PACES[self.pace], self._slow_on)
        else:
            self.slow = False

    async def _slow_on(self) -> None:
        if self.slow and self.bench.state == "paused":
            await self.action_go("line")

    def slow_key(self, key: str) -> bool:
        """A key in a slow run: the pace, or its end.  True when it is used up by that."""
        if not self.slow:
            return False
        if key in ("less_than_sign", "greater_than_sign"):
            self.pace = max(0, min(len(PACES) - 1, self.pace + (1 if key == "less_than_sign" else -1)))
        else:
            self.slow = False
        self.bench.show_state(self.bench.state)
        return True

    async def action_by_term(self) -> None:
        """One more term of the paused statement in the order of evaluation; after the last, the line runs."""
        if self.bench.client is None or self.bench.state != "paused" or self.bench.facts is None:
            return
        sheet = self.bench.query_one(Sheet)
        if self.revealed is None:
            try:
                line, terms, remark = await self.bench.client.terms(0, self.bench.facts.line)
            except BadUse as e:
                self.bench.notify(str(e), severity="warning")
                return
            if not terms:
                await self.action_go("line")
                return
            order = evaluation_order(terms)
            end = sheet.at_end if line == sheet.at_line else line
            sheet.unfold(end, terms, remark or "s: the next term, in the order of evaluation")
            self.revealed = (end, order)
        end, order = self.revealed
        if not order:
            await self.action_go("line")
            return
        order.pop(0)
        sheet.hidden[end] = set(order)
        sheet.refresh()
        sheet.reveal(self.bench.facts.line)


def evaluation_order(terms: list[Term]) -> list[int]:
    """The places of terms (which stand outer before inner) in the order of evaluation: inner before outer."""
    order: list[int] = []
    under_way: list[int] = []
    for number, term in enumerate(terms):
        while under_way and terms[under_way[-1]].depth >= term.depth:
            order.append(under_way.pop())
        under_way.append(number)
    return order + under_way[::-1]
