"""The command palette: every command of the present screen, by typing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from textual.command import DiscoveryHit, Hit, Hits, Provider

from .shell.key_tables import TABLES
from .shell.keymap import Keyed

# What is rarer or dangerous and has no key: (command of the Bench, words, explanation).
WITHOUT_KEY = [
    ("make_next", "jump to cursor", "the cursor line runs next: lines between are skipped or run again"),
    ("action_accept_as", "accept nan/inf of a callee or a name", "wherever it is called or stored"),
    ("leave_call", "return now", "with a value; skips the rest of the function"),
    ("call_again", "call this function again", "with pauses, in a copy; its arguments can be changed"),
    ("switch_points", "snapshots on / off", "return points, checkpoints; off means no going back"),
    ("into_libraries", "step into library", "the next line anywhere, in libraries too"),
    ("action_go:last", "run to end", "without any pause: all lookouts off"),
    (
        "switch_always",
        "record all loops / chosen loops",
        "for the Ledger; kept with the case",
    ),
    ("switch_counts", "count lines, on / off", "how often each line runs (coverage), shown at its end"),
    ("copy_terms", "copy headline and terms", "to the clipboard"),
    ("edit_watches", "edit watches", "change, move or remove the watch expressions, all in one line"),
    ("show_figures", "save figure", "drawn with matplotlib by the script"),
    ("show_threads", "show threads", "choose one, to see where it is"),
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
