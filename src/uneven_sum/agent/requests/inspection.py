"""The requests that look at a paused script: calls, sources, values, terms."""

from __future__ import annotations

import itertools
import os
import sys
import threading
from typing import Any

from ..core.errors import Refused
from ..core.markers import HIDDEN, MISSING
from ..core.records import record
from ..engine import audited
from ..engine.children import process_name
from ..frames import exception_handlers, stack, task_waiters
from ..frames.namespace import Scope
from ..pause import report, value_cards
from ..pause.facts import Pause
from ..source import registry
from ..source.source_file import SourceFile
from ..stepping import tracer
from ..values.describe import children, summary
from .closeup import CloseupRequests
from .declare import Body, request
from .exchange import Exchange, Names, Part

PAGE = 200
PACKAGES = ("numpy", "pandas", "scipy", "polars", "xarray", "matplotlib")


@record
class Source:
    """The standard's Source; only its path is read."""

    source: dict[str, object] | None = None

    @property
    def path(self) -> str:
        return str((self.source or {}).get("path", ""))


class InspectionRequests(Part):
    """Calls, sources and values of a pause."""

    def __init__(self, exchange: Exchange, closeup: CloseupRequests) -> None:
        super().__init__(exchange)
        self.closeup = closeup

    # -- where ---------------------------------------------------------------------------------------

    @request("unevenSum/where", while_running=True)
    def where(self) -> Body:
        """Where the running script is, with the passes of its loops."""
        process = process_name(self.engine)
        running = self.exchange.running_frame
        frame = stack.user_frame(running)
        idle = bool(process) and stack.waits_for_work(running, frame)
        if frame is None or idle:
            return {"file": None, "line": 0, "function": "", "loops": [], "process": process, "idle": idle}
        return {
            "process": process,
            "file": registry.path_of(frame),
            "line": stack.line_of(frame),
            "function": stack.function_name(frame),
            "loops": stack.all_loops(frame),
        }

    @request("unevenSum/handles", while_running=True)
    def handles(self, module: str, name: str) -> Body:
        """Whether the script handles an error of this class that a task of its pools raises; false where it does not
        know the class."""
        found: Any = sys.modules.get(module)
        for part in name.split("."):
            found = getattr(found, part, None)
        known = isinstance(found, type) and issubclass(found, BaseException)
        return {"handled": known and task_waiters.result_is_tried(found)}

    @request("unevenSum/findings", while_running=True)
    def findings(self) -> Body:
        """What the audit under way has found so far."""
        return audited.all_found(self.engine)

    @request("threads", while_running=True)
    def threads(self) -> Body:
        return {"threads": [{"id": t.ident or 0, "name": t.name} for t in threading.enumerate()]}

    @request("loadedSources", while_running=True)
    def loaded_sources(self) -> Body:
        paths = sorted({os.path.realpath(n) for n in registry.files})
        return {"sources": [{"name": os.path.basename(p), "path": p} for p in paths]}

    @request("modules", while_running=True)
    def modules(self, start_module: int = 0, module_count: int = 0) -> Body:
        found = []
        for name, module in sorted(list(sys.modules.items())):
            path = getattr(module, "__file__", None)
            if isinstance(path, str) and not name.startswith("_uneven_sum_agent"):
                found.append({"id": name, "name": name, "path": path, "isUserCode": path in registry.files})
        end = start_module + module_count if module_count else len(found)
        return {"modules": found[start_module:end], "totalModules": len(found)}

    @request("stackTrace")
    def stack_trace(self, thread_id: int = 0, libraries: bool = False, start_frame: int = 0, levels: int = 0) -> Body:
        pause, _ = self.exchange.paused()
        shown = []
        for number, frame in self.exchange.calls(thread_id, libraries):
            path = registry.path_of(frame)
            file = registry.file_of(frame)
            statement = exception_handlers.statement_at(file, frame) if file else None
            line = (
                pause.place[1]
                if pause.place and frame is pause.frame
                else statement.line
                if statement
                else frame.f_lineno or 0
            )
            shown.append(
                {
                    "id": number,
                    "name": stack.function_name(frame),
                    "line": line,
                    "column": 1,
                    "source": {"name": os.path.basename(path), "path": path, **_reference(file)},
                    "unevenSum": {
                        "arguments": pause.arguments.get(frame) or stack.arguments(frame),
                        "loops": [] if pause.reason == "end" else stack.loops(frame, statement),
                    },
                }
            )
        end = start_frame + (levels or len(shown))
        return {"stackFrames": shown[start_frame:end], "totalFrames": len(shown)}

    @request("source", while_running=True)
    def source(self, of: Source) -> Body:
        for _, text in registry.of_code.values():
            if text.shown and text.shown == of.path:
                return {"content": text.text}
        for name, file in registry.files.items():
            if tracer.same_file(name, os.path.realpath(of.path)):
                return {"content": file.text}
        raise Refused(f"The text of {of.path} is not known to the script.")

    @request("exceptionInfo")
    def exception_info(self) -> Body:
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

    @request("scopes")
    def scopes(self, frame_id: int = 0) -> Body:
        frame = self.exchange.frame(frame_id)
        scope = Scope(frame)
        found = []
        if scope.locals is not None and frame.f_locals is not frame.f_globals and frame.f_code.co_name != "<module>":
            found.append(self._scope("Locals", "locals", scope.locals))
        found.append(self._scope("Module", "globals", scope.globals))
        return {"scopes": found}

    def _scope(self, name: str, hint: str, names: dict[str, object]) -> Body:
        shown = {n: v for n, v in names.items() if not (n.startswith("__") and n.endswith("__"))}
        shown = {n: v for n, v in shown.items() if not n.startswith(HIDDEN)}
        number = self.exchange.number(Names(shown))
        return {
            "name": name,
            "presentationHint": hint,
            "variablesReference": number,
            "namedVariables": len(shown),
            "expensive": False,
        }

    @request("variables")
    def variables(self, variables_reference: int = 0, start: int = 0, count: int = 0) -> Body:
        if variables_reference not in self.exchange.values:
            raise Refused("This value belonged to an earlier pause.")
        value = self.exchange.values[variables_reference]
        if isinstance(value, Names):
            pairs = list(itertools.islice(value.items(), start, start + (count or PAGE)))
        else:
            pairs = children(value, start, count or PAGE)
        return {"variables": [self.exchange.variable(n, v) for n, v in pairs]}

    @request("unevenSum/cards")
    def cards(self, frame_id: int = 0, about: str = "line", names: list[str] | None = None) -> Body:
        """The values of a call as cards: used by the line or changed first; then the names not assigned yet."""
        frame, exchange = self.exchange.frame(frame_id), self.exchange
        wanted = None if names is None else set(names)
        found = value_cards.cards(frame, about, exchange.before, wanted, exchange.texts)
        self.engine.by_hand.mark(found, frame)
        pause = self.engine.present
        for card in found if pause is not None and frame in pause.arguments else ():
            card.update(new=False, changed=False, old="")  # of a call that has ended: nothing was before
        if names is None and pause is not None and pause.returned is not MISSING and frame is pause.frame:
            told = {"name": "returned", "changed": False, "new": True, "used": True, "assigned": True}
            found.insert(0, {**summary(pause.returned), **told})
        return {"cards": found}

    @request("unevenSum/seen")
    def seen(self) -> Body:
        """The values as they are now are what the next pause is compared with."""
        frame = self.exchange.frame()
        self.exchange.before = value_cards.fingerprints(frame)
        self.exchange.texts = value_cards.old_texts(frame)
        self.closeup.keep_copies(dict(Scope(frame).locals))
        return {}

    @request("unevenSum/versions")
    def versions(self) -> Body:
        """The interpreter, and the versions of the packages that the script has imported."""
        known = {name: getattr(sys.modules.get(name), "__version__", None) for name in PACKAGES}
        found = [f"{name} {version}" for name, version in known.items() if isinstance(version, str)]
        python = ".".join(map(str, sys.version_info[:3]))
        return {"text": ", ".join([f"{sys.executable}, Python {python}", *found])}

    @request("unevenSum/figures")
    def figures(self, number: int = 0, path: str = "") -> Body:
        """The open figures of the script's matplotlib; with `number` and `path`, one is written."""
        pyplot = sys.modules.get("matplotlib.pyplot")
        if pyplot is None:
            return {"figures": []}
        if path:
            try:
                pyplot.figure(number).savefig(path)
            except (OSError, ValueError) as e:
                raise Refused(f"The figure could not be written: {e}.") from None
        found = []
        for one in pyplot.get_fignums():
            figure = pyplot.figure(one)
            titles = [a.get_title() for a in figure.axes if a.get_title()]
            found.append({"number": one, "title": "; ".join(titles), "axes": len(figure.axes)})
        return {"figures": found}

    @request("unevenSum/terms")
    def terms(self, frame_id: int = 0, line: int = 0) -> Body:
        """The terms of the statement at a line of the paused call (default: where it is paused)."""
        frame = self.exchange.frame(frame_id)
        file = registry.file_of(frame)
        if file is None:
            raise Refused("Terms are shown in your own files only.")
        statement = file.innermost(line) if line else exception_handlers.statement_at(file, frame)
        if statement is None:
            raise Refused("There is no statement here.")
        told = report.examine(Pause("step", frame, statement=statement))
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


def _reference(file: SourceFile | None) -> Body:
    """The lines of a notebook are of its text, which is asked for; its file holds something else."""
    return {"sourceReference": 1} if file is not None and file.cells is not None else {}
