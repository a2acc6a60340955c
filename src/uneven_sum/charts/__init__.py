"""Charts from plain numbers to SVG, PDF and PNG; reports as pages.  No interface code."""

from .files import summary_markdown, write_plot
from .images import half_blocks
from .pages import write_pages

__all__ = ["half_blocks", "summary_markdown", "write_pages", "write_plot"]
