"""Blocks: runs of plain arithmetic that are checked once, at their end.

A block is a run of assignments to names whose expressions hold only names, numbers, `+ - * / // %`, powers with a
constant exponent, signs, and single comparisons.  When each name that it reads is a float or an int, nothing in it can
have an effect, and nan and inf go from each result to the next.  So its *fast form* computes into temporaries, looks at
those results from which none goes on, and only then stores the names:

    while True:
        try:
            if not (·t1 or (‹open› and type(x) is float and … and (·t1 := ‹open›))):
                if not ‹open› and not ‹off›: ‹precise›(gate)
                ·t1 = … = False
                PRECISE FORM                            each statement in its guard, each result checked
                break
            ·b0 = 3.7 * x * (1.0 - x)                   FAST FORM
            ·b1 = y * 0.99 + ·b0
            if ·b1 * 0.0 == 0.0: x = ·b0; y = ·b1; break
        except:
            if not ‹block_failed›(site): raise
        ‹doubt›(gate)

Where the fast form fails or has a result that is not finite, nothing was stored, and the block runs in its precise
form, which pauses as if there were no fast one.  `·t1` says that the types of the names are known: those which nothing
else in the loop assigns.  Instructions of the fast form have a line but no column: `frames/fast_form.py` knows them by
that.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Collection, Iterator
from dataclasses import field
from typing import TypeVar

from ..core.markers import BLOCK, KNOWN_TYPES, MARK
from ..core.records import record
from ..core.trees import walk
from ..source.source_file import LOOPS, Position, position
from .predicates import names_bound, rebinds

PROPAGATE = (ast.Add, ast.Sub, ast.Mult)  # from both operands
FROM_LEFT = (ast.Div, ast.FloorDiv, ast.Mod)  # x / inf and x % inf are finite
ORDER = (ast.Lt, ast.LtE, ast.Gt, ast.GtE, ast.Eq, ast.NotEq)
MOST_EXPONENT = 16
OWN_SCOPE = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Lambda)
# What each part costs, in instructions of the interpreter.
GATE, TYPE, TEST, STORE, CHECK, CHECK_AUGMENTED = 3, 7, 5, 2, 9, 16


N = TypeVar("N", bound=ast.AST)
Scope = ast.Module | ast.FunctionDef | ast.AsyncFunctionDef


class NotPlain(Exception):
    """An expression or a statement that cannot be in a block."""


class Temporaries:
    """Of a function: names that begin with a character that no name begins with."""

    def load(self, name: str) -> ast.expr:
        return ast.Name(name, ast.Load())

    def store(self, name: str) -> ast.expr:
        return ast.Name(name, ast.Store())


class Cells(Temporaries):
    """Of a module: attributes of an object among its constants, so that no name of ours is visible.  A module's code
    runs once, in one thread."""

    def holder(self) -> ast.expr:
        return ast.Constant(f"{MARK}cells:")

    def load(self, name: str) -> ast.expr:
        return ast.Attribute(self.holder(), name, ast.Load())

    def store(self, name: str) -> ast.expr:
        return ast.Attribute(self.holder(), name, ast.Store())


@record
class Block:
    """One block, as it is analysed.  `loops`: the loops around it in its function, the outermost first."""

    statements: list[ast.stmt]
    loops: list[ast.stmt]
    reads: list[str] = field(default_factory=list)  # names that it reads before it assigns them
    steps: list[ast.stmt] = field(default_factory=list)  # the statements of the fast form
    stores: list[tuple[str, str]] = field(default_factory=list)  # a name, and the temporary that holds its value
    tested: list[str] = field(default_factory=list)  # temporaries that must be finite
    known: list[str] = field(default_factory=list)  # of `reads`: those whose type is known after the first pass
    flag: str = ""  # the temporary that says so
    over: ast.stmt | None = None  # the loop for which it does
    resets: list[str] = field(default_factory=list)  # flags that its precise form takes back
    checks: int = 0  # what the checks of the precise form cost

    @property
    def place(self) -> Position:
        return position(self.statements[0])

    def pays(self, once: bool = False) -> bool:
        """`once`: what is in no loop runs once."""
        if once and not self.loops:
            return False
        types = TYPE * (len(self.reads) - len(self.known)) + 2 * bool(self.flag)
        return GATE + types + TEST + len(self.tested) + STORE * len(self.stores) < self.checks


@record
class Plan:
    """The blocks of one function, or of a module."""

    blocks: dict[int, Block] = field(default_factory=dict)  # by the identity of their first statement
    begins: dict[int, list[str]] = field(default_factory=dict)  # flags to set before a loop, by its identity
    ints: set[str] = field(default_factory=set)  # names that are likely ints
    temporaries: Temporaries = field(default_factory=Temporaries)

    @property
    def flags(self) -> list[str]:
        return [flag for flags in self.begins.values() for flag in flags]


def plan(scope: Scope, apart: Collection[int]) -> Plan:
    """The blocks of a function or module, without those of the functions within it.  `apart`: lines whose statements
    are in no block."""
    found = Plan(temporaries=Cells() if isinstance(scope, ast.Module) else Temporaries())
    blocks = list(_find(scope.body, [], apart, found.temporaries))
    if not blocks:
        return found
    found.ints = _likely_ints(scope)
    mine = own_names(scope)
    _know_all(blocks, mine)
    blocks = [block for block in blocks if block.pays(once=isinstance(scope, ast.Module))]
    _know_all(blocks, mine)  # a block that is dropped assigns what it likes
    for number, block in enumerate(blocks):
        if block.known and block.over is not None:
            block.flag = f"{KNOWN_TYPES}{number}"
            found.begins.setdefault(id(block.over), []).append(block.flag)
        found.blocks[id(block.statements[0])] = block
    for block in blocks:
        block.resets = [b.flag for b in blocks if b.flag and any(loop is b.over for loop in block.loops)]
    return found


def _find(
    body: list[ast.stmt], loops: list[ast.stmt], apart: Collection[int], temporaries: Temporaries
) -> Iterator[Block]:
    run: list[ast.stmt] = []
    made = 0  # statements of the run, up to the last that makes something
    for s in [*body, None]:
        checks = None if s is None or s.lineno in apart else _checks_of(s, temporaries)
        if s is not None and checks is not None:
            if checks or run:  # copies and constants are in a block when they are within it
                run.append(s)
                made = len(run) if checks else made
            continue
        if run:
            yield _analysed(run[:made], loops, temporaries)
            run = []
        if s is None or isinstance(s, OWN_SCOPE):
            continue
        around = [*loops, s] if isinstance(s, LOOPS) else loops
        for name in ("body", "orelse", "finalbody"):
            yield from _find(getattr(s, name, []), around if name == "body" else loops, apart, temporaries)
        for part in [*getattr(s, "handlers", []), *getattr(s, "cases", [])]:
            yield from _find(part.body, loops, apart, temporaries)


def _checks_of(s: ast.stmt, temporaries: Temporaries) -> int | None:
    """What the checks of a statement cost in its precise form; None when it can be in no block."""
    form = _Form([], [], temporaries)
    try:
        form.add(s)
    except NotPlain:
        return None
    return form.made.checks


def _analysed(run: list[ast.stmt], loops: list[ast.stmt], temporaries: Temporaries) -> Block:
    form = _Form(run, loops, temporaries)
    for s in run:
        form.add(s)
    return form.block()


class _Form:
    """Makes the fast form of a run."""

    def __init__(self, run: list[ast.stmt], loops: list[ast.stmt], temporaries: Temporaries) -> None:
        self.made, self.temporaries = Block(run, loops), temporaries
        self.version: dict[str, str] = {}  # the temporary that holds the present value of a name
        self.count = 0
        self.sinks: dict[str, None] = {}  # temporaries whose value goes on to no other
        self.used: list[str] = []  # by the expression under way, so that nan and inf go on to its value

    def block(self) -> Block:
        self.made.stores = list(self.version.items())
        self.made.tested = list(self.sinks)
        return self.made

    def add(self, s: ast.stmt) -> None:
        """Append a statement; NotPlain when it cannot be in a block."""
        self.used = []
        if isinstance(s, ast.Assign):
            self._assign(s, s.targets, s.value)
        elif (
            isinstance(s, ast.AnnAssign) and s.value is not None and s.simple and type(self.temporaries) is Temporaries
        ):
            # A module keeps annotations; a function does not even evaluate them.
            self._assign(s, [s.target], s.value)
        elif isinstance(s, ast.AugAssign) and isinstance(s.target, ast.Name):
            self._augmented(s, s.target)
        else:
            raise NotPlain

    def _assign(self, s: ast.stmt, targets: list[ast.expr], value: ast.expr) -> None:
        target = targets[0]
        if len(targets) == 1 and isinstance(target, ast.Tuple) and isinstance(value, ast.Tuple):
            self._several(s, target, value)
            return
        if not all(isinstance(t, ast.Name) for t in targets):
            raise NotPlain
        names = [t.id for t in targets if isinstance(t, ast.Name)]
        if isinstance(value, ast.Name) and value.id in self.version:
            self.version.update(dict.fromkeys(names, self.version[value.id]))
            return
        fast = self._value(value, False)
        self._stored(names, self._temporary(fast, s), value)

    def _several(self, s: ast.stmt, target: ast.Tuple, value: ast.Tuple) -> None:
        """`a, b = b, a + b`: all values first, then the names."""
        names = [t.id for t in target.elts if isinstance(t, ast.Name)]
        if len(names) != len(target.elts) or len(names) != len(value.elts):
            raise NotPlain
        made: list[tuple[str, str, ast.expr, list[str]]] = []
        for name, one in zip(names, value.elts):
            self.used = []
            fast = self._value(one, False)
            made.append((name, self._temporary(fast, s), one, self.used))
        for name, temporary, one, self.used in made:
            self._stored([name], temporary, one)

    def _augmented(self, s: ast.AugAssign, target: ast.Name) -> None:
        present = ast.Name(target.id, ast.Load())
        hides = not isinstance(s.op, PROPAGATE)
        whole = ast.copy_location(ast.BinOp(ast.copy_location(present, target), s.op, s.value), s)
        fast = self._value(whole, False, checked_right=hides)
        self._stored([target.id], self._temporary(fast, s), whole)
        self.made.checks += CHECK_AUGMENTED - CHECK

    def _temporary(self, fast: ast.expr, like: ast.AST) -> str:
        name = f"{BLOCK}{self.count}"
        self.count += 1
        self.made.steps.append(unplaced(ast.Assign([self.temporaries.store(name)], fast), like))
        return name

    def _stored(self, names: list[str], temporary: str, value: ast.expr) -> None:
        for name in names:
            self.version[name] = temporary
        copied = isinstance(value, ast.Name) and not self.used
        if copied or isinstance(value, ast.Constant):
            return  # nothing is made here: no check looks at it
        for one in self.used:
            self.sinks.pop(one, None)
        self.sinks[temporary] = None
        self.made.checks += CHECK

    def _value(self, node: ast.expr, hidden: bool, checked_right: bool = False) -> ast.expr:
        """An expression of the fast form.  `hidden`: a value that is not finite here may give a finite result."""
        if isinstance(node, ast.Constant):
            if type(node.value) not in (int, float, bool) or (type(node.value) is float and math.isinf(node.value)):
                raise NotPlain
            return unplaced(ast.Constant(node.value), node)
        if isinstance(node, ast.Name):
            return unplaced(self._read(node.id, hidden), node)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
            return unplaced(ast.UnaryOp(node.op, self._value(node.operand, hidden)), node)
        if isinstance(node, ast.BinOp):
            return self._operator(node, hidden, checked_right)
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and isinstance(node.ops[0], ORDER):
            left, right = self._argument(node.left), self._argument(node.comparators[0])
            return unplaced(ast.Compare(left, node.ops, [right]), node)
        raise NotPlain

    def _operator(self, node: ast.BinOp, hidden: bool, checked_right: bool) -> ast.expr:
        left_hidden = right_hidden = hidden
        if isinstance(node.op, ast.Pow):
            left_hidden = hidden or _exponent(node.right) <= 0
        elif isinstance(node.op, FROM_LEFT):
            right_hidden = True
        elif not isinstance(node.op, PROPAGATE):
            raise NotPlain
        left = self._value(node.left, left_hidden)
        right = self._argument(node.right) if checked_right else self._value(node.right, right_hidden)
        return unplaced(ast.BinOp(left, node.op, right), node)

    def _argument(self, node: ast.expr) -> ast.expr:
        """An operand that the precise form looks at by itself, when it is made here."""
        fast = self._value(node, True)
        if not isinstance(node, (ast.BinOp, ast.UnaryOp)):
            return fast
        name = self._temporary(fast, node)
        self.sinks[name] = None
        self.made.checks += CHECK
        return unplaced(self.temporaries.load(name), node)

    def _read(self, name: str, hidden: bool) -> ast.expr:
        temporary = self.version.get(name)
        if temporary is None:
            if name not in self.made.reads:
                self.made.reads.append(name)
            return ast.Name(name, ast.Load())
        if not hidden:
            self.used.append(temporary)
        return self.temporaries.load(temporary)


def fast_form(block: Block, temporaries: Temporaries) -> list[ast.stmt]:
    """The statements of the fast form, with the test of its results and what it stores."""
    last, load = block.statements[-1], temporaries.load
    whole = load(block.tested[0])
    for name in block.tested[1:]:
        whole = ast.BinOp(whole, ast.Add(), load(name))
    nothing = ast.BinOp(whole, ast.Mult(), ast.Constant(0.0))
    test = ast.Compare(nothing, [ast.Eq()], [ast.Constant(0.0)])
    stores: list[ast.stmt] = [
        ast.Assign([ast.Name(name, ast.Store())], load(temporary)) for name, temporary in block.stores
    ]
    for step in stores:
        unplaced(step, last)
    # All is stored: the jump back to the loop's head, where signals come, is no part of the fast form.
    end = ast.copy_location(ast.Break(), last)
    return [*block.steps, unplaced(ast.If(test, [*stores, end], []), last)]


def before(s: ast.stmt) -> ast.stmt:
    """A place that begins and ends where a statement begins: of the test whether a fast form may run."""
    return ast.Pass(lineno=s.lineno, end_lineno=s.lineno, col_offset=s.col_offset, end_col_offset=s.col_offset)


def _exponent(node: ast.expr) -> float:
    value = node.operand if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub) else node
    number = value.value if isinstance(value, ast.Constant) else None
    if isinstance(number, bool) or not isinstance(number, (int, float)) or abs(number) > MOST_EXPONENT:
        raise NotPlain
    return number if value is node else -number


def unplaced(node: N, like: ast.AST) -> N:
    """A node of a fast form: at a line, without a column."""
    line = getattr(like, "lineno")
    for one in walk(node):
        if "lineno" in one._attributes and "lineno" not in one.__dict__:
            one.__dict__.update(lineno=line, end_lineno=line, col_offset=-1, end_col_offset=-1)
    return node


# -- types that stay known -----------------------------------------------------------------------------


def _know_all(blocks: list[Block], mine: set[str]) -> None:
    inside = {id(s) for block in blocks for s in block.statements}
    unstable = {id(loop): _assigned_outside(loop, inside) for block in blocks for loop in block.loops}
    for block in blocks:
        _know_types(block, unstable, mine)


def _know_types(block: Block, unstable: dict[int, set[str]], mine: set[str]) -> None:
    """Which names keep their types in the loop around, and in how many loops around that."""
    block.known, block.over = [], None
    for loop in reversed(block.loops):
        known = [name for name in block.reads if name in mine and name not in unstable[id(loop)]]
        if block.over is not None and len(known) < len(block.known):
            break
        block.known, block.over = known, loop


def _own(node: ast.AST) -> Iterator[ast.AST]:
    """A node and what is in it, without the bodies of functions and classes within it."""
    todo = [node]
    while todo:
        one = todo.pop()
        yield one
        if one is node or not isinstance(one, OWN_SCOPE):
            todo += ast.iter_child_nodes(one)


def _assigned_outside(loop: ast.stmt, inside: set[int]) -> set[str]:
    """Names that statements of a loop assign which are in no block."""
    found: set[str] = set()
    todo: list[ast.AST] = [loop]
    while todo:
        one = todo.pop()
        if id(one) in inside:
            continue
        found.update(names_bound(one))
        if not isinstance(one, OWN_SCOPE):
            todo += ast.iter_child_nodes(one)
    return found


def own_names(scope: Scope) -> set[str]:
    """Names that nothing but the scope's own statements binds."""
    mine = {name for node in _own(scope) if node is not scope for name in names_bound(node)}
    for node in walk(scope):
        if isinstance(node, (ast.Global, ast.Nonlocal)):
            mine.difference_update(node.names)
        elif isinstance(scope, ast.Module) and rebinds(node):
            return set()
    return mine


def _likely_ints(scope: Scope) -> set[str]:
    """Names that a `for` over a range binds, or that are set to a whole number."""
    found: set[str] = set()
    for node in _own(scope):
        if isinstance(node, ast.For) and isinstance(node.target, ast.Name) and isinstance(node.iter, ast.Call):
            if getattr(node.iter.func, "id", "") == "range":
                found.add(node.target.id)
        elif isinstance(node, ast.Assign) and isinstance(node.value, ast.Constant) and type(node.value.value) is int:
            found.update(t.id for t in node.targets if isinstance(t, ast.Name))
    return found
