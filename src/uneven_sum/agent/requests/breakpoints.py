"""The requests that set lookouts, tripwires and what is stepped over: the standard's and our own."""

from __future__ import annotations

import os
import re
import types
from typing import TYPE_CHECKING, Any

from ..frames import stack
from ..lookouts import lookout, validation
from ..lookouts.lookout import FIELDS, Lookout
from ..source import registry
from ..source.source_file import SourceFile
from ..triggers import settings

if TYPE_CHECKING:
    from ..engine.engine import Engine

RARELY = 2_000_000_000  # `every`: just once


class BreakpointRequests:
    """A part of `Requests`."""

    engine: Engine
    started = False
    running_frame: types.FrameType | None = None

    # -- lookouts ------------------------------------------------------------------------------------

    def _set(self, group: str, wanted: list[Lookout]) -> list[dict[str, Any]]:
        """Puts lookouts in the place of a group's; what became of each."""
        engine = self.engine
        for lk in wanted:
            lk.file = os.path.realpath(lk.file) if lk.file else ""
            validation.prepare(lk, source(lk.file) if lk.file else None)
        stale = engine.lookouts.replace(group, wanted)
        pause = engine.present
        for lk in wanted:
            if lk.verified:
                engine.set_baseline(lk, pause.frame if pause is not None else self.running_frame)
        if stale and self.started:
            self._put_in(stale)
        return [self._told(lk) for lk in wanted]

    @staticmethod
    def _told(lk: Lookout) -> dict[str, Any]:
        told: dict[str, Any] = {"id": lk.id, "verified": lk.verified, "met": lk.times}
        if lk.where in lookout.PLACES:
            told["line"] = lk.line
        if lk.message:
            told["message"] = lk.message
        return told

    def _put_in(self, stale: set[str]) -> None:
        """Into functions for their next call; into calls that run already by line tracing."""
        engine, loader = self.engine, self.engine.loader
        loader.refresh(stale)
        engine.motion.disarm()
        frame = engine.present.frame if engine.present is not None else self.running_frame
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
                    engine.at_module = engine._statement_of(frame)  # a definition that is next counts too
            frame = frame.f_back

    def on_own_setLookouts(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """All of the front end's own lookouts at once; those left out are gone."""
        wanted = [made(told) for told in arguments.get("lookouts") or []]
        return {"lookouts": self._set("own", wanted)}

    def on_own_lookouts(self, arguments: dict[str, Any]) -> dict[str, Any]:
        met = {name: getattr(self.engine.switches, name).met for name in ("error", "warning", "nonfinite")}
        return {"met": self.engine.met_counts(), "tripwires": met}

    def on_own_checkLookout(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """What would be said of a lookout, as it is typed; nothing is set."""
        lk = made(arguments)
        lk.file = os.path.realpath(lk.file) if lk.file else ""
        validation.prepare(lk, source(lk.file) if lk.file else None)
        return self._told(lk)

    # -- the standard's ways -------------------------------------------------------------------------

    def on_setBreakpoints(self, arguments: dict[str, Any]) -> dict[str, Any]:
        path = os.path.realpath(str((arguments.get("source") or {}).get("path", "")))
        wanted = []
        for told in arguments.get("breakpoints") or []:
            lk = standard(told, where="line", file=path, line=int(told.get("line", 0)))
            wanted.append(lk)
        return {"breakpoints": self._set(f"line {path}", wanted)}

    def on_setFunctionBreakpoints(self, arguments: dict[str, Any]) -> dict[str, Any]:
        found = [standard(t, where="entry", name=str(t.get("name", ""))) for t in arguments.get("breakpoints") or []]
        return {"breakpoints": self._set("function", found)}

    def on_dataBreakpointInfo(self, arguments: dict[str, Any]) -> dict[str, Any]:
        name = str(arguments.get("name", ""))
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

    def on_setDataBreakpoints(self, arguments: dict[str, Any]) -> dict[str, Any]:
        wanted = []
        for told in arguments.get("breakpoints") or []:
            within, _, name = str(told.get("dataId", "")).partition("|")
            wanted.append(standard(told, where="change", name=name, within=within))
        return {"breakpoints": self._set("data", wanted)}

    def on_setExceptionBreakpoints(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Filters are tripwires; `filterOptions` conditions are class names; an `exceptionOptions` path with
        break mode `always` is a lookout on those classes."""
        engine = self.engine
        engine.pauses_on = set(arguments.get("filters") or [])
        told = [{"verified": True} for _ in engine.pauses_on]
        for option in arguments.get("filterOptions") or []:
            name = str(option.get("filterId"))
            engine.pauses_on.add(name)
            classes = [c.strip() for c in str(option.get("condition") or "").split(",") if c.strip()]
            if name in ("error", "handled"):
                engine.switches.error.only = classes
            elif name == "warning":
                engine.switches.warning.only = classes
            told.append({"verified": True})
        raised = []
        for option in arguments.get("exceptionOptions") or []:
            names = [n for part in option.get("path") or [] for n in part.get("names") or []]
            if option.get("breakMode") == "always":
                raised += [Lookout(0, where="raise", name=str(n)) for n in names]
            told.append({"verified": True})
        self._set("raise", raised)
        return {"breakpoints": told}

    # -- tripwires and stepping ----------------------------------------------------------------------

    def on_own_setSwitches(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The finer switches: see `triggers/settings.py`.  `breakpoint`: whether breakpoint() in the text pauses."""
        self.engine.switches.set(arguments)
        if "breakpoint" in arguments:
            self.engine.honours_breakpoint = bool(arguments["breakpoint"])
        if "filters" in arguments:
            self.engine.pauses_on = set(arguments["filters"]) | (self.engine.pauses_on & {"start"})
        return {}

    def on_own_setStepping(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """`over`: files, functions and classes that a step into does not enter."""
        over = [str(p) for p in arguments.get("over") or []]
        self.engine.motion.over = lambda frame: settings.in_places(over, frame)
        return {}

    def on_own_accept(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """A line of a `file`, or, `as` `calls of f` or `values of x`, a callee or a name wherever it stands."""
        if "as" in arguments:
            self.engine.accepted_as.add(str(arguments["as"]))
        else:
            self.engine.accepted.add((str(arguments["file"]), int(arguments["line"])))
        return {}

    def on_own_unaccept(self, arguments: dict[str, Any]) -> dict[str, Any]:
        if "as" in arguments:
            self.engine.accepted_as.discard(str(arguments["as"]))
        else:
            self.engine.accepted.discard((str(arguments["file"]), int(arguments["line"])))
        return {}


def made(told: dict[str, Any]) -> Lookout:
    """A lookout from its fields; what is not known is left out."""
    return Lookout(**{"id": 0, **{k: v for k, v in told.items() if k in FIELDS and v is not None}})


def standard(told: dict[str, Any], **place: Any) -> Lookout:
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
