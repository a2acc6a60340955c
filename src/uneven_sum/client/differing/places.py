"""Brings the places of two texts together, and knows which values differ in each run by their nature."""

from __future__ import annotations

import ast
import difflib
import os
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from ...notebooks import files
from ...safe_text import cut
from ..sources import as_python, python_in, text_in
from .reading import Place

# Calls whose value is another in each run, by the last name, and what it comes from.
BY_NATURE = {
    **dict.fromkeys(("time", "time_ns", "perf_counter", "perf_counter_ns", "monotonic", "process_time"), "the time"),
    **dict.fromkeys(("now", "utcnow", "today", "ctime", "localtime", "gmtime", "getrusage"), "the time"),
    **dict.fromkeys(("timeit", "default_timer", "autorange"), "the time"),
    **dict.fromkeys(("id", "hash"), "an address or a hash of text"),
    **dict.fromkeys(
        ("mkdtemp", "mkstemp", "NamedTemporaryFile", "TemporaryDirectory", "gettempdir"), "a temporary name"
    ),
    **dict.fromkeys(("getpid", "fork", "uuid4", "uuid1", "urandom", "token_hex"), "a name made anew in each run"),
}
TERMS = ("audit", "running")  # roles of operators and calls
Source = Callable[[ast.AST], str]
FUNCTIONS = (ast.FunctionDef, ast.AsyncFunctionDef)
ELEMENTS = (ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp)
Position = tuple[int, int]  # line, column
SCOPES = (ast.FunctionDef, ast.AsyncFunctionDef, ast.Lambda)
RANDOM = {
    *("random", "rand", "randn", "randint", "normal", "uniform", "choice", "shuffle", "permutation", "sample", "gauss"),
    *("default_rng", "integers", "standard_normal", "exponential", "poisson", "RandomState", "randrange", "rvs"),
}


@dataclass
class Text:
    """One file of a run: its lines and its syntax, where it can be read."""

    path: str
    lines: list[str] = field(default_factory=list)
    tree: ast.Module | None = None
    nodes: dict[tuple[int, int, int, int], ast.AST] | None = None  # by first line and column, last line and column
    loops: list[tuple[Position, Position, int | None]] | None = None  # see `_loops`
    sources: dict[tuple[int, str], dict[str, str]] = field(default_factory=dict)  # by scope: see `_sources_of_names`

    @classmethod
    def read(cls, path: str) -> Text:
        try:
            with open(path, "rb") as f:
                data = f.read()
            if files.is_notebook(path):
                return cls(path, text_in(path, data).split("\n"), ast.parse(python_in(path, data)))
            return cls(path, data.decode("utf-8", "replace").splitlines(), ast.parse(data))
        except (OSError, SyntaxError, ValueError):
            return cls(path)

    @classmethod
    def of(cls, path: str, text: str) -> Text:
        """A file whose text is known."""
        try:
            return cls(path, text.splitlines(), ast.parse(as_python(path, text)))
        except (SyntaxError, ValueError):
            return cls(path, text.splitlines())

    def node(self, place: Place) -> ast.AST | None:
        """The outermost expression or statement that a place stands for."""
        if self.nodes is None:
            self.nodes = {}
            for node in ast.walk(self.tree) if self.tree is not None else ():
                if isinstance(node, (ast.expr, ast.stmt)) and not isinstance(node, ast.Expr):
                    self.nodes.setdefault(_place_of(node), node)
        return self.nodes.get((place.line, place.column, place.last, place.end))

    def scopes_at(self, line: int) -> list[ast.AST]:
        """The functions around a line, innermost first, and the module."""
        assert self.tree is not None
        around = [
            n for n in ast.walk(self.tree) if isinstance(n, FUNCTIONS) and n.lineno <= line <= (n.end_lineno or 0)
        ]
        return [*sorted(around, key=lambda n: -n.lineno), self.tree]

    def loop_at(self, place: Place) -> int | None:
        """The line of the innermost loop around a place; None in a comprehension and where a function begins anew."""
        if self.loops is None:
            self.loops = list(_loops(self.tree)) if self.tree is not None else []
        at = (place.line, place.column)
        around = [(first, line) for first, end, line in self.loops if first <= at < end]
        return max(around, key=lambda found: found[0])[1] if around else None

    def function_at(self, line: int) -> str:
        """The function around a line, with those around it: `simulate.rate`; empty in the module."""
        if self.tree is None:
            return ""
        return ".".join(n.name for n in self.scopes_at(line)[-2::-1] if isinstance(n, FUNCTIONS))

    def segment(self, place: Place) -> str:
        """The text of a place, in one line; the result of `x *= 2.0` is that of the whole statement."""
        line, column, last, end = place.line, place.column, place.last, place.end
        if place.role == "augmented" and self.tree is not None:
            for node in ast.walk(self.tree):
                if isinstance(node, ast.AugAssign) and _place_of(node.value) == (line, column, last, end):
                    line, column, last, end = _place_of(node)
                    break
        lines = self.lines[line - 1 : last]
        if not lines:
            return ""
        encoded = [text.encode() for text in lines]
        encoded[-1] = encoded[-1][:end]
        encoded[0] = encoded[0][column:]
        return " ".join(" ".join(part.decode("utf-8", "replace") for part in encoded).split())


