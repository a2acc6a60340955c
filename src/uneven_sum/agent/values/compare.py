"""Two values beside each other; the figures of a matrix; a grid written to a file."""

from __future__ import annotations

import csv
import os
import types
from typing import Any

from ..core.data_types import Array
from ..core.errors import Refused
from ..core.text import number
from .kinds.base import Fact
from .kinds.grids import Grid
from .nonfinite import module


def _array(np: types.ModuleType, value: object) -> Array:
    if hasattr(value, "to_numpy"):
        value = value.to_numpy()
    array = np.asarray(value)
    if array.dtype == object:
        try:
            array = array.astype(float)
        except (TypeError, ValueError):
            pass
    return array


def compare(np: types.ModuleType, one: object, other: object, atol: float, rtol: float) -> dict[str, object]:
    """Shapes, dtypes, how many cells differ beyond |a - b| <= atol + rtol |b| (nan equals nan), the largest difference
    and where."""
    if np is None:
        same = one == other
        return {"facts": [["equal", "yes" if same else "no"]], "differ": 0 if same else 1, "at": None}
    a, b = _array(np, one), _array(np, other)
    facts: list[list[str]] = [["shapes", f"{a.shape} and {b.shape}"], ["dtypes", f"{a.dtype} and {b.dtype}"]]
    if a.shape != b.shape:
        facts.append(["cells", "not compared: the shapes differ"])
        return {"facts": facts, "differ": None, "at": None}
    if a.dtype.kind not in "fiubc" or b.dtype.kind not in "fiubc":
        differ = np.asarray(a != b)
        at = [int(i) for i in np.argwhere(differ)[0]] if differ.any() else None
        facts.append(["cells that differ", str(int(differ.sum()))])
        return {"facts": facts, "differ": int(differ.sum()), "at": at}
    with np.errstate(all="ignore"):
        left, right = (
            a.astype(complex if "c" in (a.dtype.kind, b.dtype.kind) else float),
            b.astype(float if b.dtype.kind != "c" else complex),
        )
        equal = (left == right) | (np.isnan(left) & np.isnan(right))
        away = np.where(equal, 0.0, np.abs(left - right))
        both = np.isfinite(left) & np.isfinite(right)
        differ = ~equal & ~(both & (away <= atol + rtol * np.abs(right)))
    count = int(np.count_nonzero(differ))
    facts.append(["cells", str(int(a.size))])
    facts.append(["differ", f"{count} beyond atol {atol:g}, rtol {rtol:g}"])
    bad = int(np.count_nonzero(~np.isfinite(left) ^ ~np.isfinite(right)))
    if bad:
        facts.append(["finite in one only", str(bad)])
    at = None
    finite = np.where(np.isfinite(away), away, -1.0)
    if count and finite.size and finite.max() > 0:
        flat = int(finite.argmax())
        at = [int(i) for i in np.unravel_index(flat, a.shape)] if a.ndim else []
        place = ", ".join(map(str, at))
        facts.append(["largest difference", f"{number(float(finite.reshape(-1)[flat]))} at [{place}]"])
        facts.append(["there", f"{_cell(left.reshape(-1)[flat])} and {_cell(right.reshape(-1)[flat])}"])
    elif count:
        at = [int(i) for i in np.argwhere(differ)[0]]
        facts.append(["first at", f"[{', '.join(map(str, at))}]"])
    return {"facts": facts, "differ": count, "at": at}


def _cell(value: Array) -> str:
    return number(float(value)) if not isinstance(value, complex) and value.imag == 0 else str(value)


def load(np: types.ModuleType, path: str) -> Array:
    """An array from an NPY or CSV file (a heading row is left out)."""
    if path.lower().endswith(".npy"):
        return np.load(path, allow_pickle=False)
    with open(path, newline="", encoding="utf-8") as f:
        rows = list(csv.reader(f))
    if rows and not all(_is_number(cell) for cell in rows[0]):
        rows = rows[1:]
    keep = [c for c in range(len(rows[0]))] if rows else []
    keep = [c for c in keep if all(_is_number(r[c]) for r in rows[:50])]
    table = np.array([[float(r[c] or "nan") for c in keep] for r in rows])
    return table[:, 0] if table.ndim == 2 and table.shape[1] == 1 else table


def _is_number(text: str) -> bool:
    try:
        float(text or "nan")
        return True
    except ValueError:
        return False


