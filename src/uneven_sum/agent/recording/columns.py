"""What a ledger can tell of a loop, comprehension or function: found in the syntax tree."""

from __future__ import annotations

import ast
from collections.abc import Callable, Iterable, Iterator

from ..core.trees import Comprehension, Function, Loop, Repeated
from ..source.source_file import COMPREHENSIONS, LOOPS, SCOPES, SourceFile, position
from .changed_places import changed_places
from .recorder import Recorder, Run

FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
MOST = 500  # columns of names and of places
BRANCHES, SECONDS = "branches", "seconds"
ELEMENT, RETURNED, CALL, DEPTH = "element", "returned", "call", "depth"
READABLE = (
    *(ast.Name, ast.Attribute, ast.Subscript, ast.Constant, ast.Slice, ast.Tuple, ast.BinOp, ast.UnaryOp),
    *(ast.operator, ast.unaryop, ast.expr_context),
)
KINDS = {"loop": LOOPS, "elements": COMPREHENSIONS, "calls": FUNCTIONS}


def kind_of(node: ast.AST) -> str:
    """`loop`, `elements` or `calls`; empty for what has no passes."""
    return next((kind for kind, classes in KINDS.items() if isinstance(node, classes)), "")


def within(node: ast.AST) -> Iterator[ast.AST]:
    """What belongs to a node's own scope, in the order of the source; not the functions and classes within."""
    for child in ast.iter_child_nodes(node):
        if not isinstance(child, (*SCOPES, *COMPREHENSIONS)):
            yield child
            yield from within(child)


def _parts(node: Loop | Function) -> list[ast.AST]:
    target = getattr(node, "target", None)
    return [*([target] if target is not None else []), *node.body]


def assigned(node: Loop | Function) -> tuple[str, ...]:
    """The names that a loop's target and body assign (or a function's body), in their order."""
    found = []
    for part in _parts(node):
        for inner in (part, *within(part)) if not isinstance(part, SCOPES) else ():
            if isinstance(inner, ast.Name) and isinstance(inner.ctx, ast.Store):
                found.append(inner.id)
    return tuple(dict.fromkeys(found))


def places(node: ast.AST, segment: Callable[[ast.AST], str]) -> tuple[str, ...]:
    """The attributes and elements that the body assigns one by one, as they are written."""
    found = []
    for part in getattr(node, "body", []):
        for inner in (part, *within(part)) if not isinstance(part, SCOPES) else ():
            found += [segment(t) for t in stored_places(inner)]
    return tuple(dict.fromkeys(found))


def stored_places(s: ast.AST) -> list[ast.expr]:
    """The places that a statement stores one value in; not those of an unpacking."""
    if isinstance(s, ast.Assign):
        targets = s.targets
    elif isinstance(s, ast.AugAssign) or (isinstance(s, ast.AnnAssign) and s.value is not None):
        targets = [s.target]
    else:
        return []
    return [t for t in targets if isinstance(t, (ast.Attribute, ast.Subscript))]


def arguments(node: ast.FunctionDef | ast.AsyncFunctionDef) -> tuple[str, ...]:
    a = node.args
    found = [*a.posonlyargs, *a.args, *([a.vararg] if a.vararg else []), *a.kwonlyargs, *([a.kwarg] if a.kwarg else [])]
    names = [p.arg for p in found]
    return tuple(names[1:] if names[:1] in (["self"], ["cls"]) else names)


def branch_nodes(node: Loop | Function) -> bool:
    """True when there is something to decide in a body."""
    parts = [n for part in _parts(node) if not isinstance(part, SCOPES) for n in (part, *within(part))]
    return any(isinstance(n, (ast.If, ast.Match, ast.Try, ast.TryStar)) for n in parts)


