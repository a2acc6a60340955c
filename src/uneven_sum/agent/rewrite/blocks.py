"""Blocks: runs of plain arithmetic that are checked once, at their end.

A block is a run of assignments whose expressions hold only names, numbers, `+ - * / // %`, powers with a constant
exponent, signs, single comparisons, attributes of plain objects, and calls of `math`, `abs`, `min` and `max`.  When
each value that it reads is a float, an int or a complex number, nothing in it can have an effect, and nan and inf go
from each result to the next.  So its *fast form* computes into temporaries, looks at those results from which none goes
on, and only then stores the values:

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
else in the loop assigns.  Attributes are read in the test, `type(·b2 := gauge.level) is float`, and the class of each
object is the one that was found plain: reading and setting its attributes runs no code (`source/gates.py`).
Instructions of the fast form have a line but no column: `frames/fast_form.py` knows them by that.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import field

from ..core.markers import KNOWN_TYPES
from ..core.records import record
from ..core.trees import walk
from ..source.gates import FUNCTIONS, MODULES
from ..source.source_file import LOOPS
from .array_forms import ArrayForm
from .block_forms import Block, Cells, Form, NotPlain, Scope, is_whole
from .predicates import names_bound, rebinds

OWN_SCOPE = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Lambda)
LEAST_SAVED = 1  # looks at results that a block on arrays saves: else it does not pay
Tree = ast.Module | ast.FunctionDef | ast.AsyncFunctionDef


@record
class Plan:
    """The blocks of one function, or of a module."""

    blocks: dict[int, Block] = field(default_factory=dict)  # by the identity of their first statement
    begins: dict[int, list[str]] = field(default_factory=dict)  # flags to set before a loop, by its identity
    arrays: dict[int, Block] = field(default_factory=dict)  # blocks of arithmetic on arrays, in the same way
    ints: set[str] = field(default_factory=set)  # names that are likely ints
    scope: Scope = field(default_factory=Scope)

    @property
    def flags(self) -> list[str]:
        return [flag for flags in self.begins.values() for flag in flags]

    def longest_at(self, statements: list[ast.stmt], number: int, within: Block | None = None) -> Block | None:
        """The block that begins at a statement of a body, or of another block."""
        found = [blocks.get(id(statements[number])) for blocks in (self.blocks, self.arrays)]
        fits = [b for b in found if b is not None and b is not within and number + len(b.statements) <= len(statements)]
        if within is not None and within.of_arrays:
            fits = [b for b in fits if len(b.statements) < len(statements)]
        return max(fits, key=lambda b: len(b.statements), default=None)


def plan(tree: Tree, apart: Collection[int], functions: dict[str, str] | None = None, arrays: bool = False) -> Plan:
    """The blocks of a function or module, without those of the functions within it.  `apart`: lines whose statements
    are in no block.  `functions`: how calls of mathematical functions are written in the module.  `arrays`: blocks of
    arithmetic on arrays are wanted, too."""
    ints = _likely_numbers(tree, (int,))
    scope = Scope(mine := own_names(tree), _wholes(tree, ints) & mine)
    if isinstance(tree, ast.Module):
        scope.temporaries = Cells()
        mine = set()  # it imports them
    usable = {call: real for call, real in (functions or {}).items() if call.partition(".")[0] not in mine}
    scope.functions = {call: real for call, real in usable.items() if not real.startswith("numpy.")}
    found = Plan(ints=ints, scope=scope)
    blocks = list(_find(tree.body, [], apart, scope))
    _know_all(blocks, scope.mine)
    blocks = [block for block in blocks if block.pays(once=isinstance(tree, ast.Module))]
    if arrays:
        of_arrays = Scope(scope.mine, scope.wholes, usable, _likely_numbers(tree, (int, float)), scope.temporaries)
        for block in _find(tree.body, [], apart, of_arrays, ArrayForm):
            for chosen in _nested(block, blocks, of_arrays):
                if chosen.saved >= LEAST_SAVED and (chosen.loops or not isinstance(tree, ast.Module)):
                    found.arrays[id(chosen.statements[0])] = chosen
    _know_all(blocks, scope.mine)  # a block that is dropped assigns what it likes
    for number, block in enumerate(blocks):
        if block.known and block.over is not None:
            block.flag = f"{KNOWN_TYPES}{number}"
            found.begins.setdefault(id(block.over), []).append(block.flag)
        found.blocks[id(block.statements[0])] = block
    for block in [*blocks, *found.arrays.values()]:
        block.resets = [b.flag for b in blocks if b.flag and any(loop is b.over for loop in block.loops)]
    return found


def _find(
    body: list[ast.stmt], loops: list[ast.stmt], apart: Collection[int], scope: Scope, of: type[Form] = Form
) -> Iterator[Block]:
    form = of([], loops, scope)
    run: list[ast.stmt] = []
    made = 0  # statements of the run, up to the last that makes something
    for s in [*body, None]:
        if s is not None and s.lineno not in apart:
            checks = _added(form, s)
            if checks is None and run:
                yield _analysed(of(run[:made], loops, scope))  # what does not go with these may begin another
                form, run = of([], loops, scope), []
                checks = _added(form, s)
            if checks is not None:
                if checks or run:  # copies and constants are in a block when they are within it
                    run.append(s)
                    made = len(run) if checks else made
                else:
                    form = of([], loops, scope)
                continue
        if run:
            yield _analysed(of(run[:made], loops, scope))
        form, run = of([], loops, scope), []
        if s is None or isinstance(s, OWN_SCOPE):
            continue
        around = [*loops, s] if isinstance(s, LOOPS) else loops
        for name in ("body", "orelse", "finalbody"):
            yield from _find(getattr(s, name, []), around if name == "body" else loops, apart, scope, of)
        for part in [*getattr(s, "handlers", []), *getattr(s, "cases", [])]:
            yield from _find(part.body, loops, apart, scope, of)


def _nested(block: Block, others: list[Block], scope: Scope) -> list[Block]:
    """A block on arrays in parts, each of them within another block, around it or beside it."""
    parts = [block.statements]
    for other in others:
        inside = {id(s) for s in other.statements}
        for part in list(parts):
            shared = [s for s in part if id(s) in inside]
            if 0 < len(shared) < min(len(part), len(inside)):
                parts.remove(part)
                parts += [shared, [s for s in part if id(s) not in inside]]
    return [block] if len(parts) == 1 else [made for part in parts if (made := _part(part, block, scope)) is not None]


def _part(statements: list[ast.stmt], block: Block, scope: Scope) -> Block | None:
    try:
        return _analysed(ArrayForm(statements, block.loops, scope))
    except NotPlain:  # it changes what the statements before it have made
        return None


def _added(form: Form, s: ast.stmt) -> int | None:
    """What the checks of a statement cost in its precise form; None when it cannot be in the block."""
    before = form.made.checks
    try:
        form.add(s)
    except NotPlain:
        return None
    return form.made.checks - before


def _analysed(form: Form) -> Block:
    for s in form.made.statements:
        form.add(s)
    return form.block()


def block_calls(tree: ast.Module) -> dict[str, str]:
    """How a module may write the calls that a block may hold, by the names that it binds once, with what they stand
    for: `{"math.sqrt": "math.sqrt", "root": "math.sqrt", "np.exp": "numpy.exp", "abs": "abs"}`."""
    bound: Counter[str] = Counter()
    meant: dict[str, str] = {}
    for node in walk(tree):
        if rebinds(node):
            return {}
        bound.update(names_bound(node))
        if isinstance(node, ast.Import):
            meant.update({one.asname or one.name: one.name for one in node.names if one.name in MODULES})
        elif isinstance(node, ast.ImportFrom) and node.module in MODULES and not node.level:
            meant.update({one.asname or one.name: f"{node.module}.{one.name}" for one in node.names})
    calls = {name: name for name in FUNCTIONS if "." not in name and not bound[name]}
    for name, real in meant.items():
        if bound[name] == 1 and real in MODULES:
            own = [one for one in FUNCTIONS if one.startswith(f"{real}.")]
            calls.update({f"{name}.{one.partition('.')[2]}": one for one in own})
        elif bound[name] == 1 and real in FUNCTIONS:
            calls[name] = real
    return calls


# -- types that stay known -----------------------------------------------------------------------------


def _know_all(blocks: list[Block], mine: set[str]) -> None:
    inside = {id(s) for block in blocks for s in block.statements}
    unstable = {id(loop): _assigned_outside(loop, inside) for block in blocks for loop in block.loops}
    numbers = {name for block in blocks for (name, attribute), _ in block.stores if not attribute}
    for block in blocks:
        _know_types(block, unstable, mine, numbers)


def _know_types(block: Block, unstable: dict[int, set[str]], mine: set[str], numbers: set[str]) -> None:
    """Which names keep their types in the loop around, and in how many loops around that.  `numbers`: names that
    blocks set."""
    block.known, block.over = [], None
    names = [*block.reads, *(name for name in block.objects if name not in numbers)]
    for loop in reversed(block.loops):
        known = [name for name in names if name in mine and name not in unstable[id(loop)]]
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


def own_names(tree: Tree) -> set[str]:
    """Names that nothing but its own statements binds."""
    mine = {name for node in _own(tree) if node is not tree for name in names_bound(node)}
    for node in walk(tree):
        if isinstance(node, (ast.Global, ast.Nonlocal)):
            mine.difference_update(node.names)
        elif isinstance(tree, ast.Module) and rebinds(node):
            return set()
    return mine


def _likely_numbers(tree: Tree, kinds: tuple[type, ...]) -> set[str]:
    """Names that a `for` over a range binds, or that are set to a number of these kinds."""
    found: set[str] = set()
    for node in _own(tree):
        if isinstance(node, ast.For) and isinstance(node.target, ast.Name) and _is_range(node.iter):
            found.add(node.target.id)
        elif isinstance(node, ast.Assign) and isinstance(node.value, ast.Constant) and type(node.value.value) in kinds:
            found.update(t.id for t in node.targets if isinstance(t, ast.Name))
    return found


def _wholes(tree: Tree, likely: set[str]) -> set[str]:
    """Those of the names that nothing binds but a `for` over a range, whole numbers, and sums and products of them."""
    bound: Counter[str] = Counter()
    values: dict[str, list[ast.expr]] = {name: [] for name in likely}
    for node in _own(tree):
        if node is not tree:
            bound.update(names_bound(node))
        if isinstance(node, ast.For) and isinstance(node.target, ast.Name) and _is_range(node.iter):
            bound[node.target.id] -= 1
        for name, value in _given(node):
            bound[name] -= 1
            if name in values:
                values[name].append(value)
    wholes = {name for name in likely if not bound[name]}
    while True:
        kept = {name for name in wholes if all(is_whole(value, wholes) for value in values[name])}
        if kept == wholes:
            return wholes
        wholes = kept


def _given(node: ast.AST) -> Iterator[tuple[str, ast.expr]]:
    """The names that a statement sets, each with its value."""
    if isinstance(node, ast.Assign):
        for target in node.targets:
            if isinstance(target, ast.Name):
                yield target.id, node.value
            elif isinstance(target, ast.Tuple) and isinstance(node.value, ast.Tuple):
                if len(target.elts) == len(node.value.elts):
                    yield from ((t.id, v) for t, v in zip(target.elts, node.value.elts) if isinstance(t, ast.Name))
    elif isinstance(node, ast.AugAssign) and isinstance(node.target, ast.Name):
        yield node.target.id, ast.BinOp(ast.Name(node.target.id, ast.Load()), node.op, node.value)


def _is_range(node: ast.expr) -> bool:
    return isinstance(node, ast.Call) and getattr(node.func, "id", "") == "range"
