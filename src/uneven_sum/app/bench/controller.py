"""What the controllers of the Bench have in common: each does one thing, on the state and the view of one Bench."""

from __future__ import annotations

import functools
from collections.abc import Callable, Coroutine
from typing import TYPE_CHECKING, Any

from textual.worker import Worker

if TYPE_CHECKING:
    from .screen import Bench


class Controller:
    """`bench` has the state (`client`, `facts`, `book`, …), the widgets, and the other controllers."""

    def __init__(self, bench: Bench) -> None:
        self.bench = bench


def background(
    group: str = "default", exclusive: bool = False
) -> Callable[[Callable[..., Coroutine[Any, Any, Any]]], Callable[..., Worker[Any]]]:
    """Let a controller's method run as a worker of the Bench."""

    def decorate(method: Callable[..., Coroutine[Any, Any, Any]]) -> Callable[..., Worker[Any]]:
        @functools.wraps(method)
        def start(self: Controller, *args: Any, **named: Any) -> Worker[Any]:
            return self.bench.run_worker(method(self, *args, **named), group=group, exclusive=exclusive)

        return start

    return decorate
