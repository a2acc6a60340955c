"""Runs a sweep: several at a time, each row once, whatever ended it before."""

from __future__ import annotations

import asyncio
import contextlib
import os
import zlib
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from dataclasses import dataclass, field

from ..client import Launch
from ..host.launch import inspect_script
from .faults import Summary, summary
from .kept import Kept
from .one import Ran, cores, run_row
from .rows import Inputs, Row

Say = Callable[[int, int, Ran | None], None]
Run = Callable[[Ran], Awaitable[Ran]]


@dataclass
class Sweep:
    """`launch`: of every run, with the arguments as they are written; `results`: expressions whose values at the end
    are wanted; `limit`: seconds of a run."""

    launch: Launch
    inputs: Inputs
    kept: str
    results: list[str] = field(default_factory=list)
    jobs: int = field(default_factory=cores)
    limit: float | None = None
    own_folder: bool = False
    on: str = ""  # address of a Dask scheduler

    def about(self) -> dict[str, object]:
        """What tells the results of these runs from others."""
        launch = self.launch
        path = os.path.join(launch.cwd or "", launch.program)
        with open(path, "rb") as f:
            print_ = zlib.crc32(f.read())
        runs = [sorted(launch.pause_on), launch.audit, self.results, launch.env, launch.python, self.limit]
        return {"script": os.path.abspath(path), "print": print_, "runs": repr(runs)}

    async def run(self, say: Say = lambda done, before, ran: None) -> Summary:
        """All rows that have not run yet.  `say`: hears of each run: how many are done, how many had been before.
        BadUse where it cannot begin."""
        inspect_script(self.launch)
        kept = Kept(self.kept, self.about())
        rows = self.inputs.rows(self.launch.args)
        first = next(rows)  # BadUse before any file is made
        before = done = kept.open()
        say(done, before, None)

        async def worker(source: Iterator[Row], run: Run) -> None:
            nonlocal done
            for row in source:
                if kept.was_done(row.args if not row.bad else (row.bad,)):
                    continue
                ran = Ran(row.number, list(row.args), row.values)
                if row.bad:
                    ran = Ran(row.number, [row.bad], {}, "bad", ["bad", row.bad], f"Row {row.number}: {row.bad}.")
                else:
                    ran = await run(ran)
                kept.add(ran)
                done += 1
                say(done, before, ran)

        def all_rows() -> Iterator[Row]:
            yield first
            yield from rows

        source = all_rows()
        try:
            async with self._runner() as (run, jobs):
                tasks = [asyncio.create_task(worker(source, run)) for _ in range(max(1, jobs))]
                try:
                    await asyncio.gather(*tasks)
                finally:
                    for task in tasks:
                        task.cancel()
                    await asyncio.gather(*tasks, return_exceptions=True)
        finally:
            kept.close()
        return summary(kept.rows())

    @contextlib.asynccontextmanager
    async def _runner(self) -> AsyncIterator[tuple[Run, int]]:
        """What runs one row, and how many at a time."""
        if self.on:
            from .cluster import on_cluster

            async with on_cluster(self.on, self.launch, self.results, self.limit, self.own_folder) as found:
                yield found
            return

        async def here(ran: Ran) -> Ran:
            return await run_row(self.launch, ran, self.results, self.limit, self.own_folder)

        yield here, self.jobs
