"""The places of rewritten code where probes stand, and the options of rewriting."""

from __future__ import annotations

import ast
from typing import Any, TypeAlias

from ..core.records import record
from .source_file import Position, SourceFile
from .wanted import Wanted


@record
class Options:
    """What to insert.  All off gives the plain code."""

    guards: bool = True
    checks: bool = True
    meters: bool = True
    carried: bool = False
    marks: bool = True  # which branches were taken
    stream: bool = False  # each stored, returned and tested value is sent: see `recording/value_stream.py`
    blocks: bool = True  # arithmetic is checked once for a run of statements: see `rewrite/blocks.py`
    results: bool = False  # what is printed or written is sent, with the role `result`
    left: bool = False  # what the last call of each function leaves is kept: see `pause/last_calls.py`
    counts: bool = False  # how often each statement ran
    audit: frozenset[str] = frozenset()  # what the rules of an audit want to see: see `rewrite/audit_probes.py`
    origin: Wanted | None = None  # what an origin search looks for: see `rewrite/origin_probes.py`

    @property
    def only_checks(self) -> bool:
        """Whether values are looked at for what is not finite, and for nothing else."""
        return self.checks and not (self.carried or self.stream or self.counts or self.audit)

    @property
    def at_once(self) -> bool:
        """Whether nothing needs each statement of a block of arithmetic."""
        return self.blocks and self.only_checks


# An index that is computed of whole numbers: one, or a word with its parts: `("name", place)`, `("slice", a, b, c)`,
# `("tuple", …)`, or an operator's class.
Index: TypeAlias = "int | tuple[object, ...] | None"


@record
class Parts:
    """How the operands of an expression are found among the values of the names in it; those by their places."""

    whole: tuple[int, ...]  # operands themselves
    elements: tuple[tuple[int, int | None, int], ...]  # of an owner; the place of the index, and what is added to that
    keys: tuple[tuple[int, str], ...]
    attributes: tuple[tuple[int, str], ...]
    items: tuple[tuple[int, tuple[Index, ...]], ...]  # of an owner, by one index after the other
    complete: bool  # no other name is in the expression, but for functions


@record
class Site:
    """A place where a probe is: its statement and, for checks, the expression that it looks at."""

    file: SourceFile
    statement: Position
    expression: Position | None
    role: str  # statement, head, value, argument, return, yield, test, augmented, right, loop, lookout
    lookouts: tuple[int, ...] = ()  # numbers of the lookouts that a probe is for
    versions: tuple[int, ...] = ()  # of these, as the probe was made for
    parts: Parts | None = None  # how the operands are found among the values that the probe is given
    whole: int = 0  # how often a call, which makes each cell from the whole of an operand, has carried bad cells on


class Sites(list[Site]):
    """All sites of the run; a site's number is its place here."""

    def add(self, *args: Any) -> int:
        self.append(Site(*args))
        return len(self) - 1


def written_to(node: ast.Call) -> ast.expr | None:
    """`y` of `np.divide(a, b, out=y)`: no operand, as long as each cell is written."""
    if any(k.arg in ("where", None) for k in node.keywords):
        return None
    return next((k.value for k in node.keywords if k.arg == "out"), None)


def callee(node: ast.Call) -> str:
    """The last name of what is called: `where` for `np.where(…)`."""
    f = node.func
    return f.attr if isinstance(f, ast.Attribute) else getattr(f, "id", "")


def read_from(node: ast.AST) -> ast.AST:
    """What attributes and items are read from: `f(x)` of `f(x).T[0]`, `a` of `a.b`."""
    while isinstance(node, (ast.Attribute, ast.Subscript)):
        node = node.value
    return node


sites = Sites()
