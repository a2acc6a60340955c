"""Setting a paused script going, and going back: a part of the client."""

from __future__ import annotations

import os
from dataclasses import dataclass

from ..host.launch import BadUse
from ..host.session import Session
from ..protocol import (
    Facts,
    Lookout,
    Loop,
    Placed,
)
from ..protocol.messages import Message


@dataclass(frozen=True)
class Goal:
    """A line of a file, and the how many-th time from the start of the script."""

    file: str
    line: int
    times: int = 1


class Motions:
    """A part of the client."""

    session: Session

    async def set_lookouts(self, lookouts: list[Lookout]) -> list[Placed]:
        raise NotImplementedError

    async def go_on(self) -> None:
        await self.session.request("continue", {"threadId": 0})

    async def step_line(self) -> None:
        await self.session.request("next", {"threadId": 0})

    async def step_into(self, target: int = 0, libraries: bool = False) -> None:
        """Into the next call, or the one with this number (`into_targets`); `libraries`: also foreign code."""
        arguments = {"threadId": 0, "targetId": target, "unevenSum": {"libraries": libraries}}
        await self.session.request("stepIn", arguments)

    async def into_targets(self) -> list[tuple[int, str]]:
        """The calls of the paused statement in the order of evaluation: number and text."""
        body = await self.session.request("stepInTargets", {"frameId": 0})
        return [(t["id"], t["label"]) for t in body["targets"]]

    async def next_pass(self, number: int | None = None) -> None:
        """The same place in the next pass, or in this one."""
        await self.session.request("unevenSum/nextPass", {"number": number})

    async def end_loop(self) -> None:
        await self.session.request("unevenSum/endLoop")

    async def run_to(self, file: str, line: int, times: int = 1) -> None:
        """To a line, the how many-th time from now."""
        await self.session.request("unevenSum/runTo", {"file": file, "line": line, "times": times})

    async def make_next(self, file: str, line: int) -> None:
        """Makes another line of the paused call the next one.  BadUse with the language's refusal."""
        body = await self.session.request("gotoTargets", {"source": {"path": file}, "line": line})
        target = body["targets"][0]["id"] if body["targets"] else line
        await self.session.request("goto", {"threadId": 0, "targetId": target})

    async def leave_call(self, value: str = "None") -> None:
        """Leaves the paused call at once; it returns the value of this expression."""
        await self.session.request("unevenSum/leaveCall", {"value": value})

    async def step_out(self) -> None:
        await self.session.request("stepOut", {"threadId": 0})

    async def retry(self) -> None:
        await self.session.request("unevenSum/retry")

    async def replace(self, value: str) -> None:
        """Puts another value in the place of a non-finite one that is not stored yet."""
        await self.session.request("unevenSum/replace", {"value": value})

    async def skip(self) -> None:
        await self.session.request("unevenSum/skip")

    async def run_out(self) -> None:
        """Runs to the end without any pause."""
        await self.session.request("unevenSum/runOut")

    async def step_back(self, number: int | None = None) -> None:
        """Back to the pause before this one, or to a return point.  BadUse when there is none."""
        await self.session.step_back(number)

    def has_point_before(self) -> bool:
        """True when there is a pause before this one to go back to."""
        if self.session.here is not self.session.main:
            return False
        here = self.session.point or 1 << 60
        return any(n < here and p.at_pause for n, p in self.session.points.all.items())

    def start_point(self) -> int | None:
        """The return point before the first line, if there is one."""
        points = self.session.points.all.values()
        return next((p.number for p in points if p.facts.get("reason") == "start"), None)

    def point_before_pass(self, loops: list[Loop], number: int) -> int | None:
        """The best return point from which to run to pass `number` of the innermost of these loops: the latest that
        lies before it.  None when there is none."""
        place = (loops[0].file, loops[0].line)
        outer = [(k.file, k.line, k.number) for k in loops[1:] if k.number]
        best: int | None = None
        for point in self.session.points.all.values():
            told = [(k["file"], k["line"], k["pass"]) for k in point.facts.get("loops") or []]
            at = next((n for n, k in enumerate(told) if k[:2] == place and told[n + 1 :] == outer), None)
            if at is not None:
                if told[at][2] >= number:
                    break
                best = point.number
            elif point.number < (self.session.point or 1 << 60):
                best = point.number
        return best

    async def back_to_pass(self, loops: list[Loop], number: int) -> None:
        """Back to the nearest return point before pass `number` of the innermost loop, and forward to where that
        pass begins.  BadUse when there is none."""
        await self.session.points_up_to_here()
        point = self.point_before_pass(loops, number)
        if point is None:
            raise BadUse(f"No snapshot before pass {number}. Rerun the script.")
        wanted = [{"file": k.file, "line": k.line, "pass": k.number} for k in loops if k.number]
        wanted[0]["pass"] = number
        await self.back_to(point)
        await self.to_pass(wanted)

    async def back_to(self, point: int) -> None:
        """Back to a return point; the script is paused there when this returns."""
        await self.session.step_back(point)
        await self.session.stopped()

    async def to_pass(self, loops: list[dict[str, object]]) -> None:
        """Forward to where a pass begins: `loops` with `file`, `line` and `pass`, innermost first."""
        await self.session.request("unevenSum/toPass", {"loops": loops})

    async def switch_points(self, on: bool) -> None:
        """Return points from now on, or none any more: those that there are end."""
        await self.session.switch_points(on)

    async def cannot_undo(self, number: int | None = None) -> list[str]:
        """What going back to a return point (default: the pause before this one) does not undo."""
        await self.session.points_up_to_here()
        here = self.session.point or 1 << 60
        points = self.session.points.all
        if number is None:
            number = max((n for n, p in points.items() if n < here and p.at_pause), default=0)
        if number not in points:
            return []
        point = points[number]
        since = [os.path.basename(path) for path, when in self.session.written.items() if when > point.made]
        found = list(point.facts.get("cannot") or [])
        if since:
            more = f" and {len(since) - 3} more" if len(since) > 3 else ""
            names = ", ".join(since[:3]) + more
            found.append(f"what became of {names} since, which the script has opened or changed anew")
        return found

    def return_points(self) -> list[Message]:
        """What one can go back to: `number`, `line`, `function`, `pass`, `reason`, `statement`, `memory`."""
        points = self.session.points.all.values()
        return [{"number": p.number, **p.facts, "memory": p.memory} for p in points]

    # -- another text --------------------------------------------------------------------------------

    async def try_change(self, frame: int, line: int | None, text: str | None) -> Message:
        """Another version of a statement tried in a call: `terms` of the present one, `first` and `last` line, and
        in `tried` `statements` with their terms, `changed`, `failed`.  BadUse when it is no Python."""
        return await self.session.request("unevenSum/tryChange", {"frameId": frame, "line": line, "text": text})

    async def take_up(self, file: str, check: bool = False) -> list[str]:
        """Functions of a changed file get their new code for their next call: which.  BadUse with the reason why
        they cannot.  `check`: nothing is done."""
        arguments = {"file": file, "check": check}
        found: list[str] = (await self.session.request("unevenSum/takeUp", arguments))["functions"]
        return found

    def point_before_call(self, chain: list[tuple[str, str, int, list[int]]]) -> int | None:
        """The latest return point from before a call began."""
        goal = [list(call) for call in chain]
        best: int | None = None
        for point in self.session.points.all.values():
            here = (point.facts.get("chain") or [])[-len(goal) :]
            inside = len(here) == len(goal) and here[1:] == goal[1:] and here[0][:2] == goal[0][:2]
            if inside or point.number > (self.session.point or 1 << 60):
                break
            best = point.number
        return best

    async def restart_call(self, facts: Facts, lookouts: list[Lookout]) -> list[Placed]:
        """The paused call begins again with the present text of its file: back to before it, the text taken up, and
        on to its entry.  BadUse when there is no return point, or the text cannot be taken up."""
        await self.session.points_up_to_here()
        point = self.point_before_call(facts.chain)
        if point is None:
            raise BadUse("No snapshot before this call. Rerun the script.")
        await self.take_up(facts.file, check=True)
        await self.back_to(point)
        await self.take_up(facts.file)
        placed = await self.set_lookouts(lookouts)
        await self.session.request("unevenSum/toCall", {"chain": [list(call) for call in facts.chain]})
        return placed

    async def interrupt(self) -> None:
        await self.session.interrupt()
