"""Notes the last write of one place while the script runs, and stops it where the search ends.

A place is a name in a scope, or something within the name's object: `flow[211]`, `gauge.level`, `table.loc[3, "rain"]`.
Each write is one tuple; only the last of each call is kept.
"""

from __future__ import annotations

import sys
import types
from collections.abc import Callable
from typing import Any

from ..core.markers import MISSING
from ..core.records import record
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..source import registry
from ..source.sites import sites
from ..source.source_file import Position
from .reader import Reader, is_bad, same, share

WRITE, ARGUMENT, GONE, USE, PRINTED = "write", "argument", "gone", "use", "printed"
ALIAS, UNKNOWN = "alias", "unknown"
MOST_CALLS = 6  # whose objects are looked at after each statement: recursion


@record
class Write:
    """A write: by which statement (its site), which execution of it, of which kind; the values then."""

    site: int
    count: int
    kind: str
    before: object
    after: object
    later: int = 0  # writes since, which all were not finite, too


@record
class Stop:
    """Where a search ends: before execution `count` of the statement, or in these passes of these calls.

    `call`: not there, but where that execution's call number `call` of the scope's function returns."""

    count: int = 0
    chain: list[list[object]] | None = None  # calls, innermost first: function, file, line, passes
    call: int = 0
    after: bool = False  # uses are sought after that execution, not in it


