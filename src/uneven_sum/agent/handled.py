"""Says whether an exception that was just raised will be handled further up the stack.

A call handles it if its present instruction lies in a `try` with a matching `except`, or in
`contextlib.suppress`.  For the user's files that is read from the syntax tree, for all others from the
code's exception table.
"""

from __future__ import annotations

import ast
import builtins
import dis
import itertools
import types
from dataclasses import dataclass
from typing import Any

from .scope import Scope, locals_of
from .source import Handler, SourceFile, Statement

# Library calls that catch an exception only to carry it elsewhere: to a task, a thread's end, an importer.
CARRIERS = {
    ("asyncio.events", "Handle._run"),
    ("asyncio.runners", "Runner.run"),
    ("asyncio.base_events", "BaseEventLoop.run_until_complete"),
    ("concurrent.futures.thread", "_WorkItem.run"),
    ("concurrent.futures.thread", "_worker"),
    ("threading", "Thread._bootstrap_inner"),
    ("threading", "Thread._bootstrap"),
    ("contextlib", "_GeneratorContextManager.__exit__"),
    ("contextlib", "_AsyncGeneratorContextManager.__aexit__"),
}


def in_file(exc: BaseException, statement: Statement, frame: types.FrameType) -> bool:
    """True when a clause around the statement, in its own function, catches the exception."""
    left = _parts(exc)
    for handler in reversed(statement.handlers):
        if _catches(handler, exc, frame):
            return True
        if handler.parts:
            left = [part for part in left if not _catches(handler, part, frame)]
            if not left:
                return True
    return False


def _parts(exc: BaseException) -> list[BaseException]:
    """The exceptions of a group, those of the groups in it among them; else the exception itself."""
    if not isinstance(exc, BaseExceptionGroup):
        return [exc]
    held: tuple[BaseException, ...] = BaseExceptionGroup.exceptions.__get__(exc)
    return [part for inner in held for part in _parts(inner)]


def _catches(handler: Handler, exc: BaseException, frame: types.FrameType) -> bool:
    if handler.classes is None:
        return True
    scope: Scope | None = None
    for node in handler.classes:
        scope = scope or Scope(frame)
        if _matches(_look_up(node, scope), exc):
            return True
    return False


def _look_up(node: ast.AST, scope: Scope) -> Any:
    if isinstance(node, ast.Name):
        return scope.get(node.id)
    if isinstance(node, ast.Attribute):
        owner = _look_up(node.value, scope)
        return getattr(owner, node.attr, None) if isinstance(owner, (types.ModuleType, type)) else None
    return None


def _matches(found: Any, exc: BaseException) -> bool:
    if isinstance(found, tuple):
        return any(_matches(f, exc) for f in found)
    return isinstance(found, type) and issubclass(found, BaseException) and isinstance(exc, found)


# -- code that is not the user's: the exception table ------------------------------------------------


@dataclass
class _Clause:
    """A handler as its instructions tell it: `names` None catches all; empty: catches nothing.  `parts`: `except*`."""

    names: list[tuple[str, ...]] | None
    parts: bool = False

    def catches(self, exc: BaseException, frame: types.FrameType) -> bool:
        return self.names is None or any(_matches(_named(n, frame), exc) for n in self.names)


@dataclass
class _Range:
    start: int
    end: int
    clauses: list[_Clause]


_tables: dict[types.CodeType, list[_Range]] = {}


def in_code(exc: BaseException, frame: types.FrameType) -> bool:
    """True when the frame's code has a clause around its present instruction that catches the exception."""
    code = frame.f_code
    if not code.co_exceptiontable:
        return False
    module = frame.f_globals.get("__name__", "")
    if (module, code.co_qualname) in CARRIERS or str(module).startswith(("importlib", "_frozen_importlib")):
        return False
    if code not in _tables:
        _tables[code] = _table(code)
    at = frame.f_lasti
    for entry in _tables[code]:
        if entry.start <= at < entry.end:
            left = _parts(exc)
            for clause in entry.clauses:
                if clause.catches(exc, frame):
                    return True
                if clause.parts:
                    left = [part for part in left if not clause.catches(part, frame)]
                    if not left:
                        return True
    return False


