"""Answers the requests of the Debug Adapter Protocol, and our own (`unevenSum/…`), during a pause.

A request's method is named after it: `on_stackTrace`.  What is not known gets an error response.
"""

from __future__ import annotations

import itertools
import os
import signal
import sys
import threading
import types
from typing import TYPE_CHECKING, Any

from ..core import run_state
from ..core.errors import Refused
from ..core.markers import MISSING, TEMPORARY
from ..core.transport import Closed
from ..frames import exception_handlers, stack
from ..frames.namespace import Scope
from ..pause import report, value_cards
from ..pause.facts import Pause
from ..source import registry
from ..stepping import tracer
from ..values.describe import children, children_count, summary
from .closeup import CloseupRequests
from .code_changes import CodeRequests
from .evaluation import EvaluationRequests, Names
from .ledger import LedgerRequests

if TYPE_CHECKING:
    from ..engine.engine import Engine

WHILE_RUNNING = {
    *("setBreakpoints", "setFunctionBreakpoints", "setDataBreakpoints", "setExceptionBreakpoints", "threads"),
    *("unevenSum/where", "unevenSum/accept", "unevenSum/unaccept", "unevenSum/setLookouts", "unevenSum/lookouts"),
    *("unevenSum/checkLookout", "unevenSum/setSwitches", "unevenSum/setStepping", "source", "loadedSources", "modules"),
}
PAGE = 200