class Watched:
    """The state of one search.  `reached` hears of the end: the paused call, and how often the statement ran."""

    def __init__(
        self,
        name: str,
        text: str,
        scope: str,
        stop: Stop,
        reached: Callable[[types.FrameType | None, int], None],
        since: bool = False,
        whole: bool = False,
        uses: bool = False,
    ) -> None:
        """`since`: of writes that are not finite, the first after one that is; not the last.  `whole`: the place is an
        object, which may be changed in place.  `uses`: where it is read next is sought, not where it was written."""
        self.name, self.scope, self.stop, self.reached = name, scope, stop, reached
        self.since, self.uses, self.armed = since, uses, False
        self.own: Position | None = None
        self.over = -1  # the site of a write that ends the uses
        self.first: types.FrameType | None = None  # the call of the statement from which on uses are sought
        if not name and text:
            self.leaf: Reader | None = Reader("returned", "returned" + text)
        else:
            self.leaf = Reader(name, text) if text != name or whole else None
        self.last: dict[int, tuple[int, int, str, object, object]] = {}  # by the id of the call, 0 for a module's names
        self.held: dict[int, object] = {}  # the name's object in the latest calls, where the place is within it
        self.turned: dict[int, tuple[int, int, str, object, object]] = {}  # the first of its writes that are not finite
        self.later: dict[int, int] = {}  # writes since that one
        self.counts: dict[int, int] = {}  # executions of each site
        # Executions that have begun of each statement that calls something.
        self.begun: dict[tuple[str, Position], int] = {}
        self.calling: dict[int, Any] = {}  # by site: such a statement; None: it calls nothing
        self.under_way: dict[tuple[int, tuple[str, Position]], int] = {}  # the number of the latest one in each call
        self.stops = 0
        self.caller: types.FrameType | None = None  # the call whose statement is under way
        self.left = stop.call  # calls of the function that it has still to make
        self.value: tuple[int, int, str, object, object] | None = None  # what it returned

    # -- what the probes call ------------------------------------------------------------------------

    def bound(self, site: int, value: object) -> None:
        """The name was bound."""
        if self.uses:
            self._bound_anew(site, sys._getframe(1))
            return
        count = self._count(site)
        self._note(self._key(sys._getframe(1)), site, count, WRITE, value)

    def begin(self, site: int) -> None:
        """A statement that calls something begins."""
        at = (sites[site].file.path, sites[site].statement)
        self.begun[at] = self.begun.get(at, 0) + 1
        self.under_way[id(sys._getframe(1)), at] = self.begun[at]

    def _count(self, site: int) -> int:
        """Which execution of its statement has ended."""
        at = self.calling.get(site, 0)
        if at == 0:
            at = (sites[site].file.path, sites[site].statement)
            self.calling[site] = at = at if at in self.begun else None
        if at is not None:
            return self.under_way.get((id(sys._getframe(2)), at), 0)
        count = self.counts[site] = self.counts.get(site, 0) + 1
        return count

    def gone(self, site: int) -> None:
        """The name was deleted."""
        count = self._count(site)
        self._note(self._key(sys._getframe(1)), site, count, GONE, MISSING)

    def enter(self, site: int, *given: object) -> None:
        """A call of the scope's function begins; its argument, where the name is one."""
        count = self._count(site)
        key = id(sys._getframe(1))
        if self.armed and key == self.armed_in:
            self.reached(None, 0)  # the call that had the name is over
        self.last.pop(key, None)
        self.turned.pop(key, None)
        self.held.pop(key, None)
        if given:
            self._note(key, site, count, ARGUMENT, given[0])

    def maybe(self, site: int) -> None:
        """Something may have changed the object."""
        count = self._count(site)
        for key, thing in list(self.held.items()):
            self._compare(key, thing, site, count)

    def stored(self, site: int, *pairs: object) -> None:
        """Elements were stored, each given as its owner and its index: it is a write of the place also where the value
        is the same."""
        count = self._count(site)
        owners, indices = pairs[::2], pairs[1::2]
        for key, thing in list(self.held.items()):
            leaf = self.leaf
            assert leaf is not None
            at = any([leaf.is_at(thing, owner, index) for owner, index in zip(owners, indices)])
            if self._compare(key, thing, site, count):
                part = at or any([leaf.is_part(thing, owner) for owner in owners])
                if not part and self.calling.get(site) is None:
                    found = self.last[key]  # something else has changed it meanwhile: a thread, native code
                    self.last[key] = (site, count, UNKNOWN, found[3], found[4])
            elif at:
                value = leaf.read(thing)
                self._keep(key, (site, count, WRITE, value, value))

    def touched(self, site: int, *owners: object) -> None:
        """Objects were changed in place."""
        count = self._count(site)
        for key, thing in list(self.held.items()):
            if self._compare(key, thing, site, count) or self.leaf is None:
                continue
            value = self.leaf.read(thing)
            if any(one is value or share(one, value) or self.leaf.is_at(thing, one, ...) for one in owners):
                self._keep(key, (site, count, WRITE, MISSING, value))

    def through(self, site: int, value: object) -> object:
        """As `maybe`, with the value of an expression."""
        self.maybe(site)
        return value

    def used(self, site: int, value: object = MISSING, *indices: object) -> bool:
        """A statement that reads the name is about to run."""
        count = self.counts[site] = self.counts.get(site, 0) + 1
        if not self.armed:
            return False
        frame = sys._getframe(1)
        if self.first is not None:
            first, self.first = self.first, None
            if first is frame and self.started == sites[site].statement:
                return False  # the write itself
        if self.scope and self._key(frame) not in (self.armed_in, id(frame)):
            return False
        within = self.leaf is not None and bool(self.leaf.steps)
        if (
            indices
            and within
            and self.leaf is not None
            and not any(self.leaf.is_at(value, value, one) for one in indices)
        ):
            return False
        self.site = site
        self.reached(frame, count)
        return False

    def _bound_anew(self, site: int, frame: types.FrameType) -> None:
        """After a value's last use the name gets another one."""
        if not self.armed or (self.scope and self._key(frame) not in (self.armed_in, id(frame))):
            return
        if self.own == sites[site].statement:
            self.own = None  # the write from which on uses are sought
            return
        self.over = site
        self.reached(frame, 0)

    def _arm(self, frame: types.FrameType, site: int) -> None:
        """From here on uses are sought."""
        self.armed = True
        self.armed_in = self._call_of(frame)
        if self.stop.after:
            self.first, self.started = frame, sites[site].statement
            self.own = self.started

    def returned(self, site: int, value: object) -> object:
        """The scope's function returns."""
        count = self._count(site)
        if self.caller is not None and self._is_left(sys._getframe(1)):
            taken = value if self.leaf is None else self.leaf.read(value)
            self.value = (site, count, WRITE, MISSING, taken)
            self.reached(sys._getframe(1), self.stops)
        return value

    def leaving(self, site: int) -> None:
        """A call of the scope's function is about to end."""
        if self.caller is not None and self._is_left(sys._getframe(1)):
            self.reached(sys._getframe(1), self.stops)

    def _is_left(self, frame: types.FrameType) -> bool:
        calls = stack.calls(frame)
        ours = len(calls) > 1 and calls[1] is self.caller
        self.left -= ours
        return ours and self.left == 0

    def stop_here(self, site: int) -> bool:
        """The statement at which the search ends is about to run."""
        self.stops += 1
        stop = self.stop
        if self.uses:
            if not self.armed and (self.stops == stop.count or self._is_at(sys._getframe(1))):
                self._arm(sys._getframe(1), site)
            return False
        if stop.count:
            if self.stops == stop.count and stop.call:
                self.caller = stack.calls(sys._getframe(1))[0]
            elif self.stops == stop.count or (self.caller is not None and self.caller is sys._getframe(1)):
                self.reached(sys._getframe(1), stop.count)
        elif stop.chain is not None:
            if self._is_at(sys._getframe(1)):
                self.reached(sys._getframe(1), self.stops)
        return False

    # -- how ------------------------------------------------------------------------------------------

    def probes(self) -> dict[str, object]:
        names = [
            "begin",
            "bound",
            "gone",
            "enter",
            "maybe",
            "stored",
            "touched",
            "through",
            "returned",
            "leaving",
            "used",
        ]
        return {f"origin_{name}": getattr(self, name) for name in names} | {"origin_stop": self.stop_here}

    def _key(self, frame: types.FrameType) -> int:
        """Of the call that has the name: this one; the latest for a name of a function around."""
        if not self.scope:
            return 0
        if stack.plain_name(frame.f_code.co_qualname) == self.scope:
            return id(frame)
        return next(reversed(self.last), id(frame))

    def _note(self, key: int, site: int, count: int, kind: str, value: object) -> None:
        old = self.last.pop(key, None)
        before = old[4] if old is not None else MISSING
        if self.leaf is not None:
            self.held.pop(key, None)
            if value is not MISSING:
                self.held[key] = value
                value = self.leaf.read(value)
                while len(self.held) > MOST_CALLS:
                    del self.held[next(iter(self.held))]
        self._keep(key, (site, count, kind, before, value))

    def _keep(self, key: int, write: tuple[int, int, str, object, object]) -> None:
        self.last[key] = write
        if self.since:
            if not is_bad(write[4]):
                self.turned.pop(key, None)
            elif key in self.turned and write[2] != ARGUMENT:
                self.later[key] += 1
            else:
                self.turned[key], self.later[key] = write, 0

    def _compare(self, key: int, thing: object, site: int, count: int) -> bool:
        assert self.leaf is not None
        value, old = self.leaf.read(thing), self.last.get(key)
        if old is not None and same(old[4], value):
            return False
        self._keep(key, (site, count, WRITE, old[4] if old else MISSING, value))
        return True

    def _is_at(self, frame: types.FrameType) -> bool:
        return self.stop.chain is not None and self._is_there(frame, self.stop.chain)

    @staticmethod
    def _is_there(frame: types.FrameType, chain: list[list[object]]) -> bool:
        passes = chain[0][3]
        if passes:  # the quick way: the innermost loop first
            file = registry.file_of(frame)
            statement = statement_at(file, frame) if file is not None else None
            found = stack.loops(frame, statement, lengths=False)
            if [loop["pass"] for loop in found] != passes:
                return False
        here = stack.chain(frame)
        return [c[:1] + c[2:] for c in here] == [list(c[:1]) + list(c[2:]) for c in chain]

    def present(self, frame: types.FrameType | None) -> object:
        """The value as it is where the search ends."""
        if self.value is not None:
            return self.value[4]
        found = self.last.get(0 if not self.scope else self._call_of(frame))
        return found[4] if found is not None else MISSING

    def found(self, frame: types.FrameType | None) -> Write | None:
        """The last write, as a call sees it."""
        if self.value is not None:
            return Write(*self.value)
        return self._of(0 if not self.scope else self._call_of(frame))

    def _of(self, key: int) -> Write | None:
        if key in self.turned:
            return Write(*self.turned[key], later=self.later[key])
        found = self.last.get(key)
        return Write(*found) if found is not None else None

    def _call_of(self, frame: types.FrameType | None) -> int:
        """The nearest call outwards of the scope's function."""
        for call in stack.calls(frame):
            if stack.plain_name(call.f_code.co_qualname) == self.scope:
                return id(call)
        return next(reversed(self.last), 0)
