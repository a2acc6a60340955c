"""Runs a rule so that it cannot harm the script."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable
from typing import Any

from ..core import run_state, signal_masking

SILENT = [("ignore", None, Warning, None, 0)]


def with_care(function: Callable[..., object], *args: object) -> Any:
    """What a rule raises is dropped, unless it is a signal handler's of the script; its warnings are not shown."""
    if sys.modules.get("warnings") is not warnings:
        with run_state.silenced():
            return _tried(function, args)
    kept = warnings.filters
    warnings.filters = SILENT  # as `run_state.silenced`, which takes five times as long
    try:
        return _tried(function, args)
    finally:
        warnings.filters = kept


def _tried(function: Callable[..., Any], args: tuple[object, ...]) -> object:
    try:
        return function(*args)
    except Exception as e:
        if signal_masking.is_the_scripts(e):
            raise
        return None
