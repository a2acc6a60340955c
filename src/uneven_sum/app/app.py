"""The application: themes, and the way to the Desk and the Bench."""

from __future__ import annotations

from textual.app import App

from .. import crash
from ..client import Launch
from .commands import BenchCommands
from .screens.bench import Bench
from .screens.desk import Desk
from .theme import PALETTES, Palette


class UnevenSum(App[None]):
    """One case in the terminal; without a launch, the Desk first."""

    TITLE = "Uneven Sum"
    COMMANDS = {BenchCommands}
    CSS = """
    Screen { background: $background; color: $foreground; }
    ModalScreen { background: $background 55%; }
    """

    def __init__(self, launch: Launch | None, theme: str = "slate") -> None:
        super().__init__()
        for palette in PALETTES.values():
            self.register_theme(palette.theme())
        self.theme = theme
        self.launch = launch
        self.refusal = ""

    @property
    def palette(self) -> Palette:
        return PALETTES.get(self.theme, PALETTES["slate"])

    def _handle_exception(self, error: Exception) -> None:
        """A fault of ours: a crash file and a sentence, no traceback."""
        if self.is_headless:  # a test: it shall fail
            super()._handle_exception(error)
            return
        self.refusal = crash.sentence(error)
        self._return_code = 1
        self.exit()

    def on_mount(self) -> None:
        if self.launch is None:
            self.push_screen(Desk(self.palette))
        else:
            self.push_screen(Bench(self.launch, self.palette))

    @property
    def desk(self) -> Desk | None:
        return next((s for s in self.screen_stack if isinstance(s, Desk)), None)

    def open_bench(self, launch: Launch) -> None:
        self.launch = launch
        self.push_screen(Bench(launch, self.palette))

    def to_desk(self) -> None:
        """Leaves the Bench for the Desk, which is opened if it is not there yet."""
        while isinstance(self.screen, Bench) or (self.desk is not None and not isinstance(self.screen, Desk)):
            self.pop_screen()
        if self.desk is None:
            self.push_screen(Desk(self.palette))

    def refuse(self, message: str) -> None:
        """The script cannot be run: leave, and say why on the command line; or, from the Desk, there."""
        if self.desk is not None:
            self.to_desk()
            self.desk.say(message, bad=True)
            return
        self.refusal = message
        self.exit()
