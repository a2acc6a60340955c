"""The kinds of trips, declared once: names, words, and the filters that editors offer.

The agent has their names in `agent/core/markers.py`; a test compares them.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Extra:
    """A filter that widens a trip: its words in a tripwire's sentence (`old`: those of earlier versions, which are
    still read), and its label in editors."""

    words: str
    label: str
    default: bool = False
    old: str = ""


@dataclass(frozen=True)
class Trip:
    """`about`: what it pauses at, in a tripwire's sentence."""

    about: str
    label: str
    extras: dict[str, Extra]


TRIPS = {
    "error": Trip(
        "errors",
        "Errors that nothing handles",
        {"handled": Extra("handled ones too", "Errors that are handled too")},
    ),
    "warning": Trip("warnings", "Warnings", {}),
    "nonfinite": Trip(
        "non-finite values",
        "Non-finite values that are created",
        {
            "arrived": Extra("from input too", "Non-finite values from input", True, "arrived ones too"),
            "carried": Extra("propagated too", "Non-finite values that are propagated", old="carried ones too"),
            "frames": Extra(
                "from input in frames too",
                "Non-finite values from input in data frames",
                old="arrived in frames too",
            ),
            "gaps": Extra("gaps too", "Cells that library calls leave empty"),
        },
    ),
}
# The exception filters of `setExceptionBreakpoints`: their labels, and whether they are on by default.
FILTERS: dict[str, tuple[str, bool]] = {}
for _name, _trip in TRIPS.items():
    FILTERS[_name] = (_trip.label, True)
    FILTERS.update({name: (extra.label, extra.default) for name, extra in _trip.extras.items()})
PAUSES = (*TRIPS, "start")  # what a script can pause on by itself

# The rules of an audit; the agent has them in `agent/audit/rules`, and a test compares the two.
AUDIT_RULES = (
    *("wrap", "truncation", "narrowing", "broadcast", "underflow", "absorption", "float-equality", "unsorted"),
    *("exhausted", "reseeded", "ignored-failure", "out-of-range", "lost-rows", "duplicated-rows", "text-arithmetic"),
    *(
        "alignment",
        "dates",
        "swallowed",
        "lost-write",
        "ill-conditioned",
        "alias",
        "wraparound-index",
        "cancellation",
        "instability",
        "missing",
        "no-spread",
        "rounding",
        "integer-division",
        "degrees",
    ),
)

# The rules that a breakpoint can wait for, in the words of its sentence: `pause where an integer wraps`.
RULE_WORDS = {
    "wrap": "an integer wraps",
    "truncation": "a fraction is cut off",
    "exhausted": "a used-up iterator is read",
    "reseeded": "a generator is seeded again",
    "unsorted": "unsorted values are searched",
    "ignored-failure": "a failed solver is ignored",
    "broadcast": "two shapes broadcast into a table",
    "narrowing": "a cast changes an integer",
    "underflow": "a product underflows",
    "out-of-range": "a value lies outside the data",
    "lost-rows": "a join loses rows",
    "duplicated-rows": "a join repeats rows",
    "alignment": "labels do not match",
    "text-arithmetic": "text stands for numbers",
    "dates": "a date can be read in two ways",
    "lost-write": "a write reaches only a copy",
    "ill-conditioned": "a system is ill-conditioned",
    "wraparound-index": "an index falls below 0",
    "no-spread": "a spread of equal values is not 0",
}
