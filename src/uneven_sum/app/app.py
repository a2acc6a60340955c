"""The application: themes, and the way to the Bench."""

from __future__ import annotations

from textual.app import App

from ..client import Launch
from .commands import BenchCommands
from .screens.bench import Bench
from .theme import PALETTES, Palette


class UnevenSum(App[None]):
    """One case in the terminal."""

    TITLE = "Uneven Sum"
    COMMANDS = {BenchCommands}
    CSS = """
    Screen { background: $background; color: $foreground; }
    ModalScreen { background: $background 55%; }
    """

    def __init__(self, launch: Launch, theme: str = "slate") -> None:
        super().__init__()
        for palette in PALETTES.values():
            self.register_theme(palette.theme())
        self.theme = theme
        self.launch = launch
        self.refusal = ""

    @property
    def palette(self) -> Palette:
        return PALETTES.get(self.theme, PALETTES["slate"])

    def on_mount(self) -> None:
        self.push_screen(Bench(self.launch, self.palette))

    def refuse(self, message: str) -> None:
        """The script cannot be run: leave, and say why on the command line."""
        self.refusal = message
        self.exit()
