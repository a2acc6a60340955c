"""Keys act one after another: each when what the one before it has opened is there.

A key that opens a dialog takes a few turns of the event loop to do so.  A key that is pressed meanwhile would go to the
screen below; here it waits.  `escape` followed at once by another key comes from a terminal as one `alt` key; where
nothing is bound to that, it is taken as the two keys.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable
from typing import Any

from textual import events
from textual.app import App
from textual.message_pump import MessagePump
from textual.screen import ModalScreen, Screen
from textual.widget import Widget
from textual.worker import Worker

from .widgets.notice import Notice

OPENING = {"dialog", "leave"}  # groups of workers that open a dialog
LONGEST = 0.5  # seconds that a key waits
TURN = 0.004


def parts(app: App[object], key: str) -> list[str]:
    """The keys that a key stands for."""
    prefix, _, rest = key.partition("alt+")
    if prefix or not rest or _is_bound(app, key):
        return [key]
    return ["escape", rest]


def _is_bound(app: App[object], key: str) -> bool:
    return any(key in bindings.key_to_bindings for _, bindings in app.screen._binding_chain)


class KeyOrder:
    """Lets keys act in turn.  `act` gives one to the application as if it had just been pressed."""

    def __init__(self, app: App[Any], act: Callable[[events.Key], Awaitable[None]]) -> None:
        self.app, self.act = app, act
        self.waiting: deque[events.Key] = deque()
        self.under_way: asyncio.Task[None] | None = None

    async def take(self, event: events.Key) -> None:
        """A key was pressed: it acts at once, or when those before it have."""
        for notice in self.app.screen.query(Notice):
            notice.clear()
        names = parts(self.app, event.key)
        keys = [event] if names == [event.key] else [events.Key(k, k if len(k) == 1 else None) for k in names]
        self.waiting += keys
        if self.under_way is None:
            await self._next()

    async def _next(self) -> None:
        screen, focused, before = self.app.screen, self.app.focused, _opening(self.app)
        await self.act(self.waiting.popleft())
        self.under_way = asyncio.create_task(self._finish(screen, focused, before))

    async def _finish(self, screen: Screen[object], focused: Widget | None, before: set[Worker[object]]) -> None:
        """Wait until a key has acted; then the next one does.  `before`: workers that other keys have started."""
        try:
            async with asyncio.timeout(LONGEST):
                # From the focused widget through its parents to the application, which looks for the action.
                for target in [*(focused.ancestors_with_self if focused is not None else [screen]), self.app]:
                    await _processed(target)
                await _opened(self.app, screen, before)
        except TimeoutError:
            pass
        finally:
            self.under_way = None
        if self.waiting and self.app.is_running:
            await self._next()


async def _processed(target: MessagePump | None) -> None:
    """Wait until a widget has dealt with what was sent to it."""
    if target is None or not target.is_running:
        return
    done: asyncio.Future[None] = asyncio.get_running_loop().create_future()

    def tell() -> None:
        if not done.done():
            done.set_result(None)

    if target.call_later(tell):
        await done


async def _opened(app: App[object], before: object, known: set[Worker[object]]) -> None:
    """Wait for a dialog that is being opened by a worker that is not known, until it takes keys."""
    while app.screen is before and not isinstance(before, ModalScreen) and _opening(app) - known:
        await asyncio.sleep(TURN)
    screen = app.screen
    while screen is not before and isinstance(screen, ModalScreen) and not screen.is_current:
        await asyncio.sleep(TURN)
    if screen is not before and isinstance(screen, ModalScreen):
        while not screen.is_mounted or (
            screen.focused is None and screen.AUTO_FOCUS and screen.query(screen.AUTO_FOCUS)
        ):
            await asyncio.sleep(TURN)


def _focuses(screen: ModalScreen[object]) -> bool:
    """True for a screen that will give the focus to one of its widgets."""
    return bool(screen.AUTO_FOCUS and screen.query(screen.AUTO_FOCUS))


def _opening(app: App[object]) -> set[Worker[object]]:
    """Workers that open a dialog, or whose dialog or editor is open."""
    return {w for w in app.workers if w.group in OPENING and not w.is_finished}
