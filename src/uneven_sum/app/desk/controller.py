"""What the controllers of the Desk have in common."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..shell import controller
from ..shell.controller import background as background

if TYPE_CHECKING:
    from .screen import Desk


class Controller(controller.Controller["Desk"]):
    """`desk` has the state (`setup`, `settings`), the widgets, and the other controllers."""

    @property
    def desk(self) -> Desk:
        return self.screen
