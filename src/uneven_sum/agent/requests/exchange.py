"""What the requests of one run share: the engine, the numbers given out in a pause, and how the pause ends."""

from __future__ import annotations

import sys
import threading
import types
from typing import TYPE_CHECKING

from ..core.errors import Refused
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..source import registry
from ..source.source_file import SourceFile, Statement
from ..stepping import tracer
from ..stepping.tracer import Aim
from ..values.describe import children_count, summary
from .declare import Body

if TYPE_CHECKING:
    from ..engine.engine import Engine
    from ..engine.nested_call import Nested
    from ..pause.facts import Pause


class Names(dict[str, object]):
    """The names of a scope."""


class Exchange:
    """Numbers of frames and values hold for one pause."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.started = False
        self.running_frame: types.FrameType | None = None  # of the running script, while a request is answered
        self.mode, self.aim = tracer.CONTINUE, Aim()
        self.nested: Nested | None = None  # the call to run within this pause
        self.changed = False  # something was done in the script in this pause
        self.frames: dict[int, types.FrameType] = {}
        self.values: dict[int, object] = {}
        self.before: dict[str, str] = {}  # fingerprints of the values at the last pause
        self.texts: dict[str, str] = {}  # and their one-line texts

    def forget(self) -> None:
        self.frames.clear()
        self.values.clear()

    # -- the pause -----------------------------------------------------------------------------------

    def paused(self) -> tuple[Pause, types.FrameType]:
        pause = self.engine.present
        if pause is None or pause.frame is None:
            raise Refused("The script is running: interrupt it first.")
        return pause, pause.frame

    def can_move(self) -> tuple[Pause, types.FrameType]:
        """The pause, from which the script can go on."""
        pause, frame = self.paused()
        if pause.past or pause.reason == "end":
            raise Refused("The script has ended. Read its values, or rerun.")
        return pause, frame

    def here(self) -> tuple[types.FrameType, SourceFile, Statement]:
        """The user's paused call, its file and statement."""
        _, frame = self.can_move()
        file = registry.file_of(frame)
        statement = statement_at(file, frame) if file is not None else None
        if file is None or statement is None:
            raise Refused("This works in your own files only; step out of the library.")
        return frame, file, statement

    def go(self, mode: str, action: str = "", aim: Aim | None = None) -> Body:
        """The answer that ends the pause: how the script continues, and what the failed statement does."""
        self.mode, self.aim = mode, aim or Aim()
        return {"·action": action, "allThreadsContinued": True}

    # -- numbers -------------------------------------------------------------------------------------

    def frame(self, number: int = 0) -> types.FrameType:
        """The call with a number; 0: the paused one."""
        pause = self.engine.present
        if pause is None:
            raise Refused("The script is running: interrupt it first.")
        if not number:
            assert pause.frame is not None
            return pause.dead[0] if pause.dead else pause.frame
        if number not in self.frames:
            self.calls()
        if number not in self.frames:
            raise Refused("This call has ended.")
        return self.frames[number]

    def calls(self, thread: int = 0, libraries: bool = False) -> list[tuple[int, types.FrameType]]:
        """The calls of a thread (0: the paused one) with their numbers."""
        pause, frame = self.paused()
        if thread and thread != threading.get_ident():
            frames = sys._current_frames()
            if thread not in frames:
                raise Refused("This thread has ended.")
            found, base = stack.calls(frames[thread], True), 1000 * (1 + sorted(frames).index(thread))
        else:
            found, base = pause.calls(libraries or registry.file_of(frame) is None), 1
        numbered = list(enumerate(found, base))
        self.frames.update(numbered)
        return numbered

    def number(self, value: object) -> int:
        number = len(self.values) + 1
        self.values[number] = value
        return number

    def variable(self, name: str, value: object) -> Body:
        """A value as the protocol's Variable, with our summary beside it."""
        told = summary(value)
        parts = len(value) if isinstance(value, Names) else children_count(value)
        return {
            "name": name,
            "value": told["text"],
            "type": told["type"],
            "variablesReference": self.number(value) if parts else 0,
            **({"indexedVariables": parts} if isinstance(value, (list, tuple)) else {}),
            "unevenSum": told,
        }


class Part:
    """Answers some of the requests.  `exchange`: what it shares with the others."""

    def __init__(self, exchange: Exchange) -> None:
        self.exchange = exchange

    @property
    def engine(self) -> Engine:
        return self.exchange.engine
