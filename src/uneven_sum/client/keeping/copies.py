"""A run in a copy of its folder, with other texts of some files."""

from __future__ import annotations

import asyncio
import contextlib
import dataclasses
import os
import shutil
import tempfile
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

from ...host.launch import BadUse, Launch
from ...host.sockets import scratch_prefix
from ...protocol import Lookout
from ..client import Client
from ..differing.folders import Folder, TooLarge, copied, copy_of
from ..sources import with_text


@asynccontextmanager
async def in_copy(launch: Launch, texts: dict[str, str], given: str = "") -> AsyncIterator[tuple[Launch, Folder]]:
    """A launch in a copy, which is removed when the block is left.  `texts`: of files, by their paths;
    `given`: what the script reads as its standard input, where that is not a file."""
    scratch = Path(tempfile.mkdtemp(prefix=scratch_prefix()))
    copying = asyncio.ensure_future(asyncio.to_thread(_copied, launch, scratch))
    try:
        try:
            made, folder = await asyncio.shield(copying)
        except TooLarge:
            raise BadUse("The folder is too large for a copy: start the script with --cwd in a smaller one.") from None
        for file, text in texts.items():
            if folder.there(file) == file:
                raise BadUse(
                    f"{file} lies outside of the folders of the script and of its run, so another text of it cannot be "
                    "run in a copy. Give a folder that holds both with --cwd."
                )
            there = Path(folder.there(file))
            there.write_bytes(with_text(file, there, text))
        if given:
            (scratch / "given").write_text(given, encoding="utf-8")
            made = dataclasses.replace(made, stdin_file=str(scratch / "given"))
        made = dataclasses.replace(made, env={"PYTHONHASHSEED": "0", **made.env}, capture=True)
        yield dataclasses.replace(made, rewind=False, return_points=False), folder
    finally:
        await asyncio.wait([copying])  # a thread cannot be ended: it would go on writing into a folder that is gone
        await asyncio.to_thread(shutil.rmtree, scratch, True)


def _copied(launch: Launch, scratch: Path) -> tuple[Launch, Folder]:
    made, folder = copied(launch, scratch / "a")
    return _with_script(made, folder, scratch / "script"), folder


def _with_script(launch: Launch, folder: Folder, into: Path) -> Launch:
    """The launch with the folder of its script copied, too, where that is another one."""
    if launch.as_module:
        return launch
    program = os.path.realpath(os.path.join(launch.cwd or "", launch.program))
    if folder.back(program) == program:  # not in the copy
        home = os.path.dirname(program)
        copy_of(home, into)
        folder.further.append((home, str(into)))
    return dataclasses.replace(launch, program=folder.there(program))


@asynccontextmanager
async def started(launch: Launch, lookouts: list[Lookout] | None = None) -> AsyncIterator[Client]:
    """A run that reads the file of its launch as standard input, and is ended when the block is left."""
    client = Client(launch)
    try:
        await client.start(lookouts=lookouts or [])
        if launch.stdin_file is not None:
            with open(launch.stdin_file, encoding="utf-8", errors="replace") as f:
                await client.write_input(f.read())
        await client.write_input(None)
        yield client
    finally:
        with contextlib.suppress(BadUse):
            await client.end()
