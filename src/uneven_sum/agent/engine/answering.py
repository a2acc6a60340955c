"""What the engine needs of whatever answers the host's requests."""

from __future__ import annotations

import types
from typing import Protocol

from ..stepping import tracer
from . import nested_call


class Answering(Protocol):
    """What answers the requests of a pause, and says how it ends."""

    @property
    def mode(self) -> str: ...
    @property
    def aim(self) -> tracer.Aim: ...
    @property
    def nested(self) -> nested_call.Nested | None: ...
    @property
    def held(self) -> bool: ...
    def serve(self) -> str: ...
    def forget(self) -> None: ...
    def while_running(self, frame: types.FrameType | None) -> bool: ...
