"""One step of a chain: the statement that wrote a value, as a paused place, and what the value was made from."""

from __future__ import annotations

import ast
import os
import types
from typing import Any

from ..core.errors import Refused
from ..core.markers import MISSING
from ..diagnosis import provenance
from ..frames import stack
from ..frames.exception_handlers import instruction_place, statement_at
from ..frames.namespace import Scope
from ..pause.facts import whole_of
from ..source import registry
from ..source.cells import place_words
from ..source.sites import callee
from ..source.source_file import COMPREHENSIONS, SourceFile, Statement, position
from ..values import nonfinite
from ..values.describe import text_of
from .cells import Cell, cell_of, element_of, first_bad, holds, of_suffix, within
from .place import Place, resolved
from .reader import is_bad
from .rows import rows_of
from .sources import element_source, line_source, source_of
from .watched import ALIAS, ARGUMENT, PRINTED, USE, WRITE

GENERATOR = 0x20 | 0x200  # CO_GENERATOR, CO_ASYNC_GENERATOR
MOST = 12  # operands that are listed
# Functions whose cells are those of their first argument.
CELLS_KEPT = {"array", "asarray", "asanyarray", "ascontiguousarray", "copy", "list", "tuple", "float", "int", "round"}
CELLS_KEPT |= {"nan_to_num", "atleast_1d", "Series", "around", "float64", "float32"}


def told_of(value: object) -> dict[str, object]:
    """A value: its text, and whether it has cells that are not finite."""
    if value is MISSING:
        return {"text": "", "missing": True, "nonfinite": False}
    return {"text": text_of(value), "missing": False, "nonfinite": is_bad(value)}


def facts_of(frame: types.FrameType, place: Place, kind: str) -> dict[str, object]:
    """The paused place of a write, and its operands.  `kind` as of a write."""
    calls = stack.calls(frame)
    at = calls[1] if kind == ARGUMENT and len(calls) > 1 else frame
    file = registry.file_of(at)
    statement = statement_at(file, at) if file is not None else None
    loops = stack.all_loops(at)
    facts: dict[str, Any] = {
        "file": registry.path_of(at),
        "line": statement.line if statement is not None else stack.line_of(at),
        "function": stack.function_name(at),
        "pass": loops[0]["pass"] if loops else 0,
        "loops": loops,
        "chain": stack.chain(frame),
        "statement": file.statement_text(statement) if file is not None and statement is not None else "",
        "operands": [],
    }
    if file is None or statement is None or kind == USE:
        return facts
    facts["at"] = list(position(statement.node))
    if kind == PRINTED:
        root = whole_of(statement.node)
        facts["operands"] = Taken(at, file, Cell()).operands(root) if isinstance(root, ast.expr) else []
    elif kind == ARGUMENT:
        cell = Cell(place.text[len(place.name) :])
        given = _given(file, at, frame, place)
        facts["operands"] = [one for node in given for one in Taken(at, file, cell).whole(node)]
    else:
        root, cell = _made(statement, at, place)
        facts["through"] = _through(statement.node, place, Scope(at))
        if kind == WRITE and (facts["through"] or _is_same_object(statement.node, place)):
            facts["kind"] = ALIAS
        if root is not None:
            taken = Taken(at, file, cell, place.name)
            facts |= _made_from(root, cell, taken, statement, facts["pass"])
    facts["operands"] = facts["operands"][:MOST]
    return facts


def _made_from(root: ast.expr, cell: Cell, taken: Taken, statement: Statement, number: int) -> dict[str, object]:
    """The operands, and where it was read from a file, or that a row has none to come from."""
    at = place_words(taken.file.path, statement.line)
    source = source_of(root, taken.scope, cell, at)
    source = source or element_source(root, taken.scope, cell, at)
    if isinstance(statement.node, (ast.For, ast.AsyncFor)) and not source:
        source = line_source(root, taken.scope, at, number)
        element = element_of(statement.node.target, root, taken.name, number, taken.scope) if number else None
        if element is not None and not source:
            return {"operands": taken.whole(element)}
    if source:
        return {"operands": [], "source": source, "kind": "read"}
    rows = rows_of(root, taken.scope, cell.suffix)
    for one in rows:
        if one.text:
            taken.add(one.text)
    if rows:
        return {"operands": taken.found, "source": next((one.said for one in rows if one.said), "")}
    return {"operands": taken.operands(root)}


