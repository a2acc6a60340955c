"""The requests about another text for the script: tried, taken up, and run from the entry of a call."""

from __future__ import annotations

from typing import Any

from ..core.errors import Refused
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..lookouts.lookout import Lookout
from ..pause import report
from ..pause.facts import Pause
from ..reload import edit_trial, hot_swap
from ..source import registry
from ..source.source_file import Statement
from ..stepping import tracer
from ..trials import trial
from .declare import Body, request
from .exchange import Exchange, Part
from .stepping import SteppingRequests


def _other_call(statement: Statement, function: str) -> str:
    """Why a line of another function is not tried in a call."""
    name = getattr(statement.scope, "name", "")
    of = f"is in {name}" if name else "is outside of functions"
    return f"Line {statement.line} {of}, and the chosen call is of {function}. Choose a call with [ and ]."


class CodeRequests(Part):
    """Edits, tried in a copy or applied."""

    def __init__(self, exchange: Exchange, stepping: SteppingRequests) -> None:
        super().__init__(exchange)
        self.stepping = stepping

    @request("unevenSum/tryChange")
    def try_change(self, frame_id: int = 0, line: int = 0, text: str | None = None) -> Body:
        """Another version of the statement at a line (default: the paused one) tried in a call: its terms beside
        the present ones, and what it would change.  Without `text`, the present statement only."""
        pause, _ = self.exchange.paused()
        frame = self.exchange.frame(frame_id)
        file = registry.file_of(frame)
        if file is None:
            raise Refused("Only lines of your own files can be tried in another version.")
        now = statement_at(file, frame)
        if frame is pause.frame and pause.state == "ran" and pause.statement is not None:
            now = pause.statement  # the call itself is at what follows
        statement = file.innermost(line) if line else now
        if statement is None:
            raise Refused("There is no statement here.")
        if now is not None and statement.scope is not now.scope:
            raise Refused(_other_call(statement, stack.function_name(frame)))
        here = now is statement and not pause.dead
        present = self.engine.facts if here and frame is pause.frame and self.engine.facts.get("terms") else None
        if present is None:
            present = report.examine(Pause("step", frame, statement=statement))
        last = statement.node.end_lineno or statement.line
        body: Body = {
            "file": registry.path_of(frame),
            "first": statement.line,
            "last": max(statement.head_end, statement.node.lineno) if hasattr(statement.node, "body") else last,
            "function": stack.function_name(frame),
            "terms": present["terms"],
        }
        if text is not None:
            try:
                body["tried"] = edit_trial.tried(text, frame)
            except edit_trial.Unparsable as e:
                raise Refused(str(e)) from None
            except trial.Impossible as e:
                raise Refused(f"Nothing can be tried now: {e}.") from None
        return body

    @request("unevenSum/takeUp")
    def take_up(self, file: str, check: bool = False) -> Body:
        """Functions of a file that was changed get their new code for their next call.  `check`: only says whether
        that could be done."""
        self.exchange.paused()
        try:
            return {"functions": hot_swap.take_up(self.engine.loader, file, check)}
        except hot_swap.CannotTakeUp as e:
            raise Refused(str(e)) from None

    @request("unevenSum/toCall", moves=True)
    def to_call(self, chain: list[list[Any]]) -> Body:
        """From an earlier place to the entry of a call: `chain` as in the facts of a pause, innermost first."""
        self.exchange.can_move()
        engine = self.engine
        hot_swap.follow(chain)
        engine.lookouts.next += 1
        lk = Lookout(engine.lookouts.next, where="entry", file=chain[0][1], name=chain[0][0].rpartition(".")[2])
        lk.once, lk.chain = True, chain
        self.stepping.set_for_motion(lk, "This call cannot be found again.")
        engine.hurry = True
        return self.exchange.go(tracer.CONTINUE)
