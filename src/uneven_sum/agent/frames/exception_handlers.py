"""Says whether an exception that was just raised will be handled further up the stack.

A call handles it if its present instruction lies in a `try` with a matching `except`, or in
`contextlib.suppress`.  For the user's files that is read from the syntax tree, for all others from the
code's exception table.
"""

from __future__ import annotations

import ast
import builtins
import dis
import enum
import itertools
import sys
import types

from ..core.markers import MISSING
from ..core.records import record
from ..source.source_file import Handler, SourceFile, Statement, position
from .context_managers import may_swallow
from .exception_classes import Flying, look_up, matches
from .namespace import Scope, global_of, locals_of

# Library calls that catch an exception only to carry it elsewhere: to a task, a thread's end, an importer.
CARRIERS = {
    ("asyncio.events", "Handle._run"),
    ("asyncio.runners", "Runner.run"),
    ("asyncio.base_events", "BaseEventLoop.run_until_complete"),
    ("concurrent.futures.thread", "_WorkItem.run"),
    ("concurrent.futures.thread", "_worker"),
    ("threading", "Thread._bootstrap_inner"),
    ("threading", "Thread._bootstrap"),
    ("multiprocessing.pool", "worker"),
    ("concurrent.futures.process", "_process_worker"),
    ("joblib.externals.loky.process_executor", "_process_worker"),
    ("loky.process_executor", "_process_worker"),
    ("dask.local", "execute_task"),
    ("dask.local", "batch_execute_tasks"),
    ("distributed.worker", "_run_task"),
    ("distributed.worker", "_run_task_simple"),
    ("distributed._concurrent_futures_thread", "_WorkItem.run"),
    ("distributed.threadpoolexecutor", "_worker"),
    ("contextlib", "_GeneratorContextManager.__exit__"),
    ("contextlib", "_AsyncGeneratorContextManager.__aexit__"),
}
# Modules of a test runner, which do so wherever they catch one.
RUNNERS = {f"_pytest.{name}" for name in ("runner", "fixtures", "python", "unittest", "main", "config")}
CARRYING = ("importlib", "_frozen_importlib", "pluggy.")
# Library calls that run what they are given and expect it to fail: the name that holds what they expect.
EXPECTING = {
    ("unittest.case", "_AssertRaisesBaseContext.handle"): ("self", "expected"),
    ("_pytest.raises", "raises"): ("expected_exception",),
    ("_pytest.python_api", "raises"): ("expected_exception",),
}


class Fate(enum.Enum):
    """What becomes of an exception at one call."""

    HANDLED = "handled"
    PASSES = "passes"  # as it is, or as what a handler raises in its place
    UNKNOWN = "unknown"  # a handler may raise something else: further out it will be seen
    LATER = "later"  # a context manager may swallow it: the end of its `with` statement will tell


def in_file(flying: Flying, statement: Statement, frame: types.FrameType) -> tuple[Fate, Flying]:
    """What the clauses around a statement, in its own function, do with an exception, and what continues from there."""
    left = _parts(flying)
    for handler in reversed(statement.handlers):
        if handler.manager is not None:
            if may_swallow(handler.manager, flying, Scope(frame)):
                return Fate.LATER, flying
            continue
        if not _catches(handler, flying, frame):
            if handler.parts:
                left = [part for part in left if not _catches(handler, part, frame)]
                if not left:
                    return Fate.HANDLED, flying
            continue
        if handler.raises is None:
            return Fate.HANDLED, flying
        if handler.parts:
            continue
        made = _made_by(handler, flying, frame)
        if made is None:
            return Fate.UNKNOWN, flying
        if is_end(made):
            return Fate.HANDLED, flying
        flying, left = made, _parts(made)
    return Fate.PASSES, flying


def is_end(flying: Flying) -> bool:
    """True for what ends the script on purpose."""
    kind = flying if isinstance(flying, type) else type(flying)
    return issubclass(kind, (SystemExit, KeyboardInterrupt))


def _made_by(handler: Handler, flying: Flying, frame: types.FrameType) -> Flying | None:
    """What a clause that ends in a `raise` sends on; None when that cannot be read."""
    assert handler.raises is not None
    what = handler.raises.exc
    if what is None or (isinstance(what, ast.Name) and what.id == handler.name):
        return flying
    found = look_up(what.func if isinstance(what, ast.Call) else what, Scope(frame))
    return found if isinstance(found, type) and issubclass(found, BaseException) else None


def _parts(flying: Flying) -> list[Flying]:
    """The exceptions of a group, those of the groups in it among them; else the exception itself."""
    if not isinstance(flying, BaseExceptionGroup):
        return [flying]
    held: tuple[BaseException, ...] = BaseExceptionGroup.exceptions.__get__(flying)
    return [part for inner in held for part in _parts(inner)]


