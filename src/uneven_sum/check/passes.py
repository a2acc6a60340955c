"""The passes of one loop as a table, without a screen."""

from __future__ import annotations

import ast
import os
from dataclasses import dataclass, field
from typing import TextIO

from ..client import BadUse, Client, Exited, Launch, Stopped
from ..client.ledger import Ledger, write_csv
from ..client.sources import line_in_cell, place_words, read_place


@dataclass
class Table:
    """What was recorded.  `status`: the script's own; None when a signal ended it."""

    file: str
    line: int
    runs: list[Ledger] = field(default_factory=list)
    begun: int = 0
    kind: str = "loop"
    error: str = ""
    status: int | None = 0

    @property
    def sentence(self) -> str:
        """`The loop at line 32 of rating_year.py: all 365 passes are kept.`"""
        word = {"loop": "loop", "elements": "comprehension", "calls": "function"}[self.kind]
        where = f"The {word} at {place_words(self.file, self.line)} of {os.path.basename(self.file)}"
        if not self.runs or not self.begun:
            return f"{where} was not run."
        none = set.intersection(*(set(r.told.unread) for r in self.runs))
        unread = "".join(f" {name} could be read in no pass." for name in self.runs[0].told.unread if name in none)
        if self.begun == 1:
            kept = self.runs[0].told.kept
            return f"{where}: {kept.replace('passes', 'calls') if self.kind == 'calls' else kept}.{unread}"
        kept = "" if len(self.runs) == self.begun else f", of which {len(self.runs)} are kept"
        return f"{where} was run {self.begun} times{kept}: {sum(r.told.passes for r in self.runs)} passes.{unread}"


def expressions(text: str) -> list[str]:
    """`level, state["m, n"]` as two texts; BadUse where it is no list of expressions."""
    try:
        listed = ast.parse(f"({text},)", mode="eval").body if text.strip() else ast.Tuple([])
    except SyntaxError:
        raise BadUse(f"--values takes names and expressions with commas between them, not {text!r}.") from None
    parts = listed.elts if isinstance(listed, ast.Tuple) else []
    return [ast.get_source_segment(f"({text},)", part) or "" for part in parts]


def place(text: str, script: str, cwd: str | None) -> tuple[str, int]:
    """FILE:LINE, or just LINE of the script.  BadUse when it is neither."""
    found = read_place(text)
    if found is None:
        raise BadUse(f"--loop takes FILE:LINE, or LINE of the script, not {text!r}.")
    file, cell, line = found
    base = cwd or "."
    if not file or (
        os.path.basename(file) == os.path.basename(script) and not os.path.exists(os.path.join(base, file))
    ):
        file = script
    path = os.path.join(base, file)
    if not os.path.exists(path):
        raise BadUse(f"There is no file {file}.")
    return os.path.realpath(path), line_in_cell(path, cell, line) if cell else line


async def recorded(launch: Launch, file: str, line: int, names: list[str], times: bool = False) -> Table:
    """Runs a script to its end, or to an error that ends it, with one loop recorded.  BadUse when it cannot be."""
    launch.pause_on, launch.pause_at_end = {"error"}, True
    client = Client(launch)
    table = Table(file, line)
    wanted = {"file": file, "line": line, "names": names, "times": times, "branches": not names}
    try:
        await client.start(record=[wanted])
        while True:
            event = await client.next_event()
            if isinstance(event, Stopped):
                await _read(client, table)
                if event.facts.reason == "error":
                    table.error = event.facts.headline
                await client.go_on()
            elif isinstance(event, Exited):
                table.status = event.exit_status
                return table
    finally:
        await client.end()


async def _read(client: Client, table: Table) -> None:
    last = await client.passes(table.file, table.line)
    table.begun, table.kind = last.told.begun, last.told.kind
    earlier = [await client.passes(table.file, table.line, run=n) for n in range(1, len(last.told.runs))]
    table.runs = [*earlier, last]


def write(table: Table, out: TextIO) -> None:
    """CSV: run, the pass of the loop around, pass, and a column for each value."""
    write_csv(table.runs, out)
