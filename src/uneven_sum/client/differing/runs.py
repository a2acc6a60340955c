"""Runs two scripts side by side, and compares the values that they send while they run."""

from __future__ import annotations

import asyncio
import contextlib
import math
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

import msgspec

from ...host.launch import BadUse, Launch, inspect_script
from ...host.sockets import folder_for_sockets, in_tasks, scratch_prefix
from ...safe_text import cut
from ..client import Client
from ..events import Ended, Exited, Output, Stopped
from .comparing import Comparer, Difference
from .folders import Folder, copied, copy_of, of_revision
from .places import Matching, Text, by_nature, random_source, set_source
from .reading import Block, Blocks, Place, frames
from .stored import FORMAT, About, Keeper, Stored

AHEAD = 200_000  # records that one run may be ahead of the other
Feed = tuple[Comparer, int]  # a comparer, and which of its sides
TERMS_ALONE = -1  # as the seed of a shaken run: terms are sent, and nothing is moved
TELL_EVERY = 0.5  # seconds
STOPPED = "before its end, since you ended it"
OUTPUT = 4_000_000  # characters of each run's output that are kept
NUMBER = re.compile(r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?|[-+]?inf|nan", re.IGNORECASE)
ADDRESS = re.compile(r"0x[0-9a-fA-F]+")


@dataclass
class Line:
    """The first line of the output that differs: its number, and the two texts (None: there is none)."""

    number: int
    a: str | None
    b: str | None


@dataclass
class RunOf:
    """One of the two runs.  `ended`: a sentence."""

    launch: Launch
    folder: Folder
    stored: Stored | None = None  # it was run before
    keeper: Keeper | None = None  # it is stored
    revision: bool = False  # its text is of a revision, not of today
    client: Client | None = None
    out: str = ""
    errors: str = ""
    ended: str = ""
    status: int | None = None

    def keep(self) -> None:
        """Close the file that it is stored in; none is left of a run that did not end."""
        assert self.keeper is not None
        if self.status is None:
            self.keeper.drop()
            return
        launch, back = self.launch, self.folder.back
        about = About(FORMAT, back(launch.program), back(home(self)), launch.args, as_module=launch.as_module)
        about.python = launch.python or ""
        about.ended, about.status, about.out = self.ended, self.status, self.out
        self.keeper.finish(about, back)


@dataclass
class Compared:
    """What comparing two runs has shown.  `why`: what the first difference comes from, where that is known."""

    a: RunOf
    b: RunOf
    comparer: Comparer
    line: Line | None = None
    why: str = ""
    texts: tuple[dict[str, Text], dict[str, Text]] = field(default_factory=lambda: ({}, {}))

    @property
    def first(self) -> Difference | None:
        return self.comparer.first

    @property
    def equal(self) -> bool:
        return self.first is None and self.line is None and self.a.status == self.b.status

    def function(self, side: int, place: Place) -> str:
        return self.comparer.matching.text(side, place.file).function_at(place.line)

    def term(self, side: int, place: Place) -> str:
        return self.comparer.matching.text(side, place.file).segment(place)


class Watch:
    """Of runs under way: `stop()` ends them, and what is known so far is shown; `tell` hears how many values were
    compared, about twice a second."""

    def __init__(self, tell: Callable[[int], None] = lambda records: None) -> None:
        self.tell = tell
        self.stopped = asyncio.Event()

    def stop(self) -> None:
        self.stopped.set()


@dataclass
class How:
    """How two runs are compared.

    `relative`, `absolute`: tolerances; `at_lines`: relative ones of lines of the first text.  `twice`: the same script;
    what differs by nature (the time, addresses) counts, too.  `terms`: each term is sent, not only what is stored.
    `given`: what both read from standard input.  `keep`: where the first one is stored.  `earlier`: texts of files that
    the first one runs instead of those of today.
    """

    relative: float = 0.0
    absolute: float = 0.0
    at_lines: dict[tuple[str, int], float] = field(default_factory=dict)  # by file name and line
    in_place: bool = False
    twice: bool = False
    terms: bool = False
    given: str | None = None
    keep: str | None = None
    earlier: dict[str, str] = field(default_factory=dict)


async def compare(
    launches: tuple[Launch | Stored, Launch | Stored],
    how: How | None = None,
    say: Callable[[str], None] = lambda text: None,
    watch: Watch | None = None,
) -> Compared:
    """Run both to their ends.  BadUse when one cannot be run."""
    how = how or How()
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch:
        runs = prepared(launches, scratch, how.in_place, say)
        if how.earlier:
            _with_texts(runs[0], how.earlier, Path(scratch) / "script")
        first_texts = tuple(
            r.stored.sources() if r.stored else {r.launch.program: Text.read(r.launch.program)} for r in runs
        )
        runs[0].keeper = Keeper(how.keep) if how.keep is not None else None
        matching = Matching((first_texts[0], first_texts[1]), (home(runs[0]), home(runs[1])), how.twice)
        comparer = Comparer(matching, how.relative, how.absolute, how.at_lines)
        await all_of(
            runs,
            [[(comparer, 0)], [(comparer, 1)]],
            scratch,
            how.given,
            [TERMS_ALONE if how.terms else None] * 2,
            watch,
        )
        if watch is None or not watch.stopped.is_set():  # else one is ahead of the other, which is no difference
            comparer.finish()
        found = Compared(runs[0], runs[1], comparer, texts=matching.texts)
        if all(run.status is not None for run in runs):
            found.line = first_line(runs[0].out, runs[1].out, how.relative, how.absolute)
        found.why = _why(found)
        return found


def _with_texts(run: RunOf, texts: dict[str, str], scratch: Path) -> None:
    """Give files of a run another text, in its copy.  A script outside of the working folder is copied for that."""
    program = run.launch.program
    if not run.launch.as_module and run.folder.back(program) == program:
        home_ = os.path.dirname(program)
        copy_of(home_, scratch)
        run.folder.further.append((home_, str(scratch)))
        run.launch = replace(run.launch, program=run.folder.there(program))
    for path, text in texts.items():
        copy = run.folder.there(os.path.realpath(path))
        if copy == os.path.realpath(path):
            raise BadUse(f"{path} is in no folder that is copied, so its text before the edit cannot be run.")
        Path(copy).write_text(text, encoding="utf-8", errors="surrogateescape")


async def store(
    launch: Launch, path: str, in_place: bool, given: str | None, say: Callable[[str], None], watch: Watch
) -> RunOf:
    """Run one script, and store its values."""
    with tempfile.TemporaryDirectory(prefix=scratch_prefix()) as scratch:
        runs = prepared([launch], scratch, in_place, say)
        runs[0].keeper = Keeper(path)
        await all_of(runs, [[]], scratch, given, watch=watch)
        return runs[0]


async def all_of(
    runs: list[RunOf],
    feeds: list[list[Feed]],
    scratch: str,
    given: str | None,
    shake: Sequence[int | None] = (),
    watch: Watch | None = None,
) -> None:
    """Until all are over; when one cannot be run, the others are ended.  `feeds`: by run, the comparers that take its
    values, and as which side; `shake`: by run, as in `Launch`."""
    meeting = asyncio.Condition()
    seeds = [*shake, *[None] * len(runs)]
    ones = [
        _played(run.stored, feeds[n], meeting)
        if run.stored is not None
        else _one(run, feeds[n], meeting, given, seeds[n])
        for n, run in enumerate(runs)
    ]
    tasks = [asyncio.ensure_future(one) for one in ones]
    watch = watch or Watch()
    ended = asyncio.gather(*tasks)
    stopped = asyncio.ensure_future(watch.stopped.wait())
    either: list[asyncio.Future[list[None]] | asyncio.Future[Literal[True]]] = [ended, stopped]
    comparers = {id(c): c for feed in feeds for c, _ in feed}
    try:
        while not ended.done() and not stopped.done():
            await asyncio.wait(either, timeout=TELL_EVERY, return_when=asyncio.FIRST_COMPLETED)
            watch.tell(sum(c.records for c in comparers.values()))
        if ended.done():
            ended.result()
        for run in runs:
            run.ended = run.ended or STOPPED
    except BadUse as e:
        text = str(e)
        for run in runs:
            text = text.replace(run.folder.copy, run.folder.original)
        e.args = (text,)
        raise
    finally:
        for task in (*tasks, stopped):
            task.cancel()
        await asyncio.gather(*tasks, ended, stopped, return_exceptions=True)
        for run in runs:
            if run.keeper is not None:
                run.keep()


def prepared(
    launches: Sequence[Launch | Stored], scratch: str, in_place: bool, say: Callable[[str], None]
) -> list[RunOf]:
    """The runs, each with a copy of its folder.  BadUse where one cannot be run."""
    for launch in launches:
        if isinstance(launch, Stored):
            continue
        if of_revision(launch.program, os.path.realpath(launch.cwd or os.getcwd())) is None:
            inspect_script(launch)
    runs = []
    for name, launch in zip("abcd", launches):
        if isinstance(launch, Stored):
            runs.append(_of_stored(launch))
            continue
        cwd = os.path.realpath(launch.cwd or os.getcwd())
        revision = None if launch.as_module else of_revision(launch.program, cwd)
        if revision is not None:
            if in_place:
                raise BadUse("A revision of a file runs in a copy of the folder: leave --in-place out.")
            launch = replace(launch, program=revision[0])
        if in_place:
            program = launch.program if launch.as_module else os.path.realpath(os.path.join(cwd, launch.program))
            runs.append(RunOf(replace(launch, cwd=cwd, program=program), Folder(cwd, cwd)))
            continue
        made, folder = copied(launch, Path(scratch) / name)
        if revision is not None:
            path = folder.there(revision[0])
            if path == revision[0]:
                raise BadUse(f"{revision[0]} is not in the working folder. Give its folder with --cwd.")
            Path(path).write_bytes(revision[1])
        runs.append(RunOf(made, folder, revision=revision is not None))
    now = [run for run in runs if run.stored is None]
    if now:
        many = {1: "One run", 2: "Two runs at once", 4: "Four runs at once"}.get(len(now), f"{len(now)} runs at once")
        where = "in" if in_place else "in a copy of" if len(now) == 1 else "each in a copy of"
        say(f"{many}, {where} {now[0].folder.original}.")
    return runs


def _of_stored(stored: Stored) -> RunOf:
    about = stored.about
    launch = Launch(about.program, about.args, as_module=about.as_module, python=about.python, cwd=about.home)
    run = RunOf(launch, Folder(about.home, about.home), stored, out=about.out)
    run.status, run.ended = about.status, about.ended
    return run


async def _played(stored: Stored, feeds: list[Feed], meeting: asyncio.Condition) -> None:
    """A stored run, in step with the other one."""
    try:
        for comparer, side in feeds:
            comparer.texts.update(stored.about.texts)
            for place in stored.about.places:
                comparer.place(side, place)
        for records in stored.blocks():
            await _give(records, feeds, meeting)
    finally:
        for comparer, side in feeds:
            comparer.sides[side].ended = True
        async with meeting:
            meeting.notify_all()


async def _give(records: Block, feeds: list[Feed], meeting: asyncio.Condition) -> None:
    for comparer, side in feeds:
        await _in_step(side, comparer, meeting)
        comparer.take(side, records)
        comparer.advance()
    async with meeting:
        meeting.notify_all()


def home(run: RunOf) -> str:
    """The folder that file names are relative to: the script's, or the working folder of a module."""
    return run.folder.copy if run.launch.as_module else os.path.dirname(run.launch.program)


async def _one(run: RunOf, feeds: list[Feed], meeting: asyncio.Condition, given: str | None, shake: int | None) -> None:
    come = asyncio.Event()

    async def read(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        blocks = Blocks()
        try:
            while (frame := await frames(reader)) is not None:
                kind, data = frame
                if kind == b"P":
                    place = msgspec.json.decode(data, type=Place)
                    for comparer, side in feeds:
                        comparer.place(side, place)
                    if run.keeper is not None:
                        run.keeper.places.append(place)
                elif kind == b"T":
                    number, text = msgspec.json.decode(data, type=tuple[float, str])
                    for comparer, _ in feeds:
                        comparer.texts[number] = text
                    if run.keeper is not None:
                        run.keeper.texts.append((number, text))
                elif kind == b"R":
                    records = blocks.read(data)
                    if run.keeper is not None:
                        run.keeper.take(records)
                    await _give(records, feeds, meeting)
                else:
                    break
        finally:
            writer.close()
            come.set()

    folder = folder_for_sockets("uneven-sum-values-")
    path = os.path.join(folder, "socket")
    server = await asyncio.start_unix_server(in_tasks(read), path, limit=1 << 20)
    launch = run.launch.to_its_end(stream=path, shake=shake)
    run.client = client = Client(launch)
    began = False
    try:
        await client.start()
        began = True
        await client.write_input(given)
        if given is not None:
            await client.write_input(None)
        await _until_it_ends(run, client)
    finally:
        await client.end()
        if began:
            with contextlib.suppress(asyncio.TimeoutError):
                await asyncio.wait_for(come.wait(), 10)
        for comparer, side in feeds:
            comparer.sides[side].ended = True
        async with meeting:
            meeting.notify_all()
        server.close()
        shutil.rmtree(folder, ignore_errors=True)


async def _in_step(side: int, comparer: Comparer, meeting: asyncio.Condition) -> None:
    """Wait while this run is far ahead of the other one, which still runs."""
    async with meeting:
        await meeting.wait_for(
            lambda: comparer.waiting()[side] < AHEAD or comparer.sides[1 - side].ended or comparer.lost
        )


async def _until_it_ends(run: RunOf, client: Client) -> None:
    while True:
        event = await client.next_event()
        if isinstance(event, Stopped):
            await client.go_on()
        elif isinstance(event, Output) and event.category == "stdout":
            run.out += event.text if len(run.out) < OUTPUT else ""
        elif isinstance(event, Output) and event.category == "stderr":
            run.errors = (run.errors + event.text)[-2_000:]
        elif isinstance(event, Ended):
            run.status = event.exit_status
        elif isinstance(event, Exited):
            if run.status is None:
                run.status = event.exit_status
            last = next((cut(t.strip(), 200) for t in run.errors.splitlines()[::-1] if t.strip()), "")
            if event.died:
                run.ended = event.sentence
            else:
                run.ended = "to its end" if not run.status else f"with status {run.status}"
                run.ended += f": {last}" if run.status and last else ""
            return


def first_line(a: str, b: str, relative: float, absolute: float) -> Line | None:
    """The first line of two outputs that differs by more than the tolerances in its numbers, or in its text."""
    x, y = a.splitlines(), b.splitlines()
    for number, (one, other) in enumerate(zip(x, y), 1):
        if not _same_line(one, other, relative, absolute):
            return Line(number, one, other)
    if len(x) == len(y):
        return None
    at = min(len(x), len(y))
    return Line(at + 1, x[at] if at < len(x) else None, y[at] if at < len(y) else None)


def _same_line(a: str, b: str, relative: float, absolute: float) -> bool:
    if a == b:
        return True
    a, b = ADDRESS.sub("0x", a), ADDRESS.sub("0x", b)
    if NUMBER.sub("#", a) != NUMBER.sub("#", b):
        return False
    for one, other in zip(NUMBER.findall(a), NUMBER.findall(b)):
        x, y = float(one), float(other)
        near = math.isfinite(x - y) and abs(x - y) <= absolute + relative * max(abs(x), abs(y))
        if not (x == y or near or (math.isnan(x) and math.isnan(y))):
            return False
    return True


def _why(found: Compared) -> str:
    """What the first difference comes from, where its text tells."""
    first = found.first
    if first is None:
        left = bool(found.line is not None and found.comparer.left_out)
        return (
            "It may come from a value that is another in each run, such as the time: these are left out."
            if left
            else ""
        )
    for side, met in enumerate((first.a, first.b)):
        text = found.comparer.matching.text(side, met.place.file)
        nature = by_nature(text, met.place)
        if nature:
            return f"It comes from {nature}, which is another in each run."
        if dice := random_source(text, met.place):
            return f"It comes from random numbers ({dice}): is the generator seeded?"
        if made := set_source(text, met.place):
            return f"It may come from the order of a set of texts ({made}), which is another in each run."
    return ""
