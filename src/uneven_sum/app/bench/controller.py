"""What the controllers of the Bench have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..shell import controller
from ..shell.controller import background as background

if TYPE_CHECKING:
    from .screen import Bench


class Controller(controller.Controller["Bench"]):
    """`bench` has the state (`client`, `facts`, `book`, …), the widgets, and the other controllers."""

    @property
    def bench(self) -> Bench:
        return self.screen
