"""The requests about ledgers: what to record, and what was recorded of it pass by pass."""

from __future__ import annotations

import ast
import base64
import difflib
import math
import os
import re
import struct
import types
from typing import Any

from ..core.errors import Refused
from ..core.records import record
from ..core.trees import Repeated
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..pause import value_cards
from ..recording import columns, coverage, recent_passes, row_filter, trends
from ..recording.changed_places import changed_places
from ..recording.recorder import Recorder, Run
from ..recording.recorder_set import Recorders, RecordOptions
from ..recording.traced_loop import TracedLoop
from ..source import registry
from ..source.cells import place_words
from ..source.source_file import COMPREHENSIONS, LOOPS, SourceFile, position
from ..values.snapshot import FIGURES, MISSING, Cells, exact, is_scalar, number
from ..values.snapshot import told as kept_form
from .breakpoints import BreakpointRequests, source
from .declare import ABSENT, Body, request
from .exchange import Exchange, Part

EXACT = 2**53  # integers up to here are exact as float64


@record
class RunOf:
    """A recorded loop, and one of its runs: `run` from 1, by default the last."""

    file: str
    line: int
    column: int | None = None
    run: int = 0


class LedgerRequests(Part):
    """Recording, and what was recorded."""

    def __init__(self, exchange: Exchange, breakpoints: BreakpointRequests) -> None:
        super().__init__(exchange)
        self.breakpoints = breakpoints

    @property
    def recorders(self) -> Recorders:
        return self.engine.loader.recorders

    # -- what is recorded ----------------------------------------------------------------------------

    @request("unevenSum/record", rerun="all")
    def record(
        self,
        loops: list[dict[str, Any]] | None = None,
        off: list[dict[str, Any]] | None = None,
        always: dict[str, Any] | None = ABSENT,
        watches: list[str] = ABSENT,
    ) -> Body:
        """Records what is named in `loops` from now on.

        Each: `file`; `line`, of a head, or with `around` any line: the loops around it; `names`, by default all that
        the body assigns; `branches` and `times`.  `always`: every loop of the user's code, {} or with `branches` and
        `times`; null: no longer.  `off`: file and line of what is recorded no longer.  `watches`: expressions that are
        columns of each loop that sees their names, from the next recording on.
        """
        told: list[Body] = []
        stale: set[str] = set()
        for wanted in loops or []:
            file = self._source(str(wanted["file"]))
            how = RecordOptions(bool(wanted.get("branches", not wanted.get("names"))), bool(wanted.get("times")))
            for node in self._nodes(file, int(wanted["line"]), bool(wanted.get("around"))):
                keep = bool(wanted.get("around"))
                recorder = self._recorder(file, node, how, list(wanted.get("names") or []), keep)
                if self.exchange.started:
                    self._record_running(recorder, file, node)
                message = self._late(recorder, file, node) if self.exchange.started else ""
                told.append({**_of(recorder), "message": message})
                stale.add(recorder.file)
        for wanted in off or []:
            found = self.recorders.find(str(wanted["file"]), int(wanted["line"]))
            if found is not None:
                self.recorders.drop(found)
                stale.add(found.file)
        if watches is not ABSENT:
            self.recorders.watches = tuple(watches)
        if always is not ABSENT:
            self.engine.anew = True
            self.recorders.always = RecordOptions(**always) if always is not None else None
            stale |= {os.path.realpath(n) for n in registry.files} if always is not None else set()
        if self.exchange.started and stale:
            self.breakpoints.put_in(stale)
        return {"loops": told}

    @staticmethod
    def _source(file: str) -> SourceFile:
        found = source(os.path.realpath(file))
        if found is None:
            raise Refused(f"There is no file {file}.")
        try:
            found.statements  # noqa: B018
        except (SyntaxError, ValueError, RecursionError) as e:
            raise Refused(f"{os.path.basename(file)} cannot be parsed: {getattr(e, 'msg', e)}.") from None
        return found

    @staticmethod
    def _nodes(file: SourceFile, line: int, around: bool) -> list[Repeated]:
        if around:
            found = columns.around(file, line)
            if not found:
                raise Refused(f"There is no loop and no function around {place_words(file.path, line)}.")
            return found
        found = columns.passes_at(file, line)
        if not found:
            lines = [s.line for s in file.statements if isinstance(s.node, LOOPS)]
            near = sorted(lines, key=lambda n: abs(n - line))[:3]
            there = f"; there is one at {', '.join(place_words(file.path, n) for n in sorted(near))}" if near else ""
            at = f"{place_words(file.path, line).capitalize()} of {os.path.basename(file.path)}"
            raise Refused(f"{at} is not the head of a loop, comprehension or function{there}.")
        return found

    def _recorder(self, file: SourceFile, node: Repeated, how: RecordOptions, names: list[str], keep: bool) -> Recorder:
        if isinstance(node, COMPREHENSIONS) and node.generators[0].is_async:
            raise Refused("An asynchronous comprehension is not recorded.")
        at = place_words(file.path, node.lineno)
        if names:
            own = [n for part in columns.values(file, node) for n in part]
            for name in names:
                if name not in own and not _is_readable(file, node, name):
                    near = difflib.get_close_matches(name, [*own, *changed_places(file, node)], 1)
                    assigns = ", ".join(own[:12]) + (", …" if len(own) > 12 else "") or "nothing"
                    meant = f"Is `{near[0]}` meant?" if near else f"It assigns {assigns}."
                    what = {"loop": "loop", "calls": "function"}.get(columns.kind_of(node), "comprehension")
                    raise Refused(f"The {what} at {at} does not assign `{name}`. {meant}")
        recorder = self.recorders.add(file, node, how, names, keep=keep)
        if recorder is None:
            raise Refused(f"The loop at {at} assigns nothing: there is nothing to record.")
        return recorder

    def _record_running(self, recorder: Recorder, file: SourceFile, loop: Repeated) -> None:
        """Where the loop is under way, by tracing its lines."""
        if not isinstance(loop, LOOPS):
            return
        pause = self.engine.present
        frame = pause.frame if pause is not None else self.exchange.running_frame
        late = self.engine.late
        while frame is not None:
            if registry.file_of(frame) is not None and os.path.realpath(frame.f_code.co_filename) == recorder.file:
                here = statement_at(file, frame)
                inside = here is not None and (loop in here.loops or here.node is loop)
                running = inside and stack.passes(file, frame, loop, False)[0] > 0
                have = any(one.recorder is recorder for one in late.get(frame, [])) or _records(frame.f_code, recorder)
                if running and not have and registry.file_of(frame) is file:
                    late.setdefault(frame, []).append(TracedLoop(recorder, file, loop, frame))
            frame = frame.f_back

    def _late(self, recorder: Recorder, file: SourceFile, node: Repeated) -> str:
        """The message for a recording that begins while the script runs."""
        for frame, found in self.engine.late.items():
            for one in found:
                if one.recorder is recorder:
                    where = "" if frame.f_code.co_name == "<module>" else f" of {stack.function_name(frame)}"
                    said = f"The loop{where} is recorded from pass {one.run.base + 1} on; it runs slower until it ends."
                    return said
        statement = file.statement(position(node)) or file.innermost(node.lineno)
        if self.engine.at_first_line:
            self.engine.anew = True
            return ""
        if statement is not None and statement.scope is file.tree and recorder.kind != "calls":
            return "Top-level code already runs. Rerun to record this loop."
        word = "its next call on" if recorder.kind == "calls" else "the next call of its function on"
        return f"It is recorded from {word}."

    # -- what was recorded ---------------------------------------------------------------------------

    @request("unevenSum/ledgers")
    def ledgers(self) -> Body:
        """What is recorded: for each its place, head, columns, runs and passes."""
        found = []
        for recorder in self.recorders.all:
            passes = sum(r.passes for r in recorder.runs)
            found.append({**_of(recorder), "begun": recorder.begun, "runs": len(recorder.runs), "passes": passes})
        return {"ledgers": found, "always": self.recorders.always is not None}

    @request("unevenSum/passes")
    def passes(self, of: RunOf, filter: str = "") -> Body:
        """One run of a loop (`run`: its number from 1, by default the last), pass by pass: the kept passes' numbers
        and a column for each value; see docs/protocol.md.  `filter`: only the rows for which it holds."""
        recorder, run = self._run_of(of)
        told: Body = {**_of(recorder), "begun": recorder.begun, "branches": recorder.branches}
        told["runs"] = [{"passes": r.passes, "around": _around(recorder, r)} for r in recorder.runs]
        if run is None:
            return {**told, "run": 0, "kept": "no pass was recorded yet", "numbers": "", "columns": [], "passes": 0}
        rows = run.rows()
        told.update(run=recorder.runs.index(run) + 1, kept=run.sentence(), passes=run.passes, base=run.base)
        text = filter.strip()
        facts = _facts(run)
        if text:
            try:
                chosen = row_filter.choose(text, recorder.labels, rows)
            except row_filter.Unusable as e:
                raise Refused(str(e)) from None
            told["filter"] = {"of": len(rows), "failed": chosen.failed, "why": chosen.why}
            rows = [rows[at] for at in chosen.rows]
        told["numbers"] = _packed("q", [n for n, _ in rows])
        told["columns"], told["unread"] = [], []
        for at, label in enumerate(recorder.labels):
            cells = [row[at] for _, row in rows]
            if label in recorder.reads and all(cell is MISSING for cell in cells):
                told["unread"].append(label)
            else:
                told["columns"] += _columns(label, cells, facts[at])
        return told

    @request("unevenSum/course")
    def course(self, of: RunOf, name: str) -> Body:
        """Sentences about the course of one recorded value (`name`) over a run: see `trends`."""
        recorder, run = self._run_of(of)
        whole = name in recorder.labels
        element = re.fullmatch(r"(.+)\[(\d+)\]", name)
        base, _, figure = (element[1], "", element[2]) if element else name.rpartition(".")
        label = name if whole else base
        if label not in recorder.labels or run is None:
            return {"said": []}
        at = recorder.labels.index(label)
        values = [(n, row[at]) for n, row in run.rows()]
        if not whole:
            values = [(n, found) for n, v in values if (found := _part(v, figure)) is not None]
        told = [(n, found) for n, v in values if (found := _figure(v)) is not None]
        return {"said": [s.text for s in trends.sentences(told)]}

    def _run_of(self, of: RunOf) -> tuple[Recorder, Run | None]:
        recorder = self.recorders.find(of.file, of.line, of.column)
        if recorder is None:
            raise Refused(f"The loop at {place_words(of.file, of.line)} is not recorded.")
        if not recorder.runs:
            return recorder, None
        wanted = of.run or len(recorder.runs)
        if not 1 <= wanted <= len(recorder.runs):
            raise Refused(f"There is no run {wanted}: {len(recorder.runs)} are kept.")
        return recorder, recorder.runs[wanted - 1]

    @request("unevenSum/recent")
    def recent(self, frame_id: int = 0, count: int = 40) -> Body:
        """The last passes (`count`) of the innermost recorded loop around the pause, those that are over: numbers,
        and for each name the exact texts and a spark's `picture` and `marks`."""
        frame = self.exchange.frame(frame_id)
        found = recent_passes.recent(self.engine.loader.recorders, frame, count or 40)
        if found is None:
            return {"line": 0, "numbers": [], "values": []}
        recorder, rows = found
        values = []
        scope = Scope(frame)
        for at, label in enumerate((*recorder.names, *recorder.places)):
            held = [row[at] for _, row in rows]
            known = label in scope.locals or label in scope.globals
            now = _short(kept_form(scope[label])) if known and label.isidentifier() else ""
            values.append({"name": label, "texts": [_short(v) for v in held], "now": now, **spark(held)})
        return {"line": recorder.line, "numbers": [n for n, _ in rows], "values": values}

    @request("unevenSum/notes")
    def notes(self, frame_id: int = 0) -> Body:
        """What is at the ends of a call's lines: what each assigned, with its spark by pass; passes at the heads of
        loops; `never ran`; how often it ran, when that is counted."""
        frame = self.exchange.frame(frame_id)
        found = {note["line"]: note for note in value_cards.notes(frame)}
        file = registry.file_of(frame)
        if file is None:
            return {"notes": list(found.values())}
        recorded = recent_passes.recent(self.engine.loader.recorders, frame, 16)
        names = {label: at for at, label in enumerate(recorded[0].labels)} if recorded else {}
        for note in found.values():
            at = names.get(note.pop("name", ""))
            if recorded is not None and at is not None:
                told = spark([row[at] for _, row in recorded[1]])
                note.update(spark=told["picture"], spark_marks=told["marks"])
        ended = self.engine.present is not None and self.engine.present.reason == "end"
        for line, text in (
            coverage.never_ran(file, ended).items() if not (self.engine.started or self.engine.child_name) else ()
        ):
            found[line] = {"line": line, "text": text, "nonfinite": 0}
        for line, count in coverage.counts(file).items() if self.engine.loader.options.counts else ():
            found.setdefault(line, {"line": line, "text": "", "nonfinite": 0})["count"] = count
        return {"notes": sorted(found.values(), key=lambda n: n["line"])}

    @request("unevenSum/exportPasses")
    def export_passes(self, of: RunOf, path: str) -> Body:
        """Runs of a loop (`run`: one of them) written as Parquet; where PyArrow is in the script's interpreter."""
        recorder, _ = self._run_of(of)
        try:
            import pyarrow
            from pyarrow import parquet
        except ImportError:
            raise Refused("Parquet needs pyarrow in the script's interpreter; CSV does not.") from None
        runs = [(n, r) for n, r in enumerate(recorder.runs, 1) if of.run in (0, n)]
        table: dict[str, list[object]] = {"run": [], "pass": []}
        parts: list[tuple[int, int, Body]] = []
        for number_, run in runs:
            for place, row in run.rows():
                cells: Body = {}
                for label, value in zip(recorder.labels, row):
                    cells.update(_plain_cells(label, value))
                parts.append((number_, place, cells))
        names = list(dict.fromkeys(n for _, _, cells in parts for n in cells))
        table["run"], table["pass"] = [p[0] for p in parts], [p[1] for p in parts]
        for name in names:
            values = [cells.get(name) for _, _, cells in parts]
            numeric = all(v is None or isinstance(v, (int, float)) for v in values)
            table[name] = values if numeric else [None if v is None else str(v) for v in values]
        try:
            parquet.write_table(pyarrow.table(table), path)
        except (OSError, pyarrow.ArrowException, OverflowError) as e:
            raise Refused(f"{path} could not be written: {e}.") from None
        return {"rows": len(parts), "path": path}

    @request("unevenSum/counts", rerun="last")
    def counts(self, on: bool | None = None) -> Body:
        """How often each statement ran.  `on`: from now on they are counted, or no longer."""
        if on is not None:
            self.engine.loader.options.counts = on
            self.engine.anew = True
            if self.exchange.started:
                self.breakpoints.put_in({"*"})
        found = {}
        for file in {id(f): f for f in registry.files.values()}.values():
            counts = coverage.counts(file)
            if counts:
                found[os.path.realpath(file.path)] = sorted(counts.items())
        return {"on": self.engine.loader.options.counts, "counts": found}


