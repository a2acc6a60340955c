"""A call run within a pause, with all lookouts on: pauses and steps inside it."""

from __future__ import annotations

import sys
import time
import types
from typing import TYPE_CHECKING

from ..core import run_state
from ..core.records import record
from ..core.text import error_text
from ..core.transport import Closed, letting_others
from ..frames.namespace import Scope
from ..stepping import tracer
from ..values.describe import summary

if TYPE_CHECKING:
    from .engine import Engine


@record
class Nested:
    """What is to be run, and in the names of which call."""

    code: types.CodeType
    frame: types.FrameType
    text: str
    into: bool  # pause at its first line


def run(engine: Engine, nested: Nested) -> None:
    """Runs the call and reports its end to the host; the pause around it continues as it was."""
    pause, facts, point = engine.present, engine.facts, engine.point
    scope = Scope(nested.frame)
    names: dict[str, object] = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}
    outer, engine.nested = engine.nested, nested
    boundary, engine.boundary = engine.boundary, sys._getframe()
    engine.present = None
    engine.requests.forget()
    began = time.perf_counter()
    told: dict[str, object] = {}
    run_state.quiet = False
    try:
        if nested.into:
            engine.motion.enter()
        with letting_others():
            told = {**summary(eval(nested.code, names)), "failed": ""}
    except Closed:
        raise
    except BaseException as e:
        told = {"failed": error_text(e)}
    finally:
        run_state.quiet = True
        engine.motion.begin(tracer.CONTINUE, None)
        engine.nested, engine.boundary = outer, boundary
        engine.present, engine.facts, engine.point = pause, facts, point
    engine.flush()
    seconds = time.perf_counter() - began
    engine.wire.event("unevenSum/callEnded", {**told, "call": nested.text, "seconds": seconds, "point": point})