def _catches(handler: Handler, flying: Flying, frame: types.FrameType) -> bool:
    if handler.classes is None:
        return True
    scope: Scope | None = None
    for node in handler.classes:
        found = global_of(frame, node.id) if isinstance(node, ast.Name) else MISSING
        if found is MISSING:
            scope = scope or Scope(frame)
            found = look_up(node, scope)
        if matches(found, flying):
            return True
    return False


def asks_for_attribute(statement: Statement | None, frame: types.FrameType) -> bool:
    """True when a user call is inside `hasattr`, or of `getattr` with a default."""
    place = instruction_place(frame.f_code, frame.f_lasti)
    if statement is None or place is None:
        return False
    for node in ast.walk(statement.node):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and position(node) == place:
            return node.func.id == "hasattr" or (node.func.id == "getattr" and len(node.args) == 3)
    return False


# -- code that is not the user's: the exception table ------------------------------------------------


@record
class _Clause:
    """A handler as its instructions tell it: `names` None catches all; empty: catches nothing.  `parts`: `except*`."""

    names: list[tuple[str, ...]] | None
    parts: bool = False
    fate: Fate = Fate.HANDLED

    def catches(self, flying: Flying, frame: types.FrameType) -> bool:
        return self.names is None or any(matches(_named(n, frame), flying) for n in self.names)


@record
class _Range:
    start: int
    end: int
    handler: int  # where its handler begins: what that does not catch continues from there
    clauses: list[_Clause]


_tables: dict[types.CodeType, list[_Range]] = {}


def in_code(flying: Flying, frame: types.FrameType) -> Fate:
    """What the clauses around the present instruction of a frame's code do with an exception."""
    code = frame.f_code
    if not code.co_exceptiontable:
        return Fate.PASSES
    module = str(frame.f_globals.get("__name__", ""))
    place = (module, code.co_qualname)
    if place in EXPECTING:
        return Fate.HANDLED if matches(_named(EXPECTING[place], frame), flying) else Fate.PASSES
    if place in CARRIERS or module in RUNNERS or module.startswith(CARRYING):
        return Fate.PASSES
    if code not in _tables:
        _tables[code] = _table(code)
    at, been = frame.f_lasti, set[int]()
    while True:  # from the innermost handler outward
        entry = next((one for one in _tables[code] if one.start <= at < one.end and one.handler not in been), None)
        if entry is None:
            return Fate.PASSES
        fate = _of_clauses(entry.clauses, flying, frame)
        if fate is not Fate.PASSES:
            return fate
        been.add(entry.handler)
        at = entry.handler


def _of_clauses(clauses: list[_Clause], flying: Flying, frame: types.FrameType) -> Fate:
    left = _parts(flying)
    for clause in clauses:
        if clause.catches(flying, frame):
            return clause.fate
        if clause.parts:
            left = [part for part in left if not clause.catches(part, frame)]
            if not left:
                return Fate.HANDLED
    return Fate.PASSES


def _named(path: tuple[str, ...], frame: types.FrameType) -> object:
    first, *rest = path
    found: object = frame.f_globals.get(first, getattr(builtins, first, None))
    if found is None:
        found = locals_of(frame).get(first)
    for name in rest:
        found = getattr(found, name, None)
    return found


def _table(code: types.CodeType) -> list[_Range]:
    instructions = list(dis.get_instructions(code))
    place = {i.offset: n for n, i in enumerate(instructions)}
    entries = dis._parse_exception_table(code)  # type: ignore[attr-defined]  # no public way
    begins: dict[int, int] = {}  # by handler: the first instruction that it guards
    for entry in entries:
        begins[entry.target] = min(entry.start, begins.get(entry.target, entry.start))
    found = []
    for entry in entries:
        number, first = place.get(entry.target), place.get(begins[entry.target])
        if number is not None and first is not None:
            clauses = _clauses(instructions, number, first)
            found.append(_Range(entry.start, entry.end, entry.target, clauses))
    return found


def _clauses(instructions: list[dis.Instruction], at: int, first: int) -> list[_Clause]:
    """The clauses of the handler that begins at an instruction.  `first`: the first instruction that it guards."""
    steps = [i for i in instructions[at : at + 400] if i.opname not in ("CACHE", "NOP", "EXTENDED_ARG")]
    if not steps or steps[0].opname != "PUSH_EXC_INFO":
        return []
    if len(steps) > 1 and steps[1].opname == "WITH_EXCEPT_START":
        return _suppressed(instructions[:first])
    if len(steps) > 1 and steps[1].opname == "POP_TOP":
        return [_Clause(None, fate=_fate(steps[1:]))]
    found: list[_Clause] = []
    begin = 1
    for number, step in enumerate(steps):
        if number < begin:
            continue  # of the body of a clause
        if step.opname in ("CHECK_EXC_MATCH", "CHECK_EG_MATCH"):
            body = _body(steps, number + 1)
            found.append(_Clause(_names(steps[begin:number]), step.opname == "CHECK_EG_MATCH", _fate(body)))
            begin = number + 1 + len(body)
        elif step.opname == "PUSH_EXC_INFO":
            break
    return found


