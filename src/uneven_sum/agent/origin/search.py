"""Searches: each runs the script anew in a copy of this process, which has not begun it, and tells what it found.

The copy has no connection to the host.  It writes one line of JSON to a pipe, and ends.
"""

from __future__ import annotations

import ast
import contextlib
import ctypes
import json
import os
import select
import signal
import time
import types
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ..core import run_state
from ..core.errors import Refused
from ..core.records import record
from ..core.text import to_json
from ..core.transport import Closed, Wire
from ..frames import stack
from ..probes import runtime
from ..source.cells import place_words
from ..source.sites import Options, sites
from ..source.source_file import Position
from ..source.wanted import Wanted
from .place import Place
from .printed import count_lines
from .reader import Expected
from .step import facts_of, told_of
from .watched import ARGUMENT, PRINTED, USE, Stop, Watched, Write

PR_SET_PDEATHSIG = 1
WAITED = 0.1  # seconds between looks for a cancelled search
NOT_ENDED = "the script ended before"
ENDED = "the script ended before it came to this place"


class Copy(BaseException):
    """Raised in the copy: out of the requests, to where the script is run."""

    def __init__(self, search: Search) -> None:
        super().__init__()
        self.search = search


class Silent(Wire):
    """Of a copy: nobody is at the other end."""

    def send(self, message: dict[str, object]) -> None:
        pass

    def receive(self, wait: bool = True) -> dict[str, object] | None:
        raise Closed("a copy has no host")


@dataclass(frozen=True)
class End:
    """Where a search ends: at the end of the script (no `file`); in these calls and passes (`chain`); or before
    execution `count` of the statement at `at`.  `enter`: as the call begins whose `def` that is."""

    file: str = ""
    chain: list[Any] = field(default_factory=list)
    at: list[int] = field(default_factory=list)
    count: int = 0
    enter: bool = False

    def where(self) -> int | Position | None:
        if self.at:
            first, start, last, end = self.at
            return (first, start, last, end)
        return int(self.chain[0][2]) if self.chain else None

    def stop(self, call: int = 0) -> Stop:
        return Stop(self.count, list(self.chain) or None, call)


@record
class Search:
    """What one copy is to find: the last write of a place; or, with `visit`, its kind, the place and operands of a
    write, before which it ends.  `writer`: where it writes its answer.  `since`: see `watched.Watched`.  `line`: what
    prints this line of the output is sought instead; `begins`: what prints its first part."""

    place: Place
    end: End
    writer: int
    visit: str = ""
    since: bool = False
    uses: bool = False
    line: int = 0
    begins: bool = False
    failure: str = ""  # the error in which the script ended
    unwatched: dict[str, str] = field(default_factory=dict)  # files that run without probes, and why
    process: int = field(default_factory=os.getpid)

    def options(self) -> Options:
        """How the script is rewritten.  Its probes are put in place, too."""
        place = self.place
        if self.line:
            count_lines(self.line, self.begins, lambda frame: self.reached(frame, 0))
        stop = self.end.stop(0 if self.visit or self.uses else place.call)
        stop.after = self.uses and bool(self.end.at)
        self.watched = Watched(
            *(place.name, place.text, place.scope, stop, self.reached, self.since, place.whole, self.uses)
        )
        runtime.PROBES.update(self.watched.probes())
        within = bool(place.name) and (place.text != place.name or place.whole)
        names = (place.file, place.scope, place.name, within, place.whole, place.returns, place.leaves)
        if self.visit:
            names = ("", "", "", False, False, False, False)
        wanted = Wanted(*names, self.end.file, self.end.where(), self.end.enter, self.uses)
        return Options(guards=False, checks=False, marks=False, blocks=False, origin=wanted)

    def reached(self, frame: types.FrameType | None, stops: int) -> None:
        """The end of the search: tell, and end the copy."""
        if os.getpid() != self.process:
            return  # a process that the script has forked
        run_state.quiet = True
        try:
            answer = self._answer(frame, stops)
        except Exception as e:
            answer = {"failed": f"its values cannot be told: {type(e).__name__}: {e}"}
        data = to_json(answer)
        while data:
            data = data[os.write(self.writer, data) :]
        os._exit(0)

    def _answer(self, frame: types.FrameType | None, stops: int) -> dict[str, object]:
        if self.line:
            return facts_of(frame, self.place, PRINTED) if frame is not None else {"failed": NOT_ENDED}
        if self.uses:
            return self._use(frame, stops)
        if frame is None and self.end.file:
            return {"failed": ENDED + (f": {self.failure}" if self.failure else "")}
        if self.visit:
            assert frame is not None
            return facts_of(frame, self.place, self.visit)
        asked = stack.calls(frame)[1] if self.end.enter and frame is not None else frame  # the caller, who gave it
        write = self.watched.found(asked)
        if write is None and self.failure:
            return {"failed": f"{ENDED}: {self.failure}"}
        if write is None and self.unwatched:
            return {"failed": f"{os.path.basename(next(iter(self.unwatched)))} cannot be watched"}
        return {
            "write": None if write is None else _told(write),
            "count": stops,
            "now": told_of(self.watched.present(asked)),
        }

    def _use(self, frame: types.FrameType | None, count: int) -> dict[str, object]:
        """The statement that reads the place, and the names that it writes."""
        if frame is None:
            return {"failed": "nothing reads it from there on" if self.watched.armed else ENDED}
        if self.watched.over >= 0:
            over = sites[self.watched.over]
            at = place_words(over.file.path, over.statement[0])
            return {"failed": f"{at} writes it anew, and nothing reads it before"}
        facts = facts_of(frame, self.place, USE)
        site = sites[self.watched.site]
        then = {"file": os.path.realpath(site.file.path), "at": list(site.statement), "count": count, "enter": False}
        statement = site.file.statement(site.statement)
        names = stored_in(statement.node) if statement is not None else []
        return {**facts, "kind": USE, "then": then, "target": self.place.text, "operands": [], "writes": names}


