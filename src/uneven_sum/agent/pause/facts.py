"""One stop of the script, before it is put into words."""

from __future__ import annotations

import ast
import types
from dataclasses import field
from typing import Any

from ..core.markers import MISSING
from ..core.records import record
from ..diagnosis.culprit import Culprit
from ..diagnosis.decompose import Decomposed
from ..frames import stack
from ..source.source_file import Statement


@record
class Pause:
    """One stop of the script, before it is put into words."""

    reason: str  # error, warning, nonfinite, breakpoint, step, pause, entry, end
    frame: types.FrameType | None
    state: str = "in"  # in: in the middle of the statement; next: before it
    kind: str | None = None
    exception: BaseException | None = None
    warnings: list[str] = field(default_factory=list)
    expression: ast.AST | None = None  # the term that was looked at
    actual: object = MISSING
    was_bad: Any = None  # a mask of the cells that were not finite before `actual` was changed in place
    returned: object = MISSING
    statement: Statement | None = None
    apart: Decomposed | None = None
    culprit: Culprit | None = None
    can_retry: bool = False
    can_replace: bool = False  # `replacement` takes the place of the value that was looked at
    replacement: object = MISSING
    answer: str = ""  # how the user continues
    hits: int = 0  # how often the lookout was met
    reached: bool = False  # the line that the user has asked to run to
    kept: str = ""  # task, future, pool or cluster: what keeps the exception for whoever asks
    interrupted_in: str = ""
    held: bool = False  # interrupted since another process has paused
    dead: list[types.FrameType] = field(default_factory=list)  # calls that the exception has left, innermost first
    place: tuple[str, int] | None = None  # where there is no frame any more: the end
    said: str = ""  # what a user lookout says, without the place
    why: str = ""
    lookout: int = 0
    finding: dict[str, object] | None = None  # what a rule has found in the statement
    arguments: dict[types.FrameType, str] = field(default_factory=dict)  # of calls that have ended, as they were
    past: list[types.FrameType] = field(default_factory=list)  # calls of a script that has ended, innermost first

    @property
    def line(self) -> int:
        """The paused line: the first of its statement, or of the `except` or `case` clause that is entered."""
        if self.statement is None:
            return stack.line_of(self.frame) if self.frame is not None else 0
        node = self.statement.node
        if self.state == "next" and self.frame is not None:
            clauses = [*getattr(node, "handlers", []), *(c.pattern for c in getattr(node, "cases", []))]
            if self.frame.f_lineno in {c.lineno for c in clauses}:
                return self.frame.f_lineno
        return self.clause[0] or self.statement.line

    @property
    def clause(self) -> tuple[int, int]:
        """First and last line of the decorator, or of the clause of a `match`, that raised or has made a value that is
        not finite; zeros for another place."""
        if self.frame is None or self.statement is None:
            return 0, 0
        if self.exception is None:
            return clause_raised(self.statement.node, getattr(self.expression, "lineno", 0))
        tb = stack.traceback_from(self.exception, self.frame)
        return clause_raised(self.statement.node, tb.tb_lineno) if tb is not None else (0, 0)

    def calls(self, libraries: bool = False) -> list[types.FrameType]:
        """The calls from the paused one outwards, innermost first."""
        return self.past or self.dead + stack.calls(self.frame, libraries)


def clause_raised(statement: ast.stmt, line: int) -> tuple[int, int]:
    """First and last line of the decorator, or of the clause of a `match`, that a line is in; zeros for neither."""
    decorators: list[ast.expr] = getattr(statement, "decorator_list", [])
    clauses = [(d.lineno, d.end_lineno or 0) for d in decorators]
    for case in getattr(statement, "cases", []):
        clauses.append((case.pattern.lineno, (case.guard or case.pattern).end_lineno or 0))
    return next((clause for clause in clauses if clause[0] <= line <= clause[1]), (0, 0))


def whole_of(node: ast.stmt) -> ast.AST | None:
    """The expression that a statement is about."""
    if isinstance(node, ast.AugAssign):
        return node
    for name in ("value", "test", "iter", "subject", "exc"):
        part = getattr(node, name, None)
        if isinstance(part, ast.expr):
            return part
    items = getattr(node, "items", None)
    if items:
        return items[0].context_expr  # of `with`
    targets = getattr(node, "targets", None)
    return targets[0] if targets else None