class Requests(CodeRequests, EvaluationRequests, LedgerRequests, CloseupRequests):
    """The requests of one run.  Numbers of frames and values hold for one pause."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.mode = tracer.CONTINUE
        self.frames: dict[int, types.FrameType] = {}
        self.values: dict[int, Any] = {}
        self.started = False
        self.orders: dict[Any, Any] = {}  # rows of sorted and filtered grids
        self.pictures: dict[Any, dict[str, Any]] = {}
        self.copies: dict[str, Any] = {}  # arrays as they were at the last pause
        self.before: dict[str, str] = {}  # fingerprints of the values at the last pause
        self.texts: dict[str, str] = {}  # and their one-line texts

    # -- the loop ------------------------------------------------------------------------------------

    def serve(self) -> str:
        """Answers until a request sets the script going; returns what the failed statement shall do."""
        self.mode, self.aim = tracer.CONTINUE, tracer.Aim()
        while True:
            message = self.engine.wire.receive()
            assert message is not None
            action = self.dispatch(message)
            if action is not None:
                return action

    def dispatch(self, message: dict[str, Any]) -> str | None:
        command = str(message.get("command"))
        arguments = message.get("arguments") or {}
        reply: dict[str, Any] = {"type": "response", "request_seq": message.get("seq", 0), "command": command}
        method = getattr(self, "on_" + command.replace("unevenSum/", "own_"), None)
        try:
            if method is None:
                raise Refused(f"This request is not known: {command}.")
            number = int(message.get("seq") or 0)
            run_state.host_fd = self.engine.wire.sock.fileno()
            run_state.cancelled = lambda: self.engine.wire.cancelled(number)
            body = method(arguments)
            action = body.pop("·action", None) if isinstance(body, dict) else None
            reply.update(success=True, body=body or {})
        except Refused as e:
            action = None
            reply.update(success=False, message=str(e), body={"unevenSum": e.facts})
        except Closed:
            raise
        except (TypeError, ValueError, AttributeError, KeyError) as e:
            action = None
            what = f"An argument of {command.removeprefix('unevenSum/')} is missing or of the wrong type: {e}."
            reply.update(success=False, message=what)
        except Exception as e:
            action = None
            reply.update(success=False, message=f"This could not be done: {type(e).__name__}: {e}")
        if self.changed:
            self.engine.announce_renewal()
        self.engine.wire.send(reply)
        if self.changed:
            self.changed = False
            self.engine.renew_point()
        return action

    def while_running(self, frame: types.FrameType | None) -> bool:
        """Answers what has come while the script was running; True when it shall pause."""
        pause = False
        while (message := self.engine.wire.receive(wait=False)) is not None:
            command = message.get("command")
            if command == "pause":
                pause = True
                self.engine.wire.send(
                    {"type": "response", "request_seq": message["seq"], "command": command, "success": True, "body": {}}
                )
            elif command in WHILE_RUNNING:
                self.running_frame = frame
                self.dispatch(message)
                self.running_frame = None  # it would keep the call and its values alive
            else:
                self.engine.wire.send(
                    {
                        "type": "response",
                        "request_seq": message.get("seq", 0),
                        "command": command,
                        "success": False,
                        "message": "The script is running: interrupt it first.",
                    }
                )
        return pause

    def forget(self) -> None:
        """The numbers given out do not outlive the pause."""
        if self.engine.present is None:
            self.frames.clear()
            self.values.clear()
            self.forget_values()

    # -- starting ------------------------------------------------------------------------------------

    def on_configurationDone(self, arguments: dict[str, Any]) -> dict[str, Any]:
        self.started = True
        return {"·action": "start"}

    def on_own_where(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Where the running script is, with the passes of its loops."""
        frame = stack.user_frame(self.running_frame)
        if frame is None:
            return {"file": None, "line": 0, "function": "", "loops": []}
        return {
            "file": registry.path_of(frame),
            "line": stack.line_of(frame),
            "function": stack.function_name(frame),
            "loops": stack.all_loops(frame),
        }

    # -- the stack -----------------------------------------------------------------------------------

    def on_threads(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return {"threads": [{"id": t.ident or 0, "name": t.name} for t in threading.enumerate()]}

    def on_loadedSources(self, arguments: dict[str, Any]) -> dict[str, Any]:
        paths = sorted({os.path.realpath(n) for n in registry.files})
        return {"sources": [{"name": os.path.basename(p), "path": p} for p in paths]}

    def on_modules(self, arguments: dict[str, Any]) -> dict[str, Any]:
        found = []
        for name, module in sorted(list(sys.modules.items())):
            path = getattr(module, "__file__", None)
            if isinstance(path, str) and not name.startswith("_uneven_sum_agent"):
                found.append({"id": name, "name": name, "path": path, "isUserCode": path in registry.files})
        start, count = int(arguments.get("startModule") or 0), int(arguments.get("moduleCount") or 0)
        return {"modules": found[start : start + count] if count else found[start:], "totalModules": len(found)}

    def _frame(self, number: int | None) -> types.FrameType:
        pause = self.engine.present
        if pause is None:
            raise Refused("The script is running: interrupt it first.")
        if not number:
            assert pause.frame is not None
            return pause.dead[0] if pause.dead else pause.frame
        if number not in self.frames:
            self.on_stackTrace({})
        if number not in self.frames:
            raise Refused("This call is not there any more.")
        return self.frames[number]

    def on_stackTrace(self, arguments: dict[str, Any]) -> dict[str, Any]:
        pause = self.engine.present
        if pause is None or pause.frame is None:
            raise Refused("The script is running: interrupt it first.")
        thread = int(arguments.get("threadId") or 0)
        libraries = bool(arguments.get("libraries")) or registry.file_of(pause.frame) is None
        if thread and thread != threading.get_ident():
            frames = sys._current_frames()
            if thread not in frames:
                raise Refused("This thread has ended.")
            found, base = stack.calls(frames[thread], True), 1000 * (1 + sorted(frames).index(thread))
        else:
            found, base = pause.calls(libraries), 1
        shown = []
        for number, frame in enumerate(found, base):
            self.frames[number] = frame
            path = registry.path_of(frame)
            file = registry.file_of(frame)
            statement = exception_handlers.statement_at(file, frame) if file else None
            line = pause.place[1] if pause.place else statement.line if statement else frame.f_lineno or 0
            shown.append(
                {
                    "id": number,
                    "name": stack.function_name(frame),
                    "line": line,
                    "column": 1,
                    "source": {"name": os.path.basename(path), "path": path},
                    "unevenSum": {"arguments": stack.arguments(frame), "loops": stack.loops(frame, statement)},
                }
            )
        start = int(arguments.get("startFrame") or 0)
        levels = int(arguments.get("levels") or 0) or len(shown)
        return {"stackFrames": shown[start : start + levels], "totalFrames": len(shown)}

    def on_source(self, arguments: dict[str, Any]) -> dict[str, Any]:
        path = str((arguments.get("source") or {}).get("path", ""))
        for _, text in registry.of_code.values():
            if text.shown and text.shown == path:
                return {"content": text.text}
        for name, file in registry.files.items():
            if tracer.same_file(name, os.path.realpath(path)):
                return {"content": file.text}
        raise Refused(f"The text of {path} is not known to the script.")

    def on_exceptionInfo(self, arguments: dict[str, Any]) -> dict[str, Any]:
        facts = self.engine.facts
        exception = facts.get("exception")
        name = exception["type"] if exception else facts.get("kind") or facts.get("reason", "")
        return {
            "exceptionId": name,
            "description": facts.get("headline", ""),
            "breakMode": "unhandled",
            "details": {"message": facts.get("headline", ""), "typeName": name},
        }

    # -- values --------------------------------------------------------------------------------------

    def on_scopes(self, arguments: dict[str, Any]) -> dict[str, Any]:
        frame = self._frame(arguments.get("frameId"))
        scope = Scope(frame)
        found = []
        if scope.locals is not None and frame.f_locals is not frame.f_globals and frame.f_code.co_name != "<module>":
            found.append(self._scope("Locals", "locals", scope.locals))
        found.append(self._scope("Module", "globals", scope.globals))
        return {"scopes": found}

    def _scope(self, name: str, hint: str, names: dict[str, Any]) -> dict[str, Any]:
        shown = {n: v for n, v in names.items() if not (n.startswith("__") and n.endswith("__"))}
        shown = {n: v for n, v in shown.items() if not n.startswith(TEMPORARY)}
        number = self._number(Names(shown))
        return {
            "name": name,
            "presentationHint": hint,
            "variablesReference": number,
            "namedVariables": len(shown),
            "expensive": False,
        }

    def _number(self, value: Any) -> int:
        number = len(self.values) + 1
        self.values[number] = value
        return number

    def variable(self, name: str, value: Any) -> dict[str, Any]:
        """A value as the protocol's Variable, with our summary beside it."""
        told = summary(value)
        children = _children_count(value)
        return {
            "name": name,
            "value": told["text"],
            "type": told["type"],
            "variablesReference": self._number(value) if children else 0,
            **({"indexedVariables": children} if isinstance(value, (list, tuple)) else {}),
            "unevenSum": told,
        }

    def on_variables(self, arguments: dict[str, Any]) -> dict[str, Any]:
        number = int(arguments.get("variablesReference") or 0)
        if number not in self.values:
            raise Refused("This value is not there any more.")
        start = int(arguments.get("start") or 0)
        count = int(arguments.get("count") or 0) or PAGE
        pairs = _children(self.values[number], start, count)
        return {"variables": [self.variable(n, v) for n, v in pairs]}

    # -- our own -------------------------------------------------------------------------------------

    def on_own_cards(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The values of a call as cards: used by the line or changed first; then the names not assigned yet."""
        frame = self._frame(arguments.get("frameId"))
        about = str(arguments.get("about", "line"))
        names = arguments.get("names")
        found = value_cards.cards(frame, about, self.before, None if names is None else set(names), self.texts)
        self.engine.by_hand.mark(found, frame)
        pause = self.engine.present
        if names is None and pause is not None and pause.returned is not MISSING and frame is pause.frame:
            told = {"name": "returned", "changed": False, "new": True, "used": True, "assigned": True}
            found.insert(0, {**summary(pause.returned), **told})
        return {"cards": found}

    def on_own_versions(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The interpreter, and the versions of the packages that the script has imported."""
        found = []
        for name in ("numpy", "pandas", "scipy", "polars", "xarray", "matplotlib"):
            version = getattr(sys.modules.get(name), "__version__", None)
            if isinstance(version, str):
                found.append(f"{name} {version}")
        python = ".".join(map(str, sys.version_info[:3]))
        return {"text": ", ".join([f"{sys.executable}, Python {python}", *found])}

    def on_own_figures(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The open figures of the script's matplotlib; with `number` and `path`, one is written."""
        pyplot = sys.modules.get("matplotlib.pyplot")
        if pyplot is None:
            return {"figures": []}
        if arguments.get("path"):
            try:
                pyplot.figure(int(arguments["number"])).savefig(str(arguments["path"]))
            except (OSError, ValueError) as e:
                raise Refused(f"The figure could not be written: {e}.") from None
        found = []
        for number in pyplot.get_fignums():
            figure = pyplot.figure(number)
            titles = [a.get_title() for a in figure.axes if a.get_title()]
            found.append({"number": number, "title": "; ".join(titles), "axes": len(figure.axes)})
        return {"figures": found}

    def on_own_seen(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The values as they are now are what the next pause is compared with."""
        frame = self._frame(None)
        self.before = value_cards.fingerprints(frame)
        self.texts = value_cards.old_texts(frame)
        self.keep_copies(dict(Scope(frame).locals))
        return {}

    def on_own_terms(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The terms of the statement at a line of the paused call (default: where it is paused)."""
        frame = self._frame(arguments.get("frameId"))
        file = registry.file_of(frame)
        if file is None:
            raise Refused("Terms are shown in your own files only.")
        line = arguments.get("line")
        statement = file.innermost(int(line)) if line else exception_handlers.statement_at(file, frame)
        if statement is None:
            raise Refused("There is no statement here.")
        pause = Pause("step", frame, statement=statement)
        told = report.examine(pause)
        when, present = "", self.engine.present
        here = exception_handlers.statement_at(file, frame)
        if here is not statement:
            when = "with the values of now"
        elif present is not None and present.state == "next" and frame is present.frame:
            when = "what it will compute: it has not run yet"
        return {
            "line": statement.line,
            "terms": told["terms"],
            "trial": told["trial"],
            "differs": told["differs"],
            "when": when,
        }

    def on_cancel(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return {}  # what it was for is over

    def on_disconnect(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return self.on_terminate(arguments)

    def on_terminate(self, arguments: dict[str, Any]) -> dict[str, Any]:
        os.kill(os.getpid(), signal.SIGKILL)
        return {}


def _children_count(value: Any) -> int:
    return len(value) if isinstance(value, Names) else children_count(value)


def _children(value: Any, start: int, count: int) -> list[tuple[str, Any]]:
    if isinstance(value, Names):
        return list(itertools.islice(value.items(), start, start + count))
    return children(value, start, count)
