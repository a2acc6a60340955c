"""The culprit among the terms of a statement: the deepest that is non-finite, or raised, while its own operands are
fine."""

from __future__ import annotations

import ast
import contextlib
from collections.abc import Iterator
from dataclasses import field
from typing import Any

from ..core.markers import MISSING
from ..core.records import record
from ..source.call_lists import DIVIDES, EMPTY_BY_DESIGN, SUMS
from ..source.sites import callee, read_from, written_to
from ..source.source_file import COMPREHENSIONS, SourceFile
from ..values import nonfinite, polars_cells, tensor_arrays
from . import complex_powers, join_notes, provenance, reasons
from .reasons import Reason

NOT_EVALUATED = "not evaluated"
_CONTAINERS = (ast.Tuple, ast.List, ast.Dict, ast.Set)


@record
class Term:
    node: ast.AST
    depth: int
    value: object = MISSING
    note: str = NOT_EVALUATED  # why there is no value
    children: list[Term] = field(default_factory=list)
    operands: list[object] = field(default_factory=list)  # values of all operands, constants too
    judged_inside: bool = False  # a call whose own code has met the non-finite value
    no_data: bool = False  # a call that was given no data
    sender: str = ""  # a call that passes on what another process has made: which
    cellwise: bool = False
    culprit: bool = False
    was_bad: Any = None  # a mask of the cells that were not finite before it changed in place
    how: str = ""  # what the operation did to shapes and dtypes; which element of a comprehension it is

    @property
    def known(self) -> bool:
        return self.value is not MISSING


@record
class Culprit:
    term: Term
    kind: str | None  # created, arrived; None for one that raised
    cell: list[int] | None = None
    operands: list[tuple[str, object]] = field(default_factory=list)
    reason: Reason = reasons.NONE
    element: str = ""  # of a comprehension: which
    part: str = ""  # of several arrays that a function gives: which
    sender: str = ""  # from where it has arrived, where that is another process
    made: int = 0  # cells that it has made bad, where others were so before


def find(root: Term, terms: list[Term], raised: ast.AST | None, file: SourceFile) -> Culprit | None:
    """The deepest term at fault in the order of evaluation, or None when nothing is bad here."""
    if raised is not None:
        for term in terms:
            if term.node is raised:
                return _named(Culprit(term, None), terms, file)
        return None
    for term in _bottom_up(root):
        if not term.known or not nonfinite.count(term.value) or isinstance(term.node, _CONTAINERS):
            continue
        if isinstance(term.node, (ast.Name, ast.Attribute, ast.Subscript, ast.IfExp, ast.BoolOp, ast.NamedExpr)):
            continue
        if isinstance(term.node, ast.Await) or provenance.is_deliberate(term.node) or term.judged_inside:
            continue
        if isinstance(term.node, ast.Call) and callee(term.node) in EMPTY_BY_DESIGN and not _divided(term):
            continue
        if _explained(term) or _is_of_its_element(term):
            continue
        sent = next((t for t in _bottom_up(term) if t.sender and (t is term or not t.known)), None)
        if sent is not None:
            return _named(Culprit(sent, provenance.ARRIVED, sender=sent.sender), terms, file)
        return _named(Culprit(term, provenance.ARRIVED if term.no_data else provenance.CREATED), terms, file)
    left_out = _left_out(root, terms)
    if left_out is not None:
        return _named(Culprit(left_out, provenance.ARRIVED if left_out.no_data else provenance.CREATED), terms, file)
    if type(root.value) is complex and not nonfinite.count(root.value):
        power = next((t for t in _bottom_up(root) if complex_powers.gives_complex(t.node, t.value, t.operands)), None)
        return _named(Culprit(power, provenance.CREATED), terms, file) if power is not None else None
    return None


def _is_of_its_element(term: Term) -> bool:
    """A comprehension whose first bad element was taken apart: that was looked at before, as each was when made."""
    bad = any(child.known and nonfinite.count(child.value) for child in term.children)
    return isinstance(term.node, COMPREHENSIONS) and bad


