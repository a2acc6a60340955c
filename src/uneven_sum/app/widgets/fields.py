"""Text fields that take their keys in the order in which these are pressed."""

from __future__ import annotations

from textual import events
from textual.binding import NoBinding
from textual.widgets import Input, TextArea


class InOrder:
    """Does a field's own editing keys (backspace, home, …) at once.

    Textual lets a widget insert a character as soon as it comes, but looks for the action of any other key only when
    that key has passed through all of its parents: fast typing, or a busy machine, then deletes what was typed later.
    """

    left_alone: tuple[str, ...] = ()  # keys that mean something else here

    async def _on_key(self, event: events.Key) -> None:
        assert isinstance(self, (Input, TextArea))
        if event.is_printable or event.key in self.left_alone:
            return
        try:
            bindings = self._bindings.get_bindings_for_key(event.key)
        except NoBinding:
            return
        for binding in bindings:
            if await self.app.run_action(binding.action, self):
                event.stop()
                event.prevent_default()
                return


class Field(InOrder, Input):
    """A line to type in."""


class TextField(InOrder, TextArea):
    """A text to edit."""
