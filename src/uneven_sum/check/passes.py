"""The passes of one loop as a table, without a screen."""

from __future__ import annotations

import csv
import os
from dataclasses import dataclass, field
from typing import Any, TextIO

from ..client import BadUse, Client, Exited, Launch, Stopped

FIGURES = ("shape", "min", "mean", "max", "nonfinite")


@dataclass
class Table:
    """What was recorded.  `status`: the script's own; None when a signal ended it."""

    file: str
    line: int
    names: list[str] = field(default_factory=list)
    runs: list[dict[str, Any]] = field(default_factory=list)
    begun: int = 0
    error: str = ""
    status: int | None = 0

    @property
    def sentence(self) -> str:
        """`The loop at line 32 of rating_year.py: all 365 passes are kept.`"""
        where = f"The loop at line {self.line} of {os.path.basename(self.file)}"
        if not self.runs:
            return f"{where} was not run."
        if self.begun == 1:
            return f"{where}: {self.runs[0]['kept']}."
        kept = "" if len(self.runs) == self.begun else f", of which {len(self.runs)} are kept"
        return f"{where} was run {self.begun} times{kept}: {sum(r['passes'] for r in self.runs)} passes."


def place(text: str, script: str, cwd: str | None) -> tuple[str, int]:
    """FILE:LINE, or just LINE of the script.  BadUse when it is neither."""
    file, _, line = text.rpartition(":")
    if not line.isdigit():
        raise BadUse(f"--loop takes FILE:LINE, or LINE of the script, not {text!r}.")
    base = cwd or "."
    if not file or (
        os.path.basename(file) == os.path.basename(script) and not os.path.exists(os.path.join(base, file))
    ):
        file = script
    path = os.path.join(base, file)
    if not os.path.exists(path):
        raise BadUse(f"There is no file {file}.")
    return os.path.realpath(path), int(line)


async def recorded(launch: Launch, file: str, line: int, names: list[str]) -> Table:
    """Runs a script to its end, or to an error that ends it, with one loop recorded.  BadUse when it cannot be."""
    launch.pause_on, launch.pause_at_end = {"error"}, True
    client = Client(launch)
    table = Table(file, line)
    try:
        await client.start(record=[{"file": file, "line": line, "names": names}])
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                told = await client.passes(file, line)
                table.names, table.runs, table.begun = told["names"], told["runs"], told["begun"]
                if event.facts.reason == "error":
                    table.error = event.facts.headline
                await client.go_on()
            elif isinstance(event, Exited):
                table.status = event.exit_status
                return table
    finally:
        await client.end()


def write(table: Table, out: TextIO) -> None:
    """CSV: run, pass, and a column for each name; five for a name that was an array."""
    wide = {
        name
        for number, name in enumerate(table.names, 1)
        if any(isinstance(row[number], dict) for run in table.runs for row in run["rows"])
    }
    header = ["run", "pass"]
    for name in table.names:
        header += [f"{name}.{f}" for f in FIGURES] if name in wide else [name]
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    for number, run in enumerate(table.runs, 1):
        for row in run["rows"]:
            cells: list[Any] = [number, row[0]]
            for name, value in zip(table.names, row[1:]):
                if isinstance(value, dict):
                    cells += [" x ".join(map(str, value["shape"])), *(value[f] for f in FIGURES[1:])]
                else:
                    text = "" if value is None else value
                    cells += [text, "", "", "", ""] if name in wide else [text]
            writer.writerow(cells)