def _left_out(root: Term, terms: list[Term]) -> Term | None:
    """The call that the bad cells of a statement were read from, where it could not be evaluated again."""
    made = read_from(root.node)
    if made is root.node or not isinstance(made, ast.Call) or not root.known or not nonfinite.count(root.value):
        return None
    call = next((term for term in terms if term.node is made), None)
    return call if call is not None and call.note.startswith(NOT_EVALUATED) and not call.known else None


def _named(found: Culprit, terms: list[Term], file: SourceFile) -> Culprit:
    """With the first bad cell, the operands there, and the reason."""
    term = found.term
    term.culprit = True
    around = terms[: terms.index(term) + 1]
    depth = term.depth + 1
    for outer in reversed(around):  # the element of a comprehension that it belongs to
        if outer.depth < depth:
            depth = outer.depth
            if outer.how.startswith("element "):
                found.element = outer.how.partition(",")[0]
                break
    joined = _join(term, file)
    if joined:
        found.reason = Reason(text=joined)
        found.operands = [
            (file.segment(c.node), c.value) for c in term.children if c.known and nonfinite.is_frame(c.value)
        ]
        return found
    like = _first_bad_part(found) if term.known else None
    if term.known and like is None:
        _find_cells(found)
        like = term.value
    at = found.cell if term.cellwise or hasattr(term.value, "iloc") else None  # else the whole operand is shown
    written = written_to(term.node) if isinstance(term.node, ast.Call) else None
    for child in term.children:
        if child.known and not isinstance(child.value, type) and child.node is not written:
            node, value = _without_indexer(child)
            value = _at(value, at, like) if at is not None else value
            found.operands.append((file.segment(node), value))
    values = [v if at is None else _at(v, at, like) for v in term.operands]
    with contextlib.suppress(Exception):
        found.reason = reasons.reason(term.node, values)
        if found.reason is reasons.NONE and term.cellwise and isinstance(term.node, ast.Call):
            found.reason = reasons.of_function(values, _at(like, at, like))
        if isinstance(term.node, ast.AugAssign) and at is not None and len(values) == 1:
            found.reason = reasons.in_place(term.node.op, values[0], _at(term.value, at, term.value))
    return found


def _without_indexer(term: Term) -> tuple[ast.AST, object]:
    """`frame.loc` and the like stand for the frame."""
    if isinstance(term.node, ast.Attribute) and type(term.value).__module__ == "pandas.core.indexing":
        return term.node.value, getattr(term.value, "obj", term.value)
    return term.node, term.value


def _join(term: Term, file: SourceFile) -> str:
    """What is to be said of a join: the keys without a partner."""
    node = term.node
    if not isinstance(node, ast.Call) or not term.known or not nonfinite.is_frame(term.value):
        return ""
    nodes: list[ast.expr] = [*node.args, *[k.value for k in node.keywords]]
    if isinstance(node.func, ast.Attribute) and len(term.operands) > len(nodes):
        nodes.insert(0, node.func.value)
    if len(nodes) != len(term.operands):
        return ""
    with contextlib.suppress(Exception):
        texts = [file.segment(n) for n in nodes]
        return join_notes.explain(node, join_notes.named_operands(node, texts, term.operands), term.value)
    return ""


def _bottom_up(term: Term) -> Iterator[Term]:
    for child in term.children:
        yield from _bottom_up(child)
    yield term


def _explained(term: Term) -> bool:
    if not term.cellwise and not isinstance(term.node, ast.BinOp):
        known = isinstance(term.node, ast.Call) and callee(term.node) in SUMS
        if not known and provenance.makes_nan(term.value, [], term.operands):
            return True  # a library's own way with infinities
    cellwise, whole = (term.operands, []) if term.cellwise else ([], term.operands)
    return provenance.explained(term.value, provenance.Operands.of(cellwise, whole))


