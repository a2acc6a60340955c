"""What was recorded of a loop, as texts."""

from __future__ import annotations


async def all_runs(client, path: str, line: int) -> list:
    last = await client.passes(path, line)
    return [await client.passes(path, line, run=n) for n in range(1, len(last.told.runs))] + [last]


def texts(ledger, *names: str) -> list[list[str]]:
    """The exact texts, row by row."""
    columns = [c for c in ledger.columns if not names or c.name in names]
    return [[c.text(row) for c in columns] for row in range(ledger.rows)]
