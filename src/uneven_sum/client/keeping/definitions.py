"""What a call needs of its file: the functions and classes, the imports, and the values of names."""

from __future__ import annotations

import ast

FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)


def needed(source: str, function: str, values: dict[str, str], texts: list[str]) -> list[str]:
    """The statements of a file that a call of a function needs, as texts, in the order of the file.

    `values`: names whose values are written in the place of what computes them; `texts`: of the arguments."""
    tree = ast.parse(source)
    bound: dict[str, list[ast.stmt]] = {}
    for statement in tree.body:
        for name in _binds(statement):
            bound.setdefault(name, []).append(statement)
    used = [n.id for text in [*texts, *values.values()] for n in ast.walk(ast.parse(text)) if isinstance(n, ast.Name)]
    todo = [function.partition(".")[0], *(n for n in used if _defines(bound.get(n, [])))]
    taken, given = set(), set()
    while todo:
        name = todo.pop()
        if name in given or name in values:
            given.add(name)
            continue
        given.add(name)
        for statement in bound.get(name, []):
            taken.add(statement)
            at_once = {n.id for part in _at_once(statement) for n in ast.walk(part) if isinstance(n, ast.Name)}
            later = {n.id for n in ast.walk(statement) if isinstance(n, ast.Name)} - at_once
            todo += [*at_once, *(n for n in later if n in values or _defines(bound.get(n, [])))]
    future = [s for s in tree.body if isinstance(s, ast.ImportFrom) and s.module == "__future__"]
    found: list[str] = []
    written = {name for name in given if name in values}
    for statement in tree.body:
        for name in sorted(written & set(_binds(statement))):
            found.append(f"{name} = {values[name]}")
            written.discard(name)
        if statement in taken or statement in future:
            found.append(_text(source, statement))
    return [*(f"{name} = {values[name]}" for name in sorted(written)), *found] if not future else found


def _defines(statements: list[ast.stmt]) -> bool:
    return any(isinstance(s, (*FUNCTIONS, ast.ClassDef, ast.Import, ast.ImportFrom)) for s in statements)


def _at_once(statement: ast.AST) -> list[ast.AST]:
    """The parts of a definition that run when it is made: all but the bodies of its functions."""
    if isinstance(statement, FUNCTIONS):
        return [*statement.decorator_list, statement.args, *([statement.returns] if statement.returns else [])]
    if isinstance(statement, ast.ClassDef):
        inner = [part for one in statement.body for part in _at_once(one)]
        return [*statement.decorator_list, *statement.bases, *statement.keywords, *inner]
    return [statement]


def _text(source: str, statement: ast.stmt) -> str:
    """A statement as it is written, with its decorators."""
    lines = source.split("\n")
    first = min([statement.lineno, *(d.lineno for d in getattr(statement, "decorator_list", []))])
    return "\n".join(lines[first - 1 : statement.end_lineno])


def _binds(statement: ast.stmt) -> list[str]:
    """The names that a statement of a module gives values to."""
    if isinstance(statement, (*FUNCTIONS, ast.ClassDef)):
        return [statement.name]
    if isinstance(statement, (ast.Import, ast.ImportFrom)):
        return [one.asname or one.name.partition(".")[0] for one in statement.names]
    if isinstance(statement, (ast.Assign, ast.AnnAssign, ast.AugAssign, ast.If, ast.Try)):
        return [n.id for n in ast.walk(statement) if isinstance(n, ast.Name) and isinstance(n.ctx, ast.Store)]
    return []
