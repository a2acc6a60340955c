"""`lost-rows`, `duplicated-rows`: what a join of two frames left out, or took twice."""

from __future__ import annotations

import ast
import collections
import types
from typing import Any

from ...values import nonfinite
from ..figures import listed, seen
from ..finding import Place
from .base import Rule

MOST = 200_000  # keys that are looked at


def _sides(
    function: object, args: tuple[object, ...], named: dict[str, object]
) -> tuple[Any, Any, list[object]] | None:
    """Left and right frame, and the further positional arguments of a merge or join."""
    pd = nonfinite.module("pandas")
    if pd is None:
        return None
    owner = seen(function, "__self__", None)
    if isinstance(owner, pd.DataFrame):
        right = args[0] if args else named.get("right", named.get("other"))
        return (owner, right, list(args[1:])) if isinstance(right, pd.DataFrame) else None
    left = args[0] if args else named.get("left")
    right = args[1] if len(args) > 1 else named.get("right")
    if isinstance(left, pd.DataFrame) and isinstance(right, pd.DataFrame):
        return left, right, list(args[2:])
    return None


def _keys(
    pd: types.ModuleType, name: str, left: Any, right: Any, named: dict[str, object]
) -> tuple[Any, Any, str] | None:
    """The key of each side as a series, of tuples for keys of several columns, and how it is called."""
    on = named.get("on")
    left_on, right_on = named.get("left_on", on), named.get("right_on", on)
    if name == "join":
        if on is None:
            return left.index.to_series(), right.index.to_series(), "the index"
        return (left[on], right.index.to_series(), str(on)) if isinstance(on, str) else None
    if left_on is None and right_on is None:
        if named.get("left_index") and named.get("right_index"):
            return left.index.to_series(), right.index.to_series(), "the index"
        left_on = right_on = [c for c in left.columns if c in set(right.columns)]
    if named.get("right_index") and left_on is not None and not isinstance(left_on, list):
        return left[left_on], right.index.to_series(), str(left_on)
    if named.get("left_index") and right_on is not None and not isinstance(right_on, list):
        return left.index.to_series(), right[right_on], str(right_on)
    mine = left_on if isinstance(left_on, list) else [left_on]
    theirs = right_on if isinstance(right_on, list) else [right_on]
    if not mine or len(mine) != len(theirs) or not all(isinstance(c, (str, int)) for c in (*mine, *theirs)):
        return None
    called = "`, `".join(map(str, mine))
    if len(mine) == 1:
        return left[mine[0]], right[theirs[0]], called
    return _tuples(pd, left[mine]), _tuples(pd, right[theirs]), called


def _tuples(pd: types.ModuleType, frame: Any) -> object:
    columns = [frame.iloc[:, n].tolist() for n in range(frame.shape[1])]
    return pd.Series(list(zip(*columns)), index=frame.index, dtype=object)


def _polars_keys(
    function: object, args: tuple[object, ...], named: dict[str, object]
) -> tuple[list[Any], list[Any], str, str] | None:
    """Of a join of two polars frames: the keys of each side, how they are called, and how it joins."""
    pl = nonfinite.module("polars")
    left, right = seen(function, "__self__", None), args[0] if args else named.get("other")
    if pl is None or not isinstance(left, pl.DataFrame) or not isinstance(right, pl.DataFrame):
        return None
    on = named.get("on", args[1] if len(args) > 1 else None)
    sides = named.get("left_on", on), named.get("right_on", on)
    names = [
        [side] if isinstance(side, str) else list(side) if isinstance(side, (list, tuple)) else [] for side in sides
    ]
    if not all(n and all(isinstance(c, str) for c in n) for n in names):
        return None
    if len(left) > MOST or len(right) > MOST:
        return None
    keys = [
        frame[n[0]].to_list() if len(n) == 1 else list(zip(*(frame[c].to_list() for c in n)))
        for frame, n in zip((left, right), names)
    ]
    return keys[0], keys[1], "`, `".join(names[0]), str(named.get("how", "inner"))


def _folded(value: object) -> object:
    """A key as its writer may have meant it: without blanks around it, case, type and the last digits."""
    if isinstance(value, tuple):
        return tuple(map(_folded, value))
    if isinstance(value, str):
        text = value.strip().casefold()
        try:
            return float(text)
        except ValueError:
            return text
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return float(f"{value:.14g}") if isinstance(value, float) else float(value)
    return value.tz_localize(None) if getattr(value, "tzinfo", None) and hasattr(value, "tz_localize") else value


