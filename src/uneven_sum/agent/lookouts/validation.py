"""Checks one lookout before it is set: where it can stand, which names its texts know."""

from __future__ import annotations

import ast
import builtins
import difflib
import os

from ..frames import other_compilers
from ..source.cells import place_words
from ..source.source_file import SourceFile, Statement, is_compound
from . import expectations
from .lookout import PLACES, Lookout


def prepare(lk: Lookout, file: SourceFile | None) -> None:
    """Reads the condition and the text, finds the line; says in `message` what is wrong or was moved."""
    told: list[str] = []
    lk.verified = True
    if lk.start < 1 or lk.every < 1:
        lk.verified = False
        told.append("A count begins with 1.")
    if lk.condition:
        problem = _condition(lk)
        if problem:
            lk.verified = False
            told.append(problem)
    if lk.expect:
        try:
            lk.expected = expectations.parse(lk.expect)
        except expectations.Unclear as e:
            lk.verified = False
            told.append(str(e))
    if lk.text:
        problem = _text(lk)
        if problem:
            lk.verified = False
            told.append(problem)
    if lk.where in PLACES:
        told += _place(lk, file)
        left = other_compilers.at(file.path, lk.line) if file is not None else None
        if left is not None:
            lk.verified = False
            told.append(f"Not watched: {left.why}.")
    elif lk.where == "pause":
        if not lk.expect:
            lk.verified = False
            told.append("At each pause something must be expected.")
    elif lk.where != "cell" and not lk.name:
        lk.verified = False
        told.append("It needs a name.")
    elif lk.where == "change":
        told += _watched(lk)
    if lk.verified and lk.tree is not None and file is not None and lk.where in PLACES:
        told += _unknown(lk, file)
    lk.message = " ".join(told)


def _condition(lk: Lookout) -> str:
    try:
        lk.tree = ast.parse(lk.condition.strip(), "<condition>", mode="eval").body
    except SyntaxError as e:
        return f"The condition `{lk.condition}` is not an expression: {e.msg}."
    except ValueError as e:
        return f"The condition cannot be read: {e}."
    for node in ast.walk(lk.tree):
        if isinstance(node, (ast.NamedExpr, ast.Yield, ast.YieldFrom, ast.Await)):
            lk.tree = None
            return "A condition may not assign, yield or await: it must leave the script as it is."
    return ""


def _text(lk: Lookout) -> str:
    for quotes in ('"""', "'''"):
        try:
            lk.writes = compile(f"f{quotes}{lk.text}{quotes}", "<text>", "eval")
            return ""
        except (SyntaxError, ValueError) as e:
            why = str(getattr(e, "msg", e)).replace("f-string: ", "")
    return f"The text `{lk.text}` cannot be filled in: {why}. Braces hold expressions; write {{{{ for a brace."


def _place(lk: Lookout, file: SourceFile | None) -> list[str]:
    if file is None:
        lk.verified = False
        return [f"There is no file {lk.file}." if not os.path.exists(lk.file) else f"{lk.file} cannot be read."]
    try:
        file.tree  # noqa: B018
    except (SyntaxError, ValueError, RecursionError, MemoryError) as e:
        lk.verified = False
        return [f"{os.path.basename(lk.file)} cannot be parsed: {getattr(e, 'msg', e)}."]
    if lk.where in ("element", "lambda"):
        kinds = (ast.Lambda,) if lk.where == "lambda" else (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
        if any(isinstance(n, kinds) and n.lineno <= lk.line <= (n.end_lineno or 0) for n in ast.walk(file.tree)):
            return []
        lk.verified = False
        word = "lambda" if lk.where == "lambda" else "comprehension or generator expression"
        return [f"{place_words(lk.file, lk.line).capitalize()} has no {word}."]
    at = line_with_code(file, lk.line)
    if at is None:
        lk.verified = False
        return ["There is no code at or after this line."]
    asked, lk.line = lk.line, at
    said, there = place_words(lk.file, asked).capitalize(), place_words(lk.file, at)
    if at < asked:
        return [f"{said} belongs to the statement of {there}."]
    return [] if at == asked else [f"{said} has no code; it moved to {there}."]


def _watched(lk: Lookout) -> list[str]:
    try:
        node = ast.parse(lk.name, mode="eval").body
    except (SyntaxError, ValueError):
        node = None
    if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
        return []
    lk.verified = False
    return [f"`{lk.name}` is not a name, attribute or element."]


def _unknown(lk: Lookout, file: SourceFile) -> list[str]:
    """Names of the condition that nothing in the file gives; and calls, which run in the script itself."""
    assert lk.tree is not None
    known = _known_names(file)
    own = {n.id for n in ast.walk(lk.tree) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)}
    own |= {a.arg for n in ast.walk(lk.tree) if isinstance(n, ast.Lambda) for a in n.args.args}
    told = []
    for node in ast.walk(lk.tree):
        if isinstance(node, ast.Name) and node.id not in known and node.id not in own:
            near = difflib.get_close_matches(node.id, known, 1)
            told.append(f"`{node.id}` is not known in this file{f'; is {near[0]} meant' if near else ''}?")
    calls = [n for n in ast.walk(lk.tree) if isinstance(n, ast.Call)]
    harmless = {"abs", "len", "min", "max", "sum", "isinstance", "isnan", "isfinite", "isinf", "any", "all", "round"}
    acting = [n for n in calls if _called(n) not in harmless]
    if acting:
        told.append(f"The condition calls {_called(acting[0])}: what that does, it does to the script.")
    return told


def _called(node: ast.Call) -> str:
    return node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "something")


def _known_names(file: SourceFile) -> set[str]:
    known = set(dir(builtins))
    for node in ast.walk(file.tree):
        if isinstance(node, ast.Name):
            known.add(node.id)
        elif isinstance(node, ast.arg):
            known.add(node.arg)
        elif isinstance(node, ast.alias):
            if node.name == "*":
                return _Everything()
            known.add((node.asname or node.name).partition(".")[0])
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            known.add(node.name)
        elif isinstance(node, ast.ExceptHandler):
            known.add(node.name or "")
    return known | {"returned", "old", "new", "error", "__name__", "__file__"}


class _Everything(set[str]):
    def __contains__(self, name: object) -> bool:
        return True


def line_with_code(file: SourceFile, line: int) -> int | None:
    """The first line of the statement that this line begins or belongs to, else of the next one."""
    starts = sorted({s.line for s in file.statements if not _is_text(s.node)})
    if line in starts:
        return line
    inner: Statement | None = None
    for s in file.statements:
        last = s.head_end if is_compound(s.node) else (s.node.end_lineno or 0)
        if s.node.lineno < line <= last and not _is_text(s.node):
            inner = s
    if inner is not None:
        return inner.line
    return next((n for n in starts if n > line), None)


def _is_text(node: ast.AST) -> bool:
    return isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