def matrix_facts(np: types.ModuleType, value: object) -> list[Fact]:
    """By singular values (numpy.linalg.svd) and, of square ones, eigenvalues and Cholesky's factorisation."""
    a = _array(np, value)
    if a.ndim != 2 or a.dtype.kind not in "fiuc":
        raise Refused("Matrix figures are of two-dimensional arrays of numbers.")
    a = a.astype(complex if a.dtype.kind == "c" else float)
    if not np.isfinite(a).all():
        return [("matrix figures", "none: it has cells that are not finite")]
    singular = np.linalg.svd(a, compute_uv=False)
    tolerance = singular.max(initial=0.0) * max(a.shape) * np.finfo(float).eps
    rank = int((singular > tolerance).sum())
    low = float(singular.min()) if singular.size else 0.0
    facts: list[Fact] = [
        ("rank", f"{rank} of {min(a.shape)}" + (": singular to working precision" if _is_singular(a, rank) else "")),
        ("condition number", number(float(singular.max()) / low) if low else "inf"),
        ("norm (2)", number(float(singular.max(initial=0.0)))),
        ("norm (Frobenius)", number(float(np.linalg.norm(a)))),
        ("singular values", _few(singular)),
    ]
    if a.shape[0] == a.shape[1]:
        symmetric = bool(np.array_equal(a, a.conj().T))
        nearly = symmetric or bool(np.allclose(a, a.conj().T, rtol=1e-10, atol=1e-12 * max(1.0, float(abs(a).max()))))
        word = "Hermitian" if a.dtype.kind == "c" else "symmetric"
        facts.append((word, "yes" if symmetric else "nearly" if nearly else "no"))
        sign, log = np.linalg.slogdet(a)
        rounded = ", within rounding of zero" if _is_singular(a, rank) else ""
        told = (
            "zero"
            if sign == 0
            else f"{'positive' if np.real(sign) > 0 else 'negative'}, log |det| {number(float(log))}{rounded}"
        )
        facts.append(("determinant", told))
        values = np.linalg.eigvalsh((a + a.conj().T) / 2) if nearly else np.linalg.eigvals(a)
        facts.append(("eigenvalues", _few(values)))
        if nearly:
            low, high = float(values.min()), float(values.max())
            facts.append(("definiteness", _definiteness(low, high, float(tolerance))))
    return facts


def _is_singular(a: Array, rank: int) -> bool:
    return bool(a.shape[0] == a.shape[1] and rank < a.shape[0])


def _definiteness(low: float, high: float, rounding: float) -> str:
    """By the extreme eigenvalues of a symmetric matrix; within `rounding` their signs say nothing."""
    if low > rounding:
        return "positive definite"
    if high < -rounding:
        return "negative definite"
    if low >= -rounding and high > rounding:
        return "positive semidefinite" if low == 0 else "positive semidefinite within rounding"
    if high <= rounding and low < -rounding:
        return "negative semidefinite" if high == 0 else "negative semidefinite within rounding"
    return "zero within rounding" if high <= rounding and low >= -rounding else "indefinite"


def _few(values: Array) -> str:
    shown = [number(float(v)) if v.imag == 0 else f"{v:.4g}" for v in (values if len(values) <= 8 else values[:4])]
    if len(values) > 8:
        last = values[-1]
        shown += ["…", number(float(last)) if last.imag == 0 else f"{last:.4g}"]
    return "  ".join(shown)


CHUNK = 50_000


def export(grid: Grid, order: Any, path: str) -> dict[str, object]:
    """Writes the grid as it is shown.  CSV has labels; NPY the bare cells; Parquet needs pyarrow in the script's
    interpreter."""
    ending = os.path.splitext(path)[1].lower()
    rows = grid.rows if order is None else len(order)
    if ending == ".npy":
        np = module("numpy")
        source = grid.source.to_numpy() if hasattr(grid.source, "to_numpy") else np.asarray(grid.source)
        np.save(path, source if order is None else source[order], allow_pickle=False)
    elif ending == ".parquet":
        frame = grid.source if hasattr(grid.source, "to_parquet") else _as_frame(grid)
        try:
            (frame if order is None else frame.iloc[order]).to_parquet(path)
        except ImportError:
            raise Refused(
                "Parquet needs pyarrow in the script's interpreter: install it there, or choose .csv."
            ) from None
    elif ending in (".csv", ""):
        path = path if ending else path + ".csv"
        with open(path, "w", newline="", encoding="utf-8") as f:
            writer = csv.writer(f)
            labelled = hasattr(grid.source, "iloc")
            if labelled or grid.named:
                writer.writerow([*(["index"] if labelled else []), *grid.column_labels(0, grid.columns)])
            for first in range(0, rows, CHUNK):
                last = min(rows, first + CHUNK)
                at = None if order is None else order[first:last]
                columns = [
                    (grid.cells(c, first, last) if at is None or grid.take is None else grid.take(at, c))[1]
                    for c in range(grid.columns)
                ]
                listed = [c if isinstance(c, list) else c.tolist() for c in columns]
                if labelled:
                    listed.insert(
                        0,
                        grid.row_labels(first, last - first)
                        if at is None
                        else [grid.row_labels(int(r), 1)[0] for r in at],
                    )
                writer.writerows(zip(*listed))
    else:
        raise Refused(f"A grid is written as .csv, .npy or .parquet, not as {ending}.")
    return {"path": path, "rows": rows, "columns": grid.columns}


def _as_frame(grid: Grid) -> Any:
    pd = module("pandas")
    if pd is None:
        raise Refused("Parquet needs a script that uses pandas, with pyarrow: choose .csv or .npy.")
    return pd.DataFrame({n: grid.cells(c, 0, grid.rows)[1] for c, n in enumerate(grid.column_labels(0, grid.columns))})
