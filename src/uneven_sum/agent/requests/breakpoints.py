"""The requests that set lookouts, tripwires and what is stepped over: the standard's and our own."""

from __future__ import annotations

import os
import re
from typing import Any

from ..audit.rules import AT_ONCE
from ..core.errors import Refused
from ..core.markers import TRIPS
from ..frames import stack
from ..lookouts import lookout, validation
from ..lookouts.lookout import FIELDS, Lookout
from ..source import registry
from ..source.source_file import SourceFile
from ..triggers import settings
from .declare import Body, request
from .exchange import Part
from .inspection import Source

RARELY = 2_000_000_000  # `every`: just once


class BreakpointRequests(Part):
    """Breakpoints, tripwires, and what stepping skips."""

    # -- lookouts ------------------------------------------------------------------------------------

    def set_group(self, group: str, wanted: list[Lookout]) -> list[dict[str, object]]:
        """Puts lookouts in the place of a group's; what became of each."""
        engine = self.engine
        for lk in wanted:
            lk.file = os.path.realpath(lk.file) if lk.file else ""
            validation.prepare(lk, source(lk.file) if lk.file else None)
            if lk.where == "finding" and lk.name not in AT_ONCE:
                lk.verified, lk.message = False, f"No breakpoint can wait for `{lk.name}`."
        stale = engine.lookouts.replace(group, wanted)
        engine.look_with_rules()
        pause = engine.present
        for lk in wanted:
            if lk.verified:
                engine.set_baseline(lk, pause.frame if pause is not None else self.exchange.running_frame)
        if stale and self.exchange.started:
            self.put_in(stale)
            findings = [lk for lk in wanted if lk.where == "finding" and lk.verified]
            if findings and engine.at_first_line:
                engine.anew = True  # nothing has run: the whole script is compiled with the rules
            elif findings:
                for lk in findings:
                    lk.message = "It counts in calls that begin from now on. A rerun looks at the whole script."
        return [self._told(lk) for lk in wanted]

    @staticmethod
    def _told(lk: Lookout) -> dict[str, object]:
        told: dict[str, object] = {"id": lk.id, "verified": lk.verified, "met": lk.times}
        if lk.where in lookout.PLACES:
            told["line"] = lk.line
        if lk.message:
            told["message"] = lk.message
        return told

    def put_in(self, stale: set[str]) -> None:
        """Into functions for their next call; into calls that run already by line tracing."""
        engine, loader = self.engine, self.engine.loader
        loader.refresh(stale)
        engine.motion.disarm()
        frame = engine.present.frame if engine.present is not None else self.exchange.running_frame
        added = engine.lookouts.all or loader.recorders.all
        watching = bool(engine.lookouts.of("change") or engine.lookouts.of("return"))
        while frame is not None:
            if registry.file_of(frame) is not None and loader.stale(frame):
                at_module = frame.f_code.co_name == "<module>"
                # The module's own call will yet define functions, with the code that it has.
                if (
                    watching
                    or frame in engine.late
                    or loader.lines_in(frame.f_code)
                    or (at_module and added and engine.defines_more(frame))
                ):
                    engine.motion.arm(frame)
                if at_module:
                    engine.at_module = engine.statement_of(frame)  # a definition that is next counts too
            frame = frame.f_back

    @request("unevenSum/setLookouts", while_running=True, rerun="last")
    def set_lookouts(self, lookouts: list[dict[str, object]]) -> Body:
        """All of the front end's own lookouts at once; those left out are gone."""
        return {"lookouts": self.set_group("own", [made(told) for told in lookouts])}

    @request("unevenSum/lookouts", while_running=True)
    def hits(self) -> Body:
        met = {name: getattr(self.engine.switches, name).met for name in TRIPS}
        return {"met": self.engine.met_counts(), "tripwires": met}

    @request("unevenSum/checkLookout", while_running=True)
    def check_lookout(self, arguments: dict[str, object]) -> Body:
        """What would be said of a lookout, as it is typed; nothing is set."""
        lk = made(arguments)
        lk.file = os.path.realpath(lk.file) if lk.file else ""
        validation.prepare(lk, source(lk.file) if lk.file else None)
        return self._told(lk)

    # -- the standard's ways -------------------------------------------------------------------------

    @request("setBreakpoints", while_running=True, rerun="last")
    def set_breakpoints(self, of: Source, breakpoints: list[dict[str, Any]] | None = None) -> Body:
        path = os.path.realpath(of.path)
        wanted = [standard(t, where="line", file=path, line=int(t.get("line", 0))) for t in breakpoints or []]
        return {"breakpoints": self.set_group(f"line {path}", wanted)}

    @request("setFunctionBreakpoints", while_running=True, rerun="last")
    def set_function_breakpoints(self, breakpoints: list[dict[str, object]] | None = None) -> Body:
        found = [standard(t, where="entry", name=str(t.get("name", ""))) for t in breakpoints or []]
        return {"breakpoints": self.set_group("function", found)}

    @request("dataBreakpointInfo")
    def data_breakpoint_info(self, name: str = "") -> Body:
        lk = Lookout(0, where="change", name=name)
        pause = self.engine.present
        if name.isidentifier() and pause is not None and pause.frame is not None:
            inner = stack.function_name(pause.frame)
            local = name in pause.frame.f_code.co_varnames or name in pause.frame.f_code.co_cellvars
            lk.within = inner if local and inner != "<module>" else ""
        validation.prepare(lk, None)
        if not lk.verified:
            return {"dataId": None, "description": lk.message}
        where = f" in {lk.within}" if lk.within else ""
        description = f"{name}{where} is changed"
        return {"dataId": f"{lk.within}|{name}", "description": description, "accessTypes": ["write"]}

    @request("setDataBreakpoints", while_running=True, rerun="last")
    def set_data_breakpoints(self, breakpoints: list[dict[str, object]] | None = None) -> Body:
        wanted = []
        for told in breakpoints or []:
            within, _, name = str(told.get("dataId", "")).partition("|")
            wanted.append(standard(told, where="change", name=name, within=within))
        return {"breakpoints": self.set_group("data", wanted)}

    @request("setExceptionBreakpoints", while_running=True, rerun="last")
    def set_exception_breakpoints(
        self,
        filters: list[str] | None = None,
        filter_options: list[dict[str, Any]] | None = None,
        exception_options: list[dict[str, Any]] | None = None,
    ) -> Body:
        """Filters are tripwires; `filterOptions` conditions are class names; an `exceptionOptions` path with
        break mode `always` is a lookout on those classes."""
        engine = self.engine
        engine.pauses_on = set(filters or [])
        told = [{"verified": True} for _ in engine.pauses_on]
        for option in filter_options or []:
            name = str(option.get("filterId"))
            engine.pauses_on.add(name)
            classes = [c.strip() for c in str(option.get("condition") or "").split(",") if c.strip()]
            if name in ("error", "handled"):
                engine.switches.error.only = classes
            elif name == "warning":
                engine.switches.warning.only = classes
            told.append({"verified": True})
        raised = []
        for option in exception_options or []:
            names = [n for part in option.get("path") or [] for n in part.get("names") or []]
            if option.get("breakMode") == "always":
                raised += [Lookout(0, where="raise", name=str(n)) for n in names]
            told.append({"verified": True})
        self.set_group("raise", raised)
        return {"breakpoints": told}

    # -- tripwires and stepping ----------------------------------------------------------------------

    @request("unevenSum/setSwitches", while_running=True, rerun="last")
    def set_switches(self, arguments: dict[str, Any]) -> Body:
        """The finer switches: see `triggers/settings.py`.  `breakpoint`: whether breakpoint() in the text pauses."""
        self.engine.switches.set(arguments)
        if "breakpoint" in arguments:
            self.engine.honours_breakpoint = bool(arguments["breakpoint"])
        if "filters" in arguments:
            self.engine.pauses_on = set(arguments["filters"]) | (self.engine.pauses_on & {"start"})
        return {}

    @request("unevenSum/setStepping", while_running=True, rerun="last")
    def set_stepping(self, over: list[str] | None = None) -> Body:
        """`over`: files, functions and classes that a step into does not enter."""
        places = over or []
        self.engine.motion.over = lambda frame: settings.in_places(places, frame)
        return {}

    @request("unevenSum/accept", while_running=True, rerun="all")
    def accept(self, as_: str = "", file: str = "", line: int = 0) -> Body:
        """A line of a `file`, or, `as` `calls of f` or `values of x`, a callee or a name at every place."""
        if as_:
            self.engine.accepted_as.add(as_)
        else:
            self.engine.accepted.add(_place(file, line))
        return {}

    @request("unevenSum/unaccept", while_running=True, rerun="all")
    def unaccept(self, as_: str = "", file: str = "", line: int = 0) -> Body:
        if as_:
            self.engine.accepted_as.discard(as_)
        else:
            self.engine.accepted.discard(_place(file, line))
        return {}


