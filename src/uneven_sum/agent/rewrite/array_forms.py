"""The fast form of a block of arithmetic on arrays of numpy's: see `blocks`.

It stands before the precise form of its statements, and runs where each name that they read holds a small array of
floats or a number.  The results are temporaries, so that nothing has to be put back; they are emptied at the end:

    while True:
        try:
            if not (‹open› and ‹are_arrays›(x, v)):
                if not ‹open› and not ‹off›: ‹precise›(gate)
                ·b0 = ·b1 = ·b2 = None
                PRECISE FORM
                break
            ·b0 = -2.0 * x
            ·b1 = ·b0 - 0.1 * v
            ·b2 = np.exp(·b1)
            if ‹all_finite›(·b1) and ‹all_finite›(·b2): force = ·b0; …; ·b0 = ·b1 = ·b2 = None; break
        except:
            if not ‹block_failed›(site): raise
        ‹doubt_arrays›(gate)

An operation that warns raises `Unclear` instead (`triggers/on_warning.py`): then the block runs in its precise form,
where the warning stands at its statement.
"""

from __future__ import annotations

import ast

from .block_forms import Block, Form, NotPlain, Place, Scope, is_arithmetic

# Where a cell of an operand is not finite, neither is that of the result.
_PASS_ON = "abs absolute add cos cosh fabs log log10 log2 multiply negative sin sinh sqrt square subtract"
PASS_ON = {"abs", *(f"numpy.{name}" for name in _PASS_ON.split())}


class ArrayForm(Form):
    """Makes the fast form of a run of statements on arrays."""

    def __init__(self, run: list[ast.stmt], loops: list[ast.stmt], scope: Scope) -> None:
        super().__init__(run, loops, scope)
        self.made.of_arrays = True
        self.looks = 0  # of the precise form, at results that may be arrays

    def block(self) -> Block:
        block = super().block()
        block.saved = self.looks - len(block.tested) + len(block.of_numbers.intersection(block.tested))
        return block

    def _augmented(self, s: ast.AugAssign, target: ast.Name | ast.Attribute) -> None:
        """A number's: an array would be changed in place, which other names may see."""
        if not isinstance(target, ast.Name) or target.id not in self.scope.likely or (target.id, "") in self.version:
            raise NotPlain
        if target.id not in self.made.numbers:
            self.made.numbers.append(target.id)
        super()._augmented(s, target)

    def _stored(self, places: list[Place], temporary: str, value: ast.expr) -> None:
        numbers = {name for name in {*self.made.numbers, *self.scope.wholes} if (name, "") not in self.version}
        numbers |= {name for (name, _), held in self.version.items() if held in self.made.of_numbers}
        if is_arithmetic(value, numbers):
            self.made.of_numbers.add(temporary)
        elif isinstance(value, (ast.BinOp, ast.UnaryOp, ast.Call, ast.Compare)):
            self.looks += 1
        super()._stored(places, temporary, value)

    def _passed(self, node: ast.expr, function: str, hidden: bool) -> ast.expr:
        return self._value(node, hidden) if function in PASS_ON else self._argument(node)