def _loops(tree: ast.Module) -> Iterable[tuple[Position, Position, int | None]]:
    """Where each loop is gone through, and its line; None for what has passes of its own that are not counted."""
    for node in ast.walk(tree):
        if isinstance(node, ast.While):
            yield _start(node.test), _end(node.body[-1]), node.lineno
        elif isinstance(node, (ast.For, ast.AsyncFor)):
            yield _start(node.body[0]), _end(node.body[-1]), node.lineno
        elif isinstance(node, (*SCOPES, *ELEMENTS, ast.ClassDef)):
            yield _start(node), _end(node), None


def _place_of(node: ast.expr | ast.stmt) -> tuple[int, int, int, int]:
    return node.lineno, node.col_offset, node.end_lineno or 0, node.end_col_offset or 0


def _start(node: ast.expr | ast.stmt) -> Position:
    return node.lineno, node.col_offset


def _end(node: ast.expr | ast.stmt) -> Position:
    return node.end_lineno or 0, node.end_col_offset or 0


def lines_of_other(a: list[str], b: list[str]) -> dict[int, int]:
    """Lines of `b` by those of `a`, from 1: equal ones, and changed ones where as many came as went."""
    found: dict[int, int] = {}
    for tag, i, j, k, m in difflib.SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        if tag == "equal" or (tag == "replace" and j - i == m - k):
            found.update({i + n + 1: k + n + 1 for n in range(j - i)})
    return found


class Matching:
    """Numbers for the places of two runs, the same for those that belong together.

    `left_out`: those whose values differ by nature; with `all_places` none.
    """

    def __init__(
        self, texts: tuple[dict[str, Text], dict[str, Text]], folders: tuple[str, str], all_places: bool = False
    ) -> None:
        self.texts, self.folders, self.all_places = texts, folders, all_places
        self.scripts = tuple(next(iter(t), "") for t in texts)
        self.numbers: dict[tuple[str, int, int, str, int], int] = {}
        self.at: tuple[dict[int, Place], dict[int, Place]] = ({}, {})  # by number
        self.lines: dict[str, dict[int, int]] = {}
        self.left_out: set[int] = set()

    def number(self, side: int, place: Place) -> int:
        """The number of a place that a run has just told.  `side`: 0 or 1."""
        text = self.text(side, place.file)
        name = os.path.relpath(place.file, self.folders[side])
        name = "" if place.file == self.scripts[side] else name
        line = place.line
        if side == 0:
            line = self._mapped(name, place, text)
        # The places of a line stand in the order of their columns, whatever runs first.
        column = self._rank(text, place)
        # Terms of one statement may begin alike.
        end = _signs_before_end(text, place) + 10_000 * (place.last - place.line) if place.role in TERMS else 0
        key = (name, line, column, place.role, end)
        number = self.numbers.setdefault(key, len(self.numbers))
        self.at[side][number] = place
        if not self.all_places and by_nature(text, place):
            self.left_out.add(number)
        return number

    def text(self, side: int, path: str) -> Text:
        known = self.texts[side]
        if path not in known:
            known[path] = Text.read(path)
        return known[path]

    def _mapped(self, name: str, place: Place, text: Text) -> int:
        if name not in self.lines:
            other = os.path.join(self.folders[1], name) if name else self.scripts[1]
            theirs = self.text(1, other)
            self.lines[name] = lines_of_other(text.lines, theirs.lines) if theirs.lines != text.lines else {}
        if not self.lines[name]:
            return place.line
        # A line without a partner has a number that no line of the other text has.
        return self.lines[name].get(place.line, -place.line)

    @staticmethod
    def _rank(text: Text, place: Place) -> int:
        """How many words stand before the place in its line: a change within a word before it moves nothing."""
        line = text.lines[place.line - 1] if place.line <= len(text.lines) else ""
        before = line.encode()[: place.column].decode("utf-8", "replace")
        return len(before.split()) + sum(before.count(sign) for sign in "([{,")


