"""A statement with the term at fault in it, and versions of it: what repairs are made of."""

from __future__ import annotations

import ast
import contextlib
import re
import textwrap
from dataclasses import dataclass, field

from ..protocol import Culprit, Facts

NUMBER = re.compile(r"'[-+ ]?\d+(\.\d*)?([eE][-+]?\d+)?'")  # a text that is one, as it is shown
MOST = 5  # versions of a line


@dataclass(frozen=True)
class Repair:
    """`name`: what it does, verb first; `text`: the statement as it would be, with no name that the file does not
    import; `assumes`: a sentence."""

    name: str
    text: str
    assumes: str


@dataclass
class Fault:
    """A statement with the term at fault in it, or the head of a compound one.

    `reason`: the kind of the reason; `numpy`: the name by which the file knows NumPy, empty where it does not; `cells`:
    the term has many; `passes`: the statement is in a `for` loop of its function, where `continue` begins the next
    pass; `operand`: the first one; `texts`: the operands that are numbers as texts; `near`, `shapes`: see `Culprit`.
    """

    statement: str
    node: ast.expr
    reason: str
    numpy: str
    cells: bool
    passes: bool
    operand: str = ""
    texts: list[str] = field(default_factory=list)
    near: list[str] = field(default_factory=list)
    shapes: list[list[int]] = field(default_factory=list)
    before: str = ""  # what stands before the statement: the first two letters of `elif`

    def with_term(self, term: str, node: ast.expr | ast.keyword | None = None) -> str:
        """The statement with another term in the place of the one at fault, all else as it is written."""
        lines = self.statement.split("\n")
        node = node or self.node
        first, last = lines[node.lineno - 1].encode(), lines[(node.end_lineno or node.lineno) - 1].encode()
        head, tail = first[: node.col_offset].decode(), last[node.end_col_offset :].decode()
        before, after = lines[: node.lineno - 1], lines[node.end_lineno or node.lineno :]
        return self.before + "\n".join([*before, head + term + tail, *after])

    def where(self, condition: str, safe: str, other: str) -> str:
        """The term where a condition holds, else another value.  `safe`: the term for arrays, fine in each cell."""
        if self.cells and self.numpy:
            return f"{self.numpy}.where({condition}, {safe}, {other})"
        return f"({ast.unparse(self.node)} if {condition} else {other})"


def fault_of(facts: Facts, source: str) -> Fault | None:
    """The statement of a pause with its term at fault; None where they cannot be found."""
    culprit = facts.culprit
    if culprit is None or facts.state == "ran" or culprit.element:
        return None
    texts = _of_texts(facts, culprit)
    reason = "texts" if texts else culprit.reason_kind
    if not reason:
        return None
    statement = textwrap.dedent(facts.statement)
    before = "el" if statement.startswith("elif ") else ""
    statement = statement.removeprefix(before)
    node = find_term(statement, culprit.text)
    if node is None or (is_head(statement) and "\n" in statement):  # its place is known by its first line alone
        return None
    own = [k for k in facts.loops if k.function == facts.function and k.number]
    # In a `while` the step to the next pass may come after the line.
    in_for = bool(own) and own[0].kind == "for" and not before
    fault = Fault(statement, node, reason, numpy_in(source), culprit.cell is not None, in_for)
    fault.before = before
    fault.operand = culprit.operands[0].text if culprit.operands else ""
    fault.texts, fault.near, fault.shapes = texts, culprit.near, culprit.shapes
    return fault


def runnable(found: list[Repair]) -> list[Repair]:
    """Those that are Python; five at most."""
    return [one for one in found if _is_python(one.text)][:MOST]


def _of_texts(facts: Facts, culprit: Culprit) -> list[str]:
    """Which operands are texts that are numbers, where an operator refuses them."""
    if facts.exception is None or facts.exception.type != "TypeError":
        return []
    return [one.text for one in culprit.operands if NUMBER.fullmatch(one.value)]


def parsed(statement: str) -> ast.Module | None:
    """The tree of one statement, or of the head of a compound one; None where it is neither."""
    for text in (statement, f"{statement}\n    pass"):
        try:
            tree = ast.parse(text)
        except (SyntaxError, ValueError):
            continue
        if len(tree.body) == 1:
            return tree
    return None


def is_head(statement: str) -> bool:
    tree = parsed(statement)
    return tree is not None and hasattr(tree.body[0], "body")


def find_term(statement: str, term: str) -> ast.expr | None:
    """A term in the text of one statement, or of a head; None where it is not there."""
    tree = parsed(statement) or ast.Module([], [])
    try:
        wanted = ast.dump(ast.parse(term, mode="eval").body)
    except (SyntaxError, ValueError):
        return None
    return next((n for n in ast.walk(tree) if isinstance(n, ast.expr) and ast.dump(n) == wanted), None)


def numpy_in(source: str) -> str:
    found = re.search(r"^\s*import numpy(?: as (\w+))?\s*$", source, re.M)
    return (found[1] or "numpy") if found else ""


def _is_python(text: str) -> bool:
    text = text.removeprefix("el") if text.startswith("elif ") else text
    for one in (text, f"{text}\n    pass"):  # a head has no body of its own
        with contextlib.suppress(SyntaxError, ValueError):
            compile(f"def f():\n while True:\n  pass\n{textwrap.indent(one, '  ')}", "<repair>", "exec")
            return True
    return False


def with_part(node: ast.expr, part: ast.expr, text: str) -> ast.expr:
    """A copy of a term with another text in the place of one of its parts."""

    class Put(ast.NodeTransformer):
        def visit(self, one: ast.AST) -> ast.AST:
            if isinstance(one, ast.expr) and ast.dump(one) == ast.dump(part):
                return ast.parse(text, mode="eval").body
            return super().generic_visit(one)

    made = Put().visit(ast.parse(ast.unparse(node), mode="eval").body)
    assert isinstance(made, ast.expr)
    return made


def beside(node: ast.expr) -> str:
    """A term that a dot may follow."""
    text = ast.unparse(node)
    return text if isinstance(node, (ast.Name, ast.Attribute, ast.Subscript, ast.Call)) else f"({text})"


def missing(fault: Fault, condition: str, safe: str) -> Repair:
    """The term where a condition holds, else nan.  `safe`: see `Fault.where`."""
    nothing = f"{fault.numpy}.nan" if fault.numpy else 'float("nan")'
    return Repair("leave missing", fault.with_term(fault.where(condition, safe, nothing)), "Later steps skip nan.")


def left_out(fault: Fault, condition: str, says: str) -> list[Repair]:
    """The pass left out where a condition holds; nothing for arrays, and outside of `for` loops."""
    if fault.cells or not fault.passes:
        return []
    return [Repair("leave the pass out", f"if {condition}:\n    continue\n{fault.statement}", says)]
