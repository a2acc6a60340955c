"""The shipped cases: scripts a hydrologist could have written, each with one real fault."""

from __future__ import annotations

from pathlib import Path

FOLDER = Path(__file__).parent / "cases"

# name -> (script, what is wrong, as its author would say it)
CASES = {
    "rating": ("rating_year.py", "the volume over the sill comes out as nan"),
    "routing": ("wave_routing.py", "the flow in the channel grows without bound"),
    "lagged": ("lagged_inflow.py", "an IndexError at the end of the year"),
    "join": ("join_gauges.py", "every month's runoff coefficient is infinite"),
    "fit": ("fit_curve.py", "the errors of the fitted coefficients are nan"),
    "share": ("brook_share.py", "the share of a brook is nan, though both are gauged every day"),
    "logger": ("read_logger.py", "the mean stage is too low, and nothing says so"),
    "clock": ("gauge_clock.py", "the clock of a gauge goes back, and its mean interval is finite and wrong"),
    "rain": ("rain_at_gauges.py", "two of five catchments are missing from the volume of rain"),
    "twins": ("fit_two_gauges.py", "a fit has coefficients of millions, and nothing says so"),
    "wet": ("wet_days.ipynb", "a notebook whose figures are there, and nan when it runs from its top"),
    "total": ("running_total.py", "the total of the gauge grows by less than the inflows bring"),
}


def find(name: str) -> Path | None:
    """The script of a case, or None."""
    return FOLDER / CASES[name][0] if name in CASES else None


def listing() -> str:
    """The cases, a line each."""
    lines = ["Demo cases (uneven-sum demo NAME):"]
    lines += [f"  {name:<9} {script:<18} {wrong}" for name, (script, wrong) in CASES.items()]
    return "\n".join(lines)
