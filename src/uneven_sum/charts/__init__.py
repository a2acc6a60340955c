"""Charts from plain numbers to SVG and PDF; summaries as Markdown.  No interface code."""

from .files import summary_markdown, write_plot

__all__ = ["summary_markdown", "write_plot"]
