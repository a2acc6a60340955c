"""Takes a statement apart: every term of its expression evaluated once, bottom up, and the culprit found.

The culprit is the deepest term that is non-finite, or raised, while its own operands are fine.  Terms
that call something are evaluated only where that cannot change the script: in a trial (`trial`).
"""

from __future__ import annotations

import ast
import contextlib
import operator
import types
from collections.abc import Callable, Iterator
from typing import Any

from ..core import run_state
from ..core.markers import MISSING
from ..core.text import clean
from ..core.trees import Comprehension
from ..frames.namespace import Scope
from ..source.sites import written_to
from ..source.source_file import COMPREHENSIONS, SourceFile
from ..values import nonfinite
from ..values.describe import summary
from ..values.safe_read import read_attribute, safe_kind
from . import culprit, provenance, senders, shape_notes, text_notes
from .culprit import NOT_EVALUATED, Culprit, Term
from .harmless import is_harmless

CODE_OF_THE_SCRIPT = "not evaluated: it would run code of the script"
KNOWN_BEFORE = "not evaluated: the result was known before"
THREADS_OF_POLARS = "not evaluated: the threads of polars do not exist in a copy"
MOST_ELEMENTS = 200_000  # of a comprehension that is gone through one by one


class NotEvaluated(Exception):
    """This term cannot be evaluated here, or was not reached."""


@contextlib.contextmanager
def quietly() -> Iterator[None]:
    """No warning, no floating-point error of a second evaluation reaches the script."""
    np = nonfinite.module("numpy")
    errors = np.errstate(all="ignore") if np is not None else contextlib.nullcontext()
    with run_state.silenced(), errors:
        yield


def _waits_for_threads(kind: type) -> bool:
    """Whether what is done with such a value is given to threads of its library: a copy would wait in vain."""
    home = str(type.__getattribute__(kind, "__module__"))  # a metaclass of the script's is not asked
    return home.startswith("polars.") and kind.__name__ in ("DataFrame", "LazyFrame", "GroupBy")


class _LooksAround:
    """Built-in functions that read the names of the call that calls them, with fewer arguments than these."""

    COUNTS = ((globals, 1), (locals, 1), (vars, 1), (dir, 1), (eval, 2), (exec, 2), (super, 1))

    @classmethod
    def has(cls, function: object, node: ast.Call) -> bool:
        return any(function is one and len(node.args) < count for one, count in cls.COUNTS)