def _is_same_object(node: ast.stmt, place: Place) -> bool:
    """Whether a statement gives the place's name an object that is there already."""
    if not isinstance(node, ast.Assign) or not (place.whole or place.text != place.name):
        return False
    named = any(isinstance(t, ast.Name) and t.id == place.name for t in node.targets)
    return named and isinstance(node.value, (ast.Name, ast.Attribute, ast.Subscript))


def _through(node: ast.stmt, place: Place, scope: Scope) -> str:
    """The other name by which an object was changed; empty when it is the place's own."""
    targets = [*getattr(node, "targets", []), *([node.target] if hasattr(node, "target") else [])]
    for target in targets:
        root: ast.AST = target
        while isinstance(root, (ast.Attribute, ast.Subscript)):
            root = root.value
        if root is not target and isinstance(root, ast.Name) and root.id != place.name:
            return ast.unparse(target.value) if isinstance(target, (ast.Attribute, ast.Subscript)) else ""
    return ""


def _given(file: SourceFile, caller: types.FrameType, called: types.FrameType, place: Place) -> list[ast.expr]:
    """The expression by which the caller gives an argument."""
    code = called.f_code
    call = _call_of(file, caller, code)
    if call is None:
        return []
    names = list(code.co_varnames[: code.co_argcount])
    named = {k.arg: k.value for k in call.keywords}
    if place.name in named:
        return [named[place.name]]
    if place.name not in names or any(isinstance(a, ast.Starred) for a in call.args):
        return []
    number = names.index(place.name)
    is_method = isinstance(call.func, ast.Attribute) and code.co_name == call.func.attr and len(call.args) < len(names)
    if is_method and "." in stack.plain_name(code.co_qualname) and names[0] in ("self", "cls"):
        if number == 0:
            assert isinstance(call.func, ast.Attribute)
            return [call.func.value]
        number -= 1
    return [call.args[number]] if number < len(call.args) else []


def _call_of(file: SourceFile, caller: types.FrameType, code: types.CodeType) -> ast.Call | None:
    """The call under way of a function; where something else has called that, the statement's one call of it."""
    where = instruction_place(caller.f_code, caller.f_lasti)
    call = file.node(where, ast.Call) if where is not None else None
    scope = Scope(caller)
    if isinstance(call, ast.Call) and _calls(call, code, scope):
        return call
    statement = statement_at(file, caller)
    if statement is None:
        return None
    found = [n for n in ast.walk(statement.node) if isinstance(n, ast.Call) and _calls(n, code, scope)]
    return found[0] if len(found) == 1 else None


def _calls(call: ast.Call, code: types.CodeType, scope: Scope) -> bool:
    """Whether a call is one of the function that has this code."""
    try:
        function = provenance.read(call.func, scope)
    except provenance.Unreadable:
        return callee(call) == code.co_name
    if isinstance(function, type):
        function = function.__dict__.get("__init__")
    function = getattr(function, "__func__", function)
    return getattr(function, "__code__", None) is code or callee(call) == code.co_name


