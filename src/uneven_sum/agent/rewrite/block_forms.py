"""The fast form of a block of arithmetic: see `blocks`.

Besides names it may read attributes of plain objects and set them, and call functions of `math`, `abs`, `min` and
`max`.  Attributes are read once, when it is decided whether the fast form may run, and set at its end.
"""

from __future__ import annotations

import ast
import math
from dataclasses import field
from typing import TypeVar

from ..core.markers import BLOCK, MARK
from ..core.records import record
from ..core.trees import walk
from ..source.gates import MOST_OBJECTS, Wanted
from ..source.source_file import Position, position

PROPAGATE = (ast.Add, ast.Sub, ast.Mult)  # from both operands
FROM_LEFT = (ast.Div, ast.FloorDiv, ast.Mod)  # x / inf and x % inf are finite
ORDER = (ast.Lt, ast.LtE, ast.Gt, ast.GtE, ast.Eq, ast.NotEq)
STAY_WHOLE = (ast.Add, ast.Sub, ast.Mult, ast.FloorDiv, ast.Mod)  # of ints they give an int
MOST_EXPONENT = 16
# What each part costs, in instructions of the interpreter.
GATE, TYPE, CLASS, TEST, STORE, STORE_ATTRIBUTE = 3, 7, 8, 5, 2, 3
CHECK, CHECK_AUGMENTED, CHECK_ATTRIBUTE = 14, 21, 22

N = TypeVar("N", bound=ast.AST)
Place = tuple[str, str]  # a name and an attribute; "" for the name itself


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
class Scope:
    """What is known of the names of a function or module."""

    mine: set[str] = field(default_factory=set)  # names that nothing but its own statements binds
    wholes: set[str] = field(default_factory=set)  # names that are ints wherever they are bound
    functions: dict[str, str] = field(default_factory=dict)  # how a call is written, and what it has to be
    likely: set[str] = field(default_factory=set)  # names that are set to a number somewhere
    temporaries: Temporaries = field(default_factory=Temporaries)


@record
class Block:
    """One block, as it is analysed.  `loops`: the loops around it in its function, the outermost first."""

    statements: list[ast.stmt]
    loops: list[ast.stmt]
    reads: list[str] = field(default_factory=list)  # names that it reads before it assigns them
    read_attributes: dict[Place, str] = field(default_factory=dict)  # and attributes, with their temporaries
    steps: list[ast.stmt] = field(default_factory=list)  # the statements of the fast form
    stores: list[tuple[Place, str]] = field(default_factory=list)  # a place, and the temporary that holds its value
    tested: list[str] = field(default_factory=list)  # temporaries that must be finite
    functions: dict[str, str] = field(default_factory=dict)  # that it calls
    known: list[str] = field(default_factory=list)  # of the names: those whose type is known after the first pass
    flag: str = ""  # the temporary that says so
    over: ast.stmt | None = None  # the loop for which it does
    resets: list[str] = field(default_factory=list)  # flags that its precise form takes back
    checks: int = 0  # what the checks of the precise form cost
    temporaries: list[str] = field(default_factory=list)
    of_arrays: bool = False
    roots: bool = False  # it has a power with a fractional exponent, which of a negative number is complex
    # Of a block on arrays:
    numbers: list[str] = field(default_factory=list)  # names that it reads and that must hold numbers
    of_numbers: set[str] = field(default_factory=set)  # temporaries that hold numbers
    saved: int = 0  # looks at results, of those of the precise form

    @property
    def place(self) -> Position:
        return position(self.statements[0])

    @property
    def objects(self) -> list[str]:
        """Names whose attributes it reads or sets."""
        places = [*self.read_attributes, *(place for place, _ in self.stores if place[1])]
        return list(dict.fromkeys(name for name, _ in places))

    @property
    def wanted(self) -> Wanted:
        """What has to be found plain before the fast form may run."""
        places = [*self.read_attributes, *(place for place, _ in self.stores if place[1])]
        of = tuple((name, tuple(sorted({a for owner, a in places if owner == name}))) for name in self.objects)
        return of, tuple(sorted(self.functions.items()))

    def pays(self, once: bool = False) -> bool:
        """`once`: what is in no loop runs once."""
        if once and not self.loops:
            return False
        types = sum(TYPE for name in self.reads if name not in self.known) + 2 * bool(self.flag)
        types += sum(CLASS for name in self.objects if name not in self.known) + TYPE * len(self.read_attributes)
        stores = sum(STORE_ATTRIBUTE if attribute else STORE for (_, attribute), _ in self.stores)
        test = TEST + len(self.tested) if self.tested else 0
        return GATE + types + test + stores < self.checks


