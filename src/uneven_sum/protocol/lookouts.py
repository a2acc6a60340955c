"""Lookouts and the finer switches of the tripwires, as they travel (`unevenSum/setLookouts`, `…/setSwitches`)."""

from __future__ import annotations

import msgspec

from .trips import TRIPS

QUIET_WARNINGS = (
    *("DeprecationWarning", "PendingDeprecationWarning", "FutureWarning", "ImportWarning", "ResourceWarning"),
    *("SyntaxWarning", "BytesWarning", "EncodingWarning"),
)


class Lookout(msgspec.Struct, omit_defaults=True):
    """One thing that can pause the script.

    where: `line`, `element`, `lambda` (file and line), `entry`, `return` (name: a function), `raise`
    (name: an exception class), `finding` (name: a rule of an audit), `pause` (with `expect`:
    looked at in each), `change` (name: a name, attribute or element; within: a name's function).
    """

    id: int = 0
    where: str = "line"
    file: str = ""
    line: int = 0
    name: str = ""
    within: str = ""
    condition: str = ""
    start: int = 1  # from this time on
    every: int = 1
    inside: str = ""  # only while this function is under way
    outside: str = ""
    object: str = ""  # only for the call's first argument being this object
    after: int = 0  # only when this lookout was met
    until: int = 0
    expect: str = ""  # pauses when this does not hold: `head stays between 0 and 3`
    text: str = ""  # written instead of pausing
    trail: bool = False
    once: bool = False
    on: bool = True


class Placed(msgspec.Struct):
    """What became of a lookout."""

    id: int = 0
    verified: bool = True
    met: int = 0
    line: int = 0
    message: str = ""


class Tripwire(msgspec.Struct):
    """`only`, `never`: class names, or for non-finite values kinds of data; `places`: left alone."""

    on: bool = True
    write: bool = False
    only: list[str] = []
    never: list[str] = []
    places: list[str] = []


class Switches(msgspec.Struct):
    """The tripwires and their finer switches."""

    error: Tripwire = msgspec.field(default_factory=Tripwire)
    handled: bool = False
    warning: Tripwire = msgspec.field(default_factory=lambda: Tripwire(never=list(QUIET_WARNINGS)))
    nonfinite: Tripwire = msgspec.field(default_factory=Tripwire)
    arrived: bool = True
    carried: bool = False
    frames: bool = False  # arrived ones in data frames too
    gaps: bool = False  # cells that library calls leave empty
    breakpoint: bool = True  # breakpoint() in the script's text

    def filters(self) -> list[str]:
        """The exception filters that stand for it."""
        found = [n for n in TRIPS if getattr(self, n).on]
        found += ["handled"] if self.error.on and self.handled else []
        if self.nonfinite.on:
            found += [n for n in TRIPS["nonfinite"].extras if getattr(self, n)]
        return found

    def to_wire(self) -> dict[str, object]:
        told: dict[str, object] = {n: msgspec.to_builtins(getattr(self, n)) for n in TRIPS}
        return {**told, "filters": self.filters(), "breakpoint": self.breakpoint}


def to_wire(lookout: Lookout) -> dict[str, object]:
    found: dict[str, object] = msgspec.to_builtins(lookout)
    return found
