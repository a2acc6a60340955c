"""Findings: one a place and rule, with how often, the first pass, and the figures that prove it."""

from __future__ import annotations

import ast
import os
import types
from dataclasses import field
from typing import Any

from ..core.records import record
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..source.registry import file_of
from ..source.sites import Site
from ..source.source_file import Position


@record
class Finding:
    """`weight`: from 0 to 1, how sure it is times how much it changes.  `question`: values alone cannot decide.

    `right`: what a right calculation gives, as text.  `operands`: name and value as text, for the screen.
    `fix`: a changed statement to try, where one is safe to propose.  `pictures`: as `pictures` makes them.
    `follows`: findings whose values come from this one.
    """

    rule: str
    headline: str
    weight: float
    place: Place
    question: bool = False
    evidence: dict[str, object] = field(default_factory=dict)
    right: str | None = None
    fix: str | None = None
    pictures: list[dict[str, object]] = field(default_factory=list)
    cell: list[int] | None = None
    operands: list[tuple[str, str]] = field(default_factory=list)
    at_pass: int = 0
    function: str = ""
    loops: list[dict[str, object]] = field(default_factory=list)  # around the calls under way: file, line, pass
    follows: list[Finding] = field(default_factory=list)

    def as_dict(self) -> dict[str, object]:
        place = self.place
        return {
            "rule": self.rule,
            "weight": round(self.weight, 3),
            "question": self.question,
            "headline": self.headline,
            "file": place.file,
            "line": place.line,
            "function": self.function,
            "term": place.text,
            "statement": place.statement,
            "times": place.times.get(self.rule, 1) - place.before.get(self.rule, 0),
            "pass": self.at_pass or None,
            "cell": self.cell,
            "evidence": self.evidence,
            "right": self.right,
            "fix": self.fix,
            "pictures": self.pictures,
            "operands": [list(pair) for pair in self.operands],
            "loops": self.loops or self._only_loop(),
            "follows": [f.as_dict() for f in self.follows],
        }

    def _only_loop(self) -> list[dict[str, object]]:
        """Of a place in one loop that was judged at the end: that loop, with the pass."""
        statement = self.place.site.file.innermost(self.place.line, self.place.position[1])
        if not self.at_pass or statement is None or len(statement.loops) != 1:
            return []
        if not isinstance(statement.scope, ast.Module):
            return []
        return [{"file": self.place.file, "line": statement.loops[0].lineno, "pass": self.at_pass}]


class Place:
    """A term of the user's code, with what the rules keep of it: one record, however often it runs."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.kept: dict[str, Any] = {}  # by rule
        self.times: dict[str, int] = {}
        self.before: dict[str, int] = {}  # how often until this process was forked
        self._node: ast.AST | None = None

    @property
    def file(self) -> str:
        return os.path.abspath(self.site.file.path)

    @property
    def position(self) -> Position:
        return self.site.expression or self.site.statement

    @property
    def line(self) -> int:
        return self.position[0]

    @property
    def node(self) -> ast.AST:
        """The syntax of the term, as the user has written it."""
        if self._node is None:
            statement = self.site.file.innermost(self.line, self.position[1])
            root: ast.AST = statement.node if statement is not None else self.site.file.tree
            self._node = next(
                (n for n in ast.walk(root) if _at(n) == self.position and not isinstance(n, ast.Expr)), root
            )
        return self._node

    @property
    def around(self) -> list[ast.AST]:
        """The nodes around the term within its statement, innermost first."""
        statement = self.site.file.innermost(self.line, self.position[1])
        root: ast.AST = statement.node if statement is not None else self.site.file.tree
        return _path(root, self.node)[:-1][::-1]

    @property
    def scope(self) -> ast.AST:
        """The function, class or module that the term is in."""
        found = self.site.file.innermost(self.line, self.position[1])
        return found.scope if found is not None else self.site.file.tree

    @property
    def text(self) -> str:
        return self.site.file.segment(self.node)

    def text_of(self, node: ast.AST) -> str:
        return self.site.file.segment(node)

    @property
    def statement(self) -> str:
        found = self.site.file.innermost(self.line, self.position[1])
        if found is None:
            return self.text
        last = min(found.head_end or found.line, found.line + 3)
        return "\n".join(self.site.file.lines[found.line - 1 : last]).strip()

    def with_term(self, new: str) -> str | None:
        """The statement with another text for the term; None for one of several lines."""
        line, text = self.statement, self.text
        return line.replace(text, new, 1) if "\n" not in line and line.count(text) == 1 else None

    def operand_texts(self) -> list[str]:
        """The texts of the operands of an operator, a comparison or a call."""
        node = self.node
        if isinstance(node, ast.AugAssign):
            return [self.text_of(node.target), self.text_of(node.value)]
        if isinstance(node, ast.BinOp):
            return [self.text_of(node.left), self.text_of(node.right)]
        if isinstance(node, ast.Compare):
            return [self.text_of(node.left), self.text_of(node.comparators[0])]
        if isinstance(node, ast.Call):
            return [self.text_of(a) for a in node.args]
        return [self.text]


def _path(root: ast.AST, wanted: ast.AST) -> list[ast.AST]:
    if root is wanted:
        return [root]
    for child in ast.iter_child_nodes(root):
        found = _path(child, wanted)
        if found:
            return [root, *found]
    return []


def _at(node: ast.AST) -> Position | None:
    if not hasattr(node, "lineno"):
        return None
    # mypy: only of nodes with places
    return (node.lineno, node.col_offset, node.end_lineno, node.end_col_offset)  # type: ignore[attr-defined]


def loops_of(frame: types.FrameType) -> list[dict[str, object]]:
    """The loops under way around a call's statement and around the calls that led to it, innermost first."""
    found = stack.all_loops(frame, lengths=False)
    return [{"file": k["file"], "line": k["line"], "pass": k["pass"]} for k in found if k["pass"]]


def pass_of(frame: types.FrameType) -> int:
    """The pass of the innermost loop around a call's statement; 0 outside of loops."""
    file = file_of(frame)
    if file is None:
        return 0
    found = stack.loops(frame, statement_at(file, frame), lengths=False)
    return int(found[0]["pass"]) if found else 0
