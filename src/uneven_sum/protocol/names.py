"""How names of functions and processes, and reasons of pauses, are shown to a person."""

from __future__ import annotations


def shown(qualified: str) -> str:
    """`simulate.rate` for `simulate.<locals>.rate`, `lambda in main` for `main.<locals>.<lambda>`."""
    parts = qualified.replace(".<locals>", "").split(".")
    if parts[-1] != "<lambda>":
        return ".".join(parts)
    outer = ".".join(p for p in parts[:-1] if p != "<lambda>")
    return f"lambda in {outer}" if outer else "lambda"


def reason(name: str) -> str:
    """`non-finite` for `nonfinite`; the others are words already."""
    return "non-finite" if name == "nonfinite" else name


def in_processes(names: list[str], first: str = "") -> str:
    """`In ForkPoolWorker-1 (4711), and in 3 more processes`; `first`: which of them is named, else the first one."""
    more = len(names) - 1
    others = f", and in {more} more process{'es' if more > 1 else ''}" if more else ""
    return f"In {first or names[0]}{others}"
