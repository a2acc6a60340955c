"""A version of a line, run to the end of the script in a copy: further trips, results beside the present ones."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from ...host.launch import Launch
from ...protocol.messages import Facts
from ...safe_text import cut
from ..events import Ended, Exited, Output, Stopped, Tripped
from ..verify import Result, results
from .copies import in_copy, started

KINDS = ("scalar", "array", "frame", "sequence", "mapping", "text")
SHOWN = 4  # results that differ


@dataclass
class End:
    """How a run has ended: `trips` are those of the places that trip, each once; `results` are the module's names, as
    texts; `named` are those that the user has named; `lines` are of its output."""

    trips: list[Facts] = field(default_factory=list)
    results: dict[str, str] = field(default_factory=dict)
    named: dict[str, str] = field(default_factory=dict)
    lines: list[str] = field(default_factory=list)
    seconds: float = 0.0
    failed: str = ""


async def to_the_end(launch: Launch, texts: dict[str, str], given: str = "", wanted: list[Result] | None = None) -> End:
    """Run a script with these texts of its files, without pauses.  `wanted`: the results that the user has named.
    BadUse where it cannot be run."""
    async with in_copy(launch, texts, given) as (made, folder):
        how = replace(made, go_on=True, pause_at_end=True, pause_on=made.pause_on - {"start"})
        end, out = End(), ""
        async with started(how) as client:
            while True:
                event = await client.next_event()
                if isinstance(event, Tripped):
                    event.facts.file = folder.back(event.facts.file)
                    end.trips.append(event.facts)
                elif isinstance(event, Output) and event.category == "stdout":
                    out += event.text
                elif isinstance(event, Ended):
                    end.seconds = event.seconds
                elif isinstance(event, Stopped):
                    if event.facts.reason == "end":
                        end.named, _ = await results(client, wanted or [])
                        for card in await client.cards(0, "module"):
                            if card.kind in KINDS:
                                end.results[card.name] = folder.back_in(card.text)
                    await client.go_on()
                elif isinstance(event, Exited):
                    if event.died or event.exit_status:
                        end.failed = event.sentence if event.died else f"it ends with status {event.exit_status}"
                    end.lines = folder.back_in(out).splitlines()
                    return end


def compared(now: End, before: End) -> list[str]:
    """What a version of a line changes for the rest of the script, in sentences: further trips, results, output."""
    said = [f"to the end in {now.seconds:.1f} s"] if not now.failed else [f"not to its end: {now.failed}"]
    known = {(facts.file, facts.statement) for facts in before.trips}
    new = [facts for facts in now.trips if (facts.file, facts.statement) not in known]
    said[0] += f", with {_count(len(now.trips), 'trip')}" if now.trips else ", without a trip"
    said += [f"now also: {facts.headline}" for facts in new[:2]]
    for name, text in now.named.items():  # beside the present ones, whether they differ or not
        was = before.named.get(name, "not known")
        said.append(f"{name} = {text}, {'as before' if was == text else f'was {was}'}")
    different = (name for name, text in now.results.items() if before.results.get(name, text) != text)
    other = [name for name in different if name not in now.named]
    said += [f"{name} = {now.results[name]}, was {before.results[name]}" for name in other[:SHOWN]]
    if before.failed and not now.failed:  # the present run has no results
        said += [f"{name} = {text}" for name, text in list(now.results.items())[-SHOWN:]]
    if len(other) > SHOWN:
        said.append(f"and {_count(len(other) - SHOWN, 'other name')} of the module")
    if not other and not before.failed and now.lines != before.lines:
        shorter = min(len(now.lines), len(before.lines))
        number = next((n for n, (a, b) in enumerate(zip(now.lines, before.lines)) if a != b), shorter)
        line = now.lines[number] if number < len(now.lines) else "missing"
        old = before.lines[number] if number < len(before.lines) else "missing"
        said.append(f"output line {number + 1}: {cut(line, 60)} · was: {cut(old, 60)}")
    if not other and now.lines == before.lines and not now.failed and not before.failed:
        said.append("all results of the module are as before")
    return said


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'s' if number != 1 else ''}"