def _is_readable(file: SourceFile, node: Repeated, text: str) -> bool:
    """Whether something that the loop does not assign can be read at the end of each pass: its names are the file's."""
    if not isinstance(node, LOOPS) or text.isidentifier() or not columns.is_readable(text):
        return False
    known = {n.id for n in ast.walk(file.tree) if isinstance(n, ast.Name)}
    known |= {a.arg for a in ast.walk(file.tree) if isinstance(a, ast.arg)}
    return {n.id for n in ast.walk(ast.parse(text, mode="eval")) if isinstance(n, ast.Name)} <= known


def _around(recorder: Recorder, run: Run) -> list[Body]:
    return [{**a, "file": a["file"] or recorder.file} for a in run.around]


def _records(code: types.CodeType, recorder: Recorder) -> bool:
    """Whether a piece of code was rewritten to fill a recorder."""
    return any(c is recorder or getattr(c, "__self__", None) is recorder for c in code.co_consts)


def _of(recorder: Recorder) -> Body:
    return {
        "file": recorder.file,
        "line": recorder.line,
        "column": recorder.at[1],
        "kind": recorder.kind,
        "head": recorder.head,
        "names": list(recorder.labels),
    }


def _short(value: object) -> str:
    if isinstance(value, Cells):
        return f"mean {value.mean:.6g}" + (f", {value.bad} bad" if value.bad else "")
    return exact(value) or ""


