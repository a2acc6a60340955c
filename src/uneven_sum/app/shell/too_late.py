"""Work in the background that ends when its screen is closed already: it finds no widgets, and that is no error."""

from __future__ import annotations

from textual.css.query import NoMatches
from textual.dom import DOMNode
from textual.worker import WorkerFailed


def too_late(error: Exception) -> bool:
    """True for a worker's look for a widget in a screen or widget that is gone."""
    if not isinstance(error, WorkerFailed) or not isinstance(error.error, NoMatches):
        return False
    step = error.error.__traceback__
    while step is not None:
        node = step.tb_frame.f_locals.get("self")
        if isinstance(node, DOMNode) and not node.is_attached:
            return True
        step = step.tb_next
    return False