def _named(path: tuple[str, ...], frame: types.FrameType) -> Any:
    first, *rest = path
    found: Any = frame.f_globals.get(first, getattr(builtins, first, None))
    if found is None:
        found = locals_of(frame).get(first)
    for name in rest:
        found = getattr(found, name, None)
    return found


def _table(code: types.CodeType) -> list[_Range]:
    instructions = list(dis.get_instructions(code))
    place = {i.offset: n for n, i in enumerate(instructions)}
    found = []
    for entry in dis._parse_exception_table(code):  # type: ignore[attr-defined]
        number = place.get(entry.target)
        if number is not None:
            found.append(_Range(entry.start, entry.end, _clauses(instructions, number)))
    return found


def _clauses(instructions: list[Any], at: int) -> list[_Clause]:
    """The clauses of the handler that begins at an instruction."""
    steps = [i for i in instructions[at : at + 400] if i.opname not in ("CACHE", "NOP", "EXTENDED_ARG")]
    if not steps or steps[0].opname != "PUSH_EXC_INFO":
        return []
    if len(steps) > 1 and steps[1].opname == "WITH_EXCEPT_START":
        return []
    if len(steps) > 1 and steps[1].opname == "POP_TOP":
        return [] if _raises_again(steps[1:]) else [_Clause(None)]
    found: list[_Clause] = []
    path: list[str] = []
    names: list[tuple[str, ...]] = []
    for number, step in enumerate(steps[1:], 1):
        name = step.opname
        if name.startswith(("LOAD_GLOBAL", "LOAD_NAME", "LOAD_FAST", "LOAD_DEREF")):
            if path:
                names.append(tuple(path))
            path = [str(step.argval)]
        elif name.startswith(("LOAD_ATTR", "LOAD_METHOD")) and path:
            path.append(str(step.argval))
        elif name in ("CHECK_EXC_MATCH", "CHECK_EG_MATCH"):
            if path:
                names.append(tuple(path))
            if not _raises_again(steps[number + 1 :]):
                found.append(_Clause(names, name == "CHECK_EG_MATCH"))
            path, names = [], []
        elif name in ("RERAISE",) and not found and not path and number < 3:
            return []
        elif name == "PUSH_EXC_INFO":
            break
    return found


def _raises_again(steps: list[Any]) -> bool:
    """True when the clause's instructions come to a bare raise before they end the handling."""
    for step in steps:
        if step.opname in ("POP_EXCEPT", "CHECK_EXC_MATCH"):
            return False
        if (step.opname == "RAISE_VARARGS" and step.arg == 0) or step.opname == "RERAISE":
            return True
    return False


_statements: dict[tuple[types.CodeType, int], Statement | None] = {}


def statement_at(file: SourceFile, frame: types.FrameType) -> Statement | None:
    """The statement that a frame of the user's is in, by line and, where known, column."""
    key = (frame.f_code, frame.f_lasti)
    if key not in _statements:
        if len(_statements) > 10_000:
            _statements.clear()
        _statements[key] = _find_statement(file, frame)
    return _statements[key]


def _find_statement(file: SourceFile, frame: types.FrameType) -> Statement | None:
    line, column = frame.f_lineno, None
    if line is None:
        return None
    place = instruction_place(frame.f_code, frame.f_lasti)
    if place is not None and place[0] == line:
        column = place[1]
    return file.innermost(line, column)


def instruction_place(code: types.CodeType, lasti: int) -> tuple[int, int, int, int] | None:
    """First line, first column, last line, last column of an instruction, or None."""
    if lasti < 0:
        return None
    for line, end_line, column, end_column in itertools.islice(code.co_positions(), lasti // 2, lasti // 2 + 1):
        if line is None or column is None or end_line is None or end_column is None:
            return None
        return (line, column, end_line, end_column)
    return None
