"""Follows a value back: each step runs the script in a copy of its folder, up to the write that is looked for."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

import msgspec

from ...host.launch import BadUse, Launch
from ...host.sockets import scratch_prefix
from ...protocol.messages import Message
from ...protocol.origin import Held, MadeFrom, Place, Step
from ..client import Client
from ..differing.folders import Folder, copied
from ..sources import place_words

MOST_SECONDS = 3600.0
STEPS = 40


class Searches:
    """Searches for one script.  `given`: what it reads as its standard input, where that is not a file; `folder`: where
    it runs; `client`: the interpreter that stands ready."""

    def __init__(self, launch: Launch, in_place: bool = False, given: str = "") -> None:
        self.launch, self.in_place, self.given = launch, in_place, given
        self.scratch = ""
        self.folder = Folder("", "")
        self.made = launch
        self.client: Client | None = None
        self.expected = ""  # a condition over `value`: what breaks it is followed as nan is

    async def start(self) -> None:
        """Copy the folder, and start the interpreter.  BadUse when the script cannot be run."""
        self.scratch = tempfile.mkdtemp(prefix=scratch_prefix())
        if self.in_place:
            here = os.path.realpath(self.launch.cwd or os.getcwd())
            self.folder = Folder(here, here)
        else:
            self.made, self.folder = await asyncio.to_thread(copied, self.launch, Path(self.scratch) / "a")
        if self.given:
            path = Path(self.scratch) / "given"
            path.write_text(self.given, encoding="utf-8")
            self.made = dataclasses.replace(self.made, stdin_file=str(path))
        self.made = dataclasses.replace(self.made, env={"PYTHONHASHSEED": "0", **self.made.env})
        self.client = Client(self.made.to_its_end())
        await self.client.session.start()

    async def step(self, place: Place, end: dict[str, object], since: bool) -> Step:
        """The last write of a place before the end.  BadUse with the reason where none is found."""
        how = {"place": self._there(place), "end": self._end_there(end), "since": since}
        how["expected"] = self.expected
        return await self._asked("unevenSum/originStep", how, place)

    async def use(self, place: Place, end: dict[str, object]) -> Step:
        """The next statement that reads a place.  BadUse with the reason where none does."""
        how = {"place": self._there(place), "end": self._end_there(end)}
        return await self._asked("unevenSum/originUse", how, place)

    async def printed(self, line: int) -> Step:
        """The statement that prints a line of the output.  BadUse with the reason where none does."""
        return await self._asked("unevenSum/originLine", {"line": line, "expected": self.expected}, None)

    async def _asked(self, request: str, how: Message, place: Place | None) -> Step:
        assert self.client is not None
        body = await self.client.session.request(request, {**how, "seconds": MOST_SECONDS})
        if "failed" in body:
            what = f"line {how['line']} of the output" if place is None else place.shown or place.text
            raise BadUse(f"{what}: {body['failed']}.")
        if self.folder.copy != self.folder.original:  # texts of values and statements tell paths, too
            told = self.folder.back_in(msgspec.json.encode(body).decode())
            body = msgspec.json.decode(told)
        found = msgspec.convert(body, Step, strict=False)
        found.place = place
        return found

    def _there(self, place: Place) -> dict[str, object]:
        told: dict[str, object] = msgspec.to_builtins(place)
        return {**told, "file": self.folder.there(place.file)}

    def _end_there(self, end: Message) -> dict[str, object]:
        return {**end, "file": self.folder.there(end["file"])} if end.get("file") else end

    def cancel(self) -> None:
        """End the search under way."""
        if self.client is not None:
            self.client.cancel_all()

    async def close(self) -> None:
        if self.client is not None:
            with contextlib.suppress(BadUse):
                await self.client.end()
        if self.scratch:
            await asyncio.to_thread(shutil.rmtree, self.scratch, True)


@dataclasses.dataclass
class Question:
    """A place, where its searches end, and its value there."""

    place: Place
    end: Message
    value: Held


async def question(client: Client, text: str, frame: int = 0, folder: Folder | None = None) -> Question:
    """What an expression names in a paused call.  BadUse when it is no place."""
    body = await client.session.request("unevenSum/place", {"expression": text, "frameId": frame})
    found = msgspec.convert(body, Question)
    if folder is not None:
        found.value.text = folder.back_in(found.value.text)
        found.place.file = folder.back(found.place.file)
        found.end = {**found.end, "file": folder.back(found.end["file"])} if found.end else {}
    return found


@dataclasses.dataclass
class Chain:
    """Steps, the newest first.  `said`: why it ends, in a sentence."""

    steps: list[Step] = dataclasses.field(default_factory=list)
    said: str = ""
    note: str = ""  # what is doubtful about it
    expected: str = ""

    def compare(self, value: Held) -> None:
        """Note where the runs of the searches gave another value than the run that asked."""
        now = self.steps[0].now if self.steps else value
        if not value.missing and now.text != value.text:
            self.note = (
                f"The searches found {now.text} there, not {value.text}: the script does not run alike each time, "
                "and the chain may be of another course."
            )


async def follow(
    searches: Searches,
    place: Place,
    end: dict[str, object],
    most: int = STEPS,
    tell: Callable[[Chain], None] = lambda chain: None,
    before: list[Step] | None = None,
) -> Chain:
    """Follow a place: a value that is not finite to where it was made, another one as long as there is one operand.

    `before`: steps that have led to it."""
    chain = Chain(list(before or []), expected=searches.expected)
    place_of: Place | None = place
    while place_of is not None and len(chain.steps) < most:
        try:
            step = await searches.step(place_of, end, True)
        except BadUse as e:
            chain.said = chain.said or str(e)
            break
        if len(chain.steps) > len(before or []) and chain.steps[-1].value.nonfinite and not step.value.nonfinite:
            _fill_in(chain.steps[-1], step)
            chain.said = _made_at(chain.steps[-1], chain.expected)
            break
        if chain.steps:
            _fill_in(chain.steps[-1], step)
        chain.steps.append(step)
        tell(chain)
        one = next_operand(step)
        place_of, end = (one.place, step.then) if one is not None else (None, end)
        if one is None:
            chain.said = ending(step, chain.expected)
    if len(chain.steps) == most and place_of is not None:
        chain.said = f"Followed for {most} steps; there are more."
    return chain


async def follow_printed(
    searches: Searches, line: int, most: int = STEPS, tell: Callable[[Chain], None] = lambda chain: None
) -> Chain:
    """Follow what a line of the output prints, from the statement that prints it.  BadUse where none does."""
    step = await searches.printed(line)
    step.value = Held("", nonfinite=any(one.nonfinite for one in step.operands))
    one = next_operand(step)
    if one is None or one.place is None or most < 2:
        return Chain([step], ending(step))
    return await follow(searches, one.place, step.then, most, tell, [step])


async def uses(searches: Searches, place: Place, end: dict[str, object], most: int) -> Chain:
    """Where a value is read next, and next; the first use first."""
    chain = Chain()
    while len(chain.steps) < most:
        try:
            step = await searches.use(place, end)
        except BadUse as e:
            chain.said = str(e)
            return chain
        chain.steps.append(step)
        end = step.then
        if place.text in step.writes or place.name in step.writes:
            chain.said = f"{_line(step)} writes {place.text} anew."
            return chain
    chain.said = f"These are the first {most} uses; there may be more."
    return chain


def _fill_in(made: Step, step: Step) -> None:
    """What a call returned is known once its origin is."""
    for one in made.operands:
        if one.text == step.target and not one.value:
            one.value, one.nonfinite = step.value.text, step.value.nonfinite


def next_operand(step: Step) -> MadeFrom | None:
    """The operand by which a chain goes on by itself."""
    able = [one for one in step.operands if one.place is not None]
    if step.value.nonfinite:
        return next((one for one in able if one.nonfinite), next((one for one in able if one.calls), None))
    return able[0] if len(step.operands) == 1 and able else None


def ending(step: Step, expected: str = "") -> str:
    """Why a chain ends with this step."""
    if step.source:
        came = f"{step.target} came from {step.source}." if step.kind == "read" else f"{step.source}."
        return came if step.kind == "read" else came[0].upper() + came[1:]
    if step.value.nonfinite:
        return _made_at(step, expected)
    if not step.operands:
        return f"{_line(step)} uses no other value for {step.target}."
    several = ", ".join(one.text for one in step.operands)
    if step.kind == "printed":
        return f"{_line(step)} prints {several}. Follow one of them."
    return f"{_line(step)} computes it from {several}. Follow one of them."


def _line(step: Step) -> str:
    return place_words(step.file, step.line).capitalize()


def _made_at(step: Step, expected: str = "") -> str:
    given = next((one for one in step.operands if one.nonfinite), None)
    if given is not None:
        return f"{_line(step)} takes it from {given.text}, and the chain ends there."
    where = place_words(step.file, step.line) + (f", pass {step.number}" if step.number else "")
    if expected:
        return f"{step.value.text} is created at {where}: it breaks {expected}, and no operand did."
    what = step.value.text if len(step.value.text) < 5 else "It"
    return f"{what} is created at {where}: no operand was nan or infinite."