class Form:
    """Makes the fast form of a run."""

    def __init__(self, run: list[ast.stmt], loops: list[ast.stmt], scope: Scope) -> None:
        self.made, self.scope, self.temporaries = Block(run, loops), scope, scope.temporaries
        self.version: dict[Place, str] = {}  # the temporary that holds the present value of a place
        self.count = 0
        self.sinks: dict[str, None] = {}  # temporaries whose value goes on to no other
        self.used: list[str] = []  # by the expression under way, so that nan and inf go on to its value
        self.owners: set[str] = set()  # names whose attributes are read or set
        self.set_by: dict[str, str] = {}  # of an attribute that is set: the name whose attribute was set last

    def block(self) -> Block:
        self.made.stores = list(self.version.items())
        self.made.tested = list(self.sinks)
        self.made.temporaries = [f"{BLOCK}{number}" for number in range(self.count)]
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
        elif isinstance(s, ast.AugAssign) and isinstance(s.target, (ast.Name, ast.Attribute)):
            self._augmented(s, s.target)
        else:
            raise NotPlain
        if len(self.owners) > MOST_OBJECTS:
            raise NotPlain

    def _assign(self, s: ast.stmt, targets: list[ast.expr], value: ast.expr) -> None:
        target = targets[0]
        if len(targets) == 1 and isinstance(target, ast.Tuple) and isinstance(value, ast.Tuple):
            self._several(s, target, value)
            return
        if len(targets) == 1 and isinstance(target, ast.Attribute) and isinstance(value, (ast.BinOp, ast.Call)):
            self._stored([self._place(target)], self._temporary(self._value(value, False), s), value)
            return
        if not all(isinstance(t, ast.Name) for t in targets):
            raise NotPlain
        places = [(t.id, "") for t in targets if isinstance(t, ast.Name)]
        if isinstance(value, ast.Name) and (value.id, "") in self.version:
            self.version.update(dict.fromkeys(places, self.version[value.id, ""]))
            return
        if isinstance(value, ast.Attribute):
            raise NotPlain  # a copy, of whatever it is
        self._stored(places, self._temporary(self._value(value, False), s), value)

    def _several(self, s: ast.stmt, target: ast.Tuple, value: ast.Tuple) -> None:
        """`a, b = b, a + b`: all values first, then the names."""
        names = [t.id for t in target.elts if isinstance(t, ast.Name)]
        if len(names) != len(target.elts) or len(names) != len(value.elts):
            raise NotPlain
        made: list[tuple[str, str, ast.expr, list[str]]] = []
        for name, one in zip(names, value.elts):
            if isinstance(one, ast.Attribute):
                raise NotPlain
            self.used = []
            fast = self._value(one, False)
            made.append((name, self._temporary(fast, s), one, self.used))
        for name, temporary, one, self.used in made:
            self._stored([(name, "")], temporary, one)

    def _augmented(self, s: ast.AugAssign, target: ast.Name | ast.Attribute) -> None:
        present: ast.expr
        if isinstance(target, ast.Attribute):
            present = ast.Attribute(target.value, target.attr, ast.Load())
        else:
            present = ast.Name(target.id, ast.Load())
        hides = not isinstance(s.op, PROPAGATE)
        whole = ast.copy_location(ast.BinOp(ast.copy_location(present, target), s.op, s.value), s)
        fast = self._value(whole, False, checked_right=hides)
        place = self._place(target) if isinstance(target, ast.Attribute) else (target.id, "")
        self._stored([place], self._temporary(fast, s), whole)
        self.made.checks += (CHECK_ATTRIBUTE if place[1] else CHECK_AUGMENTED) - CHECK

    def _temporary(self, fast: ast.expr, like: ast.AST) -> str:
        name = self._name()
        self.made.steps.append(unplaced(ast.Assign([self.temporaries.store(name)], fast), like))
        return name

    def _name(self) -> str:
        self.count += 1
        return f"{BLOCK}{self.count - 1}"

    def _stored(self, places: list[Place], temporary: str, value: ast.expr) -> None:
        for place in places:
            self._put(place, temporary)
        copied = isinstance(value, ast.Name) and not self.used
        if copied or isinstance(value, ast.Constant):
            return  # nothing is made here: no check looks at it
        self.made.checks += CHECK
        if is_whole(value, self.scope.wholes):
            return  # an int is finite
        self._tested(temporary)

    def _put(self, place: Place, temporary: str) -> None:
        name, attribute = place
        if attribute:
            self.owners.add(name)
            self.set_by[attribute] = name
        elif name in self.owners:
            raise NotPlain  # it holds another object from here on
        self.version.pop(place, None)  # the last to be set is set last
        self.version[place] = temporary

    def _place(self, node: ast.Attribute) -> Place:
        """An attribute of what a name holds when the block begins."""
        owner = node.value
        if not isinstance(owner, ast.Name) or type(self.temporaries) is not Temporaries:
            raise NotPlain
        if owner.id in self.made.reads or (owner.id, "") in self.version:
            raise NotPlain  # a number
        if node.attr.startswith("__"):
            raise NotPlain  # of a class, or written otherwise than it is called
        return owner.id, node.attr

    def _value(self, node: ast.expr, hidden: bool, checked_right: bool = False) -> ast.expr:
        """An expression of the fast form.  `hidden`: a value that is not finite here may give a finite result."""
        if isinstance(node, ast.Constant):
            if type(node.value) not in (int, float, bool) or (type(node.value) is float and math.isinf(node.value)):
                raise NotPlain
            return unplaced(ast.Constant(node.value), node)
        if isinstance(node, ast.Name):
            return unplaced(self._read(node.id, hidden), node)
        if isinstance(node, ast.Attribute):
            return unplaced(self._read_attribute(node, hidden), node)
        if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
            return unplaced(ast.UnaryOp(node.op, self._value(node.operand, hidden)), node)
        if isinstance(node, ast.BinOp):
            return self._operator(node, hidden, checked_right)
        if isinstance(node, ast.Compare) and len(node.ops) == 1 and isinstance(node.ops[0], ORDER):
            left, right = self._argument(node.left), self._argument(node.comparators[0])
            return unplaced(ast.Compare(left, node.ops, [right]), node)
        if isinstance(node, ast.Call):
            return self._call(node, hidden)
        raise NotPlain

    def _operator(self, node: ast.BinOp, hidden: bool, checked_right: bool) -> ast.expr:
        left_hidden = right_hidden = hidden
        if isinstance(node.op, ast.Pow):
            left_hidden = hidden or _exponent(node.right) <= 0
            self.made.roots = self.made.roots or _is_root(node)
        elif isinstance(node.op, FROM_LEFT):
            right_hidden = True
        elif not isinstance(node.op, PROPAGATE):
            raise NotPlain
        left = self._value(node.left, left_hidden)
        right = self._argument(node.right) if checked_right else self._value(node.right, right_hidden)
        return unplaced(ast.BinOp(left, node.op, right), node)

    def _passed(self, node: ast.expr, function: str, hidden: bool) -> ast.expr:
        """An argument of a call."""
        return self._argument(node)

    def _call(self, node: ast.Call, hidden: bool) -> ast.expr:
        written = _as_written(node.func)
        real = self.scope.functions.get(written)
        least = 2 if real in ("min", "max") else 1
        if real is None or node.keywords or len(node.args) < least:
            raise NotPlain
        self.made.functions[written] = real
        arguments = [self._passed(argument, real, hidden) for argument in node.args]
        called = ast.Name(written, ast.Load())
        function: ast.expr = called
        if isinstance(node.func, ast.Attribute):
            called.id = written.partition(".")[0]
            function = ast.Attribute(called, node.func.attr, ast.Load())
        return unplaced(ast.Call(function, arguments, []), node)

    def _argument(self, node: ast.expr) -> ast.expr:
        """An operand that the precise form looks at by itself, when it is made here."""
        if not isinstance(node, (ast.BinOp, ast.UnaryOp, ast.Call)):
            return self._value(node, True)
        outer, self.used = self.used, []
        name = self._temporary(self._value(node, False), node)
        self.made.checks += CHECK
        if not is_whole(node, self.scope.wholes):
            self._tested(name)
        self.used = outer
        return unplaced(self.temporaries.load(name), node)

    def _tested(self, temporary: str) -> None:
        """A result that must be finite: then those are that went into it."""
        for one in self.used:
            self.sinks.pop(one, None)
        self.sinks[temporary] = None

    def _read(self, name: str, hidden: bool) -> ast.expr:
        temporary = self.version.get((name, ""))
        if temporary is None:
            if name in self.owners:
                raise NotPlain
            if name not in self.made.reads:
                self.made.reads.append(name)
            return ast.Name(name, ast.Load())
        if not hidden:
            self.used.append(temporary)
        return self.temporaries.load(temporary)

    def _read_attribute(self, node: ast.Attribute, hidden: bool) -> ast.expr:
        place = self._place(node)
        if self.set_by.get(node.attr, place[0]) != place[0]:
            raise NotPlain  # it was set on what another name holds, which may be the same object
        temporary = self.version.get(place)
        if temporary is not None:
            if not hidden:
                self.used.append(temporary)
            return self.temporaries.load(temporary)
        self.owners.add(place[0])
        if place not in self.made.read_attributes:
            self.made.read_attributes[place] = self._name()
        return self.temporaries.load(self.made.read_attributes[place])


