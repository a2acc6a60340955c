"""Controllers: each does one thing on the state and the widgets of one screen."""

from __future__ import annotations

import functools
from collections.abc import Callable, Coroutine
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

from textual.screen import Screen
from textual.worker import Worker

S = TypeVar("S", bound=Screen[Any])
Method = Callable[..., Coroutine[Any, Any, Any]]


class Controller(Generic[S]):
    """`screen` has the state, the widgets, and the other controllers."""

    def __init__(self, screen: S) -> None:
        self.screen = screen


class Controlled:
    """A screen with controllers.  Its commands and actions may be methods of these."""

    CONTROLLERS: ClassVar[tuple[type[Controller[Any]], ...]] = ()
    controllers: list[Controller[Any]]

    if not TYPE_CHECKING:  # so that a wrong name elsewhere is still found

        def __getattr__(self, name: str) -> object:
            if not name.startswith("_"):
                for controller in self.__dict__.get("controllers", ()):
                    if name.startswith("action_") and hasattr(type(controller), name):
                        return getattr(controller, name)
            raise AttributeError(f"{type(self).__name__!r} object has no attribute {name!r}")

    def command(self, name: str) -> Callable[..., object]:
        """The method of a command that the palette alone has."""
        for owner in (self, *self.controllers):
            if hasattr(type(owner), name):
                found: Callable[..., object] = getattr(owner, name)
                return found
        raise AttributeError(name)


def background(group: str = "default", exclusive: bool = False) -> Callable[[Method], Callable[..., Worker[object]]]:
    """Let a controller's method run as a worker of its screen."""

    def decorate(method: Method) -> Callable[..., Worker[object]]:
        @functools.wraps(method)
        def start(self: Controller[Any], *args: object, **named: object) -> Worker[object]:
            worker: Worker[object] = self.screen.run_worker(
                method(self, *args, **named), group=group, exclusive=exclusive
            )
            return worker

        return start

    return decorate
