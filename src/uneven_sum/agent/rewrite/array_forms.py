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

from .block_forms import FROM_LEFT, PROPAGATE, Block, Form, NotPlain, Place, Scope, is_arithmetic, unplaced

# Where a cell of an operand is not finite, neither is that of the result.
_PASS_ON = "abs absolute add cos cosh fabs log log10 log2 multiply negative sin sinh sqrt square subtract"
PASS_ON = {"abs", *(f"numpy.{name}" for name in _PASS_ON.split())}
MAKES = (ast.BinOp, ast.UnaryOp, ast.Call, ast.Compare)
CHOOSE = ("max", "min")  # they give what they were given


class ArrayForm(Form):
    """Makes the fast form of a run of statements on arrays."""

    def __init__(self, run: list[ast.stmt], loops: list[ast.stmt], scope: Scope) -> None:
        super().__init__(run, loops, scope)
        self.made.of_arrays = True
        self.fresh: set[str] = set()  # temporaries whose values nothing else holds
        self.looks = 0  # of the precise form, at results that may be arrays

    def block(self) -> Block:
        block = super().block()
        block.saved = self.looks - len(block.tested) + len(block.of_numbers.intersection(block.tested))
        return block

    def _augmented(self, s: ast.AugAssign, target: ast.Name | ast.Attribute) -> None:
        """A number's, or an array's that is made in this block: another one's other names may see."""
        if not isinstance(target, ast.Name):
            raise NotPlain
        made = self.version.get((target.id, ""))
        if made is not None:
            self._in_place(s, target, made)
            return
        if target.id not in self.scope.likely:
            raise NotPlain
        if target.id not in self.made.numbers:
            self.made.numbers.append(target.id)
        super()._augmented(s, target)

    def _in_place(self, s: ast.AugAssign, target: ast.Name, made: str) -> None:
        if made not in self.fresh or list(self.version.values()).count(made) > 1:
            raise NotPlain  # another name has it, too
        if isinstance(s.op, PROPAGATE):
            right = self._value(s.value, False)
        elif isinstance(s.op, FROM_LEFT):
            right = self._argument(s.value)
        else:
            raise NotPlain
        place = self.temporaries.store(made)
        assert isinstance(place, (ast.Name, ast.Attribute))
        self.made.steps.append(unplaced(ast.AugAssign(place, s.op, right), s))
        self.used.append(made)
        present = ast.Name(target.id, ast.Load())
        self._stored([(target.id, "")], made, ast.BinOp(present, s.op, s.value))

    def _stored(self, places: list[Place], temporary: str, value: ast.expr) -> None:
        numbers = {name for name in {*self.made.numbers, *self.scope.wholes} if (name, "") not in self.version}
        numbers |= {name for (name, _), held in self.version.items() if held in self.made.of_numbers}
        self.made.of_numbers.discard(temporary)
        if is_arithmetic(value, numbers):
            self.made.of_numbers.add(temporary)
        elif isinstance(value, MAKES):
            self.looks += 1
        if isinstance(value, MAKES) and not (isinstance(value, ast.Call) and getattr(value.func, "id", "") in CHOOSE):
            self.fresh.add(temporary)
        super()._stored(places, temporary, value)

    def _passed(self, node: ast.expr, function: str, hidden: bool) -> ast.expr:
        return self._value(node, hidden) if function in PASS_ON else self._argument(node)
