"""From the digits of all places to results, blame, branches and findings.

A loss counts where it reaches a result: what is printed, written, left in a name at the end, or named by the user.
"""

from __future__ import annotations

import ast
import re
from dataclasses import dataclass, field

from ..differing.places import Matching, by_nature
from ..differing.reading import Place
from .held import ALL, Held
from .residuals import against_operands, as_printed
from .slices import Ways
from .spread import Spread

FEWEST = 6.0  # digits of a result in 64 bits under which its loss is a finding
FEWEST_SINGLE = 2.0  # the same in 32 bits
LEAST_DROP = 2.0  # digits that one term must lose to be blamed
GIVES = 1.5  # digits that a result may have more than the term to blame
# Words of a name, not parts of words: `error` and `err_max`, not `terrain` or `diffusion`.
RESIDUAL = re.compile(
    r"(?<![a-z])(?:resid\w*|err(?:or)?s?|diffs?|deltas?|tol|misfit|defect|gap|check|eps|bias|mbe|rms\w*|mae|mse|loss)"
    r"(?![a-z])",
    re.IGNORECASE,
)


@dataclass
class Result:
    """A result with the digits that hold; `value` as text."""

    place: Place
    text: str
    value: str
    digits: float
    held: Held
    named: bool = False
    beside: str = ""  # what the digits are judged against, where that is not the result itself


@dataclass
class Blamed:
    """The term where digits were lost, and of which result; `gradual`: a little in each pass."""

    held: Held
    node: ast.AST
    result: Result
    gradual: bool = False
    hidden: bool = False  # all runs agree at the end, and did not on the way

    @property
    def digits(self) -> float:
        return self.held.lowest if self.gradual or self.hidden else self.held.drop.digits

    @property
    def at_pass(self) -> int:
        if self.hidden:
            return self.held.over_all_pass
        return (self.held.first_few or self.held.at_pass) if self.gradual else self.held.drop.at_pass


@dataclass
class Branch:
    place: Place
    at_pass: int


@dataclass
class Judged:
    results: list[Result] = field(default_factory=list)
    blame: list[Blamed] = field(default_factory=list)
    branches: list[Branch] = field(default_factory=list)
    places: list[tuple[Held, str]] = field(default_factory=list)  # with the name that is set
    unmeasured: list[tuple[str, str]] = field(default_factory=list)  # results whose numbers are not known, their types
    unexplained: list[Result] = field(default_factory=list)  # of few digits, and no term is to blame


