"""The requests about another text for the script: tried, taken up, and run from the entry of a call."""

from __future__ import annotations

import types
from typing import TYPE_CHECKING, Any

from ..core.errors import Refused
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..lookouts.lookout import Lookout
from ..pause import report
from ..pause.facts import Pause
from ..reload import edit_trial, hot_swap
from ..source import registry
from ..trials import trial
from .stepping import SteppingRequests

if TYPE_CHECKING:
    from ..engine.engine import Engine


class CodeRequests(SteppingRequests):
    """A part of `Requests`."""

    engine: Engine

    def _frame(self, number: int | None) -> types.FrameType:
        raise NotImplementedError

    def on_own_tryChange(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Another version of the statement at a line (default: the paused one) tried in a call: its terms beside
        the present ones, and what it would change.  Without `text`, the present statement only."""
        pause, _ = self._paused()
        frame = self._frame(arguments.get("frameId"))
        file = registry.file_of(frame)
        if file is None:
            raise Refused("Only lines of your own files can be tried in another version.")
        line = arguments.get("line")
        statement = file.innermost(int(line)) if line else statement_at(file, frame)
        if statement is None:
            raise Refused("There is no statement here.")
        here = statement_at(file, frame) is statement and not pause.dead
        present = self.engine.facts if here and frame is pause.frame and self.engine.facts.get("terms") else None
        if present is None:
            present = report.examine(Pause("step", frame, statement=statement))
        last = statement.node.end_lineno or statement.line
        body: dict[str, Any] = {
            "file": registry.path_of(frame),
            "first": statement.line,
            "last": max(statement.head_end, statement.node.lineno) if hasattr(statement.node, "body") else last,
            "function": stack.function_name(frame),
            "terms": present["terms"],
        }
        if arguments.get("text") is not None:
            try:
                body["tried"] = edit_trial.tried(str(arguments["text"]), frame)
            except edit_trial.Unparsable as e:
                raise Refused(str(e)) from None
            except trial.Impossible as e:
                raise Refused(f"Nothing can be tried now: {e}.") from None
        return body

    def on_own_takeUp(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Functions of a file that was changed get their new code for their next call.  `check`: only says whether
        that could be done."""
        self._paused()
        try:
            check = bool(arguments.get("check"))
            return {"functions": hot_swap.take_up(self.engine.loader, str(arguments["file"]), check)}
        except hot_swap.CannotTakeUp as e:
            raise Refused(str(e)) from None

    def on_own_toCall(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """From an earlier place to the entry of a call: `chain` as in the facts of a pause, innermost first."""
        self._moving()
        chain = [list(call) for call in arguments["chain"]]
        engine = self.engine
        engine.lookouts.next += 1
        lk = Lookout(engine.lookouts.next, where="entry", file=chain[0][1], name=chain[0][0].rpartition(".")[2])
        lk.once, lk.chain = True, chain
        self._set_for_motion(lk, "This call cannot be found again.")
        engine.hurry = True
        return self._go("continue")
