"""Copies a text to the clipboard."""

from __future__ import annotations

import asyncio
import shutil
from typing import Any

from textual.screen import Screen


def copy(screen: Screen[Any], text: str) -> None:
    """To the terminal's clipboard (OSC 52), and to the system's where there is a command for it."""
    screen.app.copy_to_clipboard(text)
    command = next((c for c in ("wl-copy", "xclip", "xsel", "pbcopy") if shutil.which(c)), None)
    if command is not None:
        screen.run_worker(_pipe(command, text), group="copy")


async def _pipe(command: str, text: str) -> None:
    options = {"xclip": ["-selection", "clipboard"], "xsel": ["--clipboard", "--input"]}.get(command, [])
    try:
        process = await asyncio.create_subprocess_exec(command, *options, stdin=-1, stdout=-3, stderr=-3)
        await asyncio.wait_for(process.communicate(text.encode()), 2)
    except (OSError, TimeoutError):
        return  # no display: the terminal has it
