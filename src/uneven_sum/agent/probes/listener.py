"""What the engine is to the probes."""

from __future__ import annotations

import types
from collections.abc import Sequence

from ..source.sites import Site


class Listener:
    """What the engine is to the probes."""

    def nonfinite(self, value: object, site: Site, frame: types.FrameType, old: object) -> object:
        return value

    def complex_made(self, value: object, site: Site, frame: types.FrameType) -> object:
        """The first complex result of a place."""
        return value

    def carried(self, value: object, site: Site, given: Sequence[object]) -> bool:
        return False

    def finite(self, site: Site, frame: types.FrameType) -> None: ...
    def failed(self, site: Site, frame: types.FrameType, head: bool) -> str:
        return ""

    def lookout(
        self, numbers: tuple[int, ...], site: Site, frame: types.FrameType, by_name: bool, **facts: object
    ) -> None: ...
    def condition_failed(self, number: int, site: Site, frame: types.FrameType, error: BaseException) -> None: ...
    def changed(self, site: Site, frame: types.FrameType, begins: bool) -> None: ...
    def given(self, frame: types.FrameType) -> None: ...
    def skipped(self, frame: types.FrameType) -> None: ...
    def again(self, frame: types.FrameType) -> None: ...
