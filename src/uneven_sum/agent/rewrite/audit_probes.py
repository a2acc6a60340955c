"""The probes of an audit run: each operator, comparison, store and call that a rule wants is done by a function that
sees its operands and its result.

    a + b            ‹audit_add›(a, b, site)
    a == b           ‹audit_eq›(a, b, site)
    x[i] = v         ‹audit_store›(v, x, i, site)
    x[i] += v        ‹audit_put›(‹audit_change_iadd›(‹audit_take›(x, i), v, site), site)
    -a               ‹audit_neg›(a, site)
    x[i - 1]         x[‹audit_index›(i - 1, site)]
    f(a, k=b)        ‹audit_call›(f, site, a, k=b)      for the names that a rule wants
    f(a, k=b)        ‹shaken_call›(f, site)(a, k=b)     in shaken runs: what is not moved is called as it is
    for … in it      for … in ‹audit_iter›(it, site)
    except: …        except: ‹audit_handled›(site); …
    f(a)             as a statement of its own: its result is thrown away

Order and number of evaluations stay.  `Options.audit` has the names that are wanted.
"""

from __future__ import annotations

import ast
import sys

from ..core.trees import walk
from ..source.sites import callee
from ..source.source_file import position
from .expressions import STREAMED_TERM, Expressions

OPERATORS = {
    **{ast.Add: "add", ast.Sub: "sub", ast.Mult: "mul", ast.Div: "truediv", ast.FloorDiv: "floordiv", ast.Mod: "mod"},
    **{ast.Pow: "pow", ast.MatMult: "matmul"},
}
COMPARISONS = {
    **{ast.Eq: "eq", ast.NotEq: "ne", ast.Lt: "lt", ast.LtE: "le", ast.Gt: "gt", ast.GtE: "ge"},
    **{ast.In: "in", ast.NotIn: "not_in"},
}
CALLS_OUT = (ast.Call, ast.Subscript, ast.Await)  # in a bound: other windows may come between its owner and it
SEES_CALLER = {
    "super",
    "locals",
    "globals",
    "vars",
    "dir",
    "eval",
    "exec",
    "compile",
    "__import__",
    "warn",
    "breakpoint",
}


def same_place(a: ast.AST, b: ast.AST) -> bool:
    """Whether two expressions name the same variable, attribute or element."""
    return ast.unparse(a) == ast.unparse(b)


