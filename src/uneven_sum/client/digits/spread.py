"""Compares a shaken run with the plain one: for each place and pass, the digits in which they agree.

Of an array the digits are those of its largest cells: a cell that is small by chance is no loss.
"""

from __future__ import annotations

import numpy as np

from ..differing.comparing import Comparer
from ..differing.places import Matching
from ..differing.reading import (
    CELL,
    CONSTANT,
    CONTINUED,
    FLOAT,
    HIGHEST,
    IMAGINARY,
    INTEGER,
    LEFT,
    LOWEST,
    PART_BIT,
    RIGHT,
    SINGLE,
    SINGLE_CELL,
    Block,
)
from ..differing.reading import KIND as OF_TYPE
from .held import ALL, Held, digits_of

SCALAR, WITH, ARRAY, AT_LEFT, AT_RIGHT, NOTHING = range(6)  # how a record is judged: alone, with those before, …
KIND = np.full(256, NOTHING, np.uint8)
for _part, _kind in (
    *((FLOAT, SCALAR), (INTEGER, SCALAR), (IMAGINARY, WITH), (LOWEST, ARRAY), (HIGHEST, ARRAY), (CELL, ARRAY)),
    *((LEFT, AT_LEFT), (RIGHT, AT_RIGHT), (SINGLE, SCALAR), (SINGLE_CELL, ARRAY)),
):
    KIND[[_part, _part | CONTINUED]] = _kind
Columns = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]  # numbers, parts, values plain and shaken


class Spread(Comparer):
    """`held`: by number of the place.  `branches`: tests that came out otherwise, with the first such pass."""

    def __init__(self, matching: Matching) -> None:
        super().__init__(matching)
        self.held: dict[int, Held] = {}
        self.branches: dict[int, int] = {}
        self.kinds: dict[int, str] = {}  # of values that are told by their type alone
        self._rest: Columns = (np.empty(0, np.int64), np.empty(0, np.uint8), np.empty(0), np.empty(0))

    @staticmethod
    def parts_of(block: Block) -> np.ndarray:
        parts: np.ndarray = (block.keys >> PART_BIT).astype(np.uint8)
        return parts

    def _same_path(self, size: int) -> None:
        a, b = self.sides
        more = (a.numbers[:size], a.parts[:size], a.values[:size], b.values[:size])
        numbers, parts, x, y = (np.concatenate(pair) for pair in zip(self._rest, more, strict=True))
        starts = np.flatnonzero(parts < CONTINUED)
        until = int(starts[-1]) if len(starts) else 0  # the last value may go on
        self._rest = numbers[until:], parts[until:], x[until:], y[until:]
        self._take(numbers[:until], parts[:until], x[:until], y[:until])
        self.records += size
        for side in self.sides:
            self._drop(side, size)

    def _meet_again(self) -> bool:
        self._take_rest()  # what comes next is at another place: the last value is whole
        return super()._meet_again()

    def finish(self) -> None:
        super().finish()
        self._take_rest()

    def _take_rest(self) -> None:
        numbers, parts, x, y = self._rest
        self._rest = numbers[:0], parts[:0], x[:0], y[:0]
        self._take(numbers, parts, x, y)

    def _take(self, numbers: np.ndarray, parts: np.ndarray, x: np.ndarray, y: np.ndarray) -> None:
        """Whole values."""
        starts = np.flatnonzero(parts < CONTINUED)
        if not len(starts):
            return
        if starts[0]:  # the rest of a value whose begin was left out
            numbers, parts, x, y = (column[starts[0] :] for column in (numbers, parts, x, y))
            starts = starts - starts[0]
        kinds, begins = KIND[parts], parts < CONTINUED
        value_of = np.cumsum(begins) - 1
        alone = begins | (kinds == SCALAR) | ((kinds != np.r_[NOTHING, kinds[:-1]]) & (kinds != WITH))
        first = np.flatnonzero(alone)
        with np.errstate(all="ignore"):
            gap = np.abs(x - y)
            gap[(x == y) | (np.isnan(x) & np.isnan(y))] = 0.0
            gap[np.isnan(gap)] = np.inf
            size = np.maximum(np.abs(x), np.abs(y))
        gaps, sizes = np.maximum.reduceat(gap, first), np.maximum.reduceat(size, first)
        digits, kind, of = digits_of(gaps, sizes), kinds[first], value_of[first]
        count = len(starts)
        own = (kind == SCALAR) | (kind == ARRAY)
        table = np.full((count, 3), ALL)  # digits of the result and of two operands
        values = np.full((count, 3), np.nan)
        widest = np.zeros((count, 2))
        for column, wanted in enumerate((own, kind == AT_LEFT, kind == AT_RIGHT)):
            np.minimum.at(table[:, column], of[wanted], digits[wanted])
            values[of[wanted][::-1], column] = x[first[wanted]][::-1]
        with np.errstate(all="ignore"):
            np.maximum.at(widest[:, 0], of[own], gaps[own])
            np.maximum.at(widest[:, 1], of[own], sizes[own])
        plain = parts & ~np.uint8(CONTINUED)
        narrow, whole = np.ones(count, bool), np.ones(count, bool)
        narrow[value_of[(kinds == SCALAR) | (plain == CELL)]] = False
        narrow[value_of[(plain == SINGLE) | (plain == SINGLE_CELL)]] = True
        whole[value_of[((kinds == SCALAR) | (kinds == ARRAY) | (kinds == WITH)) & (plain != INTEGER)]] = False
        judged = np.zeros((count, 2), bool)  # results, operands
        judged[of[own], 0] = True
        judged[of[(kind == AT_LEFT) | (kind == AT_RIGHT)], 1] = True
        at = numbers[starts]
        for value in np.flatnonzero((plain[starts] == OF_TYPE) & ~judged[:, 0]).tolist():
            self.kinds[int(at[value])] = self.texts.get(float(x[starts[value]]), "an object")
        self._decide(at, parts[starts], x[starts], y[starts])
        order = np.argsort(at, kind="stable")
        edges = np.flatnonzero(np.r_[True, np.diff(at[order]) != 0])
        for rows in np.split(order, edges[1:]):
            held = self._take_place(int(at[rows[0]]), rows, table, widest, values, judged)
            held.single = held.single and bool(narrow[rows].all())
            held.whole = held.whole and bool(whole[rows].all())

    def _take_place(
        self,
        number: int,
        rows: np.ndarray,
        table: np.ndarray,
        widest: np.ndarray,
        values: np.ndarray,
        judged: np.ndarray,
    ) -> Held:
        held = self.held.get(number)
        if held is None:
            held = self.held[number] = Held(self.matching.at[0][number], kind=self.kinds.get(number, ""))
        if not judged[rows, 0].any():
            held.passes += len(rows)
            return held
        held.take(table[rows, 0], widest[rows, 0], widest[rows, 1], values[rows, 0])
        if judged[rows, 1].any():
            held.take_operands(table[rows, 0], table[rows, 1:], values[rows])
        return held

    def _decide(self, numbers: np.ndarray, parts: np.ndarray, x: np.ndarray, y: np.ndarray) -> None:
        """Note tests that came out otherwise."""
        for at in np.flatnonzero((parts == CONSTANT) & (x != y)).tolist():
            number = int(numbers[at])
            if self.matching.at[0][number].role == "test" and number not in self.branches:
                before = self.held[number].passes if number in self.held else 0
                self.branches[number] = before + int((numbers[: at + 1] == number).sum())
