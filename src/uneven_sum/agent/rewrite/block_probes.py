"""What stands around the two forms of a block of arithmetic: see `blocks`."""

from __future__ import annotations

import ast
import copy

from ..core.markers import MARK, VALUE
from ..lookouts.lookout import Plan
from ..source.sites import Options, Sites
from ..source.source_file import SourceFile
from . import blocks
from .augmented import Augmented
from .block_forms import Block, Cells, before, is_arithmetic


class BlockProbes(Augmented):
    """Decides at run time which form of a block runs."""

    def __init__(self, file: SourceFile, sites: Sites, options: Options, plan: Plan) -> None:
        super().__init__(file, sites, options, plan)
        self.blocks = blocks.Plan()  # of the function around
        self.functions: dict[str, str] = {}  # how calls that a block may hold are written here
        self.loops: list[ast.stmt] = []  # around the statement under way, in its function

    def _of_numbers(self, node: ast.expr, checked: ast.expr) -> ast.expr:
        """Names that a block in the loop around knows to be numbers need no look at the type of a result."""
        if not self.loops:
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
        """Whether the fast form may run: its gate is open and each name is a number."""
        tests = {name: self._is_number_kind(name) for name in block.reads}
        for place, name in enumerate(block.objects):
            kind = self._gate(gate, f"kind{place}")
            tests[name] = ast.Compare(self._probe("type", self._load(name)), [ast.Is()], [kind])
        known: list[ast.expr] = [self._gate(gate, "open"), *(tests[name] for name in block.known)]
        others = [test for name, test in tests.items() if name not in block.known]
        for (name, attribute), temporary in block.read_attributes.items():
            read = ast.NamedExpr(self._store(temporary), ast.Attribute(self._load(name), attribute, ast.Load()))
            kinds: list[ast.expr] = [self._type_is(read, "float"), self._type_is(self._load(temporary), "int")]
            others.append(ast.BoolOp(ast.Or(), kinds))
        if not block.flag:
            every = [*known, *others]
            return ast.BoolOp(ast.And(), every) if len(every) > 1 else every[0]
        temporaries, opened = self.blocks.scope.temporaries, self._gate(gate, "open")
        noted: ast.expr
        if isinstance(temporaries, Cells):
            noted = self._probe("know", temporaries.holder(), ast.Constant(block.flag), opened)
        else:
            noted = ast.NamedExpr(self._store(block.flag), opened)
        either = ast.BoolOp(ast.Or(), [temporaries.load(block.flag), ast.BoolOp(ast.And(), [*known, noted])])
        return ast.BoolOp(ast.And(), [either, *others]) if others else either

    def _is_number_kind(self, name: str) -> ast.expr:
        if name in self.blocks.scope.wholes:
            return self._type_is(self._load(name), "int")
        return self._is_plain_number(name, name in self.blocks.ints)

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
