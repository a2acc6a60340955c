"""Which part of a statement an exception was raised in."""

from __future__ import annotations

import ast
import types

from ..core.markers import INNER
from ..frames.exception_handlers import instruction_place
from ..source import registry
from ..source.source_file import COMPREHENSIONS, Position, position
from .facts import Pause


def targets_of(node: ast.stmt | None) -> list[ast.expr]:
    """What an assignment or the head of a loop stores in."""
    return node.targets if isinstance(node, ast.Assign) else [node.target] if isinstance(node, ast.For) else []


def with_target(pause: Pause) -> ast.AST | None:
    """Where an error came from storing: the target, so that its parts are shown."""
    file = registry.file_of(pause.frame) if pause.frame else None
    for target in targets_of(pause.statement.node if pause.statement else None) if file is not None else ():
        found, _ = raised_term(pause, target)
        if found is not None:
            return found
    return None


def raised_anywhere(pause: Pause) -> ast.AST | None:
    """The term that raised, wherever in a statement it stands; of a compound one, in its head."""
    root = pause.statement.node if pause.statement is not None else None
    if root is None or pause.exception is None:
        return None
    parts = [part for part in ast.iter_child_nodes(root) if not isinstance(part, (ast.stmt, ast.ExceptHandler))]
    term = next((found for part in parts if (found := raised_term(pause, part)[0]) is not None), None)
    applied = isinstance(term, (ast.Name, ast.Attribute)) and term in getattr(root, "decorator_list", ())
    if applied and not isinstance(pause.exception, (AttributeError, NameError)):
        return None  # a decorator that has raised for what it decorates
    return term


def raised_term(pause: Pause, root: ast.AST) -> tuple[ast.AST | None, types.FrameType | None]:
    """The term whose evaluation raised, by the position that the traceback gives; and the frame of the
    comprehension that it raised in, where that has one of its own (before 3.12)."""
    tb = where_raised(pause)
    if tb is None:
        return None, None
    place = instruction_place(tb.tb_frame.f_code, tb.tb_lasti)
    inner = tb.tb_frame if tb.tb_frame is not pause.frame else None
    for node in ast.walk(root):
        if hasattr(node, "lineno") and position(node) == place:
            calls = [n for n in ast.walk(root) if isinstance(n, ast.Call) and n.func is node]
            missing = bool(calls) and isinstance(node, ast.Attribute)  # a method: the call has its owner
            return calls[0] if missing else node, inner
    loop = pause.statement.node if pause.statement is not None else None
    whole = loop.iter if isinstance(loop, ast.For) else loop.test if isinstance(loop, (ast.If, ast.While)) else None
    if loop is not None and root is whole and position(loop) == place:
        return root, inner  # what is no sequence of values, or has no truth value (before 3.13)
    return None, None


def where_raised(pause: Pause) -> types.TracebackType | None:
    """Where an exception was raised, or passed, in the paused call and its comprehensions."""
    tb = pause.exception.__traceback__ if pause.exception else None
    while tb is not None and tb.tb_frame is not pause.frame:
        tb = tb.tb_next
    while tb is not None and tb.tb_next is not None and tb.tb_next.tb_frame.f_code.co_name in INNER:
        tb = tb.tb_next
    return tb


def place_raised(pause: Pause) -> Position | None:
    tb = where_raised(pause)
    return instruction_place(tb.tb_frame.f_code, tb.tb_lasti) if tb is not None else None


def own_scope(root: ast.AST, raised: ast.AST | None) -> ast.AST:
    """The part of an expression to take apart: within a lambda or a comprehension, its body or element."""
    if raised is None:
        return root
    found = root
    for node in ast.walk(root):
        parts: list[ast.AST] = []
        if isinstance(node, ast.Lambda):
            parts = [node.body]
        elif isinstance(node, ast.DictComp):
            parts = [part for part in (node.key, node.value) if part is not None]
        elif isinstance(node, (ast.ListComp, ast.SetComp, ast.GeneratorExp)):
            parts = [node.elt]
        if isinstance(node, COMPREHENSIONS):
            parts += [test for g in node.generators for test in g.ifs]
        found = next((p for p in parts if any(n is raised for n in ast.walk(p))), found)
    return found