def _made(statement: Statement, frame: types.FrameType, place: Place) -> tuple[ast.expr | None, Cell]:
    """The expression that made the value, and which cell of it the place is."""
    node = statement.node
    scope = Scope(frame)
    root = whole_of(node)
    if isinstance(node, ast.AugAssign):
        target = ast.parse(ast.unparse(node.target), mode="eval").body
        root = ast.copy_location(ast.BinOp(ast.copy_location(target, node.target), node.op, node.value), node)
        return root, cell_of(node.target, place, scope)
    if isinstance(node, ast.Assign):
        for target in node.targets:
            parts = target.elts if isinstance(target, (ast.Tuple, ast.List)) else [target]
            values = node.value.elts if isinstance(node.value, (ast.Tuple, ast.List)) else []
            sure = [n for n, part in enumerate(parts) if holds(part, place, scope)]
            maybe = sure or [n for n, part in enumerate(parts) if within(part, place, scope)]
            if maybe and len(parts) == 1:
                return node.value, cell_of(parts[0], place, scope)
            if sure or len(maybe) == 1:
                number = maybe[-1]  # the last of equal targets holds
                cell = cell_of(parts[number], place, scope)
                if len(values) == len(parts):
                    return values[number], cell
                if not any(isinstance(one, ast.Starred) for one in parts):
                    return node.value, Cell(f"[{number}]{cell.suffix}")
            elif maybe:  # which of them wrote it is not known: all values are operands
                return node.value, Cell()
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and place.whole and node.value.args:
        given = [*node.value.args, *(k.value for k in node.value.keywords)]
        return ast.Tuple(given, ast.Load()), Cell()  # what it returns is not kept
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and node.value.args and "[" in place.text:
        call = node.value
        if isinstance(call.func, ast.Attribute) and call.func.attr in ("append", "appendleft", "insert", "add"):
            suffix = place.text[place.text.index("[") :]
            return call.args[-1], of_suffix(suffix[suffix.index("]") + 1 :])
    if isinstance(node, ast.AnnAssign):
        return node.value, cell_of(node.target, place, scope)
    if isinstance(node, (ast.For, ast.AsyncFor)):
        return node.iter, of_suffix(place.text[len(place.name) :])
    if not isinstance(root, ast.expr):
        return None, Cell()
    return _taken_of(root, place.text) if place.returns else (root, Cell(known=True))


def _taken_of(root: ast.expr, suffix: str) -> tuple[ast.expr, Cell]:
    """What `[1]` takes of a returned tuple, where that is written out."""
    if isinstance(root, ast.Tuple) and suffix.startswith("["):
        number, _, rest = suffix[1:].partition("]")
        if number.isdigit() and int(number) < len(root.elts):
            return _taken_of(root.elts[int(number)], rest)
    return root, of_suffix(suffix)


