"""What an origin search puts into the code: see `rewrite/origin_probes.py`."""

from __future__ import annotations

from dataclasses import dataclass

from .source_file import Position


@dataclass(frozen=True)
class Wanted:
    """What a search looks for.

    `file`, `scope`, `name`: the watched name (`scope` is empty for a module's).  `within`: the place is in the name's
    object, or is (`whole`) that object, which can be changed in place.  `returns`: what the function `scope` returned,
    instead of a name; `leaves`: as one of its calls ends.  `stop_file`, `stop`: the line of the statement before which
    it ends, or that statement's place; `enter`: at the entry of a call instead.  `uses`: not the writes, but the first
    statement from there on that reads the name.
    """

    file: str
    scope: str
    name: str
    within: bool
    whole: bool
    returns: bool
    leaves: bool
    stop_file: str
    stop: int | Position | None
    enter: bool = False
    uses: bool = False
