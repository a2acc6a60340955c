"""The command palette: every command of the present screen, by typing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from textual.command import DiscoveryHit, Hit, Hits, Provider

from .shell.commands import listed
from .shell.controller import Controlled
from .shell.glossary import ALSO_CALLED
from .shell.keymap import Keyed


class Commands(Provider):
    """Searches what the keys of the present screen do, and its commands without a key."""

    def _commands(self) -> list[tuple[str, str, Callable[[], object]]]:
        screen = self.screen
        if not isinstance(screen, Keyed):
            return []
        found: list[tuple[str, str, Callable[[], object]]] = []
        for command in screen.ACTIONS:
            if not command.keys and isinstance(screen, Controlled):  # rare or dangerous: by the palette only
                method, _, argument = command.actions.partition(":")
                call = screen.command(method)
                found.append((command.label, command.help, partial(call, argument) if argument else call))
        for command in listed(screen.ACTIONS):
            action = next((a for k in command.single() if (a := screen.action_of(k))), None)
            if action is not None:
                label = f"{command.label} ({screen.key(command.keys)})"
                found.append((label, command.help, partial(screen.run_action, action)))
        return found

    async def search(self, query: str) -> Hits:
        matcher = self.matcher(query)
        for words, about, call in self._commands():
            also = ALSO_CALLED.get(words.partition(" (")[0], "")
            score = max(matcher.match(words), matcher.match(about) * 0.5, matcher.match(also) * 0.6)
            if score > 0:
                yield Hit(score, matcher.highlight(words), call, help=about)

    async def discover(self) -> Hits:
        for words, about, call in self._commands():
            yield DiscoveryHit(words, call, help=about)
