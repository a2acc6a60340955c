"""Warnings: held until the result of their statement is known."""

from __future__ import annotations

import os
import sys
import types
import warnings
from typing import TYPE_CHECKING, Any

from ..core import identity, run_state
from ..core.original_builtins import with_originals
from ..core.transport import Closed
from ..frames import fast_form
from ..pause.facts import Pause
from ..probes import runtime
from ..source import registry
from ..source.source_file import Position
from ..stepping import tracer
from . import style_warnings, warning_places
from .settings import Switches

if TYPE_CHECKING:
    from ..stepping.tracer import Stepper


class WarningTrigger(tracer.Hooks):
    """A part of the engine."""

    pauses_on: set[str]
    switches: Switches
    held: dict[types.FrameType, list[str]]
    motion: Stepper
    shows_figures: bool
    _show: Any

    def pause(self, pause: Pause, apart: dict[str, object] | None = None) -> str:
        raise NotImplementedError

    def _alone(self) -> None:
        raise NotImplementedError

    def _trouble(self, e: Exception) -> None:
        raise NotImplementedError

    # -- warnings ------------------------------------------------------------------------------------

    @with_originals
    def _warned(self, message: Any) -> None:
        """Stands where `warnings` shows a warning that its filters let through."""
        if "is non-interactive, and thus cannot be shown" in str(message.message) and self.shows_figures:
            return  # matplotlib's `show` on our backend: the figures are kept, and can be saved
        if sys.gettrace() is not None and str(message.message).startswith("assigning None to unbound local"):
            return  # 3.12 says so of a comprehension's names whenever a module's call is traced, as we do in a step
        if fast_form.warns(message, sys._getframe(1)):
            raise fast_form.Unclear
        if not warning_places.give_back(message, sys._getframe(1)):
            return
        self._show(message)
        if run_state.quiet or run_state.in_trial or "warning" not in self.pauses_on:
            return
        try:
            if warnings._showwarnmsg_impl is not _PLAIN_SHOW:  # type: ignore[attr-defined]  # no public way
                return  # the script records its warnings itself
            if not self.switches.warning.wants_class(message.category):
                return
            frame = self._warner(sys._getframe(1))
            if frame is None or not self.switches.warning.wants_place(frame):
                return
            text = f"{message.category.__name__}: {message.message}"
            home = self._raised_at(sys._getframe(1))
            if not self.switches.warning.only and style_warnings.is_advice(
                message.category, str(message.message), bool(home)
            ):
                return
            text += f" ({home})" if home else ""
            self.held.setdefault(frame, []).append(text)
            runtime.holding = True
            self.motion.hold(frame)
        except Closed:
            self._alone()
        except Exception as e:
            self._trouble(e)

    @staticmethod
    def _raised_at(frame: types.FrameType | None) -> str:
        """The library's own line where it warns; empty for a warning of the user's code, or of C code called there."""
        while frame is not None and (identity.is_ours(frame) or frame.f_globals.get("__name__") == "warnings"):
            frame = frame.f_back
        if frame is None or registry.file_of(frame) is not None:
            return ""
        path = frame.f_code.co_filename
        package = str(frame.f_globals.get("__name__", "")).partition(".")[0]
        _, found, rest = path.rpartition(f"/{package}/")
        return f"{package}/{rest}:{frame.f_lineno}" if found else f"{os.path.basename(path)}:{frame.f_lineno}"

    @staticmethod
    def _warner(frame: types.FrameType | None) -> types.FrameType | None:
        """The user's nearest call, unless an import lies between."""
        while frame is not None and registry.file_of(frame) is None:
            if str(frame.f_globals.get("__name__", "")).startswith("importlib._bootstrap"):
                return None
            frame = frame.f_back
        return frame

    def _held_texts(self, frame: types.FrameType) -> list[str]:
        return style_warnings.first_numeric(self.held.get(frame, []))

    def _drop_held(self, frame: types.FrameType) -> list[str]:
        texts = self.held.pop(frame, [])
        runtime.holding = bool(self.held)
        self.motion.release(frame)
        return texts

    @with_originals
    def settled(self, frame: types.FrameType, statement: Position) -> None:
        """The statement is over and nothing has looked at its result."""
        if frame in self.held:
            self._settle(frame, statement)

    def _settle(self, frame: types.FrameType, over: Position | None = None) -> None:
        try:
            texts = style_warnings.first_numeric(self._drop_held(frame))
            pause = Pause("warning", frame, warnings=texts)
            file = registry.file_of(frame)
            if over is not None:
                pause.state = "ran"
                pause.statement = file.statement(over) if file is not None else None
            self.pause(pause)
        except Closed:
            self._alone()
        except Exception as e:
            self._trouble(e)


_PLAIN_SHOW = warnings._showwarnmsg_impl  # type: ignore[attr-defined]  # no public way
