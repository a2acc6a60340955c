"""The probes within expressions: result checks, and the meters of loops and comprehensions.

`rewrite/statements.py` has the whole plan; this is its part below the statement.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from ..core.markers import ELEMENT, MARK, METER, VALUE
from ..core.trees import Comprehension, walk
from ..source.call_lists import (
    ABSORBING,
    GO_OVER,
    NAMESPACES,
    NO_DATA_ATTRIBUTES,
    NO_DATA_PASSED,
    TEXT_CALLS,
)
from ..source.sites import Options, Parts, Sites, callee, read_from
from ..source.source_file import COMPREHENSIONS, Position, SourceFile, position
from .operands import Operands
from .placing import N, at, placed
from .predicates import counts_from_zero, is_arithmetic, is_iterator, is_text, may_be_bad

if TYPE_CHECKING:
    from ..lookouts.lookout import Lookout

MAX = sys.float_info.max


def produces(node: ast.AST) -> bool:
    """True for expressions whose value is made here: operators, calls, and what is read from the result of a call."""
    if isinstance(node, (ast.Attribute, ast.Subscript)):
        made = read_from(node)
        return isinstance(made, ast.Call) and produces(made) and not _reads_no_data(node, made)
    if isinstance(node, ast.BinOp):
        return not (isinstance(node.left, (ast.Constant, ast.JoinedStr)) and is_text(node.left))
    if isinstance(node, ast.UnaryOp):
        return not isinstance(node.op, ast.Not) and produces(node.operand)
    if isinstance(node, ast.Call):
        return not (isinstance(node.func, ast.Name) and node.func.id in NAMESPACES)
    return isinstance(node, ast.Await)


def _reads_no_data(node: ast.AST, made: ast.Call) -> bool:
    """`f(x).shape[0]`, `line.split()[1]`: sizes, names and pieces of text."""
    if callee(made) in TEXT_CALLS:
        return True
    while node is not made and isinstance(node, (ast.Attribute, ast.Subscript)):
        if isinstance(node, ast.Attribute) and node.attr in NO_DATA_ATTRIBUTES:
            return True
        node = node.value
    return False


def _is_operator(node: ast.AST) -> bool:
    """An operator on names and constants: it is looked at, and what it warns of is settled there."""
    plain = (ast.operator, ast.unaryop, ast.BinOp, ast.UnaryOp, ast.Name, ast.Load, ast.Constant)
    return produces(node) and all(isinstance(part, plain) for part in walk(node))


def _is_approximate(node: ast.AST) -> bool:
    """A constant with so many digits that it is surely rounded, unlike 0.1."""
    if not isinstance(node, ast.Constant) or type(node.value) is not float:
        return False
    return len(repr(node.value).partition("e")[0].replace(".", "").strip("-0")) >= MANY_DIGITS


LITERAL = {ast.Constant}
UNSET = {"empty", "empty_like", "ndarray"}  # calls whose memory is not set yet: see `recording/unset_memory.py`
STREAMED = {"value", "return", "yield", "test", "result"}  # roles of values that a stream tells
# Calls that print, write or draw what they are given; those of `to_…` write what they are a method of.
PRINTING = {"print", "write", "writelines", "writerow", "writerows", "savetxt", "save", "savez", "dump", "dumps", "log"}
PRINTING |= {"info", "debug", "warning", "echo", "to_csv", "to_json", "to_parquet", "to_excel", "to_string", "tofile"}
PRINTING |= {"plot", "scatter", "imshow", "hist", "bar", "contour", "contourf", "semilogx", "semilogy", "loglog"}
PRINTING |= {"pcolormesh", "errorbar", "fill_between", "step"}
# The parts of a truth value and of a term: see `recording/value_stream.py`.
STREAMED_TEST, STREAMED_TERM, STREAMED_LOOP = 2 << 24, 14 << 24, 17 << 24
MANY_DIGITS = 12
LARGE = 10_000  # lines of a file from which on checks are calls: its start would take too long otherwise


class Expressions:
    """Rewrites expressions.  `at` is the position of the statement under way."""

    def __init__(self, file: SourceFile, sites: Sites, options: Options) -> None:
        self.file, self.sites, self.options = file, sites, options
        self.temps = False  # whether temporaries may be used here
        self.in_element = False  # within a list comprehension of a function: ELEMENT may be used
        self.in_line = len(file.lines) < LARGE
        self.absorbing = 0
        self.looked_at: set[str] = set()  # functions of the file whose `return` looks at the value
        self.own_names: set[str] = set()  # of the function around, which nothing else binds
        self.readable: set[str] = set()  # names that may be read once more, at no risk
        self.globals: set[str] = set()  # those of the module
        self.calls = True  # the function around calls something
        self.at: Position = (0, 0, 0, 0)
        self.range_is_builtin = True

    # -- small builders ------------------------------------------------------------------------------

    @staticmethod
    def _here(node: N, like: ast.AST) -> N:
        return placed(node, like)

    def _probe(self, name: str, *args: ast.expr) -> ast.Call:
        return ast.Call(ast.Constant(MARK + name), list(args), [])

    def _site(
        self,
        role: str,
        expression: ast.AST | None = None,
        lookouts: Sequence[Lookout] = (),
        parts: Parts | None = None,
    ) -> ast.Constant:
        where = position(expression) if expression is not None else None
        numbers, versions = tuple(lk.id for lk in lookouts), tuple(lk.version for lk in lookouts)
        return ast.Constant(self.sites.add(self.file, self.at, where, role, numbers, versions, parts))

    def _watched_lambda(self, node: ast.Lambda) -> None:
        """Lookouts that stand in a lambda or comprehension: see `lookout_probes`."""

    def _watched_elements(self, node: ast.AST) -> None: ...

    def _comprehended(self, node: ast.AST) -> None:
        """A comprehension is rewritten: see `recording_probes`."""

    @staticmethod
    def _load(name: str) -> ast.Name:
        return ast.Name(name, ast.Load())

    @staticmethod
    def _store(name: str) -> ast.Name:
        return ast.Name(name, ast.Store())

    def _set(self, name: str, value: ast.expr) -> ast.Assign:
        return ast.Assign([self._store(name)], value)

    def _type_is(self, value: ast.expr, kind: str) -> ast.Compare:
        return ast.Compare(self._probe("type", value), [ast.Is()], [ast.Constant(MARK + kind)])

    def _is_number(self, value: Callable[[], ast.expr]) -> ast.expr:
        """`type(x) is float or type(x) is int or key_of(type(x)) in ‹numbers›`"""
        kind = self._probe("key_of", self._probe("type", value()))
        known = ast.Compare(kind, [ast.In()], [ast.Constant(MARK + "numbers")])
        return ast.BoolOp(ast.Or(), [self._type_is(value(), "float"), self._type_is(value(), "int"), known])

    def _is_plain_number(self, name: str, likely_int: bool = False) -> ast.expr:
        """`type(x) is float or type(x) is int`, the likelier first"""
        kinds = ("int", "float") if likely_int else ("float", "int")
        return ast.BoolOp(ast.Or(), [self._type_is(self._load(name), kind) for kind in kinds])

    def _meter_name(self, loop: ast.AST) -> str:
        # The loop's line and column name its meter, so that a pause can find it again.
        return f"{METER}{loop.lineno}_{loop.col_offset}"  # type: ignore[attr-defined]  # loops have places

    def _metered(self, iterable: ast.expr, loop: ast.AST, like: ast.expr, temps: bool) -> ast.expr:
        """The iterable of a `for`, with a meter that costs next to nothing."""
        if not self.options.meters:
            return iterable
        is_range = (
            self.range_is_builtin
            and isinstance(like, ast.Call)
            and isinstance(like.func, ast.Name)
            and like.func.id == "range"
        )
        if not temps:
            site = self._site("loop", loop)
            if is_range:
                return self._here(self._probe("range_loop", iterable, site), like)
            return self._here(
                self._probe("compress", iterable, self._probe("enter_loop", site)), _iter_place(loop, like)
            )
        name = self._meter_name(loop)
        if is_range:
            kept = ast.NamedExpr(self._store(name + "r"), iterable)
            return self._here(ast.NamedExpr(self._store(name), self._probe("iter", kept)), like)
        # The iterator of a list or tuple, and `enumerate`, tell their index; other iterables get a meter beside them.
        ones = self._probe("repeat", ast.Constant(True), ast.Constant(sys.maxsize))
        other = self._probe("compress", self._load(name), ast.NamedExpr(self._store(name), ones))
        if not isinstance(loop, ast.For) or (is_iterator(iterable) and not counts_from_zero(iterable)):
            other.args[0] = iterable
            return self._here(other, _iter_place(loop, like))
        own: ast.expr = ast.NamedExpr(self._store(name), self._probe("iter", self._load(name)))
        given = ast.NamedExpr(self._store(name), iterable)
        test: ast.expr
        if counts_from_zero(iterable):
            test, own = self._type_is(given, "enumerate"), self._load(name)
        else:
            test = ast.BoolOp(ast.Or(), [self._type_is(given, "list"), self._type_is(self._load(name), "tuple")])
        return self._here(ast.IfExp(test, own, other), _iter_place(loop, like))

    # -- expressions ---------------------------------------------------------------------------------

    def value(self, node: ast.expr, role: str) -> ast.expr:
        """An expression whose value is stored, returned or passed on: checked where it is made."""
        if isinstance(node, (ast.Tuple, ast.List, ast.Set)):
            if (
                self.options.results or not set(map(type, node.elts)) <= LITERAL
            ):  # a table of numbers may have a million
                node.elts = [self.value(e, role) for e in node.elts]
            return node
        if isinstance(node, ast.Dict):
            node.keys = [k and self._argument(k) for k in node.keys]
            node.values = [self.value(v, role) for v in node.values]
            return node
        if isinstance(node, ast.Starred):
            node.value = self.value(node.value, "argument")
            return node
        if isinstance(node, ast.IfExp):
            node.test = self.value(node.test, "test")
            node.body, node.orelse = self.value(node.body, role), self.value(node.orelse, role)
            return node
        if isinstance(node, ast.BoolOp):
            node.values = [self.value(v, role) for v in node.values]
            return node
        if isinstance(node, ast.NamedExpr):
            node.value = self.value(node.value, role)
            return node
        if self.options.stream and role in STREAMED and not (role == "test" and isinstance(node, ast.Constant)):
            if self.options.results and (role == "result" and isinstance(node, (ast.Constant, ast.JoinedStr))):
                return self.inside(node)
            if self.options.results and role != "result" and isinstance(node, ast.BinOp):
                return self.inside(node)  # the operator tells its result itself
            return self._streamed(self.inside(node), node, role)
        wanted = self.options.checks and not self.absorbing and self._worth_a_look(node, role)
        if not wanted:
            return self.inside(node)
        if self._is_looked_at(node):
            return self.inside(node)
        site_of = position(node)
        operands = Operands(self.readable).take(node)
        names, parts = operands.names, operands.parts  # before the nodes change
        node = self.inside(node)
        site = ast.Constant(self.sites.add(self.file, self.at, site_of, role, (), (), parts))
        if self.temps and self.in_line:
            return self._here(self._of_numbers(node, self._inline(node, site, VALUE, names)), node)
        if self.in_element and self.in_line:
            return self._here(self._inline(node, site, ELEMENT, names), node)
        if names and self.readable is self.globals:  # elsewhere it is an element of a generator: each call counts
            return self._here(self._check(node, ast.Constant(None), site, names), node)
        call = at(self._probe("check", node, at(ast.Constant(None), node), at(site, node)), node)
        at(call.func, node)
        return call

    def _check(self, value: ast.expr, emptied: ast.expr, site: ast.expr, operands: Sequence[str]) -> ast.expr:
        """The call that looks at a value; with the names that it may have its bad cells from, if there are any."""
        if not operands:
            return self._probe("check", value, emptied, site)
        given = ast.Tuple([self._load(name) for name in operands], ast.Load())
        return self._probe("check_result", value, emptied, site, given)

    def _is_looked_at(self, node: ast.expr) -> bool:
        """True for a call whose value its function looks at, and whose arguments leave no warning that would wait: they
        make nothing, or are looked at themselves."""
        if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in self.looked_at):
            return False
        given = [*node.args, *(k.value for k in node.keywords)]
        return all(
            isinstance(one, (ast.Name, ast.Constant)) or _is_operator(one) or self._is_looked_at(one) for one in given
        )

    def _streamed(self, made: ast.expr, node: ast.expr, role: str) -> ast.expr:
        """What the expression `node` has become, told to the stream; floats and truth values in line."""
        number = self.sites.add(self.file, self.at, position(node), role)
        site = ast.Constant(number)
        # Loops send what is full, and so do values that a call sends: a function may call itself without end.
        short = role in ("value", "test") or (role == "return" and not self.calls)
        if not (self.temps and self.in_line and short):
            return self._here(self._probe("stream", made, site), node)
        kind, key = ("float", number) if role != "test" else ("bool", number | STREAMED_TEST)
        test = self._type_is(ast.NamedExpr(self._store(VALUE), made), kind)
        told = self._probe("stream_add", ast.Tuple([ast.Constant(key), self._load(VALUE)], ast.Load()))
        emptied = ast.NamedExpr(self._store(VALUE), ast.Constant(None))
        other = self._probe("stream", self._load(VALUE), site, emptied)
        known = ast.BoolOp(ast.Or(), [told, self._load(VALUE)])  # what tells gives None
        return self._here(ast.IfExp(test, known, other), node)

    def _worth_a_look(self, node: ast.expr, role: str) -> bool:
        if produces(node):
            return not (isinstance(node, ast.Call) and role == "iterable" and callee(node) in NO_DATA_PASSED)
        if role in ("return", "yield") or (self.options.carried and role != "iterable"):
            return isinstance(node, (ast.Name, ast.Attribute, ast.Subscript))
        return False

    def _inline(
        self, node: ast.expr | None, site: ast.expr, name: str = VALUE, operands: Sequence[str] = ()
    ) -> ast.expr:
        """The check in line; node None: what is looked at is in the temporary already."""
        load = self._load(name) if node is None else ast.NamedExpr(self._store(name), node)
        finite = ast.BoolOp(ast.And(), [self._type_is(load, "float"), self._within(name)])
        test = ast.BoolOp(ast.Or(), [finite, self._type_is(self._load(name), "int")])
        emptied = ast.NamedExpr(self._store(name), ast.Constant(None))
        return ast.IfExp(test, self._load(name), self._check(self._load(name), emptied, site, operands))

    def _of_numbers(self, node: ast.expr, checked: ast.expr) -> ast.expr:
        """A check that is faster where the names in it are known to be numbers: see `block_probes`."""
        return checked

    def _within(self, name: str) -> ast.expr:
        """That the float in a temporary is finite, in the way that is faster."""
        if sys.version_info >= (3, 14):
            nothing = ast.BinOp(self._load(name), ast.Sub(), self._load(name))
            return ast.Compare(nothing, [ast.Eq()], [ast.Constant(0.0)])
        return ast.Compare(ast.Constant(-MAX), [ast.LtE(), ast.LtE()], [self._load(name), ast.Constant(MAX)])

    def inside(self, node: ast.expr) -> ast.expr:
        """An expression that is not itself looked at; what it passes on is."""
        kind = type(node)
        if kind is ast.Name or kind is ast.Constant:
            if self.options.results and _is_approximate(node):
                return self._here(self._probe("shaken_constant", node), node)
            return node
        if kind is ast.Call:
            return self._call(node)  # type: ignore[arg-type]  # `kind` is its type
        if isinstance(node, ast.Lambda):
            return self._lambda(node)
        if isinstance(node, COMPREHENSIONS):
            return self._comprehension(node)
        if isinstance(node, ast.Compare):
            node.left = self.value(node.left, "argument")
            node.comparators = [self.value(c, "argument") for c in node.comparators]
            return self.audited_comparison(node) if self.options.audit else node
        elif isinstance(node, ast.FormattedValue):
            node.value = self.value(node.value, "result" if self.options.results else "argument")
        elif (isinstance(node, ast.Subscript) and isinstance(node.ctx, ast.Load)) or isinstance(node, ast.Subscript):
            if self.options.audit:
                self.audited_index(node)
            made_here = isinstance(node.value, (ast.BinOp, ast.UnaryOp)) and not self.absorbing
            node.value = self.value(node.value, "argument") if made_here else self.inside(node.value)
            node.slice = self.value(node.slice, "argument") if may_be_bad(node.slice) else self.inside(node.slice)
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            node.operand = self._argument(node.operand)
        elif isinstance(node, ast.Yield):
            if node.value is not None:
                node.value = self.value(node.value, "yield")
        elif isinstance(node, (ast.Tuple, ast.List, ast.Set, ast.Dict, ast.IfExp, ast.BoolOp, ast.NamedExpr)):
            return self.value(node, "argument")
        elif kind is ast.BinOp:
            if self.options.results and self._formats(node):  # type: ignore[arg-type]  # `kind` is BinOp
                node.right = self.value(node.right, "result")  # type: ignore[attr-defined]
                return node
            passes = self._argument if self._formats(node) else self.inside  # type: ignore[arg-type]  # the same
            # mypy: `kind` is BinOp.  In this order, which is that of the sites
            node.left, node.right = self.inside(node.left), passes(node.right)  # type: ignore[attr-defined]
            # mypy: `kind` is BinOp
            return self.audited_operator(node) if self.options.audit else node  # type: ignore[arg-type]
        else:
            for name, value in ast.iter_fields(node):
                if isinstance(value, ast.expr):
                    setattr(node, name, self.inside(value))
                elif isinstance(value, list):
                    setattr(node, name, [self.inside(v) if isinstance(v, ast.expr) else v for v in value])
            if kind is ast.UnaryOp and self.options.audit:
                return self.audited_negation(node)  # type: ignore[arg-type]  # `kind` is UnaryOp
        return node

    def _call(self, node: ast.Call) -> ast.expr:
        name = callee(node)
        unset = self.options.stream and name in UNSET and self._is_numpys(node.func)
        absorbs = name in ABSORBING
        self.absorbing += absorbs
        if isinstance(node.func, ast.Attribute):
            owner = node.func.value
            if is_arithmetic(owner) and not absorbs:
                node.func.value = self.value(owner, "argument")
            else:
                node.func.value = self.inside(owner)
        else:
            node.func = self.inside(node.func)
        passes = self._argument
        if name in NO_DATA_PASSED:
            passes = self._gone_over if name in GO_OVER else self.inside
        if self.options.results and (name in PRINTING or self._formats(node)):
            passes = self._result
            if name.startswith("to") and isinstance(node.func, ast.Attribute):
                site = ast.Constant(self.sites.add(self.file, self.at, position(node.func.value), "result"))
                node.func.value = self._here(self._probe("stream", node.func.value, site), node.func.value)
        node.args = [passes(a) for a in node.args]
        if (
            isinstance(node.func, ast.Name)
            and name in ("exec", "eval")
            and node.args
            and not isinstance(node.args[0], ast.Starred)
        ):
            known = self._load(node.func.id)
            node.args[0] = self._here(self._probe("run_text", known, node.args[0]), node.args[0])
        for k in node.keywords:
            k.value = passes(k.value)
        self.absorbing -= absorbs
        made = self.audited_call(node, name) if self.options.audit else node
        return self._here(self._probe("unset", made), node) if unset else made

    def _is_numpys(self, function: ast.expr) -> bool:
        """Whether the text says that a function is NumPy's own: a method or a function of this name may be another."""
        modules, functions = self.file.numpy_names
        if isinstance(function, ast.Attribute):
            return isinstance(function.value, ast.Name) and function.value.id in modules
        return isinstance(function, ast.Name) and function.id in functions

    # What an audit puts in the place of these: see `audit_probes`.

    def audited_operator(self, node: ast.BinOp) -> ast.expr:
        return node

    def audited_comparison(self, node: ast.Compare) -> ast.expr:
        return node

    def audited_negation(self, node: ast.UnaryOp) -> ast.expr:
        return node

    def audited_iterable(self, node: ast.expr, loop: ast.AST) -> ast.expr:
        return node

    def audited_index(self, node: ast.Subscript) -> None: ...

    def audited_call(self, node: ast.Call, name: str) -> ast.expr:
        return node

    def _result(self, node: ast.expr) -> ast.expr:
        return self.value(node, "result")

    @staticmethod
    def _formats(node: ast.BinOp | ast.Call) -> bool:
        """`"…" % values`, `"…".format(values)`, and `str(value)`, `repr(value)`, `format(value, "…")`."""
        if isinstance(node, ast.BinOp):
            return isinstance(node.op, ast.Mod) and is_text(node.left)
        func = node.func
        if isinstance(func, ast.Name) and func.id in ("str", "repr", "format"):
            return True
        return isinstance(func, ast.Attribute) and func.attr == "format" and is_text(func.value)

    def _argument(self, node: ast.expr) -> ast.expr:
        return self.value(node, "argument")

    def _gone_over(self, node: ast.expr) -> ast.expr:
        """What `enumerate` or `zip` goes over: looked at where it is made there."""
        return self.value(node, "argument") if is_arithmetic(node) else self.inside(node)

    def given(self, call: ast.Call | ast.ClassDef) -> None:
        """The arguments of a decorator, or the keywords of a class."""
        if isinstance(call, ast.Call):
            call.args = [self._argument(a) for a in call.args]
        for k in call.keywords:
            k.value = self._argument(k.value)

    def defaults(self, a: ast.arguments) -> None:
        """The default values of a function or lambda, which are made where it is defined."""
        a.defaults = [self.value(d, "argument") for d in a.defaults]
        a.kw_defaults = [d and self.value(d, "argument") for d in a.kw_defaults]

    def _lambda(self, node: ast.Lambda) -> ast.expr:
        self.defaults(node.args)
        outer = (self.temps, self.absorbing, self.in_element)
        self.temps, self.absorbing, self.in_element = False, 0, False
        node.body = self.value(node.body, "return")
        self._watched_lambda(node)
        self.temps, self.absorbing, self.in_element = outer
        return node

    def _comprehension(self, node: Comprehension) -> ast.expr:
        outer = self.temps, self.in_element
        # A generator may run in another thread than the call whose names it sees: no temporary there.
        in_element = (self.temps or self.in_element) and not isinstance(node, ast.GeneratorExp)
        like = node.generators[0].iter
        self.temps = self.in_element = False
        first = self.value(like, "iterable")
        if self.options.audit and not node.generators[0].is_async:
            first = self.audited_iterable(first, node)
        node.generators[0].iter = first if node.generators[0].is_async else self._metered(first, node, like, False)
        for number, generator in enumerate(node.generators):
            if number:
                generator.iter = self.inside(generator.iter)
            self.in_element = in_element
            generator.ifs = [self.value(test, "test") for test in generator.ifs]
            self.in_element = False  # not in what it goes over
        self.in_element = in_element
        if isinstance(node, ast.DictComp):
            node.key = self._argument(node.key)
            if node.value is not None:  # since 3.15 `{**part for part in parts}` has none
                node.value = self.value(node.value, "value")
        else:
            role = "yield" if isinstance(node, ast.GeneratorExp) else "value"
            node.elt = self.value(node.elt, role)
        self._watched_elements(node)
        self._comprehended(node)
        self.temps, self.in_element = outer
        return node


def _iter_place(loop: ast.AST, like: ast.expr) -> ast.AST:
    """Where a failure to iterate is shown: before 3.13, the whole loop."""
    return loop if sys.version_info < (3, 13) and isinstance(loop, ast.For) else like
