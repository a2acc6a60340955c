"""Plain sentences about one recorded value over the passes of a loop, each with the figures that lead to it.

The rules.  The input is the finite values of the kept passes; where passes between were not kept, the rules that look
at successive values use only passes that follow one another.  RECENT is the last run of such passes, at most 200.

constant    all values are equal
stalled     the last STALLED passes at least, and a twentieth of all, are exactly equal; before them the value changed
grows       over RECENT, or its last half, quarter or eighth, the logarithm of the size is a straight line (r² at least
            0.98) that rises, by a factor of 10 at least in all; the factor per pass is e to the slope
oscillates  the differences of RECENT change their sign in at least 4 of 5 places, and the later half of them is not
            smaller than half of the earlier one
settles     the differences in the last quarter of RECENT are at most a hundredth of those in its first quarter, or half
            of them and a thousandth of the whole range of the value
drifts      at least 9 of 10 differences of RECENT have one sign
monotony    the value rose (or fell) in each of the first passes, at least BROKEN of them, and then did not
"""

from __future__ import annotations

import itertools
import math

from ..core.records import record

RECENT, STALLED, BROKEN = 200, 5, 5
Series = list[tuple[int, float]]


@record
class Trend:
    """One sentence, and the rule that gave it."""

    rule: str
    text: str


def sentences(series: Series) -> list[Trend]:
    """What can be said of a value: (pass, value) in the order of the passes, non-finite ones among them."""
    values = [v for _, v in series]
    fine = series if math.isfinite(sum(values)) else [(n, v) for n, v in series if math.isfinite(v)]
    if len(fine) < 3:
        return []
    values = [v for _, v in fine]
    low, high = min(values), max(values)
    if low == high:
        return [Trend("constant", f"is {_f(low)} in all {len(fine)} kept passes")]
    stalled = _stalled(fine)
    course = stalled or _grows(fine) or _oscillates(fine) or _settles(fine, low, high) or _drifts(fine)
    broken = _broken(fine)
    return [s for s in (course, broken) if s is not None]


def recent(fine: Series) -> Series:
    """The last passes that follow one another."""
    start = len(fine) - 1
    while start > 0 and fine[start - 1][0] == fine[start][0] - 1 and len(fine) - start < RECENT:
        start -= 1
    return fine[start:]


def _stalled(fine: Series) -> Trend | None:
    last = fine[-1][1]
    start = len(fine) - 1
    while start > 0 and fine[start - 1][1] == last:
        start -= 1
    first = fine[start][0]
    count = fine[-1][0] - first + 1
    if start == 0 or count < max(STALLED, (fine[-1][0] - fine[0][0] + 1) / 20):
        return None
    before = fine[start - 1]
    exact = before[0] == first - 1
    since = f"since pass {first}" if exact else f"since pass {first} at the latest (pass {before[0]} was kept before)"
    return Trend("stalled", f"has stalled: {_f(last)} {since}, for {count} passes; it was {_f(before[1])} before")