class Judge:
    """`named`: names whose values are results, given by the user."""

    def __init__(self, spreads: list[Spread], named: frozenset[str] = frozenset()) -> None:
        self.named = named
        self.matching: Matching = spreads[0].matching
        self.held: list[Held] = _merged(spreads)
        self.branches = _branches(spreads)
        self._ways: dict[str, Ways] = {}

    def ways(self, path: str) -> Ways:
        if path not in self._ways:
            self._ways[path] = Ways(self.matching.text(0, path))
        return self._ways[path]

    def text(self, place: Place) -> str:
        return self.matching.text(0, place.file).segment(place)

    @staticmethod
    def operand_texts(node: ast.AST) -> list[str]:
        """The texts of up to two operands of a term, as they were told."""
        nodes: list[ast.expr] = []
        if isinstance(node, ast.BinOp):
            nodes = [node.left, node.right]
        elif isinstance(node, ast.AugAssign):
            nodes = [node.target, node.value]
        elif isinstance(node, ast.Call):
            nodes = list(node.args[:2])
            if isinstance(node.func, ast.Attribute) and not nodes:
                nodes = [node.func.value]
        return [" ".join(ast.unparse(n).split())[:60] for n in nodes]

    def judge(self) -> Judged:
        found = Judged(branches=self.branches)
        nodes = [(held, self.ways(held.place.file).node_at(held.place)) for held in self.held]
        for held, node in nodes:
            if node is not None and held.place.role not in ("test", "result", "return", "yield"):
                name = self.ways(held.place.file).target_of.get(id(node))
                if name:
                    found.places.append((held, name))
        found.places = _once(found.places)
        found.results = self._results(nodes, found.places)
        found.unmeasured = [
            (self.text(held.place), held.kind)
            for held, node in nodes
            if held.place.role == "result" and node is not None and not held.course.values and held.kind
        ]
        known: set[tuple[str, int, int]] = set()
        for result in sorted(found.results, key=lambda r: r.digits):
            blamed = self._blame(result, nodes)
            if blamed is None and self._is_low(result):
                found.unexplained.append(result)
            if blamed is not None:
                place = blamed.held.place
                if (place.file, place.line, place.column) not in known:
                    known.add((place.file, place.line, place.column))
                    found.blame.append(blamed)
        return found

    # -- results -----------------------------------------------------------------------------------------

    def _results(self, nodes: list[tuple[Held, ast.AST | None]], places: list[tuple[Held, str]]) -> list[Result]:
        found: list[Result] = []
        for held, node in nodes:
            ways = self.ways(held.place.file)
            if held.place.role == "result" and node is not None and held.course.values:  # it was a number
                if by_nature(ways.text, held.place) or id(node) in ways.never_shown():
                    continue  # a time, an address; a text that is not shown
                found.append(self._result(held, self.text(held.place), places))
        for held, name in places:
            ways = self.ways(held.place.file)
            node = ways.node_at(held.place)
            on_top = node is not None and ways.scope_of.get(id(node)) is ways.text.tree
            given = name in self.named
            unread = on_top and name.isidentifier() and name not in ways.read and bool(held.course.values)
            if given or (unread and not by_nature(ways.text, held.place)):
                made = self._result(held, name, [])
                made.named = given
                found.append(made)
        return found

    def _result(self, held: Held, text: str, places: list[tuple[Held, str]]) -> Result:
        """A printed name has the digits of its passes, too: all runs may agree at the end, and on a wrong value."""
        digits = held.lowest
        for other, name in places:
            if name == text and other.passes > 1 and other.place.file == held.place.file:
                digits = min(digits, other.over_all)
        value = "nan" if held.value is None else repr(held.value)
        result = Result(held.place, text, value, digits, held)
        if self._is_low(result):
            self._judge_residual(result)
        return result

    def _judge_residual(self, result: Result) -> None:
        ways = self.ways(result.place.file)
        node = ways.node_at(result.place)
        if node is None:
            return
        largest: dict[int, float] = {}  # operands, by the id of the term
        for held in self.held:
            if held.place.file == result.place.file and held.operand_largest:
                largest[id(ways.node_at(held.place))] = held.operand_largest
        beside = against_operands(node, result.held, ways, largest)
        if beside is not None and beside > result.digits:
            result.digits, result.beside = beside, "beside its operands"
        elif as_printed(node, result.held, ways):
            result.digits, result.beside = ALL, "as printed"

    @staticmethod
    def _is_low(result: Result) -> bool:
        return result.digits < (FEWEST_SINGLE if result.held.single else FEWEST)

    # -- blame -------------------------------------------------------------------------------------------

    def _blame(self, result: Result, nodes: list[tuple[Held, ast.AST | None]]) -> Blamed | None:
        """The term where the digits of a result were lost; None where it holds enough, or none is known."""
        hidden = result.held.lowest > result.digits + GIVES  # all runs agree at the end
        if not self._is_low(result) or (result.held.whole and not (result.named or hidden)):
            return None
        ways = self.ways(result.place.file)
        start = ways.node_at(result.place)
        if start is None:
            return None
        within = ways.made_from(start)
        inside = [(h, n) for h, n in nodes if n is not None and id(n) in within and h.lowest < ALL]
        if not hidden:
            most = result.digits + GIVES
            sharp = [(h, n) for h, n in inside if h.drop.lost >= LEAST_DROP and h.drop.digits <= most]
            if sharp:
                held, node = max(sharp, key=lambda pair: (round(pair[0].drop.lost), -pair[0].place.line))
                return Blamed(held, node, result)
        slow = [(h, n) for h, n in inside if h.lost >= LEAST_DROP and h.lowest <= result.digits + GIVES]
        if slow:
            held, node = max(slow, key=lambda pair: pair[0].lost)
            return Blamed(held, node, result, True, hidden)
        return None


def _once(places: list[tuple[Held, str]]) -> list[tuple[Held, str]]:
    """A call comes twice, as a term and as a value that is stored."""
    found: dict[tuple[str, int, str], tuple[Held, str]] = {}
    for held, name in places:
        key = (held.place.file, held.place.line, name)
        if key not in found or held.lowest < found[key][0].lowest:
            found[key] = (held, name)
    return list(found.values())


def _merged(spreads: list[Spread]) -> list[Held]:
    """By place, the lowest of all shaken runs, in the order in which they were told."""
    found: dict[int, Held] = {}
    by_key: dict[tuple[str, int, int, int, int, str], Held] = {}
    for spread in spreads:
        for held in spread.held.values():
            p = held.place
            key = (p.file, p.line, p.column, p.last, p.end, p.role)
            known = by_key.get(key)
            if known is None:
                by_key[key] = found[id(held)] = held
            else:
                known.merge(held)
    return list(found.values())


def _branches(spreads: list[Spread]) -> list[Branch]:
    found: dict[tuple[str, int, int], Branch] = {}
    for spread in spreads:
        for number, at_pass in spread.branches.items():
            place = spread.matching.at[0][number]
            key = (place.file, place.line, place.column)
            if key not in found or at_pass < found[key].at_pass:
                found[key] = Branch(place, at_pass)
    return sorted(found.values(), key=lambda b: (b.place.file, b.place.line))