def spark(values: list[object]) -> dict[str, str]:
    """A row of values as a card's picture: pairs of float64, and `1` where one is not finite."""
    pairs, signs = b"", ""
    for value in values:
        found = value.mean if isinstance(value, Cells) else number(value)
        fine = found is not None and math.isfinite(found)
        pairs += struct.pack("<2d", *((found, found) if fine else (math.nan, math.nan)))
        bad = isinstance(value, Cells) and value.bad
        signs += "1" if bad or (found is not None and not fine) else "0"
    return {"picture": base64.b64encode(pairs).decode(), "marks": signs}


def _plain_cells(label: str, value: Any) -> Body:
    """A value as cells of a table: of an array, a figure each."""
    if isinstance(value, Cells):
        return {f"{label}.{figure}": getattr(value, figure) for figure in FIGURES}
    plain = value.item() if is_scalar(value) else value
    if value is MISSING or plain is None:
        return {label: None}
    return {label: float(plain) if type(plain) is float else plain if type(plain) in (int, bool) else exact(value)}


def _packed(code: str, values: list[object]) -> str:
    return base64.b64encode(struct.pack(f"<{len(values)}{code}", *values)).decode()


def _facts(run: Run) -> list[Body]:
    """Of each column over all passes: extremes with their passes, what is not finite."""
    found = []
    for column in run.facts().columns:
        facts: Body = {"bad": column.bad, "firstBad": column.first_bad and run.base + column.first_bad}
        for name, place, value in (("min", column.low_at, column.low), ("max", column.high_at, column.high)):
            facts[name] = run.base + place if place else 0
            facts[f"{name}Value"] = value if place else None
        found.append(facts)
    return found


