"""Work in the background that ends after its screen was closed harms nothing; a missing widget elsewhere is an error."""

from __future__ import annotations

import asyncio

import pytest
from driving_app import until
from textual.screen import ModalScreen
from textual.widgets import Static

from uneven_sum.app.app import UnevenSum


class Slow(ModalScreen[None]):
    """Its work looks for a widget when it may."""

    def __init__(self) -> None:
        super().__init__()
        self.may, self.over = asyncio.Event(), asyncio.Event()

    def compose(self):
        yield Static("", id="here")

    async def look(self, name: str) -> None:
        try:
            await self.may.wait()
        except asyncio.CancelledError:
            await self.may.wait()  # as work does whose answer came just before
        try:
            self.query_one(name)
        finally:
            self.over.set()


async def test_a_dialog_closed_meanwhile() -> None:
    app = UnevenSum(None)
    async with app.run_test() as pilot:
        await until(pilot, lambda: app.desk is not None)
        screen = Slow()
        await app.push_screen(screen)
        await until(pilot, lambda: screen.is_current)
        screen.run_worker(screen.look("#here"))
        await pilot.pause()
        screen.dismiss()
        await until(pilot, lambda: app.screen is app.desk)
        screen.may.set()
        await asyncio.wait_for(screen.over.wait(), 20)
        await pilot.pause()
        assert app.is_running and app.screen is app.desk


async def test_a_widget_that_is_missing_is_an_error() -> None:
    app = UnevenSum(None)
    with pytest.raises(Exception, match="#nowhere"):
        async with app.run_test() as pilot:
            await until(pilot, lambda: app.desk is not None)
            screen = Slow()
            await app.push_screen(screen)
            screen.may.set()
            screen.run_worker(screen.look("#nowhere"))
            await asyncio.wait_for(screen.over.wait(), 20)
            await pilot.pause()