def recorder_for(
    file: SourceFile,
    node: Repeated,
    path: str,
    branches: bool,
    times: bool,
    names: list[str] | None = None,
    watches: Iterable[str] = (),
) -> Recorder:
    """A recorder for a loop, comprehension or function of a file.

    `names`: only these; those that the body does not assign are read at the end of each pass.  `watches`: expressions
    that are read, too, where the loop sees their names.
    """
    kind = kind_of(node)
    others = [ELEMENT] if kind == "elements" else [RETURNED] if kind == "calls" else []
    if isinstance(node, FUNCTIONS) and any(isinstance(n, ast.Name) and n.id == node.name for n in ast.walk(node)):
        others += [CALL, DEPTH]
    own, stored = values(file, node)
    if names:
        reads = tuple(n for n in names if n not in own and n not in stored)
        own, stored = tuple(n for n in names if n in own), tuple(n for n in names if n in stored)
    else:
        reads = tuple(n for n in (*changed_places(file, node), *_visible(file, node, watches)) if n not in own)
        reads = tuple(n for n in dict.fromkeys(reads) if n not in stored)
    reads = reads if kind == "loop" else ()
    others = [*reads, *others]
    if not isinstance(node, COMPREHENSIONS):
        others += [BRANCHES] if branches and branch_nodes(node) else []
        others += [SECONDS] if times else []
    made = Recorder(path, position(node)[:2], own[:MOST], stored[:MOST], tuple(others), kind)
    made.reads = reads
    made.counted = not isinstance(node, ast.For)
    made.now = Run(made)
    made.head = file.segment(node) if kind == "elements" else head(file, node)
    return made


def is_readable(text: str) -> bool:
    """True for names, attributes, elements and arithmetic: they are read at the end of a pass, nothing is called."""
    try:
        return all(isinstance(n, READABLE) for n in ast.walk(ast.parse(text, mode="eval").body))
    except (SyntaxError, ValueError):
        return False


def _visible(file: SourceFile, node: Repeated, watches: Iterable[str]) -> list[str]:
    """The watch expressions whose names the loop's function uses, or the module sets."""
    statement = file.statement(position(node))
    scope = statement.scope if statement is not None else file.tree
    used = {n.id for n in ast.walk(scope) if isinstance(n, ast.Name)}
    used |= {a.arg for a in ast.walk(scope) if isinstance(a, ast.arg)}
    found = []
    for text in watches:
        if is_readable(text):
            names = {n.id for n in ast.walk(ast.parse(text, mode="eval")) if isinstance(n, ast.Name)}
            if names and names <= used:
                found.append(text)
    return found


def values(file: SourceFile, node: Repeated) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The names, and the attributes and elements, that a pass can tell."""
    if isinstance(node, COMPREHENSIONS):
        return _targets(node), ()
    own = dict.fromkeys((*arguments(node), *assigned(node)) if isinstance(node, FUNCTIONS) else assigned(node))
    return tuple(own), places(node, file.segment)


def head(file: SourceFile, node: Repeated) -> str:
    statement = file.statement(position(node))
    return " ".join(file.statement_text(statement).split()) if statement is not None else ""


def _targets(node: Comprehension) -> tuple[str, ...]:
    names = [n.id for g in node.generators for n in ast.walk(g.target) if isinstance(n, ast.Name)]
    return tuple(dict.fromkeys(names))


def passes_at(file: SourceFile, line: int) -> list[Repeated]:
    """What begins at a line and has passes: a loop or function by its head, else the comprehensions there."""
    found: list[Repeated] = [
        s.node for s in file.statements if s.line == line and isinstance(s.node, (*LOOPS, *FUNCTIONS))
    ]
    if not found:
        found = [n for n in ast.walk(file.tree) if isinstance(n, COMPREHENSIONS) and n.lineno == line]
    return found


def around(file: SourceFile, line: int) -> list[Repeated]:
    """The loops around a line within its function, and the one that it heads, outermost first; where there are none,
    the comprehensions of the line's statement; else the function."""
    statement = file.innermost(line)
    if statement is None:
        return []
    found: list[Repeated] = list(statement.loops)
    if isinstance(statement.node, LOOPS):
        found.append(statement.node)
    if not found:
        inner = [n for n in ast.walk(statement.node) if isinstance(n, COMPREHENSIONS)]
        found = (
            [n for n in inner if n.lineno <= line <= (n.end_lineno or 0)] if not hasattr(statement.node, "body") else []
        )
    if not found:
        scope = statement.node if isinstance(statement.node, FUNCTIONS) else statement.scope
        found = [scope] if isinstance(scope, FUNCTIONS) else []
    return found


def all_loops(file: SourceFile) -> list[Loop]:
    return [s.node for s in file.statements if isinstance(s.node, LOOPS)]