def _place(file: str, line: int) -> tuple[str, int]:
    if not file or not line:
        raise Refused("The arguments file and line, or as, are missing.")
    return file, line


def made(told: dict[str, Any]) -> Lookout:
    """A lookout from its fields; what is not known is left out."""
    return Lookout(**{"id": 0, **{k: v for k, v in told.items() if k in FIELDS and v is not None}})


def standard(told: dict[str, Any], **place: object) -> Lookout:
    """A lookout from a breakpoint of the standard; `unevenSum` in it holds what the standard has no word for."""
    lk = made({**place, **(told.get("unevenSum") or {})})
    lk.condition = str(told.get("condition") or lk.condition)
    lk.text = str(told.get("logMessage") or lk.text)
    hits = str(told.get("hitCondition") or "").replace(" ", "")
    if hits:
        parts = re.fullmatch(r"(>=|>|==|=|%)?(\d+)", hits)
        if parts is None:
            lk.start = 0
        elif parts[1] == "%":
            lk.every = int(parts[2])
            lk.start = lk.every
        else:
            lk.start = int(parts[2]) + (parts[1] == ">")
            lk.every = RARELY if parts[1] in ("==", "=") else 1
    return lk


def source(path: str) -> SourceFile | None:
    """A file as the script runs it, else as it is on the disk; None when there is none."""
    for name, file in registry.files.items():
        if os.path.realpath(name) == path:
            return file
    try:
        with open(path, "rb") as f:
            return SourceFile(path, f.read())
    except OSError:
        return None