class LostRows(Rule):
    """Keys without a partner that have a near one on the other side, by blanks, case or type; rows that an inner join
    drops.  Exempt: `indicator`, and left or outer joins without near keys."""

    NAME = "lost-rows"
    WANTS = tuple(f"call:{name}" for name in ("merge", "join", "groupby", "pivot_table", "map", "isin"))

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, Any], result: object, site: int
    ) -> None:
        pd = nonfinite.module("pandas")
        name = seen(function, "__name__", "")
        polars = _polars_keys(function, args, named)
        if polars is not None:
            mine, theirs, called, how = polars
            if how in ("inner", "left", "full", "outer"):
                self._joined(site, how, mine, [k for k in theirs if k is not None], called)
            return
        if pd is None or named.get("indicator"):
            return
        if name in ("groupby", "pivot_table"):
            owner = seen(function, "__self__", None)
            frame = owner if isinstance(owner, pd.DataFrame) else args[0] if args else None
            by = [args[0] if args and name == "groupby" else named.get("by"), named.get("index"), named.get("columns")]
            self._grouped(pd, frame, by, named, site)
            return
        if name in ("map", "isin"):
            self._looked_up(pd, function, args, site)
            return
        sides = _sides(function, args, named)
        if sides is None:
            return
        left, right, rest = sides
        how = named.get("how", rest[0] if rest and isinstance(rest[0], str) else "left" if name == "join" else "inner")
        keys = _keys(pd, name, left, right, named)
        if keys is None or len(left) > MOST or len(right) > MOST or how == "cross":
            return
        mine, theirs, called = keys
        self._joined(site, how, mine.tolist(), theirs.dropna().tolist(), called)

    def _joined(self, site: int, how: str, mine: list[object], theirs: list[object], called: str) -> None:
        """The keys of the left side that have no partner; missing ones count as such."""
        known = set(theirs)
        alone = [k for k in mine if k not in known]
        if not alone or self.auditor.has(self, site):
            return
        by_fold: dict[object, object] = {}
        for key in known:
            by_fold.setdefault(_folded(key), key)
        distinct = list(dict.fromkeys(k for k in alone if k == k and k is not None))
        near = [(k, by_fold[f]) for k in distinct if (f := _folded(k)) in by_fold]
        place = self.auditor.place(site)
        gone = "are dropped" if how in ("inner", "right") else "get missing values"
        head = f"{place.text}: {len(alone):,} of {len(mine):,} rows have no partner by `{called}` and {gone}"
        if near:
            pairs = ", ".join(f"{a!r} beside {b!r}" for a, b in near[:3])
            keys = {a for a, _ in near}
            rows = sum(k in keys for k in alone)
            each = rows == len(alone)
            self.auditor.report(
                self,
                site,
                f"{head}; {'each' if each else f'{rows:,} of them'} {'has' if each or rows == 1 else 'have'} a "
                f"near key on "
                f"the other side: {pairs}{' …' if len(near) > 3 else ''}.",
                0.95,
                evidence={
                    "rows": len(alone),
                    "of": len(mine),
                    "near": [[str(a), str(b)] for a, b in near[:20]],
                    "how": how,
                },
                right=f"{rows:,} rows more",
            )
        elif how == "inner" and len(alone) < len(mine):
            self.auditor.report(
                self,
                site,
                f"{head}: {listed(distinct[:4])}. Is that meant?",
                0.45,
                question=True,
                evidence={"rows": len(alone), "of": len(mine), "keys": [str(k) for k in distinct[:20]], "how": how},
            )

    def _looked_up(self, pd: types.ModuleType, function: object, args: tuple[object, ...], site: int) -> None:
        """`s.map({…})`, `s.isin([…])`: values without a partner that have a near one."""
        mine, others = seen(function, "__self__", None), args[0] if args else None
        if isinstance(others, pd.Series):
            others = others.index if seen(function, "__name__", "") == "map" else others
        if not isinstance(mine, pd.Series) or not isinstance(others, (dict, list, set, tuple, pd.Index, pd.Series)):
            return
        if len(mine) > MOST or len(others) > MOST or self.auditor.has(self, site):
            return
        known = {k for k in others if isinstance(k, (str, int, float))}
        alone = mine[~mine.isin(list(known))].dropna()
        by_fold = {_folded(k): k for k in known}
        near = [(k, by_fold[f]) for k in alone.unique() if (f := _folded(k)) in by_fold]
        if not near:
            return
        place = self.auditor.place(site)
        pairs = ", ".join(f"{a!r} beside {b!r}" for a, b in near[:3])
        rows = int(alone.isin([a for a, _ in near]).sum())
        self.auditor.report(
            self,
            site,
            f"{place.text} does not find {rows:,} of {len(mine):,} values that have a near one: {pairs}"
            f"{' …' if len(near) > 3 else ''}.",
            0.9,
            evidence={"rows": rows, "of": len(mine), "near": [[str(a), str(b)] for a, b in near[:20]]},
            right=f"{rows:,} rows more",
        )

    def _grouped(
        self, pd: types.ModuleType, frame: object, by: list[object], named: dict[str, object], site: int
    ) -> None:
        if not isinstance(frame, pd.DataFrame) or named.get("dropna") is False:
            return
        names = [n for one in by for n in (one if isinstance(one, list) else [one])]
        for one in names:
            if not isinstance(one, str) or one not in frame.columns or not isinstance(frame[one], pd.Series):
                continue
            missing = int(frame[one].isna().sum())
            if missing and not self.auditor.has(self, site):
                place = self.auditor.place(site)
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} leaves out {missing:,} of {len(frame):,} rows whose `{one}` is missing. "
                    "dropna=False keeps them. Is that meant?",
                    0.6,
                    question=True,
                    evidence={"rows": missing, "of": len(frame), "column": one},
                )


