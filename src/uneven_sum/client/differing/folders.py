"""Gives each of two runs a folder of its own, so that neither sees what the other writes."""

from __future__ import annotations

import contextlib
import os
import shutil
import stat
import subprocess
from dataclasses import dataclass, field, replace
from pathlib import Path

from ...host.launch import BadUse, Launch

LEFT_OUT = {".git", ".venv", "venv", "__pycache__", "node_modules", ".mypy_cache", ".pytest_cache", ".ruff_cache"}
MOST = 500 * 1024 * 1024  # bytes that are copied unasked


class TooLarge(BadUse):
    """A folder that is too large to copy unasked."""


@dataclass
class Folder:
    """`original`: the folder that was copied, `copy`: where to; equal for a run in place.  `further`: other folders
    that were copied, in pairs."""

    original: str
    copy: str
    further: list[tuple[str, str]] = field(default_factory=list)

    def back(self, path: str) -> str:
        """The original of a path in a copy."""
        for original, copy in ((self.original, self.copy), *self.further):
            if path == copy or path.startswith(copy + os.sep):
                return original + path[len(copy) :]
        return path

    def back_in(self, text: str) -> str:
        """A text in which each path of a copy is that of the original."""
        for original, copy in ((self.original, self.copy), *self.further):
            text = text.replace(copy, original)
        return text

    def there(self, path: str) -> str:
        """A path of an original folder in the copy."""
        for original, copy in ((self.original, self.copy), *self.further):
            if path == original or path.startswith(original + os.sep):
                return copy + path[len(original) :]
        return path


def size_of(folder: str) -> tuple[int, int]:
    """Files and bytes of a folder, without what is not copied."""
    files = size = 0
    for root, inner, names in os.walk(folder):
        inner[:] = [n for n in inner if n not in LEFT_OUT]
        for name in names:
            files += 1
            try:
                size += os.lstat(os.path.join(root, name)).st_size
            except OSError:
                continue
            if size > MOST:
                return files, size
    return files, size


def _left_out(folder: str, names: list[str]) -> set[str]:
    """What is not copied: caches, environments, and what is no file, such as sockets and pipes."""
    found = LEFT_OUT & set(names)
    for name in names:
        with contextlib.suppress(OSError):
            mode = os.lstat(os.path.join(folder, name)).st_mode
            if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode)):
                found.add(name)
    return found


def copy_of(original: str, into: Path) -> None:
    """Copy a folder, without caches and environments.  BadUse where it is too large, or cannot be read."""
    _, size = size_of(original)
    if size > MOST:
        raise TooLarge(
            f"{original} has more than {MOST // 2**20} MB, too much for copies. With --in-place the runs work in "
            "the folder itself; with --cwd they work in another one."
        )
    real = into.resolve()
    own = {str(place) for place in (real, *real.parents)}  # the folder may hold the one for temporary files

    def ignored(folder: str, names: list[str]) -> set[str]:
        return _left_out(folder, names) | {name for name in names if os.path.join(folder, name) in own}

    try:
        shutil.copytree(original, into, symlinks=True, ignore=ignored, dirs_exist_ok=True)
    except (shutil.Error, OSError) as e:
        told = getattr(e, "strerror", None) or e
        if isinstance(e, shutil.Error):
            # What another program has deleted meanwhile was no part of the folder.
            left = [why for source, _, why in e.args[0] if os.path.lexists(source)]
            if not left:
                return
            told = left[0]
        raise BadUse(f"{original} cannot be copied: {told}. With --in-place both runs work in it.") from None


def copied(launch: Launch, into: Path) -> tuple[Launch, Folder]:
    """A launch that works in a copy of its working folder; a script in that folder is run from the copy, too.

    BadUse where the folder is too large.
    """
    original = os.path.realpath(launch.cwd or os.getcwd())
    copy_of(original, into)
    folder = Folder(original, str(into))
    program = launch.program
    if not launch.as_module:
        program = folder.there(os.path.realpath(os.path.join(original, program)))
    return replace(launch, program=program, cwd=str(into)), folder


def of_revision(named: str, folder: str) -> tuple[str, bytes] | None:
    """The path and the text of `REV:PATH` as git has it; None where a file has this name, or it is no such name."""
    revision, colon, path = named.partition(":")
    if not colon or not revision or not path or os.path.exists(os.path.join(folder, named)):
        return None
    full = os.path.abspath(os.path.join(folder, path))
    where = os.path.dirname(full)
    try:
        done = subprocess.run(
            ["git", "-C", where, "show", f"{revision}:./{os.path.basename(full)}"], capture_output=True, timeout=60
        )
    except (OSError, subprocess.TimeoutExpired) as e:
        raise BadUse(f"git, which is needed for {named}, cannot be run: {e}.") from None
    if done.returncode:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines()
        raise BadUse(f"git does not give {named}: {said[-1] if said else 'no reason'}.")
    return full, done.stdout
