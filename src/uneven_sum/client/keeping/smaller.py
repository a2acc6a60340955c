"""A small script that shows a fault: made smaller as long as the same trip comes at the same term."""

from __future__ import annotations

import asyncio
import shutil
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec

from ...host.launch import BadUse, Launch
from ...host.sockets import scratch_prefix
from ...protocol import Lookout
from ...protocol.messages import Facts, Finding
from ...protocol.trips import TRIPS
from ..events import Exited, Found, Stopped
from .call import Argument, SavedCall, save
from .copies import started
from .proof import write
from .text import script_text

RUNS = 80
SECONDS = 180.0


@dataclass(frozen=True)
class Window:
    """Rows and columns that are left of a part; the ends are not in it."""

    rows: tuple[int, int]
    columns: tuple[int, int]


@dataclass
class Smaller:
    """The search.  `finding`: what an audit has found at the place of the pause, where that is what is to come again;
    `said`: is called with each new state in words."""

    call: SavedCall
    wanted: Facts
    launch: Launch
    source: str
    said: Callable[[str], None] = lambda text: None
    finding: Finding | None = None
    windows: dict[str, Window] = field(default_factory=dict)
    left_out: set[str] = field(default_factory=set)
    other: str = ""  # what the last run showed instead
    runs: int = 0
    began: float = field(default_factory=time.monotonic)

    async def script(self, place: Path) -> str:
        """The text of a script for `place` that trips as the pause did.  BadUse where none is found."""
        if self.wanted.reason not in TRIPS and self.finding is None:
            raise BadUse("This pause is no trip and at no finding: there is no fault that a script could show.")
        folder = Path(tempfile.mkdtemp(prefix=scratch_prefix()))
        try:
            return await self._found(folder, place)
        finally:
            await asyncio.to_thread(shutil.rmtree, folder, True)

    async def _found(self, folder: Path, place: Path) -> str:
        first = await self._trips(folder)
        if first is None:
            raise BadUse(f"The call alone does not show the fault. {self.other or 'It runs to its end.'}")
        await self._leave_out(folder)
        await self._shrink(folder)
        facts = await self._trips(folder)
        assert facts is not None
        # Once more with the arguments that are left, written in the text.
        at = next(n for n, call in enumerate(facts.trail) if call.function == self.call.function)
        launch = self._launch(folder / "small.py")
        inner = folder / "inner"
        inner.mkdir()
        final = await save(launch, facts, at, inner, alone=True, inline=True)
        values = {name: text for name, text in final.values.items() if name in self.call.values}
        arguments = [one for one in final.arguments if one.name not in self.left_out]
        alone = msgspec.structs.replace(final, arguments=arguments, values=values, files=[])
        text = script_text(alone, place, self.wanted.headline, self.source)
        fresh = folder / "fresh"
        fresh.mkdir()
        if await self._run(fresh / "small.py", text) is None:
            raise BadUse(f"The script does not show the fault once it stands alone. {self.other}")
        return text

    def _launch(self, script: Path) -> Launch:
        pause_on = self.launch.pause_on - {"start"}
        return replace(
            self.launch,
            program=str(script),
            args=[],
            as_module=False,
            cwd=str(script.parent),
            capture=True,
            stdin_file=None,
            pause_on=pause_on,
            keep_case=False,
            rewind=False,
            return_points=False,
        )

    async def _trips(self, folder: Path) -> Facts | None:
        """The pause of the script with the present windows, where it is the one that is wanted."""
        text = script_text(self._cut(), folder / "small.py", self.wanted.headline, self.source)
        write(self.call, folder / "small.py", text)
        return await self._run(folder / "small.py", text)

    async def _run(self, script: Path, text: str) -> Facts | None:
        self.runs, self.other = self.runs + 1, ""
        script.write_text(text, encoding="utf-8")
        launch = self._launch(script)
        lookouts = [] if self.finding is None else [self._at_finding(script, text)]
        try:
            if self.finding is not None and not await self._is_found(launch):
                return None
            async with started(launch if self.finding is None else replace(launch, pause_on=set()), lookouts) as client:
                while True:
                    event = await client.next_event()
                    if isinstance(event, Stopped) and self.finding is not None:
                        return event.facts
                    if isinstance(event, Stopped):
                        self.other = event.facts.headline
                        return event.facts if same_trip(event.facts, self.wanted) else None
                    if isinstance(event, Exited):
                        return None
        except BadUse as e:
            self.other = str(e)
            return None

    async def _is_found(self, launch: Launch) -> bool:
        """Whether an audit finds the same at the same term."""
        assert self.finding is not None
        found = False
        async with started(launch.to_its_end(audit=[self.finding.rule])) as client:
            while True:
                event = await client.next_event()
                if isinstance(event, Found):
                    found = found or _place(self.finding) in map(_place, event.findings)
                if isinstance(event, Exited):
                    return found

    def _at_finding(self, script: Path, text: str) -> Lookout:
        """A breakpoint at the statement of the finding."""
        assert self.finding is not None
        first = self.finding.statement.strip().split("\n")[0]
        line = next((n for n, one in enumerate(text.split("\n"), 1) if one.strip() == first), 1)
        return Lookout(1, file=str(script), line=line)

    def _cut(self) -> SavedCall:
        """The call with the rows and columns that are left."""
        kept: list[Argument] = []
        for one in self.call.arguments:
            if one.name in self.left_out:
                continue
            text, more = one.text, []
            for part, rows, columns, by in one.parts:
                window = self.windows.get(part)
                if window is None:
                    continue
                chosen = [f"{a}:{b}" for (a, b), n in ((window.rows, rows), (window.columns, columns)) if n]
                cut = f"{by}[{', '.join(chosen)}]"
                if part == one.name:
                    text = f"{text}{cut}"
                else:
                    more.append(f"{part} = {part}{cut}")
            kept.append(Argument(one.name, "\n".join([text, *more]), one.how))
        return msgspec.structs.replace(self.call, arguments=kept)

    def _over(self) -> bool:
        return self.runs >= RUNS or time.monotonic() - self.began > SECONDS

    async def _leave_out(self, folder: Path) -> None:
        """Arguments that have a default, from the last: the trip may come without.  A positional one stays as long as
        one after it does, which would take its place."""
        for one in reversed(self.call.arguments):
            later = self.call.arguments[self.call.arguments.index(one) + 1 :]
            holds = one.how == "" and any(x.how in ("", "*") and x.name not in self.left_out for x in later)
            if one.how != "owner" and not holds and not self._over():
                self.left_out.add(one.name)
                if await self._trips(folder) is None:
                    self.left_out.discard(one.name)

    async def _shrink(self, folder: Path) -> None:
        parts = [part for one in self.call.arguments if one.name not in self.left_out for part in one.parts]
        for part, rows, columns, _ in parts:
            self.windows[part] = Window((0, rows), (0, columns))
        for axis in ("rows", "columns"):
            groups: dict[int, list[str]] = {}
            for part, rows, columns, _ in parts:
                size = rows if axis == "rows" else columns
                if size > 1:
                    groups.setdefault(size, []).append(part)
            for size, names in sorted(groups.items(), reverse=True):
                if not await self._narrow(folder, names, axis, size) and len(names) > 1:
                    for name in names:
                        await self._narrow(folder, [name], axis, size)

    async def _narrow(self, folder: Path, names: list[str], axis: str, size: int) -> bool:
        """Move the ends of parts together as far as the trip stays; True where something was left out."""
        low, high = 0, size
        for end in ("high", "low"):
            step = (high - low) // 2
            while step and not self._over():
                trial = (low, high - step) if end == "high" else (low + step, high)
                if trial[1] - trial[0] >= 1 and await self._stays(folder, names, axis, trial):
                    low, high = trial
                    self.said(f"{', '.join(names)}: {high - low} of {size} {axis} are left")
                    step = min(step, (high - low) // 2)
                else:
                    step //= 2
        return (low, high) != (0, size)

    async def _stays(self, folder: Path, names: list[str], axis: str, ends: tuple[int, int]) -> bool:
        before = dict(self.windows)
        for name in names:
            window = self.windows[name]
            self.windows[name] = replace(window, rows=ends) if axis == "rows" else replace(window, columns=ends)
        if await self._trips(folder) is not None:
            return True
        self.windows = before
        return False


def _place(finding: Finding) -> tuple[str, str, str]:
    return finding.rule, finding.term, finding.statement


def same_trip(one: Facts, other: Facts) -> bool:
    """Whether two pauses are for the same reason at the same term."""
    terms = [facts.culprit.text if facts.culprit is not None else "" for facts in (one, other)]
    kinds = [facts.exception.type if facts.exception is not None else facts.kind for facts in (one, other)]
    return (
        one.reason == other.reason
        and terms[0] == terms[1]
        and kinds[0] == kinds[1]
        and one.statement == other.statement
        and one.function == other.function
    )
