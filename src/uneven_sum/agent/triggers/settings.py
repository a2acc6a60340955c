"""The finer switches of the three tripwires, as the user sets them."""

from __future__ import annotations

import fnmatch
import os
import types
from collections.abc import Iterable
from dataclasses import field
from typing import Any

from ..core.markers import TRIPS
from ..core.records import record
from ..frames import stack
from ..lookouts import lookout
from ..values import nonfinite

QUIET_WARNINGS = (
    *("DeprecationWarning", "PendingDeprecationWarning", "FutureWarning", "ImportWarning", "ResourceWarning"),
    *("SyntaxWarning", "BytesWarning", "EncodingWarning"),
)
KINDS = ("scalar", "array", "frame")


@record
class Tripwire:
    """`only` and `never` hold class names (of errors, of warnings) or kinds of data; `places` files and
    functions that it leaves alone; `write`: tell, and go on."""

    write: bool = False
    only: list[str] = field(default_factory=list)
    never: list[str] = field(default_factory=list)
    places: list[str] = field(default_factory=list)
    met: int = 0

    def wants_class(self, kind: type) -> bool:
        names = {n for c in kind.__mro__ for n in (c.__name__, f"{c.__module__}.{c.__qualname__}")}
        if self.only and not names & set(self.only):
            return False
        return not names & set(self.never)

    def wants_place(self, frame: types.FrameType) -> bool:
        return not in_places(self.places, frame)

    def wants_value(self, value: object) -> bool:
        return not self.only or kind_of(value) in self.only


@record
class Switches:
    """One tripwire each for errors, warnings and non-finite values."""

    error: Tripwire = field(default_factory=Tripwire)
    warning: Tripwire = field(default_factory=lambda: Tripwire(never=list(QUIET_WARNINGS)))
    nonfinite: Tripwire = field(default_factory=Tripwire)

    def set(self, wanted: dict[str, Any]) -> None:
        for name in TRIPS:
            if name in wanted:
                tripwire: Tripwire = getattr(self, name)
                for part in ("write", "only", "never", "places"):
                    if part in wanted[name]:
                        setattr(tripwire, part, wanted[name][part])


def kind_of(value: object) -> str:
    """`scalar`, `array` or `frame`: the kind of data that holds a non-finite value."""
    pd = nonfinite.module("pandas")
    if pd is not None and isinstance(value, (pd.DataFrame, pd.Series, pd.Index)):
        return "frame"
    if type(value).__module__.startswith("polars"):
        return "frame"
    if isinstance(value, (list, tuple, dict)) or getattr(value, "shape", None):
        return "array"
    return "scalar"


def in_places(places: Iterable[str], frame: types.FrameType) -> bool:
    """True when a call lies in one of these: a file's name, a path or pattern, a function, a class."""
    if not places:
        return False
    path = frame.f_code.co_filename
    name = stack.function_name(frame)
    owner = name.rpartition(".")[0]
    for place in places:
        if place.endswith(".py") or "/" in place or "*" in place:
            if os.path.basename(path) == place or fnmatch.fnmatch(os.path.realpath(path), place):
                return True
            if fnmatch.fnmatch(path, "*/" + place.lstrip("/")):
                return True
        elif lookout.fits(place, name) or (owner and lookout.fits(place, owner)):
            return True
    return False