class AuditProbes(Expressions):
    """`running`: texts of the targets that the statement under way stores into."""

    running: tuple[str, ...] = ()

    def _wants(self, name: str) -> bool:
        return name in self.options.audit

    def audited_operator(self, node: ast.BinOp) -> ast.expr:
        name = OPERATORS.get(type(node.op))
        if name is None or not self._wants(name):
            return node
        role = "audit"
        if self.options.results:
            term = ast.Constant(self.sites.add(self.file, self.at, position(node), role) | STREAMED_TERM)
            return self._here(self._probe(f"audit_{name}", node.left, node.right, term), node)
        if name in ("add", "sub") and self.running:
            sides = (node.left, node.right) if name == "add" else (node.left,)
            if any(
                isinstance(s, (ast.Name, ast.Attribute, ast.Subscript)) and ast.unparse(s) in self.running
                for s in sides
            ):
                role = "running"
        site = self._site(role, node)
        mark = "_running" if role == "running" else ""
        return self._here(self._probe(f"audit_{name}{mark}", node.left, node.right, site), node)

    def audited_augmented(self, s: ast.AugAssign, target: ast.expr, right: ast.expr) -> ast.expr | None:
        """`target op= right` on what is no array: None where no rule wants it."""
        name = OPERATORS.get(type(s.op))
        if name is None or not self._wants(name):
            return None
        site = self.sites.add(self.file, self.at, position(s), "running" if name in ("add", "sub") else "audit")
        site |= STREAMED_TERM if self.options.results else 0
        mark = "_running" if name in ("add", "sub") else ""
        return self._here(self._probe(f"audit_i{name}{mark}", target, right, ast.Constant(site)), s)

    def audited_place(self, s: ast.AugAssign) -> ast.stmt | None:
        """`x[i] op= v` and `o.a op= v`: the place is evaluated and read before the value, as Python does."""
        name, place = OPERATORS.get(type(s.op)), s.target
        if name is None or not (self._wants(name) or self._wants("store")):
            return None
        role = "running" if name in ("add", "sub") else "audit"
        where, op_site = position(place), self.sites.add(self.file, self.at, position(s), role)
        op_site |= STREAMED_TERM if self.options.results else 0
        if isinstance(place, ast.Subscript):
            owner, index = self.inside(place.value), self.index_of(self.inside(place.slice))
            taken = self._probe("audit_take", owner, index)
        elif isinstance(place, ast.Attribute) and not (place.attr.startswith("__") and not place.attr.endswith("__")):
            taken = self._probe("audit_take_attribute", self.inside(place.value), ast.Constant(place.attr))
        else:
            return None  # a private name of a class is changed by the compiler
        # Each part at the place where its error is shown: reading and storing at the target, the operation at all.
        changed = self._probe(f"audit_change_i{name}", self._here(taken, place), self.inside(s.value))
        changed = self._here(changed, s)
        changed.args.append(self._here(ast.Constant(op_site), s))
        store_site = ast.Constant(self.sites.add(self.file, self.at, where, "audit"))
        return self._here(ast.Expr(self._here(self._probe("audit_put", changed, store_site), place)), s)

    def audited_negation(self, node: ast.UnaryOp) -> ast.expr:
        if not self._wants("neg") or not isinstance(node.op, ast.USub) or isinstance(node.operand, ast.Constant):
            return node
        return self._here(self._probe("audit_neg", node.operand, self._site("audit", node)), node)

    def audited_comparison(self, node: ast.Compare) -> ast.expr:
        if len(node.ops) != 1:
            return node
        name = COMPARISONS.get(type(node.ops[0]))
        if name is None or not self._wants(name):
            return node
        return self._here(self._probe("audit_" + name, node.left, node.comparators[0], self._site("audit", node)), node)

    def audited_call(self, node: ast.Call, name: str) -> ast.expr:
        wanted = self._wants("call:" + name) or (name and self._wants("call:*"))
        if not wanted or name in SEES_CALLER:
            return node
        if self.options.results and isinstance(node.func, ast.Name) and name in self.file.own_functions:
            return node
        site = self._site("audit", node)
        if self.options.results:
            node.func = self._here(self._probe("shaken_call", node.func, site), node.func)
            return node
        return self._here(ast.Call(ast.Constant("\0us:audit_call"), [node.func, site, *node.args], node.keywords), node)

    def audited_store(
        self, s: ast.Assign, index: ast.expr | None = None, like: ast.expr | None = None
    ) -> ast.stmt | None:
        """`x[i] = v` as a call; None for other targets.  `index`: the index, where it is evaluated already; `like`:
        the target as the user has written it."""
        if not self._wants("store") or len(s.targets) != 1 or not isinstance(s.targets[0], ast.Subscript):
            return None
        target = s.targets[0]
        index = index or self.index_of(target.slice)
        site = self._site("audit", like or target)
        return self._here(ast.Expr(self._probe("audit_store", s.value, target.value, index, site)), like or s)

    def with_place(self, made: ast.expr, test: ast.expr) -> ast.expr:
        """The test of an `assert` that has become a call: before 3.12 its error is shown where the compiler was last,
        which a call does not say and a comparison does."""
        if sys.version_info >= (3, 12) or not isinstance(test, ast.Compare) or made is test:
            return made
        same = ast.Compare(ast.Constant(0), [ast.Eq()], [ast.Constant(0)])
        return self._here(ast.BoolOp(ast.And(), [made, self._here(same, test)]), test)

    def audited_index(self, node: ast.Subscript) -> None:
        """Look at a computed index: `x[i - 1]`, `-k` of `x[-k:]`, the bounds of `x[i - 3 : i + 4]`."""
        if not self._wants("index"):
            return
        index = node.slice
        if isinstance(index, ast.BinOp) and isinstance(index.op, (ast.Add, ast.Sub)):
            node.slice = self._here(self._probe("audit_index", index, self._site("audit", index)), index)
        elif isinstance(index, ast.Slice) and isinstance(index.lower, ast.UnaryOp) and index.upper is None:
            lower = index.lower
            if isinstance(lower.op, ast.USub) and not isinstance(lower.operand, ast.Constant):
                index.lower = self._here(self._probe("audit_index", lower, self._site("audit slice", lower)), lower)
        elif isinstance(index, ast.Slice):
            owner = node.value
            # `max(i - 3, 0)`: who has written that knows of the edges.
            window = isinstance(index.upper, ast.BinOp) and isinstance(index.lower, (ast.Name, ast.BinOp))
            if window and isinstance(node.ctx, ast.Load) and not any(isinstance(n, CALLS_OUT) for n in walk(index)):
                node.value = self._here(self._probe("audit_index", owner, self._site("audit window", owner)), owner)
            for name in ("lower", "upper"):
                bound = getattr(index, name)
                if isinstance(bound, ast.BinOp) and isinstance(bound.op, (ast.Add, ast.Sub)):
                    site = self._site(f"audit {name}", bound)
                    setattr(index, name, self._here(self._probe("audit_index", bound, site), bound))

    def index_of(self, index: ast.expr) -> ast.expr:
        """An index as a value: slices become calls of `slice`."""
        if isinstance(index, ast.Slice):
            parts = [part or ast.Constant(None) for part in (index.lower, index.upper, index.step)]
            return self._probe("slice", *parts)
        if isinstance(index, ast.Tuple) and any(isinstance(e, ast.Slice) for e in index.elts):
            return ast.Tuple([self.index_of(e) for e in index.elts], ast.Load())
        return index

    def audited_iterable(self, node: ast.expr, loop: ast.AST) -> ast.expr:
        if not self._wants("iter"):
            return node
        return self._here(self._probe("audit_iter", node, self._site("audit", node)), node)

    def audited_handler(self, h: ast.ExceptHandler) -> list[ast.stmt]:
        """A probe at the start of a handler that leaves no trace of its exception."""
        if not self._wants("handled") or not is_silent(h):
            return []
        site = self.sites.add(self.file, position(h.body[0]), position(h), "audit")
        return [self._here(ast.Expr(self._probe("audit_handled", ast.Constant(site))), h.body[0])]

    def audited_result(self, call: ast.expr, made: ast.expr) -> ast.expr:
        """The result of a call that is a statement of its own; `made`: what the call has become."""
        if isinstance(call, ast.Call) and self._wants("unused:" + callee(call)):
            owner = call.func.value if isinstance(call.func, ast.Attribute) else call.func
            if isinstance(owner, (ast.Name, ast.Attribute)):
                return self._here(self._probe("audit_unused", made, self._site("audit", call)), call)
        return made


def is_silent(h: ast.ExceptHandler) -> bool:
    """A broad handler whose body neither raises, calls nor names the exception: it passes, or puts a default."""
    names = [h.type] if h.type is not None else []
    names = [e for n in names for e in (n.elts if isinstance(n, ast.Tuple) else [n])]
    broad = h.type is None or any(isinstance(n, ast.Name) and n.id in ("Exception", "BaseException") for n in names)
    for node in (n for s in h.body for n in walk(s)):
        if isinstance(node, (ast.Raise, ast.Call)):
            return False
        if isinstance(node, ast.Name) and h.name is not None and node.id == h.name:
            return False
    only_passes = all(isinstance(s, (ast.Pass, ast.Continue)) for s in h.body)
    puts_default = all(isinstance(s, (ast.Assign, ast.Continue, ast.Pass, ast.Return)) for s in h.body)
    return only_passes or (broad and puts_default) or (puts_default and any(isinstance(s, ast.Assign) for s in h.body))