def stored_in(node: ast.stmt) -> list[str]:
    """The texts of what a statement writes."""
    targets = [*getattr(node, "targets", []), *([node.target] if hasattr(node, "target") else [])]
    return [ast.unparse(part) for t in targets for part in (t.elts if isinstance(t, (ast.Tuple, ast.List)) else [t])]


def use(place: Place, end: End, limit: float, cancelled: Callable[[], bool]) -> dict[str, object]:
    """The next statement that reads a place; {"failed": why} without one.  In a copy it raises Copy."""
    return _in_copy(lambda writer: Search(place, end, writer, uses=True), limit, cancelled)


def _told(write: Write) -> dict[str, object]:
    site = sites[write.site]
    told: dict[str, object] = {"file": os.path.realpath(site.file.path), "at": list(site.statement)}
    told |= {"count": write.count, "kind": write.kind, "later": write.later}
    return {**told, "before": told_of(write.before), "after": told_of(write.after)}


def expect(condition: str) -> None:
    """From now on, a value that breaks this condition over `value` is followed as one that is not finite is.  Refused
    when it is no expression."""
    try:
        Expected.code = compile(condition, "<expected>", "eval", dont_inherit=True) if condition else None
    except (SyntaxError, ValueError) as e:
        raise Refused(
            f"{condition[:60]} is no condition: {getattr(e, 'msg', e)}. Write it over value: value > 0."
        ) from None


class Input:
    """What each search reads as its standard input: a file, where one was given."""

    path: str | None = None


def step(place: Place, end: End, since: bool, limit: float, cancelled: Callable[[], bool]) -> dict[str, object]:
    """The last write of a place before the end: where it is, its values, its operands; {"failed": why} without one.
    `since`: where the value is not finite, the write from which on it was not.

    In a copy it raises Copy."""
    began = time.monotonic()
    found = _in_copy(lambda writer: Search(place, end, writer, since=since), limit, cancelled)
    write = found.get("write")
    if write is None:
        return {"failed": found.get("failed") or "nothing has written it before this place"}
    at = End(write["file"], [], write["at"], write["count"], write["kind"] == ARGUMENT)
    left = max(1.0, limit - (time.monotonic() - began))
    facts = _in_copy(lambda writer: Search(place, at, writer, write["kind"]), left, cancelled)
    if "failed" in facts:
        return facts
    then = {"file": at.file, "at": at.at, "count": at.count, "enter": at.enter}
    values = {"value": write["after"], "before": write["before"]}
    return {
        "kind": write["kind"],
        **facts,
        **values,
        "later": write["later"],
        "target": place.shown or place.text,
        "then": then,
        "now": found["now"],
    }


def printed(line: int, limit: float, cancelled: Callable[[], bool]) -> dict[str, object]:
    """The statement that prints a line of the output, and its operands; {"failed": why} without one.  In a copy it
    raises Copy."""
    nothing = Place("", "", "", "")
    facts = _in_copy(lambda writer: Search(nothing, End(), writer, line=line), limit, cancelled)
    if facts.get("failed") == NOT_ENDED:  # the last line may have no end
        facts = _in_copy(lambda writer: Search(nothing, End(), writer, line=line, begins=True), limit, cancelled)
    if "failed" in facts:
        return facts
    chain = facts["chain"]
    chain[0][2] = facts["line"]
    there = End(os.path.realpath(facts["file"]), chain)
    found = _in_copy(lambda writer: Search(nothing, there, writer), limit, cancelled)
    if "failed" in found:
        return found
    then = {"file": there.file, "at": facts["at"], "count": found["count"], "enter": False}
    return {**facts, "kind": PRINTED, "then": then, "target": f"line {line} of the output"}


def _in_copy(search: Callable[[int], Search], limit: float, cancelled: Callable[[], bool]) -> dict[str, Any]:
    reader, writer = os.pipe()
    child = run_state.fork()
    if child == 0:
        os.close(reader)
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
        os.setpgid(0, 0)
        _be_alone()
        raise Copy(search(writer))
    os.close(writer)
    try:
        return _collected(reader, limit, cancelled)
    finally:
        os.close(reader)
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(child, signal.SIGKILL)
        with contextlib.suppress(ProcessLookupError):
            os.kill(child, signal.SIGKILL)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(child, 0)


def _be_alone() -> None:
    """What the copy prints goes nowhere; what it reads begins anew."""
    nothing = os.open(os.devnull, os.O_RDWR)
    given = nothing
    with contextlib.suppress(OSError):
        if Input.path is not None:
            given = os.open(Input.path, os.O_RDONLY)
    for fd, to in ((0, given), (1, nothing), (2, nothing)):
        os.dup2(to, fd)


def _collected(reader: int, limit: float, cancelled: Callable[[], bool]) -> dict[str, object]:
    data = bytearray()
    end = time.monotonic() + limit
    while time.monotonic() < end:
        if not select.select([reader], [], [], WAITED)[0]:
            if cancelled():
                return {"failed": "it was cancelled"}
            continue
        chunk = os.read(reader, 1 << 16)
        if not chunk:
            break
        data += chunk
    else:
        return {"failed": f"it took longer than {limit:g} s"}
    if not data:
        return {"failed": "the script ended its own process before it came to this place"}
    found: dict[str, object] = json.loads(bytes(data))
    return found
