"""The headless front end: run to the first trip, report, exit status."""

from .check import check
from .report import as_json, as_report, as_text

__all__ = ["as_json", "as_report", "as_text", "check"]
