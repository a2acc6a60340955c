"""The terminal application: draws what the client gives it; computes nothing about the script."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..client import Launch

if TYPE_CHECKING:
    from ..sweep.sweep import Sweep


def open_bench(launch: Launch | None, theme: str = "slate", guided: bool = False) -> str:
    """Opens the Bench on a script, or the Desk.  Returns what kept it from starting, or an empty text."""
    from .app import UnevenSum

    app = UnevenSum(launch, theme, guided)
    app.run()
    if app.closing:
        raise SystemExit(app.return_code)
    return app.refusal


def open_sweep(sweep: Sweep, theme: str = "slate") -> None:
    """Opens the screen of a sweep, which runs there."""
    from .app import UnevenSum

    app = UnevenSum(None, theme, sweep=sweep)
    app.run()
    if app.closing:
        raise SystemExit(app.return_code)
