"""The headless front end: run to the first trip, report, exit status."""

from .check import check
from .report import as_json, as_text, write_report

__all__ = ["as_json", "as_text", "check", "write_report"]
