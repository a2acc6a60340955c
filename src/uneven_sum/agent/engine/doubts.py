"""Rules of an audit as breakpoints: the script pauses in the statement in which a rule finds something.

A finding is held, as a warning is, until the result of its statement is known.
"""

from __future__ import annotations

import sys
import types
from typing import Any

from ..audit import probes as audit_probes
from ..audit.auditor import Auditor
from ..audit.finding import Finding
from ..audit.rules import AT_ONCE
from ..core import run_state
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..pause.facts import Pause
from ..probes import runtime
from ..source import registry
from ..source.sites import Site
from ..source.source_file import Position
from ..stepping import tracer
from ..triggers.on_lookout import BreakpointTrigger
from ..triggers.on_warning import WarningTrigger

FINDING, OVER = "·finding", "·over"  # keys of facts that no name of the script can be


class FindingTrigger(WarningTrigger, BreakpointTrigger, tracer.Hooks):
    """A part of the engine.  `Hooks` is the last, so that the parts before it are asked first."""

    def __init__(self) -> None:
        super().__init__()
        self.audit: Auditor | None = None  # of an audit run
        self.doubting: frozenset[str] = frozenset()  # names of the rules that look now
        self.doubts: dict[types.FrameType, list[Finding]] = {}

    def look_with_rules(self) -> None:
        """Let the rules look that breakpoints name; before code is compiled with their probes."""
        wanted = frozenset(lk.name for lk in self.lookouts.of("finding")) & AT_ONCE
        if self.audit is not None or wanted == self.doubting:
            return
        self.doubting = wanted
        if not wanted:
            self.loader.options.audit = frozenset()
            return
        auditor = Auditor(set(wanted))
        auditor.heard = self._doubt
        runtime.PROBES.update(audit_probes.of(auditor))
        self.loader.options.audit = auditor.wants()

    def _doubt(self, finding: Finding) -> None:
        """A rule has found something in the statement under way."""
        if run_state.quiet or run_state.in_trial or not any(lk.name == finding.rule for lk in self._found_by(finding)):
            return
        frame = stack.user_frame(sys._getframe(1))
        if frame is None:
            return
        self.doubts.setdefault(frame, []).append(finding)
        self.held.setdefault(frame, [])
        runtime.holding = True
        self.motion.hold(frame)

    def _found_by(self, finding: Finding) -> list[Any]:
        return [lk for lk in self.lookouts.of("finding") if lk.name == finding.rule]

    def nonfinite(self, value: object, site: Site, frame: types.FrameType, old: object) -> object:
        self.pause_at_doubts(frame)
        return super().nonfinite(value, site, frame, old)

    def pause_at_doubts(self, frame: types.FrameType, over: Position | None = None) -> None:
        for finding in self.doubts.pop(frame, []) if self.doubts else ():
            try:
                self._meet(self._found_by(finding), None, frame, True, {FINDING: finding, OVER: over})
            except Exception as e:
                self._trouble(e)

    def _settle(self, frame: types.FrameType, over: Position | None = None) -> None:
        self.pause_at_doubts(frame, over)
        if self.held.get(frame):
            super()._settle(frame, over)
        else:
            self._drop_held(frame)

    def _pause_at(self, lk: Any, site: Any, frame: types.FrameType, facts: dict[str, Any]) -> None:
        finding = facts.get(FINDING)
        if finding is None:
            super()._pause_at(lk, site, frame, facts)
            return
        file, over = registry.file_of(frame), facts[OVER]
        pause = Pause("breakpoint", frame, "in" if over is None else "ran")
        if file is not None:
            pause.statement = file.statement(over) if over is not None else statement_at(file, frame)
        pause.lookout, pause.said, pause.hits = lk.id, finding.headline.rstrip("."), lk.times
        pause.finding = finding.as_dict()
        if over is None:
            pause.expression = finding.place.node
        self._guarded(pause)
