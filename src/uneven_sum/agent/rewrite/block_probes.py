"""What stands around the two forms of a block of arithmetic: see `blocks`."""

from __future__ import annotations

import ast
import copy

from ..core.markers import MARK, VALUE
from ..lookouts.lookout import Plan
from ..source import gates
from ..source.sites import Options, Sites
from ..source.source_file import SourceFile
from . import block_forms, blocks
from .augmented import Augmented
from .block_forms import Block, Cells, before, is_arithmetic
from .recording_probes import first_line


class BlockProbes(Augmented):
    """Decides at run time which form of a block runs."""

    def __init__(self, file: SourceFile, sites: Sites, options: Options, plan: Plan) -> None:
        super().__init__(file, sites, options, plan)
        self.blocks = blocks.Plan()  # of the function around
        self.functions: dict[str, str] = {}  # how calls that a block may hold are written here
        self.loops: list[ast.stmt] = []  # around the statement under way, in its function

    def statement(self, s: ast.stmt) -> list[ast.stmt]:
        raise NotImplementedError

    def _shared(self) -> tuple[ast.stmt, ast.stmt, list[ast.stmt], ast.stmt]:
        raise NotImplementedError

    def _leave(self) -> list[ast.stmt]:
        raise NotImplementedError

    def block(self, block: Block) -> ast.stmt:
        """A run of arithmetic in its two forms; `blocks` and `array_forms` show the code."""
        first, last, temporaries = block.statements[0], block.statements[-1], self.blocks.scope.temporaries
        outer, self.at = self.at, block.place
        number = gates.number_of(self.file.path, block.place, block.wanted, block.of_arrays)
        site, gate = self._site("statement"), ast.Constant(number)
        if block.of_arrays:
            after = [self._emptied(block), *self._flags(block.resets, last)]
            fast = block_forms.form_with(block, temporaries, self._all_finite(block), after)
            doubt: list[ast.stmt] = [ast.Expr(self._probe("doubt_arrays", gate)), self._emptied(block)]
        else:
            fast = block_forms.fast_form(block, temporaries)
            doubt = [ast.Expr(self._probe("doubt", gate))]
        around, self.loops = self.loops, []  # no type is known
        precise = self._precise_begins(block, number)
        done = 0
        for place, s in enumerate(block.statements):
            if place >= done:
                run = self.blocks.longest_at(block.statements, place, block)
                precise += self.statement(s) if run is None else [self.block(run)]
                done = place + (1 if run is None else len(run.statements))
        self.loops = around
        precise.append(self._shared()[1])
        lost = ast.If(ast.UnaryOp(ast.Not(), self._probe("block_failed", site)), [*self._leave(), ast.Raise()], [])
        handler = ast.ExceptHandler(None, None, [lost])
        may_run = self._here(self._may_run(block, number), block_forms.before(first))
        either = ast.If(ast.UnaryOp(ast.Not(), may_run), precise, [])
        whole = ast.Try([either, *fast], [handler], [], [])
        rest = [block_forms.unplaced(step, last) for step in doubt]
        self.at = outer
        return self._here(ast.While(ast.Constant(True), [whole, *rest], []), first_line(first))

    def _of_numbers(self, node: ast.expr, checked: ast.expr) -> ast.expr:
        """Names that a block in the loop around knows to be numbers need no look at the type of a result."""
        if not self.loops or block_forms.has_root(node):
            return checked
        numbers = [block for block in self.blocks.blocks.values() if any(block.over is loop for loop in self.loops)]
        for block in numbers:
            if block.flag and is_arithmetic(node, set(block.known).difference(block.objects)):
                made = ast.NamedExpr(self._store(VALUE), copy.deepcopy(node))
                nothing = ast.Compare(ast.BinOp(made, ast.Sub(), self._load(VALUE)), [ast.Eq()], [ast.Constant(0.0)])
                known = ast.BoolOp(ast.And(), [self.blocks.scope.temporaries.load(block.flag), nothing])
                return ast.IfExp(known, self._load(VALUE), checked)
        return checked

    def _may_run(self, block: Block, gate: int) -> ast.expr:
        """Whether the fast form may run: its gate is open and each name holds what it must."""
        opened, temporaries = self._gate(gate, "open"), self.blocks.scope.temporaries
        known, others = (self._types_of_arrays if block.of_arrays else self._types_of_numbers)(block, gate)
        known.insert(0, opened)
        if not block.flag:
            every = [*known, *others]
            return ast.BoolOp(ast.And(), every) if len(every) > 1 else every[0]
        noted: ast.expr
        if isinstance(temporaries, Cells):
            noted = self._probe("know", temporaries.holder(), ast.Constant(block.flag), self._gate(gate, "open"))
        else:
            noted = ast.NamedExpr(self._store(block.flag), self._gate(gate, "open"))
        either = ast.BoolOp(ast.Or(), [temporaries.load(block.flag), ast.BoolOp(ast.And(), [*known, noted])])
        return ast.BoolOp(ast.And(), [either, *others]) if others else either

    def _types_of_numbers(self, block: Block, gate: int) -> tuple[list[ast.expr], list[ast.expr]]:
        """Tests of what stays known in the loop around, and of the rest."""
        tests = {name: self._is_number_kind(name) for name in block.reads} | self._classes(block, gate)
        others = [test for name, test in tests.items() if name not in block.known]
        for (name, attribute), temporary in block.read_attributes.items():
            read = ast.NamedExpr(self._store(temporary), ast.Attribute(self._load(name), attribute, ast.Load()))
            kinds: list[ast.expr] = [self._type_is(read, "float"), self._type_is(self._load(temporary), "int")]
            others.append(ast.BoolOp(ast.Or(), kinds))
        return [tests[name] for name in block.known], others

    def _types_of_arrays(self, block: Block, gate: int) -> tuple[list[ast.expr], list[ast.expr]]:
        """The same for a block on arrays: nothing stays known, since what numpy does at errors may change."""
        numbers = {*block.numbers, *self.blocks.scope.wholes}
        tests = [self._is_number_kind(name) for name in block.reads if name in numbers]
        values: list[ast.expr] = [self._load(name) for name in block.reads if name not in numbers]
        for (name, attribute), temporary in block.read_attributes.items():
            read = ast.Attribute(self._load(name), attribute, ast.Load())
            values.append(ast.NamedExpr(self._store(temporary), read))
        return [], [*tests, *self._classes(block, gate).values(), self._probe("are_arrays", *values)]

    def _classes(self, block: Block, gate: int) -> dict[str, ast.expr]:
        """Tests whether names hold objects of the classes that were found plain."""
        return {
            name: ast.Compare(self._probe("type", self._load(name)), [ast.Is()], [self._gate(gate, f"kind{place}")])
            for place, name in enumerate(block.objects)
        }

    def _all_finite(self, block: Block) -> ast.expr | None:
        """Whether the results of a block on arrays are finite; of numbers without a call.  None: all are whole."""
        load = self.blocks.scope.temporaries.load
        tests: list[ast.expr] = [
            block_forms.is_finite(load(name), block.roots)
            if name in block.of_numbers
            else self._probe("all_finite", load(name))
            for name in block.tested
        ]
        return ast.BoolOp(ast.And(), tests) if len(tests) > 1 else next(iter(tests), None)

    def _emptied(self, block: Block) -> ast.stmt:
        store = self.blocks.scope.temporaries.store
        return ast.Assign([store(name) for name in block.temporaries], ast.Constant(None))

    def _is_number_kind(self, name: str) -> ast.expr:
        if name in self.blocks.scope.wholes:
            return self._type_is(self._load(name), "int")
        if name in self.blocks.ints:
            return self._is_plain_number(name, True)
        kinds: list[ast.expr] = [self._type_is(self._load(name), kind) for kind in ("float", "int", "complex")]
        return ast.BoolOp(ast.Or(), kinds)

    def _is_closed(self, gate: int) -> ast.expr:
        return ast.BoolOp(ast.And(), [ast.UnaryOp(ast.Not(), self._gate(gate, word)) for word in ("open", "off")])

    @staticmethod
    def _gate(number: int, word: str) -> ast.expr:
        return ast.Attribute(ast.Constant(f"{MARK}gate:{number}"), word, ast.Load())

    def _flags(self, flags: list[str], like: ast.AST) -> list[ast.stmt]:
        """No type is known."""
        made = ast.Assign([self.blocks.scope.temporaries.store(flag) for flag in flags], ast.Constant(False))
        return [self._here(made, like)] if flags else []

    def _precise_begins(self, block: Block, number: int) -> list[ast.stmt]:
        """The first steps of a precise form."""
        first = block.statements[0]
        asks = "learn" if any(block.wanted) else "precise"
        may_ask: ast.expr = self._is_closed(number)
        if block.objects:  # the gate may be open, and an object of another class
            may_ask = ast.UnaryOp(ast.Not(), self._gate(number, "off"))
        steps: list[ast.stmt] = [ast.If(may_ask, [ast.Expr(self._probe(asks, ast.Constant(number)))], [])]
        steps += self._flags(block.resets, before(first))
        if block.read_attributes:  # what they hold may be large
            kept: list[ast.expr] = [self._store(temporary) for temporary in block.read_attributes.values()]
            steps.append(ast.Assign(kept, ast.Constant(None)))
        return [self._here(step, before(first)) for step in steps]
