"""Charts from plain numbers to SVG, PDF and PNG; reports as pages.  No interface code."""

from .files import summary_markdown, write_plot
from .pages import write_pages

__all__ = ["summary_markdown", "write_pages", "write_plot"]
