"""Typed messages of an origin search: places, and the steps of a chain."""

from __future__ import annotations

import msgspec

from .messages import Loop, Message


class Place(msgspec.Struct):
    """What can be asked for: see `docs/protocol.md`."""

    file: str
    scope: str
    name: str
    text: str
    returns: bool = False
    leaves: bool = False
    call: int = 0
    shown: str = ""
    whole: bool = False


class Held(msgspec.Struct):
    """A value: its text; `missing` where there was none."""

    text: str
    missing: bool = False
    nonfinite: bool = False


class MadeFrom(msgspec.Struct):
    """An operand.  `place`: where its own origin can be asked for; `calls`: it is what a call of the script's own
    functions returned, whose value is known once its origin is."""

    text: str
    value: str
    nonfinite: bool
    calls: bool
    place: Place | None = None


class Step(msgspec.Struct):
    """One write, as a paused place.  `then`: where the searches for its operands end; `later`: writes since that left
    it not finite; `now`: the value where the search ended; `source`: what it was read from; `through`: the other name
    by which the object was changed; `writes`: of a use, what its statement writes."""

    file: str
    line: int
    function: str
    number: int = msgspec.field(name="pass")
    statement: str = ""
    target: str = ""
    kind: str = "write"
    value: Held = msgspec.field(default_factory=lambda: Held(""))
    before: Held = msgspec.field(default_factory=lambda: Held("", True))
    now: Held = msgspec.field(default_factory=lambda: Held("", True))
    later: int = 0
    source: str = ""
    through: str = ""
    loops: list[Loop] = []
    operands: list[MadeFrom] = []
    writes: list[str] = []
    then: Message = {}
    chain: list[object] = []
    place: Place | None = None  # what was asked for, set by the client
