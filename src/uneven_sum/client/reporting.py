"""The report of a case: one Markdown file, its pictures beside it, that another person can follow."""

from __future__ import annotations

import difflib
import os
import platform
import sys
import time
from pathlib import Path

from ..host.launch import BadUse, Launch
from . import notes
from .edits import write_whole
from .notes import Entry
from .sources import text_in


def report(
    launch: Launch, entries: list[Entry], verified: str = "", version: str = "", changed: str | None = None
) -> str:
    """The whole report as Markdown: what was run and on what, the evidence in its order, what was changed, how it
    was verified.  `changed`: a difference of texts, empty for none, None where it is not known."""
    name = launch.name
    lines = [f"# {name}", "", f"Report of {time.strftime('%Y-%m-%d %H:%M')}.", ""]
    command = " ".join([name, *launch.args])
    facts = [["", ""], ["script", os.path.abspath(launch.program) if not launch.as_module else launch.program]]
    facts.append(["run as", f"`{command}`"])
    facts.append(["interpreter", version or f"{launch.python or sys.executable}, Python {platform.python_version()}"])
    if launch.cwd:
        facts.append(["working folder", launch.cwd])
    if launch.env:
        facts.append(["environment", ", ".join(f"{k}={v}" for k, v in launch.env.items())])
    facts.append(["on", platform.platform()])
    lines += [notes.table(facts), ""]
    for number, entry in enumerate(entries, 1):
        when = time.strftime(" (%Y-%m-%d %H:%M)", time.localtime(entry.when)) if entry.when else ""
        lines += [f"## {number}. {entry.title}{when}", ""]
        if entry.picture:
            lines += [f"![{entry.title}]({entry.picture})", ""]
        if entry.body:
            lines += [entry.body.rstrip(), ""]
    if not entries:
        lines += ["Nothing was saved.", ""]
    if changed:
        lines += ["## What was changed", "", f"```diff\n{changed}\n```", ""]
    elif changed is not None:
        lines += ["## What was changed", "", "The script's text is what it was when the first evidence was saved.", ""]
    if verified:
        lines += ["## Verified", "", verified, ""]
    return "\n".join(lines)


def changes(texts: dict[str, str], folder: str) -> str:
    """What is different in files since: a unified difference, with the paths as seen from a folder."""
    found = []
    for path, before in texts.items():
        try:
            with open(path, "rb") as f:
                now = text_in(path, f.read())
        except OSError as e:
            found.append(f"# {path} cannot be read now: {e.strerror}")
            continue
        name = os.path.relpath(path, folder or ".")
        lines = before.splitlines(), now.splitlines()
        found += difflib.unified_diff(*lines, f"{name} before", f"{name} now", lineterm="")
    return "\n".join(line.rstrip() for line in found)


def write_report(script: str, path: str, text: str, entries: list[Entry]) -> None:
    """Writes a report and, beside it, the pictures that it shows.  BadUse when that cannot be done."""
    target = Path(path)
    folder = target.with_name(target.stem + "-pictures")
    for entry in entries:
        if not entry.picture:
            continue
        source = notes.pictures(script) / entry.picture
        try:
            data = source.read_bytes()
            folder.mkdir(exist_ok=True)
        except OSError as e:
            raise BadUse(f"The picture {source} cannot be taken into the report: {e.strerror}.") from None
        write_whole(str(folder / entry.picture), data)
        text = text.replace(f"]({entry.picture})", f"]({folder.name}/{entry.picture})")
    write_whole(str(target), text.encode())
