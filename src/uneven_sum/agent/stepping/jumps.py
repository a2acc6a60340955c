"""Making another line the next one, and leaving a call at once: what is possible, and why not."""

from __future__ import annotations

import ast
import dis
import inspect
import types

from ..probes import runtime
from ..source.cells import place_words
from ..source.source_file import SourceFile, Statement

BEFORE = ("PUSH_EXC_INFO", "POP_TOP", "NOP", "PUSH_NULL", "CACHE", "PRECALL", "EXTENDED_ARG")
RAISES = {dis.opmap["RAISE_VARARGS"], dis.opmap["RERAISE"]}
Ranges = list[tuple[int, int]]  # of the offsets of instructions
_guarded: dict[int, tuple[types.CodeType, Ranges, Ranges]] = {}  # by identity


def is_guarded(code: types.CodeType, offset: int) -> bool:
    """True for instructions whose innermost handler is the guard of one of our statements."""
    return any(start <= offset < end for start, end in _ranges(code)[1])


def is_in_guard(code: types.CodeType, offset: int) -> bool:
    """True for instructions of a guard itself: they run after the statement has failed."""
    return any(start <= offset < end for start, end in _ranges(code)[2])


def _ranges(code: types.CodeType) -> tuple[types.CodeType, Ranges, Ranges]:
    if id(code) not in _guarded:
        _guarded[id(code)] = code, *_guards(code)
    return _guarded[id(code)]


def _guards(code: types.CodeType) -> tuple[Ranges, Ranges]:
    """What guards protect, and the guards themselves, up to where they raise the error again."""
    if not code.co_exceptiontable:
        return [], []
    data = code.co_code
    protected, guards = [], []
    for entry in dis._parse_exception_table(code):  # type: ignore[attr-defined]  # no public way
        # A handler of the script's may hold a guard too, further on: ours begins with the call itself.
        called = _first_constant(code, data, entry.target)
        if called is runtime.failed:
            protected.append((entry.start, entry.end))
        if any(called is probe for probe in (runtime.failed, runtime.head_failed, runtime.block_failed)):
            end = entry.target
            while end < len(data) and data[end] not in RAISES:
                end += 2
            guards.append((entry.target, end + 1))
    return protected, guards


def _first_constant(code: types.CodeType, data: bytes, at: int) -> object:
    """The constant that a handler loads before anything else; None when it does something else first."""
    extended = 0
    for place in range(at, min(at + 32, len(data)), 2):
        name, argument = dis.opname[data[place]], data[place + 1] | extended
        extended = argument << 8 if name == "EXTENDED_ARG" else 0
        if name == "LOAD_CONST":
            return code.co_consts[argument]
        if name not in BEFORE:
            return None
    return None


def is_suspended(frame: types.FrameType) -> bool:
    """True for a coroutine that only waits: its frame will go on."""
    if not frame.f_code.co_flags & inspect.CO_COROUTINE:
        return False
    opcode = frame.f_code.co_code[frame.f_lasti]
    return not dis.opname[opcode].startswith("RETURN")


def lies_in(statement: Statement, loop: ast.AST) -> bool:
    """True for the loop's own head, and for what its body holds (not for its `else`)."""
    return statement.node is loop or any(around is loop for around in statement.loops)


def refusal(file: SourceFile, here: Statement, line: int) -> str:
    """Why a line cannot be made the next one, in a sentence; empty when it may be tried."""
    there = next((s for s in file.statements if s.line == line), None)
    if there is None:
        return f"No statement begins at {place_words(file.path, line)}."
    if there.scope is not here.scope:
        return "Only a line of the same call can be made the next one."
    for outer in _around(file, there):
        if outer in _around(file, here) or outer is there.node:
            continue
        inside = _block(outer, there.node)
        at, begun = place_words(file.path, line), place_words(file.path, outer.lineno)
        if isinstance(outer, (ast.For, ast.AsyncFor)) and inside == "body":
            return f"Python refuses: {at} is within the `for` of {begun}, which has not begun."
        if isinstance(outer, (ast.With, ast.AsyncWith)):
            return f"Python refuses: {at} is within the `with` of {begun}, which was not entered."
        if isinstance(outer, (ast.Try, ast.TryStar)) and inside in ("handlers", "finalbody"):
            return f"Python refuses: {at} handles what happened in the `try` of {begun}."
    return ""


def _around(file: SourceFile, statement: Statement) -> list[ast.stmt]:
    at = statement.node
    return [
        s.node
        for s in file.statements
        if s.scope is statement.scope
        and s.node is not at
        and hasattr(s.node, "body")
        and any(n is at for n in ast.walk(s.node))
    ]


def _block(outer: ast.stmt, node: ast.stmt) -> str:
    for name in ("body", "handlers", "orelse", "finalbody"):
        if any(n is node for part in getattr(outer, name, []) or [] for n in ast.walk(part)):
            return name
    return ""


def in_words(message: str) -> str:
    """The interpreter's refusal of a jump, as a sentence."""
    return f"Python refuses: {message.rstrip('.')}."