def fast_form(block: Block, temporaries: Temporaries) -> list[ast.stmt]:
    """The statements of the fast form, with the test of its results and what it stores."""
    load = temporaries.load
    if not block.tested:
        return form_with(block, temporaries, None, [])
    whole = load(block.tested[0])
    for name in block.tested[1:]:
        whole = ast.BinOp(whole, ast.Add(), load(name))
    return form_with(block, temporaries, is_finite(whole, block.roots), [])


def has_root(node: ast.expr) -> bool:
    """Whether an expression has a power that may give a complex number."""
    return any(map(_is_root, walk(node)))


def _is_root(node: ast.AST) -> bool:
    """A power, but to a whole number."""
    if not isinstance(node, ast.BinOp) or not isinstance(node.op, ast.Pow):
        return False
    try:
        return not float(_exponent(node.right)).is_integer()
    except NotPlain:
        return True


def is_finite(number: ast.expr, roots: bool) -> ast.expr:
    """That a number is finite.  `roots`: it may be complex, which has no order; then the fast form fails."""
    nothing = ast.BinOp(number, ast.Mult(), ast.Constant(0.0))
    return ast.Compare(nothing, [ast.GtE() if roots else ast.Eq()], [ast.Constant(0.0)])


def form_with(block: Block, temporaries: Temporaries, test: ast.expr | None, after: list[ast.stmt]) -> list[ast.stmt]:
    """A fast form whose results are stored when the test holds; `after`: what follows that."""
    last = block.statements[-1]
    stores: list[ast.stmt] = []
    for (name, attribute), temporary in block.stores:
        target: ast.expr = ast.Name(name, ast.Store())
        if attribute:
            target = ast.Attribute(ast.Name(name, ast.Load()), attribute, ast.Store())
        stores.append(unplaced(ast.Assign([target], temporaries.load(temporary)), last))
    stores += [unplaced(step, last) for step in after]
    # All is stored: the jump back to the loop's head, where signals come, is no part of the fast form.
    stores.append(ast.copy_location(ast.Break(), last))
    return [*block.steps, *(stores if test is None else [unplaced(ast.If(test, stores, []), last)])]


