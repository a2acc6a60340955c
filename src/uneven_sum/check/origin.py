"""The origin of a value, without a screen."""

from __future__ import annotations

import dataclasses
import os

import msgspec

from ..client import BadUse, Client, Ended, Exited, Launch, Stopped
from ..client.origin.chain import Chain, Question, Searches, follow, follow_printed, question, uses
from ..client.sources import place_words, short_place, with_cells
from ..protocol import Lookout
from ..protocol.origin import Step
from ..safe_text import visible, visible_json

SCHEMA = 1
KINDS = {"argument": "given as an argument", "gone": "deleted", "alias": "the same object", "read": "read"}
KINDS["unknown"] = "changed meanwhile by something else"


@dataclasses.dataclass
class Asked:
    """`text`: the place; or `printed`, a line of the output.  Where: before `line` (of `file`, empty: the script) runs
    for time number `time`; at the first trip (`pause`); else at the end."""

    text: str
    file: str = ""
    line: int = 0
    time: int = 1
    pause: bool = False
    printed: int = 0


async def origin(
    launch: Launch, asked: Asked, steps: int, in_place: bool = False, forward: bool = False, expected: str = ""
) -> Chain:
    """Run to the place, and follow the value back; or `forward`, to what reads it.  BadUse where it cannot be done."""
    searches = Searches(launch, in_place)
    searches.expected = expected
    try:
        await searches.start()
        if asked.printed:
            return await follow_printed(searches, asked.printed, steps)
        found = await _asked(searches, asked)
        if forward:
            return await uses(searches, found.place, found.end, steps)
        chain = await follow(searches, found.place, found.end, steps)
        chain.compare(found.value)
        return chain
    finally:
        await searches.close()


async def _asked(searches: Searches, asked: Asked) -> Question:
    """Pause where the value is asked for."""
    launch = searches.made.to_its_end()
    if asked.pause:
        launch = dataclasses.replace(launch, pause_on=searches.launch.pause_on, checks=True)
    else:
        launch = dataclasses.replace(launch, pause_at_end=not asked.line)
    client = Client(launch)
    try:
        lookouts = []
        if asked.line:
            file = os.path.join(launch.cwd or os.getcwd(), asked.file or launch.program)
            lookouts = [
                Lookout(1, file=os.path.realpath(searches.folder.there(file)), line=asked.line, start=asked.time)
            ]
        placed = await client.start(lookouts=lookouts)
        if placed and not placed[0].verified:
            raise BadUse(placed[0].message or f"Line {asked.line} cannot be paused at.")
        if launch.stdin_file is not None:
            with open(launch.stdin_file, encoding="utf-8", errors="replace") as f:
                await client.write_input(f.read())
        await client.write_input(None)
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                return await question(client, asked.text, folder=searches.folder)
            if isinstance(event, Ended) and (asked.line or asked.pause or event.exit_status):
                raise BadUse(_not_there(asked, event.exit_status))
            if isinstance(event, Exited):
                raise BadUse(event.sentence or _not_there(asked, event.exit_status))
    finally:
        await client.end()


def _not_there(asked: Asked, status: int | None) -> str:
    if asked.line:
        times = f" {asked.time} times" if asked.time > 1 else ""
        place = place_words(asked.file, asked.line).capitalize() if asked.file else f"Line {asked.line}"
        return f"{place} did not run{times}. Give another line with --at."
    if asked.pause:
        return "Nothing tripped. Without --pause the value is looked at when the script has ended."
    gone = f"The script ended with status {status}, so its names are gone."
    return f"{gone} Use --pause or --at LINE; what it reads is given with --input."


def as_json(chain: Chain) -> str:
    """One JSON object, as documented in docs/origin.md."""
    told = {
        "schema": SCHEMA,
        "chain": [_told(step) for step in chain.steps],
        "said": chain.said,
        "note": chain.note or None,
    }
    return visible_json(msgspec.json.format(msgspec.json.encode(with_cells(told)), indent=2).decode())


def _told(step: Step) -> dict[str, object]:
    operands = [{"text": one.text, "value": one.value or None} for one in step.operands]
    before = None if step.before.missing else step.before.text
    told: dict[str, object] = {
        "file": step.file,
        "line": step.line,
        "function": step.function,
        "pass": step.number or None,
    }
    told |= {"statement": step.statement, "target": step.target, "value": step.value.text, "before": before}
    return told | {"operands": operands, "kind": step.kind, "later": step.later, "source": step.source or None}


def as_text(chain: Chain) -> str:
    """The chain for people: a paragraph for each step."""
    parts = [step_text(step) for step in chain.steps]
    return visible("\n".join([*parts, *filter(None, (chain.said, chain.note))]) + "\n")


def step_text(step: Step) -> str:
    """`line 35, pass 212 of rate(): flow[day] = … → nan, was 0.0`, and the operands under it."""
    where = short_place(step.file, step.line)
    where += f", pass {step.number:,}" if step.number else ""
    where += f", in {step.function}" if step.function not in ("", "<module>") else ""
    text = " ".join(step.statement.split())
    was = "" if step.before.missing else f", was {step.before.text}"
    kind = f" ({KINDS[step.kind]})" if step.kind in KINDS else ""
    kind = f" (changed as {step.through}, the same object)" if step.through else kind
    if step.kind == "use":  # nothing is written
        return f"{where}: {text}\n"
    said = f"prints {step.target}" if step.kind == "printed" else f"{step.target} = {step.value.text}{was}{kind}"
    rows = [f"{where}: {text}", f"    {said}"]
    if step.later:
        rows.append(f"    {step.later:,} later write{'s' if step.later > 1 else ''} left it not finite")
    rows += [f"    from {one.text} = {one.value}" for one in step.operands if one.value]
    return "\n".join(rows) + "\n"
