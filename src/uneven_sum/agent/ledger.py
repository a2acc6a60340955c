"""The requests about recorded loops: which to record, and what they were in each pass."""

from __future__ import annotations

import difflib
import os
from typing import TYPE_CHECKING, Any

from . import probes
from .moving import Wrong
from .recording import Recorder, as_told, assigned
from .setting import source
from .source import LOOPS

if TYPE_CHECKING:
    from .engine import Engine


class Ledgers:
    """A part of `requests`."""

    engine: Engine
    started = False

    def _put_in(self, stale: set[str]) -> None:
        raise NotImplementedError

    def on_own_record(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Records these loops from now on: `file`, `line` (of the head, or within it) and `names`, by default all that
        the body assigns.  In functions that run already, from their next call on; `message` says so."""
        told, stale = [], set()
        for wanted in arguments.get("loops") or []:
            recorder = self._recorder(str(wanted["file"]), int(wanted["line"]), list(wanted.get("names") or []))
            told.append({"file": recorder.file, "line": recorder.line, "names": list(recorder.names)})
            told[-1]["message"] = self._late(recorder) if self.started else ""
            stale.add(recorder.file)
        if self.started and stale:
            self._put_in(stale)
        return {"loops": told}

    @staticmethod
    def _late(recorder: Recorder) -> str:
        """What is said of a loop that is recorded while the script runs already."""
        text = source(recorder.file)
        statement = text.innermost(recorder.line) if text is not None else None
        if text is not None and statement is not None and statement.scope is text.tree:
            return "It stands in the script's own text, which runs already: run again to record it."
        return "It is recorded from the next call of its function on."

    def _recorder(self, file: str, line: int, names: list[str]) -> Recorder:
        path = os.path.realpath(file)
        text = source(path)
        if text is None:
            raise Wrong(f"There is no file {file}.")
        try:
            loop = text.loop_at(line)
        except (SyntaxError, ValueError, RecursionError) as e:
            raise Wrong(f"{os.path.basename(file)} cannot be parsed: {getattr(e, 'msg', e)}.") from None
        if loop is None:
            lines = [s.line for s in text.statements if isinstance(s.node, LOOPS)]
            near = sorted(lines, key=lambda n: abs(n - line))[:3]
            there = f"; there is one at line {', '.join(map(str, sorted(near)))}" if near else ""
            raise Wrong(f"Line {line} of {os.path.basename(file)} is not the head of a loop{there}.")
        if type(loop).__name__ == "AsyncFor":
            raise Wrong("An `async for` is not recorded.")
        own = assigned(loop)
        for name in names:
            if name not in own and not name.isidentifier():
                raise Wrong(f"`{name}` is no name: only names are recorded.")
            if name not in own:
                near_names = difflib.get_close_matches(name, own, 1)
                meant = f" Is `{near_names[0]}` meant?" if near_names else f" It assigns {', '.join(own) or 'nothing'}."
                raise Wrong(f"The loop at line {line} does not assign `{name}`.{meant}")
        if not own:
            raise Wrong(f"The loop at line {line} assigns no names: there is nothing to record.")
        recorder = Recorder(path, line, tuple(names) or own)
        self.engine.lookouts.recorders = [r for r in self.engine.lookouts.recorders if (r.file, r.line) != (path, line)]
        self.engine.lookouts.recorders.append(recorder)
        probes.recorders.append(recorder)
        return recorder

    def on_own_passes(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """What was recorded of a loop: of each of its runs the passes, `kept` (a sentence), and `rows`: the number of a
        pass and the values of `names`, as exact text, or of an array its figures; null for what was not assigned."""
        path, line = os.path.realpath(str(arguments["file"])), int(arguments["line"])
        found = next((r for r in self.engine.lookouts.recorders if (r.file, r.line) == (path, line)), None)
        if found is None:
            raise Wrong(f"The loop at line {line} is not recorded.")
        runs = []
        for run in found.runs:
            rows = [[number, *map(as_told, row)] for number, row in run.rows()]
            facts = {c.name: {"bad": c.bad, "firstBad": c.first_bad} for c in run.columns}
            runs.append({"passes": run.passes, "kept": run.kept(), "rows": rows, "columns": facts})
        return {"names": list(found.names), "begun": found.begun, "runs": runs}