def _suppressed(before: list[dis.Instruction]) -> list[_Clause]:
    """`contextlib.suppress` as a clause; none for other context managers.  `before`: what ran before their body."""
    steps: list[dis.Instruction] = []
    for step in reversed(before):
        entered = step.opname.startswith(("BEFORE_WITH", "LOAD_SPECIAL", "STORE_", "POP_TOP", "RESUME"))
        if entered and any(one.opname.startswith("LOAD_GLOBAL") for one in steps):
            break
        steps.insert(0, step)
    called, *classes = _names(steps) or [()]
    return [_Clause(classes, sys.version_info >= (3, 12))] if called[-1:] == ("suppress",) else []


def _names(steps: list[dis.Instruction]) -> list[tuple[str, ...]]:
    """The names that instructions load, each with its attributes."""
    found: list[tuple[str, ...]] = []
    for step in steps:
        if step.opname.startswith(("LOAD_GLOBAL", "LOAD_NAME", "LOAD_FAST", "LOAD_DEREF")):
            two = step.argval if isinstance(step.argval, tuple) else (step.argval,)
            found += [(str(name),) for name in two]
        elif step.opname.startswith(("LOAD_ATTR", "LOAD_METHOD")) and found:
            found[-1] = (*found[-1], str(step.argval))
    return found


def _body(steps: list[dis.Instruction], start: int) -> list[dis.Instruction]:
    """The instructions of a clause: from its test to the place where the test continues when it fails."""
    end = next((s.argval for s in steps[start : start + 3] if "JUMP" in s.opname), None)
    return [s for s in steps[start:] if not isinstance(end, int) or s.offset < end]


def _fate(body: list[dis.Instruction]) -> Fate:
    """What a clause does with what it has caught, by its instructions."""
    finishes, raises_new, raises_again = False, False, False
    for step, following in zip(body, [*body[1:], None]):
        if step.opname == "PUSH_EXC_INFO":
            break  # of another handler
        if step.opname == "POP_EXCEPT":
            finishes = finishes or following is None or following.opname != "RERAISE"
        elif step.opname == "RAISE_VARARGS":
            raises_again, raises_new = raises_again or step.arg == 0, raises_new or step.arg != 0
        elif step.opname == "RERAISE" and not finishes and not raises_new:
            raises_again = True
    if finishes:
        return Fate.UNKNOWN if raises_new or raises_again else Fate.HANDLED
    if raises_new:
        return Fate.UNKNOWN
    return Fate.PASSES if raises_again else Fate.HANDLED


# By the identity of the code, whose hash would read all its constants, and the instruction.
_statements: dict[tuple[int, int], tuple[types.CodeType, Statement | None]] = {}


def statement_at(file: SourceFile, frame: types.FrameType) -> Statement | None:
    """The statement that a user frame is in, by line and, where known, column."""
    key = (id(frame.f_code), frame.f_lasti)
    if key not in _statements:
        if len(_statements) > 10_000:
            _statements.clear()
        _statements[key] = frame.f_code, _find_statement(file, frame)
    return _statements[key][1]


def _find_statement(file: SourceFile, frame: types.FrameType) -> Statement | None:
    line, column = line_with_code(file, frame), None
    if not line:
        return None
    place = instruction_place(frame.f_code, frame.f_lasti)
    if place is not None and place[0] == line:
        column = place[1]
    return file.innermost(line, column)


def line_with_code(file: SourceFile, frame: types.FrameType) -> int:
    """The line of the file that a call is in, 0 for none.  An instruction that the rewriting has added beyond the
    file's end, or that has no line, belongs to the last one before it that has."""
    line, last = frame.f_lineno, len(file.lines)
    if line is not None and line <= last:
        return line
    found = [n for start, _, n in frame.f_code.co_lines() if start <= frame.f_lasti and n is not None and n <= last]
    return found[-1] if found else 0


def instruction_place(code: types.CodeType, lasti: int) -> tuple[int, int, int, int] | None:
    """First line, first column, last line, last column of an instruction, or None."""
    if lasti < 0:
        return None
    for line, end_line, column, end_column in itertools.islice(code.co_positions(), lasti // 2, lasti // 2 + 1):
        if line is None or column is None or end_line is None or end_column is None:
            return None
        return (line, column, end_line, end_column)
    return None