class DuplicatedRows(Rule):
    """A join that gives more rows than its left side, since keys of the right one repeat, without `validate`."""

    NAME = "duplicated-rows"
    WANTS = ("call:merge", "call:join")

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: Any, site: int
    ) -> None:
        pd = nonfinite.module("pandas")
        polars = _polars_keys(function, args, named)
        if polars is not None:
            if polars[3] in ("inner", "left") and not named.get("validate") and len(result) > len(polars[0]):
                self._grown(site, len(result), *polars[:3], "")
            return
        sides = _sides(function, args, named) if pd is not None else None
        if sides is None or named.get("validate") or named.get("how") in ("cross", "outer", "right"):
            return
        left, right, _ = sides
        if not isinstance(result, pd.DataFrame) or len(result) <= len(left):
            return
        keys = _keys(pd, seen(function, "__name__", ""), left, right, named)
        if keys is None or self.auditor.has(self, site):
            return
        mine, theirs, called = keys
        sums = ""
        summed = False
        numbers = [c for c in left.columns if left[c].dtype.kind in "if" and c in result.columns and c != mine.name]
        if numbers:
            before, after = float(left[numbers[0]].sum()), float(result[numbers[0]].sum())
            if before and after != before:
                sums = f" The sum of `{numbers[0]}` grows from {before:.6g} to {after:.6g}."
                summed = _is_summed(self.auditor.place(site), [str(c) for c in numbers])
        self._grown(site, len(result), mine.tolist(), theirs.tolist(), called, sums, summed)

    def _grown(
        self,
        site: int,
        rows: int,
        mine: list[object],
        theirs: list[object],
        called: str,
        sums: str,
        summed: bool = False,
    ) -> None:
        """The keys of the right side that repeat, and have partners."""
        known, counts = set(mine), collections.Counter(theirs)
        repeated = [k for k, n in counts.items() if n > 1 and k in known]
        if not repeated or self.auditor.has(self, site):
            return
        on_left = collections.Counter(mine)
        both_repeat = any(on_left[k] > 1 for k in repeated)  # each with each
        check = "1:1" if len(on_left) == len(mine) else "m:1"
        place = self.auditor.place(site)
        question = both_repeat or not summed  # a table of all pairs may be what is wanted
        end = "Is that meant?" if question else f"validate={check!r} checks it."
        self.auditor.report(
            self,
            site,
            f"{place.text} gives {rows:,} rows from {len(mine):,}: `{called}` repeats on the right for "
            f"{listed(repeated)}{', and on the left too' if both_repeat else ''}.{sums} {end}",
            0.85,
            question=question,
            evidence={"rows": rows, "left": len(mine), "repeated": [str(k) for k in repeated[:20]]},
            right=f"{len(mine):,} rows",
        )


def _is_summed(place: Place, columns: list[str]) -> bool:
    """Whether the code around sums or averages one of the columns that now repeat."""
    for node in ast.walk(place.scope):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            if node.func.attr in ("sum", "mean", "agg", "cumsum", "total"):
                text = ast.unparse(node)
                if any(f"'{c}'" in text or f".{c}." in text for c in columns):
                    return True
    return False
