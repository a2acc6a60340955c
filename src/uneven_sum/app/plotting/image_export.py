"""Plots as files: written where the user says, and kept with a case."""

from __future__ import annotations

import asyncio
from pathlib import Path

from ...client import notes


async def write(kind: str, data: dict[str, object], path: str, title: str) -> None:
    """One plot as SVG, PDF or PNG, without holding the screen up.  ValueError, OSError as `write_plot` gives them."""
    from ...charts import write_plot

    await asyncio.to_thread(write_plot, kind, data, path, title)


async def keep(script: str, kind: str, data: dict[str, object], title: str) -> str:
    """Keeps a plot with the notes of a case, as SVG and, for pages, as PNG; the SVG's name."""
    path = notes.picture_path(script)
    await write(kind, data, str(path), title)
    await write(kind, data, str(path.with_suffix(".png")), title)
    return path.name


def write_pages(markdown: str, pictures: Path, path: str, title: str) -> None:
    """A report as PDF.  OSError as open gives it."""
    from ...charts import write_pages as write

    write(markdown, pictures, path, title)