def _grows(fine: Series) -> Trend | None:
    part = recent(fine)
    for most in (RECENT, RECENT // 2, RECENT // 4, RECENT // 8):  # it may have begun a while ago
        if len(part) > most // 2 or most == RECENT:
            found = _grows_in(part[-most:])
            if found is not None:
                return found
    return None


def _grows_in(part: Series) -> Trend | None:
    if len(part) < 8 or any(v == 0 for _, v in part):
        return None
    x = [float(n) for n, _ in part]
    y = [math.log(abs(v)) for _, v in part]
    slope, r2 = _line(x, y)
    if r2 < 0.98 or slope <= 0 or slope * (x[-1] - x[0]) < math.log(10):
        return None
    signs = sum((a < 0) != (b < 0) for (_, a), (_, b) in itertools.pairwise(part))
    alternating = ", changing its sign from pass to pass" if signs >= 0.8 * (len(part) - 1) else ""
    factor = math.exp(slope)
    return Trend(
        "grows",
        f"grows by a factor of {factor:.4g} per pass{alternating}: from {_f(part[0][1])} in pass {part[0][0]} "
        f"to {_f(part[-1][1])} in pass {part[-1][0]} (r² {r2:.4f})",
    )


def _oscillates(fine: Series) -> Trend | None:
    part = recent(fine)
    steps = _steps(part)
    if len(steps) < 6:
        return None
    changes = sum(a * b < 0 for a, b in itertools.pairwise(steps))
    if changes < 0.8 * (len(steps) - 1):
        return None
    half = len(steps) // 2
    early, late = _mean_size(steps[:half]), _mean_size(steps[half:])
    if late < 0.5 * early:
        return None
    values = [v for _, v in part]
    return Trend(
        "oscillates",
        f"oscillates between {_f(min(values))} and {_f(max(values))}: {changes} of {len(steps) - 1} differences change "
        f"their sign since pass {part[0][0]}",
    )


def _settles(fine: Series, low: float, high: float) -> Trend | None:
    part = recent(fine)
    steps = _steps(part)
    if len(steps) < 8:
        return None
    quarter = len(steps) // 4
    early, late = max(map(abs, steps[:quarter])), max(map(abs, steps[-quarter:]))
    small = late <= 0.5 * early and late / 2 <= 1e-3 * (high / 2 - low / 2)
    if not (late <= 0.01 * early or small):
        return None
    return Trend(
        "settles",
        f"settles at {_f(part[-1][1])}: the last {quarter} differences are at most {_f(late)}, of a range of "
        f"{_f(high - low)} in all",
    )


def _drifts(fine: Series) -> Trend | None:
    part = recent(fine)
    steps = _steps(part)
    if len(steps) < 8:
        return None
    rising, falling = sum(s > 0 for s in steps), sum(s < 0 for s in steps)
    most, word = (rising, "rises") if rising >= falling else (falling, "falls")
    if most < 0.9 * len(steps):
        return None
    per_pass = (part[-1][1] / len(steps)) - (part[0][1] / len(steps))
    return Trend(
        "drifts",
        f"drifts by {_f(per_pass)} per pass: it {word} in {most} of {len(steps)} passes, from {_f(part[0][1])} in pass "
        f"{part[0][0]} to {_f(part[-1][1])}",
    )


def _broken(fine: Series) -> Trend | None:
    """The first pass that broke monotony."""
    sign = 0
    for at in range(1, len(fine)):
        step = fine[at][1] - fine[at - 1][1]
        if at == 1:
            sign = (step > 0) - (step < 0)
            if not sign:
                return None
        elif step * sign <= 0:
            if at - 1 < BROKEN:
                return None
            (n0, v0), (n1, v1) = fine[at - 1], fine[at]
            did = "stayed" if v1 == v0 else "fell" if sign > 0 else "rose"
            where = f"in pass {n1}" if n1 == n0 + 1 else f"between passes {n0} and {n1}"
            first = "rose" if sign > 0 else "fell"
            to = "" if v1 == v0 else f" to {_f(v1)}"
            return Trend("monotony", f"{first} in every pass up to {n0} ({_f(v0)}) and {did}{to} {where}")
    return None


def _steps(part: Series) -> list[float]:
    return [b - a for (_, a), (_, b) in itertools.pairwise(part)]


def _mean_size(steps: list[float]) -> float:
    return sum(abs(s) / len(steps) for s in steps)


def _line(x: list[float], y: list[float]) -> tuple[float, float]:
    """The slope of the least-squares line and its coefficient of determination."""
    n = len(x)
    mx, my = sum(x) / n, sum(y) / n
    sxx = sum((a - mx) ** 2 for a in x)
    syy = sum((b - my) ** 2 for b in y)
    sxy = sum((a - mx) * (b - my) for a, b in zip(x, y))
    return (sxy / sxx, sxy * sxy / (sxx * syy)) if sxx > 0 and syy > 0 else (0.0, 0.0)


def _f(value: float) -> str:
    return f"{value:.6g}"