class Taken:
    """Takes an expression apart into the places and values that it reads."""

    def __init__(self, frame: types.FrameType, file: SourceFile, cell: Cell, name: str = "") -> None:
        self.name = name  # that gets the value
        self.frame, self.file, self.cell, self.scope = frame, file, cell, Scope(frame)
        self.calls: dict[str, int] = {}
        self.found: list[dict[str, object]] = []
        self.bound: set[str] = set()  # names of comprehensions and lambdas in it

    def whole(self, node: ast.expr) -> list[dict[str, object]]:
        """The expression is the same object: the place within it stays the same."""
        if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
            text = ast.unparse(node) + self.cell.suffix
            self.add(text)
            return self.found
        return self.operands(node)

    def operands(self, root: ast.expr) -> list[dict[str, object]]:
        """All operands, in the order in which they are read."""
        if isinstance(root, (ast.Name, ast.Attribute, ast.Subscript)) and self.cell.suffix:
            return self.whole(root)
        for node in ast.walk(root):
            if isinstance(node, COMPREHENSIONS):
                for generator in node.generators:
                    self.bound |= {n.id for n in ast.walk(generator.target) if isinstance(n, ast.Name)}
            elif isinstance(node, ast.Lambda):
                self.bound |= {a.arg for a in ast.walk(node.args) if isinstance(a, ast.arg)}
        self._visit(root, True)
        return self.found

    def _visit(self, node: ast.AST, elementwise: bool) -> None:
        if isinstance(node, ast.Constant):
            return
        if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)) and self._read(node, elementwise):
            return
        if isinstance(node, ast.Call):
            self._call(node, elementwise)
            return
        same = elementwise and isinstance(node, (ast.BinOp, ast.UnaryOp, ast.Compare))
        for child in ast.iter_child_nodes(node):
            self._visit(child, same)

    def _read(self, node: ast.expr, elementwise: bool) -> bool:
        """Take a place that can be read; False where its parts are to be taken."""
        names = {n.id for n in ast.walk(node) if isinstance(n, ast.Name)}
        if names & self.bound:
            return isinstance(node, ast.Name)
        try:
            value = provenance.read(node, self.scope)
        except provenance.Unreadable:
            return isinstance(node, ast.Name)
        if isinstance(node, ast.Name) and node.id.startswith("__") and node.id.endswith("__"):
            return True
        if isinstance(value, types.ModuleType) or (callable(value) and not nonfinite.is_frame(value)):
            return True
        text = ast.unparse(node)
        cell = self.cell.within(value) if elementwise and self.cell.known else ""
        text += cell or (first_bad(value) if is_bad(value) else "")
        self.add(text)
        return True

    def _call(self, node: ast.Call, elementwise: bool) -> None:
        try:
            function = provenance.read(node.func, self.scope)
        except provenance.Unreadable:
            function = None
        place = self._place_of_call(node, function)
        if place is not None:
            text = place.shown
            self.found.append({"text": text, "value": "", "nonfinite": False, "place": place.told(), "calls": True})
            return
        if isinstance(node.func, ast.Attribute):
            self._visit(node.func.value, False)
        if elementwise and self.cell.known and getattr(function, "__name__", "") in CELLS_KEPT and len(node.args) >= 1:
            self._visit(node.args[0], True)
            return
        numpy = nonfinite.module("numpy")
        same = elementwise and numpy is not None and isinstance(function, numpy.ufunc)
        for part in [*node.args, *(k.value for k in node.keywords)]:
            self._visit(part, same or (elementwise and getattr(function, "__name__", "") in ("where", "clip")))

    def _place_of_call(self, node: ast.Call, function: object) -> Place | None:
        """What a function of the user's returned, or the object that a class of the user's made."""
        made = function if isinstance(function, types.FunctionType) else getattr(function, "__func__", None)
        number = 0
        if isinstance(function, type):
            made = function.__dict__.get("__init__")
        if not isinstance(made, types.FunctionType) or made.__code__.co_filename not in registry.files:
            return None
        if made.__code__.co_flags & GENERATOR:
            return None  # it returns nothing: its values come one by one
        name = stack.plain_name(made.__code__.co_qualname)
        self.calls[name] = number = self.calls.get(name, 0) + 1
        file = os.path.realpath(made.__code__.co_filename)
        shown = " ".join(self.file.segment(node).split()) + self.cell.suffix
        if isinstance(function, type):
            first = made.__code__.co_varnames[0]
            return Place(file, name, first, first + self.cell.suffix, leaves=True, call=number, shown=shown)
        return Place(file, name, "", self.cell.suffix, returns=True, call=number, shown=shown)

    def add(self, text: str) -> None:
        """Take the value that a text names."""
        node = ast.parse(text, mode="eval").body
        if any(one["text"] == text for one in self.found):
            return
        try:
            value = provenance.read(node, self.scope)
        except provenance.Unreadable:
            value = MISSING
        told: dict[str, object] = {"text": text, "value": "", "nonfinite": False, "place": None, "calls": False}
        if value is not MISSING:
            told.update(value=text_of(value), nonfinite=is_bad(value))
        try:
            if not self._is_of_module(node):
                told["place"] = resolved(node, self.frame).told()
        except Refused:
            pass
        if told["place"] is not None or told["nonfinite"]:
            self.found.append(told)

    def _is_of_module(self, node: ast.expr) -> bool:
        """Whether it is a constant of a module that the script imports, such as `np.nan`."""
        root: ast.AST = node
        while isinstance(root, (ast.Attribute, ast.Subscript)):
            root = root.value
        thing = self.scope[root.id] if isinstance(root, ast.Name) and root.id in self.scope else None
        path = getattr(thing, "__file__", None) if isinstance(thing, types.ModuleType) else None
        return isinstance(thing, types.ModuleType) and path not in registry.files
