"""The requests that set the script going again."""

from __future__ import annotations

import ast
import os
import types
from typing import TYPE_CHECKING, Any

from ..core.errors import Refused
from ..core.markers import MISSING
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..lookouts.lookout import Lookout
from ..probes import runtime
from ..source import registry
from ..source.source_file import LOOPS, SCOPES, SourceFile, Statement, last_statements, position
from ..stepping import jumps, tracer
from ..stepping.tracer import Aim
from ..trials import evaluate
from .breakpoints import BreakpointRequests

if TYPE_CHECKING:
    from ..engine.engine import Engine
    from ..pause.facts import Pause


class SteppingRequests(BreakpointRequests):
    """A part of `Requests`: sets `mode` and `aim`, and the action that ends the pause."""

    engine: Engine
    mode = tracer.CONTINUE
    aim = Aim()

    def _go(self, mode: str, action: str = "", aim: Aim | None = None) -> dict[str, Any]:
        self.mode, self.aim = mode, aim or Aim()
        return {"·action": action, "allThreadsContinued": True}

    def _paused(self) -> tuple[Pause, types.FrameType]:
        pause = self.engine.present
        if pause is None or pause.frame is None:
            raise Refused("The script is running: interrupt it first.")
        return pause, pause.frame

    def _moving(self) -> tuple[Pause, types.FrameType]:
        pause, frame = self._paused()
        if pause.past or pause.reason == "end":
            raise Refused("The script has ended. Read its values, or rerun.")
        return pause, frame

    def _here(self) -> tuple[types.FrameType, SourceFile, Statement]:
        _, frame = self._moving()
        file = registry.file_of(frame)
        statement = statement_at(file, frame) if file is not None else None
        if file is None or statement is None:
            raise Refused("This works in your own files only; step out of the library.")
        return frame, file, statement

    def on_continue(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return self._go(tracer.CONTINUE)

    def on_next(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return self._go(tracer.LINE)

    def on_stepOut(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return self._go(tracer.OUT)

    # -- into a call ---------------------------------------------------------------------------------

    def on_stepInTargets(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The calls of the paused statement, in the order of evaluation."""
        _, file, statement = self._here()
        found = [
            {"id": number, "label": file.segment(node), "line": node.lineno, "column": node.col_offset + 1}
            for number, node in enumerate(_calls(statement.node), 1)
        ]
        return {"targets": found}

    def on_stepIn(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """`unevenSum.libraries`: also into code that is not the user's."""
        aim = Aim(libraries=bool((arguments.get("unevenSum") or {}).get("libraries")))
        target = int(arguments.get("targetId") or 0)
        if target:
            _, _, statement = self._here()
            calls = _calls(statement.node)
            if target > len(calls):
                raise Refused("This statement has no such call.")
            aim.call = position(calls[target - 1])
        return self._go(tracer.INTO, aim=aim)

    # -- by loop and place ---------------------------------------------------------------------------

    def on_own_nextPass(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The same place in the next pass, or in pass `number`; outside of loops, in the next call."""
        frame, file, statement = self._here()
        number = arguments.get("number")
        loop = statement.loops[-1] if statement.loops else None
        if loop is None and isinstance(statement.node, LOOPS):
            loop = statement.node
        if loop is None:
            if number is not None:
                raise Refused("No loop around this line. Choose a line in a loop.")
            return self._run_to(file.path, statement.line)
        done, length = stack.passes(file, frame, loop)
        if number is not None:
            if int(number) <= done:
                raise Refused(f"Pass {number} is over: this is pass {done}.")
            if length is not None and int(number) > length:
                raise Refused(f"There is no pass {number}: the loop has {length}.")
        return self._go(tracer.PASS, aim=Aim(number=None if number is None else int(number)))

    def on_own_toPass(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """From an earlier place to where a pass begins: `loops` are the loops with their passes, innermost first."""
        self._moving()
        goal = [(str(told["file"]), int(told["line"]), int(told["pass"])) for told in arguments["loops"]]
        self.engine.anew = True  # at the first line: compiled with it, instead of tracing every line
        return self._run_to(goal[0][0], goal[0][1], goal)

    def on_own_endLoop(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Until the innermost loop around is done."""
        _, _, statement = self._here()
        if not statement.loops and not isinstance(statement.node, LOOPS):
            raise Refused("No loop around this line. Choose a line in a loop.")
        return self._go(tracer.LOOP)

    def on_own_runTo(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """To a line, whichever call comes there first."""
        self._moving()
        return self._run_to(str(arguments["file"]), int(arguments["line"]))

    def _set_for_motion(self, lk: Lookout, otherwise: str) -> None:
        """Set a lookout that ends with the next pause.  Refused, `otherwise`, where it can stand nowhere."""
        told = self._set("motion", [lk])[0]
        if not told["verified"]:
            self._set("motion", [])
            raise Refused(str(told.get("message", otherwise)))
        self.engine.temporary.append(lk.id)

    def _run_to(self, path: str, line: int, goal: list[tuple[str, int, int]] | None = None) -> dict[str, Any]:
        engine = self.engine
        engine.lookouts.next += 1
        lk = Lookout(engine.lookouts.next, where="line", file=path, line=line, once=True, goal=goal)
        self._set_for_motion(lk, "There is no code at or after this line.")
        engine.hurry = goal is not None
        pause, frame = self._paused()
        here = registry.file_of(frame)
        if goal is None and here is not None and os.path.realpath(here.path) == lk.file:
            statement = statement_at(here, frame)
            if statement is not None and statement.line == lk.line and pause.state == "next":
                engine.stepped_to = engine._execution(frame)  # not this time: it stands there already
        return self._go(tracer.CONTINUE)

    # -- another line, another end -------------------------------------------------------------------

    def on_gotoTargets(self, arguments: dict[str, Any]) -> dict[str, Any]:
        _, file, here = self._here()
        line = int(arguments.get("line") or 0)
        path = os.path.realpath(str((arguments.get("source") or {}).get("path", "")))
        if path != os.path.realpath(file.path) or jumps.refusal(file, here, line):
            return {"targets": []}
        return {"targets": [{"id": line, "label": f"line {line}", "line": line}]}

    def on_goto(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Makes another line of the same call the next one; `targetId` is the line."""
        _, file, here = self._here()
        line = int(arguments.get("targetId") or 0)
        why = jumps.refusal(file, here, line)
        if why:
            raise Refused(why)
        pause, _ = self._paused()
        inside = pause.state == "in"
        if inside and hasattr(here.node, "body"):
            raise Refused("The head of a loop, condition or definition cannot be given up: run it first.")
        # A `return`, or the last statement, begins again, and there the jump sets off: after it no line would do so.
        body = getattr(here.scope, "body", None)
        inside_function = isinstance(here.scope, (ast.FunctionDef, ast.AsyncFunctionDef)) and isinstance(body, list)
        ends = isinstance(here.node, ast.Return) or (inside_function and here.node in last_statements(body or []))
        again = "retry" if ends else "skip" if pause.reason == "error" else "give up"
        action = again if pause.can_retry else ""
        if pause.reason == "error" and not pause.can_retry:
            raise Refused("The head of a loop, condition or definition cannot be given up.")
        return self._go(tracer.LINE, action, Aim(jump=line, skip=inside and not action))

    def on_own_leaveCall(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Leaves the paused call at once, with the value of an expression (default: None)."""
        _, frame = self._moving()
        _, _, statement = self._here()
        if not isinstance(statement.scope, (ast.FunctionDef, ast.AsyncFunctionDef)):
            raise Refused("Only the call of a function that begins with `def` can be left.")
        if frame.f_code.co_name != statement.scope.name:
            raise Refused("A lambda or comprehension cannot be left: go out of it first.")
        if isinstance(statement.node, SCOPES):
            raise Refused("A definition cannot be left in its middle: run it first.")
        text = str(arguments.get("value") or "None")
        asked = evaluate.answer_for_good(text, frame)
        if asked.error or asked.value is MISSING:
            raise Refused(asked.error or "The value must be an expression.")
        runtime.leave.value = asked.value
        return self._go(tracer.CONTINUE, "leave", Aim(leave=True))

    # -- at an error ---------------------------------------------------------------------------------

    def on_own_retry(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Runs the paused statement again, and pauses after it."""
        pause = self.engine.present
        if pause is not None and pause.reason == "nonfinite":
            if not pause.can_retry:
                raise Refused("This statement cannot run again: it works in place, or is a head. Go back instead.")
        else:
            self._at_error()
        return self._go(tracer.LINE, "retry", Aim(retry=True))

    def on_own_replace(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Puts the value of an expression in the place of the non-finite value, and pauses after the statement."""
        pause, frame = self._paused()
        if not pause.can_replace:
            raise Refused("Only a value that a statement has made, and not stored yet, can be replaced.")
        text = str(arguments.get("value") or "").strip()
        asked = evaluate.answer_for_good(text, frame)
        if asked.error or asked.value is MISSING:
            raise Refused(asked.error or "The value must be an expression.")
        pause.replacement = asked.value
        node = pause.statement.node if pause.statement is not None else None
        if isinstance(node, ast.Assign) and pause.expression is node.value:
            self.engine.by_hand.note(frame, "; ".join(f"{ast.unparse(target)} = 0" for target in node.targets))
        return self._go(tracer.LINE, "replace")

    def on_own_skip(self, arguments: dict[str, Any]) -> dict[str, Any]:
        self._at_error()
        return self._go(tracer.LINE, "skip")

    def _at_error(self) -> None:
        pause = self.engine.present
        if pause is None or pause.exception is None or pause.past:
            raise Refused("Retry and skip work at an error only.")
        if not pause.can_retry:
            raise Refused("The head of a loop, condition or definition cannot be skipped or tried again.")

    def on_own_runOut(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Run to the end without any pause."""
        self.engine.ended = True
        return self._go(tracer.CONTINUE)


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