def _divided(term: Term) -> bool:
    """True for a change relative to zero."""
    divides = isinstance(term.node, ast.Call) and callee(term.node) in DIVIDES
    return divides and nonfinite.any_infinite(term.value)


def _first_bad_part(found: Culprit) -> object:
    """Of a function that gives several arrays, as `airy` does, the first with a bad cell; None for other values."""
    term, np = found.term, nonfinite.module("numpy")
    if np is None or not term.cellwise or not isinstance(term.node, ast.Call) or type(term.value) is not tuple:
        return None
    parts: tuple[Any, ...] = term.value
    bad = [n for n, part in enumerate(parts) if isinstance(part, (np.ndarray, np.generic)) and nonfinite.count(part)]
    if not bad:
        return None
    found.part = f"part {bad[0] + 1} of {len(parts)}"
    places = np.argwhere(nonfinite.mask(parts[bad[0]]))
    alike = [v for v in term.operands if getattr(v, "shape", None) == parts[bad[0]].shape]
    for is_bad in (nonfinite.mask, nonfinite.nan_mask):  # of infinities nan may be made
        given = [is_bad(v) for v in alike]
        new = [place for place in places if not any(mask[tuple(place)] for mask in given)]
        if new:
            break
    found.cell = [int(i) for i in (new or list(places))[0]]
    return parts[bad[0]]


def _find_cells(found: Culprit) -> None:
    """The first bad cell that no operand explains, and how many there are; none for scalars."""
    term = found.term
    if polars_cells.is_one(term.value):
        row = polars_cells.first_row(term.value, term.operands) if term.cellwise else -1
        found.cell = [row] if row >= 0 else None
        return
    np = nonfinite.module("numpy")
    mine = nonfinite.mask(term.value)
    if np is None or not getattr(mine, "shape", ()) or isinstance(term.value, (list, tuple)):
        return
    if _divided(term):
        mine = mine & ~nonfinite.nan_mask(term.value)
    left = mine.copy()
    of_infinities = np.array(nonfinite.nan_mask(term.value))
    for operand in term.operands if term.cellwise else []:
        with contextlib.suppress(Exception):
            left &= ~np.broadcast_to(nonfinite.mask(operand), mine.shape)
        with contextlib.suppress(Exception):
            of_infinities &= ~np.broadcast_to(nonfinite.nan_mask(operand), mine.shape)
    if term.cellwise and of_infinities.shape == left.shape:
        if not nonfinite.is_frame(term.value) and not getattr(term.was_bad, "shape", None):
            found.made = int((left | of_infinities).sum())
        left = left if left.any() else of_infinities
    if getattr(term.was_bad, "shape", None) == left.shape and (left & ~term.was_bad).any():
        left &= ~term.was_bad
    places = np.argwhere(left if left.any() else mine)
    found.cell = [int(i) for i in places[0]] if len(places) else None


def _at(value: Any, cell: list[int] | None, like: Any) -> object:
    """An operand's value at a cell of the result, by broadcasting (frames: by label, else by place)."""
    if cell is not None and polars_cells.is_one(value):
        return polars_cells.at_row(value, cell[0])
    np = nonfinite.module("numpy")
    if cell is None or np is None:
        return value
    with contextlib.suppress(Exception):
        if hasattr(value, "iloc") and hasattr(like, "index"):
            label = like.index[cell[0]]
            if label not in value.index:
                return MISSING
            row = value.iloc[cell[0]] if len(value) == len(like) else value.loc[label]
            return row.iloc[cell[1]] if len(cell) > 1 and hasattr(row, "iloc") else row
        if getattr(value, "shape", ()):
            shape = tuple(int(n) for n in like.shape) if tensor_arrays.is_tensor(type(like)) else np.shape(like)
            value = tensor_arrays.as_numpy(value) if tensor_arrays.is_tensor(type(value)) else value
            return np.broadcast_to(np.asarray(value), shape)[tuple(cell)]
    return value
