"""The requests that set the script going again."""

from __future__ import annotations

import ast
import os
from typing import Any

from ..core.errors import Refused
from ..core.markers import MISSING
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..lookouts.lookout import Lookout
from ..probes import runtime
from ..source import registry
from ..source.cells import place_words
from ..source.source_file import LOOPS, SCOPES, last_statements, position
from ..stepping import jumps, tracer
from ..stepping.tracer import Aim
from ..trials import evaluate
from .breakpoints import BreakpointRequests
from .declare import Body, request
from .exchange import Exchange, Part
from .inspection import Source


class SteppingRequests(Part):
    """Steps, passes, jumps, and what a failed statement does."""

    def __init__(self, exchange: Exchange, breakpoints: BreakpointRequests) -> None:
        super().__init__(exchange)
        self.breakpoints = breakpoints

    @request("continue", moves=True)
    def go_on(self) -> Body:
        return self.exchange.go(tracer.CONTINUE)

    @request("next", moves=True)
    def next_line(self) -> Body:
        return self.exchange.go(tracer.LINE)

    @request("stepOut", moves=True)
    def step_out(self) -> Body:
        return self.exchange.go(tracer.OUT)

    # -- into a call ---------------------------------------------------------------------------------

    @request("stepInTargets")
    def step_in_targets(self) -> Body:
        """The calls of the paused statement, in the order of evaluation."""
        _, file, statement = self.exchange.here()
        found = [
            {"id": number, "label": file.segment(node), "line": node.lineno, "column": node.col_offset + 1}
            for number, node in enumerate(_calls(statement.node), 1)
        ]
        return {"targets": found}

    @request("stepIn", moves=True)
    def step_in(self, target_id: int = 0, uneven_sum: dict[str, object] | None = None) -> Body:
        """`unevenSum.libraries`: also into code that is not the user's."""
        aim = Aim(libraries=bool((uneven_sum or {}).get("libraries")))
        if target_id:
            _, _, statement = self.exchange.here()
            calls = _calls(statement.node)
            if target_id > len(calls):
                raise Refused("This statement has no such call.")
            aim.call = position(calls[target_id - 1])
        return self.exchange.go(tracer.INTO, aim=aim)

    # -- by loop and place ---------------------------------------------------------------------------

    @request("unevenSum/nextPass", moves=True)
    def next_pass(self, number: int | None = None) -> Body:
        """The same place in the next pass, or in pass `number`; outside of loops, in the next call."""
        frame, file, statement = self.exchange.here()
        loop = statement.loops[-1] if statement.loops else None
        if loop is None and isinstance(statement.node, LOOPS):
            loop = statement.node
        if loop is None:
            if number is not None:
                raise Refused("No loop around this line. Choose a line in a loop.")
            return self._run_to(file.path, statement.line)
        done, length = stack.passes(file, frame, loop)
        if number is not None:
            if number <= done:
                raise Refused(f"Pass {number} is over: this is pass {done}.")
            if length is not None and number > length:
                raise Refused(f"There is no pass {number}: the loop has {length}.")
        return self.exchange.go(tracer.PASS, aim=Aim(number=number))

    @request("unevenSum/toPass", moves=True)
    def to_pass(self, loops: list[dict[str, Any]]) -> Body:
        """From an earlier place to where a pass begins: `loops` are the loops with their passes, innermost first."""
        self.exchange.can_move()
        goal = [(str(told["file"]), int(told["line"]), int(told["pass"])) for told in loops]
        self.engine.anew = True  # at the first line: compiled with it, instead of tracing every line
        return self._run_to(goal[0][0], goal[0][1], goal)

    @request("unevenSum/endLoop", moves=True)
    def end_loop(self) -> Body:
        """Until the innermost loop around is done."""
        _, _, statement = self.exchange.here()
        if not statement.loops and not isinstance(statement.node, LOOPS):
            raise Refused("No loop around this line. Choose a line in a loop.")
        return self.exchange.go(tracer.LOOP)

    @request("unevenSum/runTo", moves=True)
    def run_to(self, file: str, line: int, times: int = 1) -> Body:
        """To a line, whichever call comes there; `times`: the how many-th time from now."""
        self.exchange.can_move()
        return self._run_to(file, line, times=times)

    def set_for_motion(self, lk: Lookout, otherwise: str) -> None:
        """Set a lookout that ends with the next pause.  Refused, `otherwise`, where it can stand nowhere."""
        told = self.breakpoints.set_group("motion", [lk])[0]
        if not told["verified"]:
            self.breakpoints.set_group("motion", [])
            raise Refused(str(told.get("message", otherwise)))
        self.engine.temporary.append(lk.id)

    def _run_to(self, path: str, line: int, goal: list[tuple[str, int, int]] | None = None, times: int = 1) -> Body:
        engine = self.engine
        engine.lookouts.next += 1
        lk = Lookout(engine.lookouts.next, where="line", file=path, line=line, start=times, once=True, goal=goal)
        self.set_for_motion(lk, "There is no code at or after this line.")
        engine.hurry = goal is not None
        pause, frame = self.exchange.paused()
        here = registry.file_of(frame)
        if goal is None and here is not None and os.path.realpath(here.path) == lk.file:
            statement = statement_at(here, frame)
            if statement is not None and statement.line == lk.line and pause.state == "next":
                engine.stepped_to = engine.execution(frame)  # not this time: it is there already
        return self.exchange.go(tracer.CONTINUE)

    # -- another line, another end -------------------------------------------------------------------

    @request("gotoTargets")
    def goto_targets(self, of: Source, line: int = 0) -> Body:
        _, file, here = self.exchange.here()
        if os.path.realpath(of.path) != os.path.realpath(file.path) or jumps.refusal(file, here, line):
            return {"targets": []}
        return {"targets": [{"id": line, "label": place_words(file.path, line), "line": line}]}

    @request("goto", moves=True)
    def goto(self, target_id: int = 0) -> Body:
        """Makes another line of the same call the next one; `targetId` is the line."""
        _, file, here = self.exchange.here()
        line = target_id
        why = jumps.refusal(file, here, line)
        if why:
            raise Refused(why)
        pause, _ = self.exchange.paused()
        inside = pause.state == "in"
        if inside and hasattr(here.node, "body"):
            raise Refused("The head of a loop, condition or definition cannot be abandoned: run it first.")
        # A `return`, or the last statement, begins again, and there the jump sets off: after it no line would do so.
        body = getattr(here.scope, "body", None)
        inside_function = isinstance(here.scope, (ast.FunctionDef, ast.AsyncFunctionDef)) and isinstance(body, list)
        ends = isinstance(here.node, ast.Return) or (inside_function and here.node in last_statements(body or []))
        again = "retry" if ends else "skip" if pause.reason == "error" else "give up"
        action = again if pause.can_retry else ""
        if pause.reason == "error" and not pause.can_retry:
            raise Refused("The head of a loop, condition or definition cannot be abandoned.")
        return self.exchange.go(tracer.LINE, action, Aim(jump=line, skip=inside and not action))

    @request("unevenSum/leaveCall", moves=True)
    def leave_call(self, value: str = "None") -> Body:
        """Leaves the paused call at once, with the value of an expression (default: None)."""
        _, frame = self.exchange.can_move()
        _, _, statement = self.exchange.here()
        if not isinstance(statement.scope, (ast.FunctionDef, ast.AsyncFunctionDef)):
            raise Refused("Only the call of a function that begins with `def` can be left.")
        if frame.f_code.co_name != statement.scope.name:
            raise Refused("A lambda or comprehension cannot be left: go out of it first.")
        if isinstance(statement.node, SCOPES):
            raise Refused("A definition cannot be left in its middle: run it first.")
        asked = evaluate.answer_for_good(value or "None", frame)
        if asked.error or asked.value is MISSING:
            raise Refused(asked.error or "The value must be an expression.")
        runtime.leave.value = asked.value
        return self.exchange.go(tracer.CONTINUE, "leave", Aim(leave=True))

    # -- at an error ---------------------------------------------------------------------------------

    @request("unevenSum/retry", moves=True)
    def retry(self) -> Body:
        """Runs the paused statement again, and pauses after it."""
        pause = self.engine.present
        if pause is not None and pause.reason == "nonfinite":
            if not pause.can_retry:
                raise Refused("This statement cannot run again: it works in place, or is a head. Go back instead.")
        else:
            self._at_error()
        return self.exchange.go(tracer.LINE, "retry", Aim(retry=True))

    @request("unevenSum/replace", moves=True)
    def replace(self, value: str = "") -> Body:
        """Puts the value of an expression in the place of the non-finite value, and pauses after the statement."""
        pause, frame = self.exchange.paused()
        if not pause.can_replace:
            raise Refused("Only a value that a statement has made, and not stored yet, can be replaced.")
        asked = evaluate.answer_for_good(value.strip(), frame)
        if asked.error or asked.value is MISSING:
            raise Refused(asked.error or "The value must be an expression.")
        pause.replacement = asked.value
        node = pause.statement.node if pause.statement is not None else None
        if isinstance(node, ast.Assign) and pause.expression is node.value:
            self.engine.by_hand.note(frame, "; ".join(f"{ast.unparse(target)} = 0" for target in node.targets))
        return self.exchange.go(tracer.LINE, "replace")

    @request("unevenSum/skip", moves=True)
    def skip(self) -> Body:
        self._at_error()
        return self.exchange.go(tracer.LINE, "skip")

    def _at_error(self) -> None:
        pause = self.engine.present
        if pause is None or pause.exception is None or pause.past:
            raise Refused("Retry and skip work at an error only.")
        if not pause.can_retry:
            raise Refused("The head of a loop, condition or definition cannot be skipped or tried again.")

    @request("unevenSum/runOut", moves=True)
    def run_out(self) -> Body:
        """Run to the end without any pause."""
        self.engine.ended = True
        return self.exchange.go(tracer.CONTINUE)


def _calls(node: ast.stmt) -> list[ast.Call]:
    """The calls of a statement (of a compound one, of its head), inner before outer, left before right."""
    parts: list[ast.AST] = [node]
    if hasattr(node, "body"):
        parts = [p for n in ("test", "iter", "subject") if (p := getattr(node, n, None)) is not None]
        parts += [i.context_expr for i in getattr(node, "items", [])]
    found: list[ast.Call] = []

    def visit(at: ast.AST) -> None:
        if isinstance(at, (ast.Lambda, ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            return
        for child in ast.iter_child_nodes(at):
            visit(child)
        if isinstance(at, ast.Call):
            found.append(at)

    for part in parts:
        visit(part)
    return found
