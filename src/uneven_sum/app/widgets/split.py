"""A grid and a plot in one room: the grid gets the columns that it needs, the plot all the rest."""

from __future__ import annotations

from textual.containers import Horizontal

from .grid import Grid
from .plot import Plot

PLOT = 44  # columns of a plot beside a grid, at least
TALL = 26  # rows from which on the plot is below the grid, where there is no room beside it


async def put_beside(body: Horizontal, grid: Grid, plot: Plot) -> bool:
    """Mounts a plot beside a loaded grid, or below it.  False when there is no room for both."""
    room, need = body.size.width, grid.needed_width()
    beside = need + PLOT <= room
    if not beside and body.size.height < TALL:
        return False
    body.styles.layout = "horizontal" if beside else "vertical"
    few = grid.rows + grid.head + 1 <= body.size.height // 2
    below = grid.rows + grid.head + 1 if few else "3fr"
    grid.styles.width, grid.styles.height = (need, "1fr") if beside else ("1fr", below)
    plot.styles.width, plot.styles.height = "1fr", "1fr" if beside or few else "2fr"
    await body.mount(plot)
    return True
