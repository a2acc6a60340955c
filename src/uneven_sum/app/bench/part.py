"""What the parts of the Bench have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING, cast

if TYPE_CHECKING:
    from .screen import Bench


class Part:
    """A part of the Bench: a mixin, whose whole is `bench`."""

    @property
    def bench(self) -> Bench:
        return cast("Bench", self)
