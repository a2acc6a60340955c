"""The command palette: every command of the present screen, by typing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from textual.command import DiscoveryHit, Hit, Hits, Provider

from .helptexts import TABLES
from .keymap import Keyed

# What is rarer or dangerous and has no key: (command of the Bench, words, explanation).
WITHOUT_KEY = [
    ("make_next", "make the cursor line the next one", "what lies between does not run, or runs once more"),
    ("action_accept_as", "accept nan/inf of a callee or a name", "wherever it is called or stored"),
    ("leave_call", "leave this call at once with a value", "the rest of the call does not run"),
    ("call_again", "call the paused function again, with pauses", "in a copy, its arguments can be changed"),
    ("switch_points", "return points on or off", "without them the script runs forward only, and holds no copies"),
    ("into_libraries", "into library code", "the next line anywhere, foreign code too"),
    ("action_go:last", "run to the end without any pause", "all lookouts off"),
    (
        "switch_always",
        "record every loop of your code, or only the chosen",
        "for the Ledger; kept with the case",
    ),
    ("switch_counts", "count how often each line runs, or no longer", "shown at the ends of the lines"),
    ("copy_terms", "copy the headline and the terms", "to the clipboard, as they stand"),
    ("edit_watches", "edit the watches", "change, move or remove them, all in one line"),
    ("show_figures", "figures of the script", "drawn with matplotlib; save one"),
    ("show_threads", "threads of the script", "choose one, to see where it stands"),
]


class Commands(Provider):
    """Searches what the keys of the present screen do, and on the Bench the commands without a key."""

    def _commands(self) -> list[tuple[str, str, Callable[[], Any]]]:
        screen = self.screen
        if not isinstance(screen, Keyed):
            return []
        found: list[tuple[str, str, Callable[[], Any]]] = []
        for name, words, about in WITHOUT_KEY if screen.KEYS_OF == "bench" else []:
            method, _, argument = name.partition(":")
            call = getattr(screen, method)
            found.append((words, about, partial(call, argument) if argument else call))
        for keys, words, about in TABLES[screen.KEYS_OF][1]:
            action = next((a for k in keys.split() if (a := screen.action_of(k))), None)
            if action is not None:
                found.append((f"{words} ({screen.key(keys)})", about, partial(screen.run_action, action)))
        return found

    async def search(self, query: str) -> Hits:
        matcher = self.matcher(query)
        for words, about, call in self._commands():
            score = max(matcher.match(words), matcher.match(about) * 0.5)
            if score > 0:
                yield Hit(score, matcher.highlight(words), call, help=about)

    async def discover(self) -> Hits:
        for words, about, call in self._commands():
            yield DiscoveryHit(words, call, help=about)
