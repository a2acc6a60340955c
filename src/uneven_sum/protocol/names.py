"""How names of functions are shown to a person."""

from __future__ import annotations


def shown(qualified: str) -> str:
    """`simulate.rate` for `simulate.<locals>.rate`, `lambda in main` for `main.<locals>.<lambda>`."""
    parts = qualified.replace(".<locals>", "").split(".")
    if parts[-1] != "<lambda>":
        return ".".join(parts)
    outer = ".".join(p for p in parts[:-1] if p != "<lambda>")
    return f"lambda in {outer}" if outer else "lambda"