def _signs_before_end(text: Text, place: Place) -> int:
    """How many words, operators and brackets stand before the end of a place in its last line."""
    line = text.lines[place.last - 1] if place.last <= len(text.lines) else ""
    before = line.encode()[: place.end].decode("utf-8", "replace")
    return len(before.split()) + sum(before.count(sign) for sign in "([{)]},+-*/%@")


def by_nature(text: Text, place: Place) -> str:
    """What a place's value comes from, where that differs in each run: the time, an address; empty otherwise.

    Names are followed within the file: `began = time.time()` makes `time.time() - began` and `began` such values.
    """
    node = _node(text, place)
    return next((why for n in node for why in [_source(n)] if why), "") or _followed(text, place, node, _source)


def random_source(text: Text, place: Place) -> str:
    """The call of a generator of random numbers in a place; empty where there is none."""
    for node in _node(text, place):
        if isinstance(node, ast.Call) and name_of(node.func) in RANDOM:
            return cut(ast.unparse(node), 80)
    return ""


def set_source(text: Text, place: Place) -> str:
    """The set that a place goes over or makes a list of; empty where there is none."""
    nodes = _node(text, place)
    made = next((cut(ast.unparse(n), 80) for n in nodes if _is_set(n)), "")
    return made or _followed(text, place, nodes, _is_set_of)


def _is_set(node: ast.AST) -> bool:
    made = isinstance(node, ast.Call) and name_of(node.func) in ("set", "frozenset")
    return made or isinstance(node, (ast.Set, ast.SetComp))


def _is_set_of(node: ast.AST) -> str:
    return cut(ast.unparse(node), 80) if _is_set(node) else ""


def _node(text: Text, place: Place) -> list[ast.AST]:
    if text.tree is None:
        return []
    found = text.node(place)
    return list(ast.walk(found)) if found is not None else []


def name_of(node: ast.AST) -> str:
    """The last name: `sum` of `np.sum`; empty for what has none."""
    return node.attr if isinstance(node, ast.Attribute) else getattr(node, "id", "")


def _source(node: ast.AST) -> str:
    if not isinstance(node, ast.Call):
        return ""
    return BY_NATURE.get(name_of(node.func), "")


def _followed(text: Text, place: Place, nodes: Iterable[ast.AST], source: Source) -> str:
    """What the names of an expression come from, where `source` says it of what was assigned to them, in the same
    function or in the module."""
    names = {n.id for n in nodes if isinstance(n, ast.Name)}
    if not names or text.tree is None:
        return ""
    for scope in text.scopes_at(place.line):
        key = (id(scope), source.__name__)
        if key not in text.sources:
            text.sources[key] = _sources_of_names(scope, source)
        known = text.sources[key]
        for name in sorted(names & known.keys()):
            if known[name]:
                return known[name]
        names -= known.keys()
    return ""


def _sources_of_names(scope: ast.AST, source: Source) -> dict[str, str]:
    """The names that a function or module assigns, with what their values come from; empty for other values."""
    found: dict[str, str] = {}
    for node in _own(scope):
        if isinstance(node, (ast.Assign, ast.AnnAssign, ast.AugAssign)) and node.value is not None:
            inner = list(ast.walk(node.value))
            why = next((w for n in inner for w in [source(n)] if w), "")
            why = why or next((found[n.id] for n in inner if isinstance(n, ast.Name) and found.get(n.id)), "")
            for target in node.targets if isinstance(node, ast.Assign) else [node.target]:
                for name in ast.walk(target):
                    if isinstance(name, ast.Name):
                        found[name.id] = why or found.get(name.id, "")
    return found


def _own(scope: ast.AST) -> Iterable[ast.AST]:
    """The nodes of a scope in the order of the text, without those of functions in it."""
    for child in ast.iter_child_nodes(scope):
        if not isinstance(child, SCOPES):
            yield child
            yield from _own(child)
