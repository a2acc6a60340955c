"""The headless front end: run to the first trip, report, exit status."""

from .check import check
from .holding import Hold
from .report import as_json, as_report, as_text, held_text

__all__ = ["Hold", "as_json", "as_report", "as_text", "check", "held_text"]
