"""Moves inexact results by one unit in the last place, up or down at random."""

from __future__ import annotations

import itertools
import random
import types
from collections.abc import Callable
from typing import Any

from ..core.data_types import Array, Frame
from ..values import nonfinite
from ..values.held_arrays import held_array
from .exactness import ERRORS

BLOCK = 1 << 13  # cells
SAMPLE = 61  # every so many-th cell of a block is looked at first
SIGNS = 65_521
ULP, ULP_SINGLE = 1.2e-16, 6.4e-8
MANY, MANY_SAMPLE = 8 * BLOCK, 1_000  # cells of an array that a sample speaks for
LARGE = 1_000_000  # cells from which on the first block speaks for all
DEEP = 2


class Mover:
    """`seed`: of the ups and downs, which are none of the script's random numbers."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)
        # Times a float this is about one unit in its last place: the sum is a neighbour of it.
        signs = [ULP if self.random.getrandbits(1) else -ULP for _ in range(SIGNS)]
        self.ulp: Callable[[], float] = itertools.cycle(signs).__next__
        self._constants: dict[float, float] = {}
        self._bytes = self.random.randbytes(4 * BLOCK)
        self._signs: dict[int, Any] = {}  # by bytes of a cell: ULP and -ULP; buffers

    def number(self, value: float) -> float:
        """A finite float, moved."""
        return value + value * self.ulp() if value - value == 0 else value

    def constant(self, value: float) -> float:
        """A constant of the text that has many digits: in one run it is moved alike wherever it stands."""
        if value not in self._constants:
            self._constants[value] = self.number(value)
        return self._constants[value]

    def result(self, value: Any, depth: int = 0, whole: bool = False) -> Any:
        """What a library has calculated: whole numbers are taken for exact and left alone, unless `whole`."""
        kind = type(value)
        if kind is float:
            return value if value.is_integer() and not whole else self.number(value)
        if kind is complex:
            return complex(self.result(value.real), self.result(value.imag))
        np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
        if np is None:
            return self._several(value, depth) if kind in (tuple, list) else value
        if isinstance(value, np.inexact):
            cells = np.array(value)
            self.cells(np, cells, whole)
            return cells[()]
        if type(value) is np.ndarray and value.dtype.kind in "fc":
            moved = value.copy()
            self.cells(np, moved, whole)
            return moved
        if pd is not None and isinstance(value, (pd.Series, pd.DataFrame)):
            return self.frame(np, pd, value)
        if np is not None and isinstance(value, np.ndarray) and value.dtype.kind in "fc":
            moved = value.copy()  # masked arrays, matrices, quantities
            self.cells(np, moved.view(np.ndarray), whole)
            return moved
        held = held_array(value)
        if held is not None:
            return held.with_cells(self.result(held.cells, depth + 1))
        return self._several(value, depth) if isinstance(value, (tuple, list)) else value

    def _several(self, value: Any, depth: int) -> object:
        """A tuple or list of results, such as eigenvalues and vectors."""
        if depth >= DEEP or len(value) > 1_000:
            return value
        moved = [self.result(v, depth + 1) for v in value]
        if all(a is b for a, b in zip(moved, value)):
            return value
        return type(value)(*moved) if hasattr(value, "_fields") else type(value)(moved)

    def frame(self, np: types.ModuleType, pd: types.ModuleType, value: Frame) -> object:
        """A series, or the columns of a frame."""
        if isinstance(value, pd.Series):
            if not isinstance(value.dtype, np.dtype) or value.dtype.kind != "f":
                return value
            cells = value.to_numpy(copy=True)
            self.cells(np, cells)
            return pd.Series(cells, index=value.index, name=value.name)
        moved = value.copy()
        for number, dtype in enumerate(value.dtypes):
            if isinstance(dtype, np.dtype) and dtype.kind == "f":
                cells = value.iloc[:, number].to_numpy(copy=True)
                self.cells(np, cells)
                moved.isetitem(number, cells)
        return moved

    def input(self, value: Any) -> object:
        """A copy of what goes into a library's calculation, each number moved, whole ones too."""
        np = nonfinite.module("numpy")
        if np is not None and type(value) is np.ndarray and value.dtype.kind in "fciu":
            moved = value.copy() if value.dtype.kind in "fc" else value.astype(np.float64)
            self.cells(np, moved, whole=True)
            return moved
        if type(value) is list and value and all(type(v) is float for v in value):
            return [self.number(v) for v in value]
        if np is not None and type(value) in (list, tuple) and value and type(value[0]) in (list, tuple):
            made = np.array(value)
            return self.input(made) if made.dtype.kind in "fciu" else value
        return value

    def cells(self, np: types.ModuleType, cells: Array, whole: bool = False) -> None:
        """Move the cells of an array that is ours, in place.  `whole`: whole numbers too."""
        if cells.dtype.kind == "c":
            cells = cells.view(cells.real.dtype) if cells.ndim else cells.reshape(1).view(cells.real.dtype)
        if cells.dtype.itemsize not in (4, 8) or not cells.flags.writeable:
            return
        with np.errstate(all="ignore"):
            if cells.size >= MANY and cells.flags.c_contiguous:
                sample = cells.reshape(-1)[:: cells.size // MANY_SAMPLE]
                if whole or not (sample == np.rint(sample)).any():
                    self._move_all(np, cells.reshape(-1))
                    return
            for part in self._parts(np, cells):
                self._move(np, part, None if whole else _broken(np, part))

    def arithmetic(self, np: types.ModuleType, name: str, a: object, b: object, result: Array) -> None:
        """Move the inexact cells of an array that an operator has made; in place."""
        if result.dtype.kind != "f" or result.dtype.itemsize not in (4, 8) or name not in ERRORS:
            self.cells(np, result)
            return
        if result.size >= MANY and _is_generic(np, name, a, b, result):
            self._move_all(np, result.reshape(-1))
            return
        errors, kinds = ERRORS[name], [result.dtype] * 3
        flags, use = ["external_loop", "buffered", "zerosize_ok"], [["readonly"], ["readonly"], ["readwrite"]]
        with (
            np.errstate(all="ignore"),
            np.nditer([a, b, result], flags, use, op_dtypes=kinds, casting="same_kind", buffersize=BLOCK) as blocks,
        ):
            all_alike = None
            for x, y, z in blocks:
                if all_alike is None or result.size <= LARGE:
                    sample = slice(None, None, SAMPLE)
                    found = np.abs(errors(np, x[sample], y[sample], z[sample])) > 0
                    # As good as all are inexact: then only whole numbers are spared.
                    all_alike = len(found) > 8 and found.sum() * 8 > len(found)
                if all_alike:
                    self._move(np, z, _broken(np, z))
                else:
                    self._move(np, z, np.abs(errors(np, x, y, z)) > 0)  # not where it is nan, at infinities

    def _parts(self, np: types.ModuleType, cells: Array) -> Any:
        if not cells.ndim:
            cells = cells.reshape(1)
        flat = cells.reshape(-1) if cells.flags.c_contiguous else None
        if flat is None:
            with np.nditer(cells, ["external_loop", "buffered"], [["readwrite"]], buffersize=BLOCK) as blocks:
                yield from blocks
            return
        for start in range(0, len(flat), BLOCK):
            yield flat[start : start + BLOCK]

    def _move_all(self, np: types.ModuleType, flat: Array) -> None:
        """Move each cell, of which none is taken for exact."""
        with np.errstate(all="ignore"):
            if not np.isfinite(np.add.reduce(flat)):
                for start in range(0, len(flat), BLOCK):
                    self._move(np, flat[start : start + BLOCK], None)
                return
            signs, scratch = self._units(np, flat), self._scratch(np, flat[:BLOCK])
            for start in range(0, len(flat), BLOCK):
                part = flat[start : start + BLOCK]
                at = self.random.randrange(3 * BLOCK)
                change = scratch[: len(part)]
                np.multiply(part, signs[at : at + len(part)], out=change)
                part += change

    def _units(self, np: types.ModuleType, like: Array) -> Array:
        """Units in the last place, up and down, as factors."""
        size = like.dtype.itemsize
        if size not in self._signs:
            signs = (np.frombuffer(self._bytes, np.uint8) & 1).astype(like.dtype) * 2 - 1
            self._signs[size] = signs * like.dtype.type(ULP if size == 8 else ULP_SINGLE)
        return self._signs[size]

    def _move(self, np: types.ModuleType, part: Array, wanted: object) -> None:
        """Add one unit in the last place, up or down, to each cell, or to those wanted; infinities stay."""
        start = self.random.randrange(3 * BLOCK)
        change = self._scratch(np, part)
        np.multiply(part, self._units(np, part)[start : start + len(part)], out=change)
        if wanted is not None:
            change *= wanted
        if not np.isfinite(np.dot(change, self._ones(np, change))):
            change[~np.isfinite(change)] = 0
        part += change

    def _scratch(self, np: types.ModuleType, like: Array) -> Array:
        """A buffer that is used again: a new one of this size costs more than the calculation."""
        key = 100 + like.dtype.itemsize
        if key not in self._signs:
            self._signs[key] = np.empty(BLOCK, like.dtype)
        return self._signs[key][: len(like)]

    def _ones(self, np: types.ModuleType, like: Array) -> object:
        key = -like.dtype.itemsize
        if key not in self._signs:
            self._signs[key] = np.ones(BLOCK, like.dtype)
        return self._signs[key][: len(like)]


def _is_generic(np: types.ModuleType, name: str, a: Any, b: Any, result: Array) -> bool:
    """Whether a sample of an operation's cells is as good as all inexact, and has no whole number."""
    if not result.flags.c_contiguous:
        return False
    step = result.size // MANY_SAMPLE
    sides = []
    for side in (a, b):
        side = np.asarray(side, result.dtype) if np.ndim(side) == 0 else side
        if np.ndim(side) and (side.shape != result.shape or not side.flags.c_contiguous):
            return False
        sides.append(side.reshape(-1)[::step].astype(result.dtype) if np.ndim(side) else side)
    z = result.reshape(-1)[::step]
    with np.errstate(all="ignore"):
        found = np.abs(ERRORS[name](np, sides[0], sides[1], z)) > 0
        return bool(found.sum() * 8 > len(z) and not (z == np.rint(z)).any())


def _broken(np: types.ModuleType, part: Array) -> object:
    """Which cells are no whole numbers; None where a sample has no whole number: all count as broken then."""
    sample = part[::SAMPLE] if len(part) > SAMPLE * SAMPLE else part
    return part != np.rint(part) if (sample == np.rint(sample)).any() else None
