"""A call as it began: its arguments, taken where the script comes to it again, in a copy of its folder."""

from __future__ import annotations

import dataclasses
from pathlib import Path

import msgspec

from ...host.launch import BadUse, Launch
from ...protocol import Lookout
from ...protocol.messages import Facts
from ...protocol.trips import TRIPS
from ..client import Client
from ..differing.folders import Folder
from ..events import Exited, Stopped
from .copies import in_copy, started

MOST_CALLS = 2_000  # of one function in one place that are looked at


class Argument(msgspec.Struct):
    """`how`: empty for a positional one, `name` for one that must be named, `*` and `**` for the rest, `owner` for the
    object whose method is called."""

    name: str
    text: str
    how: str = ""
    parts: list[tuple[str, int, int, str]] = []  # what of it has rows: name, rows, columns (0: none), `.iloc` or empty


class SavedCall(msgspec.Struct):
    """A call as Python text, with the files of its arguments in `folder`; the agent's `keeping/call.py` tells more."""

    function: str
    file: str
    target: str
    arguments: list[Argument]
    module: str = ""
    root: str = ""
    values: dict[str, str] = {}
    imports: list[str] = []
    helpers: list[str] = []
    files: list[str] = []
    notes: list[str] = []
    kind: str = "plain"
    returns: bool = True
    folder: str = ""
    failed: str = ""  # the class of the error; empty where the pause is of another kind

    @property
    def name(self) -> str:
        """Of the function, without its class."""
        return self.function.rpartition(".")[2]


def calls_of(facts: Facts) -> list[int]:
    """The places in the trail of a pause that a call can be kept of, innermost first: functions of the user."""
    last = len(facts.trail) - 1
    return [last - up for up, call in enumerate(facts.chain) if not call[0].rpartition(".")[2].startswith("<")]


async def save(
    launch: Launch,
    facts: Facts,
    place: int,
    folder: Path,
    given: str = "",
    texts: dict[str, str] | None = None,
    alone: bool = False,
    inline: bool = False,
) -> SavedCall:
    """Run the script in a copy up to the beginning of a call around a pause, and write down its arguments.

    `place`: in the trail of the pause; `folder`: gets the files of the arguments; `given`: what the script reads as its
    standard input, where that is not a file; `texts`: of files that have changed since the pause; `alone`, `inline`: as
    in the agent's `keeping/call.py`.  BadUse with the reason where the call is not found again, or an argument cannot
    be kept."""
    how = {"folder": str(folder), "alone": alone, "inline": inline}
    async with in_copy(launch, texts or {}, given) as (made, copy):
        chain = [
            [function, copy.there(file), line, passes]
            for function, file, line, passes in facts.chain[len(facts.trail) - 1 - place :]
        ]
        async with started(dataclasses.replace(made, pause_on=made.pause_on | {"start"})) as client:
            await _pause(client)
            await client.session.request("unevenSum/toCall", {"chain": chain})
            if await _pause(client) is None:
                raise BadUse("The call was not found again: the script does not run alike each time.")
            found = msgspec.convert(await client.session.request("unevenSum/keepCall", how), SavedCall, strict=False)
            if facts.reason in TRIPS:
                found = await _last(client, facts, chain, how, copy) or found
        found.file, found.root = copy.back(found.file), copy.back(found.root)
        found.values = {name: copy.back_in(text) for name, text in found.values.items()}
        for one in found.arguments:
            one.text = copy.back_in(one.text)
        found.folder, found.failed = str(folder), facts.exception.type if facts.exception is not None else ""
        return found


async def _last(
    client: Client, facts: Facts, chain: list[list[object]], how: dict[str, object], copy: Folder
) -> SavedCall | None:
    """The last call before the trip comes again, of those that passes cannot tell apart: a library calls the function
    many times.  None where it is the first one, or the trip does not come."""
    function, file = str(chain[0][0]), str(chain[0][1])
    await client.set_lookouts([Lookout(1, where="entry", file=file, name=function)])
    found: SavedCall | None = None
    for _ in range(MOST_CALLS):
        await client.go_on()
        now = await _pause(client)
        if now is None:
            return None
        if now.reason in TRIPS:
            if (copy.back(now.file), now.line, now.reason) == (facts.file, facts.line, facts.reason):
                return found
        elif [list(call) for call in now.chain[1:]] == chain[1:] and now.function == function:
            body = await client.session.request("unevenSum/keepCall", how)
            found = msgspec.convert(body, SavedCall, strict=False)
    return None


async def _pause(client: Client) -> Facts | None:
    """The next pause; None where the script ends instead."""
    while True:
        event = await client.next_event()
        if isinstance(event, Stopped):
            return event.facts
        if isinstance(event, Exited):
            return None