def _part(value: object, name: str) -> object:
    """A figure or an element of an array; None where it has none."""
    if not isinstance(value, Cells):
        return None
    if name in FIGURES:
        return getattr(value, name)
    return value.elements[int(name)] if name.isdigit() and int(name) < len(value.elements) else None


def _figure(value: object) -> float | None:
    if type(value) is float:
        return value
    return value.mean if isinstance(value, Cells) else number(value)


def _columns(label: str, values: list[object], facts: Body) -> list[Body]:
    """A value's column; of arrays, one for each figure."""
    if not any(isinstance(v, Cells) for v in values):
        return [{"name": label, **_column(values), **facts}]
    sizes = {len(v.elements) if isinstance(v, Cells) else 0 for v in values if v is not MISSING}
    if len(sizes) == 1 and 0 not in sizes:
        parts = [[v.elements[n] if isinstance(v, Cells) else v for v in values] for n in range(sizes.pop())]
        made = [{"name": f"{label}[{n}]", "of": label, **_column(part)} for n, part in enumerate(parts)]
        bad: Body = {name: facts[name] for name in ("bad", "firstBad") if name in facts}  # of the vector
        return [{**told, **bad} if "!" in told["marks"] else told for told in made]
    made = []
    for figure in FIGURES:
        part = [getattr(v, figure) if isinstance(v, Cells) else MISSING for v in values]
        own = {
            n: v for n, v in facts.items() if n.startswith(figure) or (figure == "mean" and n in ("bad", "firstBad"))
        }
        told = {"name": f"{label}.{figure}", "of": label, **_column(part), **own}
        if figure == "mean":  # of the finite cells; the sign tells that there are others
            told["marks"] = "".join("!" if isinstance(v, Cells) and v.bad else m for v, m in zip(values, told["marks"]))
        made.append(told)
    shapes = ["x".join(map(str, v.shape)) if isinstance(v, Cells) else v for v in values]
    if len(set(map(str, shapes))) > 1:  # it changes from pass to pass
        made.append({"name": f"{label}.shape", "of": label, **_column(shapes)})
    return made


def _column(values: list[Any]) -> Body:
    """`data`: float64, nan where a value is no number; `texts`: exact, where `data` does not tell; `marks`: `m` for
    what was not assigned, `!` for what is not finite, `t` for a text."""
    kinds = {type(v) for v in values}
    if kinds == {float} and math.isfinite(sum(values)):
        return {"data": _packed("d", values), "marks": "." * len(values), "type": "float", "texts": None}
    numbers = [number(v) for v in values]
    signs = "".join(
        "m" if v is MISSING else "t" if n is None else "." if math.isfinite(n) else "!" for v, n in zip(values, numbers)
    )
    kinds = {type(v) for v in values if v is not MISSING}
    told: Body = {"data": _packed("d", [math.nan if n is None else n for n in numbers]), "marks": signs}
    if all(issubclass(k, float) for k in kinds):  # NumPy's float64 is one
        return {**told, "type": "float" if kinds <= {float} else "float64", "texts": None}
    if kinds == {int} and all(abs(v) < EXACT for v in values if v is not MISSING):
        return {**told, "type": "int", "texts": None}
    names = sorted(k.__name__ for k in kinds)
    return {**told, "type": ", ".join(names), "texts": [exact(v) for v in values]}