class Decomposed:
    """One statement's expression taken apart in one frame; `also`: its further ones (targets, other `with` items).

    `actual` is what the expression really gave when it ran; `raised` the node whose evaluation raised, `failed` what
    it raised; `ran`: it has run already.
    `may_call` is true only in a trial.  `met` counts the non-finite values that the user's own code has
    judged so far (a call that raises the count carried its value out of there).  `before_call` hears of what may take
    long.
    """

    def __init__(
        self,
        file: SourceFile,
        root: ast.AST,
        scope: Scope,
        *,
        also: list[ast.AST] | None = None,
        actual: object = MISSING,
        raised: ast.AST | None = None,
        failed: BaseException | None = None,
        ran: bool = False,
        was_bad: object = None,
        may_call: bool = False,
        met: Callable[[], int] = lambda: 0,
        before_call: Callable[[Decomposed, Term], None] = lambda apart, term: None,
    ) -> None:
        self.file, self.scope, self.may_call, self.met = file, scope, may_call, met
        self.raised, self.before_call = raised, before_call
        self.failed, self.ran = failed, ran
        self.in_place = actual is not MISSING and not nonfinite.is_number_kind(type(actual))
        self.namespace: dict[str, object] | None = None
        self.succeeded = actual is not MISSING and raised is None
        self.stopped = False
        self.differs = self.raised_again = ""  # what a second evaluation gave, or raised
        self.terms: list[Term] = []
        with quietly():
            with contextlib.suppress(NotEvaluated):
                self._term(root, 0)
            raised_again = self.raised_again
            for one in also or []:
                with contextlib.suppress(NotEvaluated):
                    self._term(one, 0)
            self.raised_again = raised_again  # a target need not be there yet
        self.root = self.terms[0] if self.terms else Term(root, 0)
        if not self.terms:
            self.terms.append(self.root)
        if self.succeeded:
            again = self.root.value
            if self.root.known and summary(again)["text"] != summary(actual)["text"]:
                self.differs = f"a second evaluation gave {summary(again)['text']}"
            self.root.value, self.root.was_bad = actual, was_bad

    # -- evaluation ----------------------------------------------------------------------------------

    def _term(self, node: ast.AST, depth: int) -> Term:
        """Evaluates a node as a term of its own; raises NotEvaluated after noting it when it cannot."""
        term = Term(node, depth)
        self.terms.append(term)
        if self.stopped:
            raise NotEvaluated
        try:
            value = self._evaluate(node, term)
        except NotEvaluated as e:
            term.note = str(e) or NOT_EVALUATED
            if node is self.raised:
                term.note = "raised"
                self.stopped = True
            raise
        except Exception as e:
            if self.succeeded or (self.ran and not self._is_same(e)):
                # Not so the first time; what else the statement is made of is still evaluated.
                term.note = f"a second evaluation raised {type(e).__name__}"
                self.raised_again = self.raised_again or clean(f"{term.note}: {e}", 160)
                raise NotEvaluated from None
            term.note = f"raised {type(e).__name__}"
            self.stopped = True
            if self.raised is None:
                self.raised = node
            raise NotEvaluated from None
        term.value = value
        return term

    def _is_same(self, again: Exception) -> bool:
        """True for what a second evaluation raises if the first has raised the like."""
        first = self.failed
        return first is not None and type(first) is type(again) and str(first) == str(again)

    def _operand(self, node: ast.AST, term: Term) -> object:
        """The value of an operand; a constant is no term of its own."""
        if isinstance(node, ast.Constant):
            term.operands.append(node.value)
            return node.value
        child: Term | None = None
        at = len(self.terms)
        try:
            child = self._term(node, term.depth + 1)
        finally:
            if len(self.terms) > at:
                term.children.append(child or self.terms[at])
        term.operands.append(child.value)
        return child.value

    def _each(self, nodes: list[Any], term: Term) -> list[Any]:
        """Operands in order; when one cannot be evaluated the others are still shown."""
        failed = False
        values = []
        for node in nodes:
            try:
                values.append(self._operand(node, term))
            except NotEvaluated:
                failed = True
        if failed:
            raise NotEvaluated
        return values

    def _allow(self, term: Term, *values: object) -> None:
        if term.node is self.raised:
            raise NotEvaluated  # it raised when it ran; that is not tried again
        if not self.may_call and not all(safe_kind(type(v)) for v in values):
            raise NotEvaluated(CODE_OF_THE_SCRIPT)

    def _evaluate(self, node: ast.AST, term: Term) -> object:
        method = getattr(self, "_" + type(node).__name__.lower(), None)
        if method is not None:
            return method(node, term)
        if isinstance(node, COMPREHENSIONS):
            return self._comprehension(node, term)
        raise NotEvaluated

    def _constant(self, node: ast.Constant, term: Term) -> object:
        return node.value

    def _name(self, node: ast.Name, term: Term) -> object:
        if node.id not in self.scope:
            if node is self.raised or isinstance(node.ctx, ast.Load):
                term.note = "not known here"
            raise NotEvaluated("not known here")
        return self.scope[node.id]

    def _attribute(self, node: ast.Attribute, term: Term) -> object:
        owner = self._owner(node.value, term)
        self._allow(term)
        found = read_attribute(owner, node.attr)
        if found is MISSING and not self.may_call:
            raise NotEvaluated("not evaluated: a property runs code of the script")
        return getattr(owner, node.attr) if found is MISSING else found

    def _owner(self, node: ast.AST, term: Term) -> object:
        """What an attribute is read from: modules and classes are no terms."""
        if isinstance(node, (ast.Name, ast.Attribute)):
            with contextlib.suppress(provenance.Unreadable):
                value = provenance.read(node, self.scope)
                if isinstance(value, (types.ModuleType, type)) or (isinstance(node, ast.Name) and node.id == "self"):
                    return value
        return self._operand(node, term)

    def _subscript(self, node: ast.Subscript, term: Term) -> object:
        owner = self._operand(node.value, term)
        index = self._index(node.slice, term)
        self._allow(term, owner, index)
        with contextlib.suppress(Exception):
            term.how = shape_notes.from_the_end(node.slice, owner, index)
        return self._apply(term, operator.getitem, owner, index)

    def _index(self, node: ast.AST, term: Term) -> object:
        if isinstance(node, ast.Slice):
            return slice(*[p and self._operand(p, term) for p in (node.lower, node.upper, node.step)])
        if isinstance(node, ast.Tuple):
            return tuple([self._index(e, term) for e in node.elts])
        return self._operand(node, term)

    def _binop(self, node: ast.BinOp, term: Term) -> object:
        left, right = self._each([node.left, node.right], term)
        term.cellwise = not isinstance(node.op, ast.MatMult)
        self._allow(term, left, right)
        return self._told(term, self._apply(term, provenance.OPERATORS[type(node.op)], left, right))

    def _apply(self, term: Term, function: Any, *args: object, **named: object) -> object:
        """What the term itself does; whether code of the script's that it runs meets a non-finite value is noted."""
        met = self.met()
        value = function(*args, **named)
        term.judged_inside = self.met() > met
        return value

    def _told(self, term: Term, value: object) -> object:
        """A result; what became of shapes and dtypes is noted."""
        with contextlib.suppress(Exception):
            term.how = term.how or shape_notes.told(term.node, term.operands, value)
            term.how = term.how or text_notes.told(term.node, term.operands, value)
        return value

    def _skipped(self, nodes: list[ast.expr], term: Term) -> None:
        """Operands that were not evaluated, since the result was known before."""
        for node in nodes:
            if not isinstance(node, ast.Constant):
                term.children.append(Term(node, term.depth + 1, note=KNOWN_BEFORE))
                self.terms.append(term.children[-1])

    def _augassign(self, node: ast.AugAssign, term: Term) -> object:
        if self.in_place:
            owner = next((n.id for n in ast.walk(node.target) if isinstance(n, ast.Name)), "")
            if any(isinstance(n, ast.Name) and n.id == owner for n in ast.walk(node.value)):
                raise NotEvaluated("not evaluated: its operands have changed in place")
            term.cellwise = not isinstance(node.op, ast.MatMult)
            self._operand(node.value, term)
            raise NotEvaluated("changed in place")
        left, right = self._each([node.target, node.value], term)
        term.cellwise = not isinstance(node.op, ast.MatMult)
        self._allow(term, left, right)
        return self._told(term, self._apply(term, provenance.OPERATORS[type(node.op)], left, right))

    def _unaryop(self, node: ast.UnaryOp, term: Term) -> object:
        value = self._operand(node.operand, term)
        term.cellwise = True
        self._allow(term, value)
        return self._apply(term, provenance.OPERATORS[type(node.op)], value)

    def _boolop(self, node: ast.BoolOp, term: Term) -> object:
        value: object = None
        for number, part in enumerate(node.values, 1):
            value = self._operand(part, term)
            self._allow(term, value)
            if number < len(node.values) and bool(value) is isinstance(node.op, ast.Or):
                self._skipped(node.values[number:], term)
                break
        return value

    def _compare(self, node: ast.Compare, term: Term) -> object:
        left = self._operand(node.left, term)
        value: object = True
        for number, (op, part) in enumerate(zip(node.ops, node.comparators), 1):
            right = self._operand(part, term)
            self._allow(term, left, right)
            value = self._apply(term, provenance.OPERATORS[type(op)], left, right)
            if number < len(node.ops) and not value:
                self._skipped(node.comparators[number:], term)
                break
            left = right
        return self._told(term, value)

    def _ifexp(self, node: ast.IfExp, term: Term) -> object:
        test = self._operand(node.test, term)
        self._allow(term, test)
        value = self._operand(node.body if test else node.orelse, term)
        self._skipped([node.orelse if test else node.body], term)
        return value

    def _namedexpr(self, node: ast.NamedExpr, term: Term) -> object:
        value = self._operand(node.value, term)
        self.scope.locals[node.target.id] = value
        return value

    def _call(self, node: ast.Call, term: Term) -> object:
        function: object
        term.sender = senders.sender_made(node.func, self.scope)
        if isinstance(node.func, ast.Attribute):
            owner = self._owner(node.func.value, term)
            function = read_attribute(owner, node.func.attr)
            if function is MISSING and self.may_call:
                function = getattr(owner, node.func.attr)
        elif isinstance(node.func, ast.Name) and node.func.id in self.scope:
            function = self.scope[node.func.id]
        else:
            function = self._operand(node.func, term)
        if _LooksAround.has(function, node):
            raise NotEvaluated("not evaluated: it looks at the call around it")
        term.operands.clear()  # what follows are the operands of the call
        if isinstance(node.func, ast.Attribute) and term.children:
            term.operands.append(term.children[-1].value)
        term.sender = term.sender or senders.sender(function, [])
        plain: list[object] = [a.value if isinstance(a, ast.Starred) else a for a in node.args]
        values = self._each(plain + [k.value for k in node.keywords], term)
        written = written_to(node)
        if written is not None:
            del term.operands[[k.value for k in node.keywords].index(written) - len(node.keywords)]
        term.cellwise = provenance.is_cellwise(function)
        term.sender = term.sender or senders.sender(function, term.operands)
        bound_to = getattr(function, "__self__", None) if isinstance(node.func, ast.Call) else None
        term.no_data = not any(provenance.is_data(v) for v in [*term.operands, bound_to])
        if term.node is self.raised:
            raise NotEvaluated
        starred = any(isinstance(a, ast.Starred) for a in node.args)
        if not self.may_call and (starred or not is_harmless(node, function, term.operands)):
            raise NotEvaluated("not evaluated: a call")
        if function is MISSING or getattr(node.func, "id", "") == "super":
            raise NotEvaluated
        if any(_waits_for_threads(type(v)) for v in term.operands):
            raise NotEvaluated(THREADS_OF_POLARS)
        args: list[object] = []
        for a, v in zip(node.args, values):
            v = iter(v) if isinstance(a, ast.GeneratorExp) else v
            args += list(v) if isinstance(a, ast.Starred) else [v]
        named: dict[str, object] = {}
        for k, v in zip(node.keywords, values[len(node.args) :]):
            named.update(dict(v) if k.arg is None else {k.arg: v})
        self.before_call(self, term)
        return self._told(term, self._apply(term, function, *args, **named))

    def _lambda(self, node: ast.Lambda, term: Term) -> object:
        return self._by_python(node)

    def _comprehension(self, node: Comprehension, term: Term) -> object:
        with contextlib.suppress(provenance.Unreadable, NotEvaluated):
            if not isinstance(node.generators[0].iter, ast.Call):
                self._operand(node.generators[0].iter, term)
        if not self.may_call:
            term.sender = senders.sender_inside(node, self.scope)
            raise NotEvaluated("not evaluated: a comprehension")
        if term.node is self.raised:
            raise NotEvaluated
        unpacks = isinstance(getattr(node, "elt", None), ast.Starred) or getattr(node, "value", node) is None
        if unpacks or any(g.is_async for g in node.generators):
            return self._by_python(node)
        self.before_call(self, term)
        return self._elements(node, term)

    def _elements(self, node: Any, term: Term) -> object:
        """A comprehension gone through element by element; the first that is bad or raises becomes a term."""
        names = {**self.scope.globals, **self.scope.locals, "__builtins__": self.scope.builtins}
        part = node.value if isinstance(node, ast.DictComp) else node.elt
        element, key = _code(part), _code(node.key) if isinstance(node, ast.DictComp) else None
        steps = [(_code(g.iter), _binder(g.target), [_code(t) for t in g.ifs]) for g in node.generators]
        made: list[object] = []
        keys: list[object] = []
        bad: dict[str, object] | None = None
        at = 0

        def each(level: int) -> Iterator[None]:
            over, bind, tests = steps[level]
            for item in eval(over, names):
                names[ITEM] = item
                exec(bind, names)
                if all(eval(t, names) for t in tests):
                    if level + 1 < len(steps):
                        yield from each(level + 1)
                    else:
                        yield

        met = self.met()
        try:
            for _ in each(0):
                if len(made) >= MOST_ELEMENTS:
                    raise NotEvaluated(f"not evaluated: over {MOST_ELEMENTS} elements")
                if key is not None:
                    keys.append(eval(key, names))
                made.append(eval(element, names))
                if bad is None and nonfinite.count(made[-1]):
                    bad, at = _bound(node, names), len(made) - 1
        except NotEvaluated:
            raise
        except Exception:
            self._of_element(part, term, _bound(node, names), len(made))
            raise
        term.judged_inside = self.met() > met
        if bad is not None and not term.judged_inside:
            with contextlib.suppress(NotEvaluated):
                self._of_element(part, term, bad, at)
        if isinstance(node, ast.GeneratorExp):
            term.how = f"its {len(made)} elements"
        return dict(zip(keys, made)) if key is not None else set(made) if isinstance(node, ast.SetComp) else made

    def _of_element(self, part: ast.AST, term: Term, bound: dict[str, object], number: int) -> None:
        """The terms of one element of a comprehension, with the names that it had."""
        kept = dict(self.scope.locals)
        self.scope.locals.update(bound)
        self.namespace = None
        at = len(self.terms)
        try:
            self._term(part, term.depth + 1)
        finally:
            self.scope.locals.clear()
            self.scope.locals.update(kept)
            self.namespace = None
            if len(self.terms) > at:
                shown = ", ".join(f"{n} = {summary(v)['text'][:40]}" for n, v in list(bound.items())[:3])
                self.terms[at].how = f"element {number}, {shown}"
                term.children.append(self.terms[at])

    def _by_python(self, node: ast.AST) -> object:
        if self.namespace is None:
            self.namespace = {**self.scope.globals, **self.scope.locals}
        # mypy: any mapping is taken
        return eval(compile(ast.Expression(node), "<term>", "eval"), self.namespace)  # type: ignore[arg-type]

    def _tuple(self, node: ast.Tuple, term: Term) -> Any:
        if isinstance(getattr(node, "ctx", None), ast.Store):  # a set has none
            raise NotEvaluated  # names that have no values yet
        return tuple(self._each([e.value if isinstance(e, ast.Starred) else e for e in node.elts], term))

    def _list(self, node: ast.List, term: Term) -> object:
        return list(self._tuple(node, term))  # type: ignore[arg-type]  # only `elts` is read

    def _set(self, node: ast.Set, term: Term) -> object:
        self._allow(term)
        return set(self._tuple(node, term))  # type: ignore[arg-type]  # only `elts` is read

    def _dict(self, node: ast.Dict, term: Term) -> object:
        if None in node.keys:
            raise NotEvaluated
        values = self._each([*node.keys, *node.values], term)
        half = len(node.keys)
        return dict(zip(values[:half], values[half:]))

    def _starred(self, node: ast.Starred, term: Term) -> object:
        return self._operand(node.value, term)

    def _joinedstr(self, node: ast.JoinedStr, term: Term) -> object:
        values = [v.value for v in node.values if isinstance(v, ast.FormattedValue)]
        shown = self._each(values, term)
        self._allow(term, *shown)
        return self._by_python(node)

    # -- the culprit ---------------------------------------------------------------------------------

    def culprit(self) -> Culprit | None:
        """The deepest term at fault in the order of evaluation, or None when nothing is bad here."""
        return culprit.find(self.root, self.terms, self.raised, self.file)


ITEM = "·item"


def _code(node: ast.expr) -> types.CodeType:
    return compile(ast.Expression(node), "<term>", "eval")


def _binder(target: ast.expr) -> types.CodeType:
    """Code that binds the names of a comprehension's target to the present item."""
    step = ast.Assign([target], ast.copy_location(ast.Name(ITEM, ast.Load()), target))
    return compile(ast.Module([ast.copy_location(step, target)], []), "<term>", "exec")


def _bound(node: Comprehension, names: dict[str, object]) -> dict[str, object]:
    wanted = [n.id for g in node.generators for n in ast.walk(g.target) if isinstance(n, ast.Name)]
    return {n: names[n] for n in wanted if n in names}
