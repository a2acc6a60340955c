"""The command that runs one script over many inputs."""

from __future__ import annotations

import asyncio
import os
import sys
from typing import TYPE_CHECKING

import click

from .. import endings
from ..host.launch import BadUse
from ..safe_text import visible
from .options import (
    SCRIPT_SETTINGS,
    examples,
    launch_of,
    pause_options,
    script_options,
    there_is_a_folder_for,
    write_report,
)

if TYPE_CHECKING:
    from ..sweep.faults import Summary
    from ..sweep.one import Ran
    from ..sweep.sweep import Sweep


@click.command(context_settings=SCRIPT_SETTINGS, epilog=examples("sweep"))
@script_options
@pause_options
@click.option(
    "--args-from", "table", metavar="FILE", help="A table with one row for each run: CSV, or JSON lines (.jsonl)."
)
@click.option("--each", metavar="PATTERN", help="A run for each file that matches, such as 'data/*.csv'.")
@click.option(
    "--vary", multiple=True, metavar="NAME=A,B,…", help="A run for each value; given twice, for each combination."
)
@click.option("--result", multiple=True, metavar="EXPR", help="Keep the value of an expression at the end of each run.")
@click.option("--audit", is_flag=True, help="Run each to its end, and report results that cannot be trusted.")
@click.option("--jobs", type=click.IntRange(1), metavar="N", help="Runs at a time.  Default: the number of cores.")
@click.option("--limit", type=click.FloatRange(0, min_open=True), metavar="SECONDS", help="Time limit of a run.")
@click.option("--on", metavar="ADDRESS", help="Run on a Dask cluster: its scheduler, such as tcp://node1:8786.")
@click.option("--own-folder", is_flag=True, help="Each run works in a copy of the folder.")
@click.option("--results", metavar="FILE", help="The file of the runs.  Default: SCRIPT.sweep.parquet.")
@click.option("--screen", is_flag=True, help="Show the sweep on a screen; each run can be opened on the Bench.")
@click.option("--report", metavar="OUT.md", help="Write a report for people, as Markdown; OUT.pdf: as pages.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
def sweep(
    script: str,
    args: tuple[str, ...],
    table: str | None,
    each: str | None,
    vary: tuple[str, ...],
    result: tuple[str, ...],
    audit: bool,
    jobs: int | None,
    limit: float | None,
    on: str | None,
    own_folder: bool,
    results: str | None,
    screen: bool,
    report: str | None,
    json_: bool,
    **options: object,
) -> None:
    """Run SCRIPT over many inputs; group the failed runs.

    {NAME} in an argument stands for a column; without any, each column is an option, --name value.  Finished runs are
    kept: the same command, run again, continues.

    Exit status: 0 all runs are fine; 1 some are not; 2 usage error; 130 stopped by ctrl+c.
    """
    from ..sweep.kept import Kept
    from ..sweep.report import as_json, as_report, as_text, counted
    from ..sweep.rows import Inputs
    from ..sweep.sweep import Sweep

    launch = launch_of(script, args, options)
    if launch.as_module:
        raise BadUse("A sweep takes a script: give its file.")
    behind = next((word for word in args if word.partition("=")[0] in ("--args-from", "--each", "--vary")), "")
    if behind and table is None and each is None and not vary:
        raise BadUse(f"What stands behind SCRIPT is the script's own: put {behind} before {script}.")
    if audit:
        launch.audit, launch.pause_on, launch.checks = [], set(), False
    there_is_a_folder_for(report)
    kept = results or os.path.join(os.path.dirname(script), f"{os.path.basename(script)}.sweep.parquet")
    there_is_a_folder_for(kept)
    made = Sweep(launch, Inputs(table, each, vary), kept, list(result), limit=limit, own_folder=own_folder)
    made.jobs, made.on = jobs or made.jobs, on or ""
    if jobs is not None and on is not None:
        raise BadUse("--jobs is for this machine: with --on the cluster says how many runs there are at a time.")
    if screen:
        if not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise BadUse("The screen of a sweep needs a terminal. Leave --screen out.")
        from ..app import open_sweep
        from ..client import settings
        from ..host.launch import inspect_script

        inspect_script(launch)
        open_sweep(made, settings.load()[0].theme)
        return
    try:
        found = endings.run(_with_progress(made))
    except (KeyboardInterrupt, asyncio.CancelledError):
        from ..sweep.faults import summary

        told = summary(Kept(kept, made.about()).rows())
        click.echo(visible(f"\nEnded. {counted(told, True)} The same command goes on."), err=True)
        sys.exit(130)
    if report is not None:
        rows = [ran for ran in Kept(kept, made.about()).rows() if ran.results]
        write_report(as_report(found, rows, script), report, launch.name)
    click.echo(as_json(found) if json_ else as_text(found), nl=False)
    sys.exit(0 if found.fine == found.ran else 1)


async def _with_progress(made: Sweep) -> Summary:
    """The sweep, with a bar on standard error where that is a terminal."""
    from rich.console import Console  # with Textual
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    from ..sweep.one import FINE

    console = Console(stderr=True)
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=console, disable=not console.is_terminal, transient=True) as progress:
        total = sum(1 for _ in made.inputs.rows(made.launch.args)) if console.is_terminal else None
        task = progress.add_task("runs", total=total)
        wrong = 0

        def say(done: int, before: int, ran: Ran | None) -> None:
            nonlocal wrong
            if ran is None and before:
                click.echo(f"{before:,} runs are in {made.kept} already.", err=True)
            wrong += ran is not None and ran.outcome != FINE
            progress.update(task, completed=done, description=f"runs, {wrong} went wrong" if wrong else "runs")

        return await made.run(say)