def before(s: ast.stmt) -> ast.stmt:
    """A place that begins and ends where a statement begins: of the test whether a fast form may run."""
    return ast.Pass(lineno=s.lineno, end_lineno=s.lineno, col_offset=s.col_offset, end_col_offset=s.col_offset)


def is_whole(node: ast.expr, wholes: set[str]) -> bool:
    """Whether an expression is an int when the names `wholes` are."""
    if isinstance(node, ast.Constant):
        return type(node.value) is int
    if isinstance(node, ast.Name):
        return node.id in wholes
    if isinstance(node, ast.UnaryOp):
        return isinstance(node.op, (ast.USub, ast.UAdd)) and is_whole(node.operand, wholes)
    if isinstance(node, ast.BinOp):
        return isinstance(node.op, STAY_WHOLE) and is_whole(node.left, wholes) and is_whole(node.right, wholes)
    return False


def _as_written(node: ast.expr) -> str:
    """`name` or `name.attribute`; empty for other functions."""
    if isinstance(node, ast.Name):
        return node.id
    if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
        return f"{node.value.id}.{node.attr}"
    return ""


def is_arithmetic(node: ast.expr, numbers: set[str]) -> bool:
    """Whether an expression is plain arithmetic on constants and the names `numbers`."""
    if isinstance(node, ast.Constant):
        return type(node.value) in (int, float)
    if isinstance(node, ast.Name):
        return node.id in numbers
    if isinstance(node, ast.UnaryOp):
        return isinstance(node.op, (ast.USub, ast.UAdd)) and is_arithmetic(node.operand, numbers)
    if isinstance(node, ast.BinOp) and isinstance(node.op, PROPAGATE + FROM_LEFT):
        return is_arithmetic(node.left, numbers) and is_arithmetic(node.right, numbers)
    return False


def _exponent(node: ast.expr) -> float:
    value = node.operand if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub) else node
    number = value.value if isinstance(value, ast.Constant) else None
    if isinstance(number, bool) or not isinstance(number, (int, float)) or abs(number) > MOST_EXPONENT:
        raise NotPlain
    return number if value is node else -number


def unplaced(node: N, like: ast.AST) -> N:
    """A node of a fast form: at a line, without a column."""
    line = getattr(like, "lineno")
    todo: list[ast.AST] = [node]
    while todo:
        one = todo.pop()
        if "lineno" in one._attributes:
            if "lineno" in one.__dict__:
                continue  # what is in it was placed with it
            one.__dict__.update(lineno=line, end_lineno=line, col_offset=-1, end_col_offset=-1)
        todo += ast.iter_child_nodes(one)
    return node
