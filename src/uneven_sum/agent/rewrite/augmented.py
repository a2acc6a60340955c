"""Rewrites augmented assignments: `x += e`, `o.a += e`, `o[i] += e`.

Their target is evaluated once, and their result is looked at before it is stored.
"""

from __future__ import annotations

import ast
import copy
from typing import Any

from ..core.markers import INDEX, OLD, OWNER, VALUE
from ..core.trees import walk
from .operands import Operands
from .placing import placed
from .predicates import repeatable
from .recording_probes import RecordingProbes

LOSSLESS = (ast.Add, ast.Sub, ast.Mult)


class Augmented(RecordingProbes):
    """`_augassign` gives the statements in the place of one."""

    def _augassign(self, s: ast.AugAssign) -> list[ast.stmt]:
        if self.options.audit and not self.options.checks and isinstance(s.target, ast.Name):
            right = self.inside(s.value)
            done = self.audited_augmented(s, placed(self._load(s.target.id), s.target), right)
            s.value = right
            return [s if done is None else self._here(ast.Assign([s.target], done), s)]
        if self.options.audit and not self.options.checks and (audited := self.audited_place(s)) is not None:
            return [audited]
        if not (self.options.checks or self.options.stream) and not self.captures(s.target):
            s.target = self.inside(s.target)  # type: ignore[assignment]  # a target stays one
            s.value = self.inside(s.value)
            return [s]
        if self.options.stream and not self.options.checks and isinstance(s.target, ast.Name):
            return self._told(s, s.target)
        lossless = isinstance(s.op, LOSSLESS)
        if isinstance(s.target, ast.Name):
            return self._aug_name(s, s.target.id, lossless)
        return self._aug_place(s)

    def _checked(self, value: ast.expr, s: ast.AugAssign, old: ast.expr | None = None) -> ast.expr:
        """The result of an augmented assignment, looked at before it is stored."""
        operands = Operands(self.readable).take(s.target).take(s.value)
        site = self._site("augmented", s.value, parts=operands.parts)
        if self.options.stream:
            return self._here(self._probe("stream", value, site), s)
        if not self.options.checks:
            return value
        if old is not None:
            return self._here(self._probe("check_augmented", value, old, site), s)
        if self.temps:
            return self._here(self._inline(None, site, VALUE, operands.names), s)
        return self._here(self._check(value, ast.Constant(None), site, operands.names), s)

    def _told(self, s: ast.AugAssign, target: ast.Name) -> list[ast.stmt]:
        """`x += e` as it is, and then its result told to the stream."""
        site = self._site("augmented", s.value)
        s.value = self.inside(s.value)

        def name() -> ast.expr:
            return self._load(target.id)

        told: ast.expr = self._probe("stream", name(), site)
        if self.temps and self.in_line:
            added = self._probe("stream_add", ast.Tuple([ast.Constant(site.value), name()], ast.Load()))
            told = ast.IfExp(self._type_is(name(), "float"), added, told)
        return [s, self._here(ast.Expr(told), s)]

    def _aug_name(self, s: ast.AugAssign, name: str, lossless: bool) -> list[ast.stmt]:
        """`x += e` on numbers runs on a copy; on all else in place, as it would, and is looked at after."""

        def target() -> ast.expr:
            return placed(self._load(name), s.target)

        right = self.value(_copy(s.value), "right") if not lossless else self.inside(_copy(s.value))
        number: list[ast.stmt]
        audited = self.audited_augmented(s, target(), right) if self.options.audit else None
        if self.temps:
            change: ast.stmt = placed(ast.AugAssign(self._store(VALUE), s.op, right), s)
            number = [
                self._set(VALUE, target()),
                change,
                ast.Assign([s.target], self._checked(self._load(VALUE), s)),
            ]
            if audited is not None:
                number[:2] = [self._here(ast.Assign([self._store(VALUE)], audited), s)]
        else:
            done = audited or placed(self._probe("i" + type(s.op).__name__.lower(), target(), right), s)
            number = [ast.Assign([_copy(s.target)], self._checked(done, s))]
        s.value = self.value(s.value, "right")
        site = self._site("augmented", s.value)
        changed = self.audited_augmented(s, target(), s.value) if self.options.audit else None
        other: list[ast.stmt] = [
            ast.Expr(self._probe("before", target(), site)),
            s if changed is None else self._here(ast.Assign([s.target], changed), s),
            ast.Expr(self._probe("stream" if self.options.stream else "after", target(), site)),
        ]
        return [self._here(ast.If(self._is_number(target), number, other), s)]

    def _aug_place(self, s: ast.AugAssign) -> list[ast.stmt]:
        """`o.a += e` and `o[i] += e`: o and i are evaluated once, the result is looked at before it is stored."""
        place = s.target
        assert isinstance(place, (ast.Attribute, ast.Subscript))
        if self._is_steady(s, place):
            return self._aug_number(s, place)
        return self._aug_any(s, place)

    def _is_steady(self, s: ast.AugAssign, place: ast.Attribute | ast.Subscript) -> bool:
        """True where owner and index are names of the function that nothing binds while the statement runs."""
        parts: list[ast.expr] = [place.value]
        if isinstance(place, ast.Subscript):
            parts += place.slice.elts if isinstance(place.slice, ast.Tuple) else [place.slice]
        parts = [part.operand if isinstance(part, ast.UnaryOp) else part for part in parts]  # `a[-1]`
        names = {part.id for part in parts if isinstance(part, ast.Name)}
        constants = sum(isinstance(part, ast.Constant) for part in parts)
        if sum(isinstance(part, ast.Name) for part in parts) + constants < len(parts) or not names <= self.own_names:
            return False
        binds = any(isinstance(node, ast.NamedExpr) for node in walk(s.value))
        return self.temps and self.options.only_checks and not binds and not self.captures(place)

    def _aug_number(self, s: ast.AugAssign, place: ast.Attribute | ast.Subscript) -> list[ast.stmt]:
        """Where a number is in the place now, owner and index are simply evaluated twice."""
        number = self._is_plain_number(VALUE)
        lossless = isinstance(s.op, LOSSLESS)  # what is not finite on the right is not finite in the result
        right = self.inside(_copy(s.value)) if lossless else self.value(_copy(s.value), "right")
        read, store = _copy(place), _copy(place)
        read.ctx = ast.Load()
        steps: list[ast.stmt] = [
            placed(ast.AugAssign(self._store(VALUE), s.op, right), s),
            ast.Assign([store], self._checked(self._load(VALUE), s)),
        ]
        known = ast.If(number, steps, self._aug_any(s, place, read=False))
        return [self._here(self._set(VALUE, read), s), self._here(known, s)]

    def _aug_any(self, s: ast.AugAssign, place: ast.Attribute | ast.Subscript, read: bool = True) -> list[ast.stmt]:
        """Whatever is in the place now.  Not `read`: it is in VALUE already."""
        right = self.value(s.value, "right")
        if not self.temps:
            if not repeatable(place):
                audited_place = self.audited_place(s) if self.options.audit else None
                s.value = right
                return [audited_place or s]
            s.value = right
            return [self._aug_by_functions(s, place)]
        first: list[ast.stmt] = [self._set(OWNER, self.inside(place.value))]

        def at(ctx: ast.expr_context) -> ast.expr:
            if isinstance(place, ast.Attribute):
                return placed(ast.Attribute(self._load(OWNER), place.attr, ctx), place)
            return placed(ast.Subscript(self._load(OWNER), self._load(INDEX), ctx), place)

        if isinstance(place, ast.Subscript):
            first.append(self._set(INDEX, _as_index(self.inside(place.slice), self)))
        old = ast.IfExp(
            self._is_number(lambda: self._load(VALUE)), ast.Constant(None), self._probe("old", self._load(VALUE))
        )
        clear = [self._store(n) for n in (VALUE, OLD, OWNER, INDEX)]
        change: ast.stmt = ast.AugAssign(self._store(VALUE), s.op, right)
        audited = self.audited_augmented(s, self._load(VALUE), right) if self.options.audit else None
        if audited is not None:
            change = ast.Assign([self._store(VALUE)], audited)
        stored: ast.stmt = ast.Assign(
            [at(ast.Store())], self.captured([place], self._checked(self._load(VALUE), s, self._load(OLD)))
        )
        if self.options.audit and isinstance(place, ast.Subscript):
            stored = self.audited_store(stored, self._load(INDEX), place) or stored  # type: ignore[arg-type]  # an Assign
        return [
            self._here(step, s)
            for step in (
                *first,
                *([self._set(VALUE, at(ast.Load()))] if read else []),
                self._set(OLD, old),
                placed(change, s),
                stored,
                ast.Assign(list(clear), ast.Constant(None)),
            )
        ]

    def _aug_by_functions(self, s: ast.AugAssign, place: ast.Attribute | ast.Subscript) -> ast.stmt:
        key = ast.Constant(place.attr) if isinstance(place, ast.Attribute) else _as_index(place.slice, self)
        get, put = ("getattr", "setattr") if isinstance(place, ast.Attribute) else ("getitem", "setitem")
        present = placed(self._probe(get, _copy(place.value), _copy(key)), place)
        audited = self.audited_augmented(s, present, s.value) if self.options.audit else None
        done = placed(audited or self._probe("i" + type(s.op).__name__.lower(), present, s.value), s)
        value = self.captured([place], self._checked(done, s))
        if self.options.audit and isinstance(place, ast.Subscript):
            kept = self.audited_store(ast.Assign([place], value), _copy(key), place)
            if kept is not None:
                return kept
        stored = self._probe(put, place.value, key, value)
        return self._here(ast.Expr(stored), s)


def _copy(node: object) -> Any:
    return copy.deepcopy(node)


def _as_index(index: ast.expr, by: Augmented) -> ast.expr:
    """A subscript's index as an expression of its own: slices become calls of `slice`."""
    if isinstance(index, ast.Slice):
        parts = [p or ast.Constant(None) for p in (index.lower, index.upper, index.step)]
        return placed(by._probe("slice", *parts), index)
    if isinstance(index, ast.Tuple):
        index.elts = [_as_index(e, by) for e in index.elts]
    return index
