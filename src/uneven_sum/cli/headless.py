"""The commands that run scripts without a screen."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import click

from .. import endings
from ..host.launch import BadUse
from ..safe_text import visible
from .options import (
    SCRIPT_SETTINGS,
    examples,
    input_of,
    launch_of,
    pause_options,
    place_and_time,
    rules_of,
    script_options,
    there_is_a_folder_for,
    tolerances_of,
    write_report,
)
from .sweep import sweep

if TYPE_CHECKING:
    from ..client.differing.runs import RunOf
    from ..protocol import Facts


def _ended(runs: Sequence[RunOf], bad: bool) -> int:
    """The exit status of several runs: 130 where ctrl+c has ended them and nothing was found."""
    from ..client.differing.runs import STOPPED

    return 1 if bad else 130 if any(run.ended == STOPPED for run in runs) else 0


@click.command(context_settings=SCRIPT_SETTINGS, epilog=examples("check"))
@script_options
@pause_options
@click.option("--all", "everything", is_flag=True, help="Report every problem, not only the first.")
@click.option("--audit", is_flag=True, help="Run to the end, and report finite results that cannot be trusted.")
@click.option("--digits", is_flag=True, help="With --audit: also measure how many digits hold, in four runs.")
@click.option("--rules", metavar="LIST", help="With --audit: only these rules, separated by commas.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
@click.option(
    "--passes",
    default=10,
    show_default=True,
    type=click.IntRange(0, 400),
    metavar="N",
    help="With --json: the last N passes before each problem; 0 records no loops.",
)
@click.option("--report", metavar="OUT.md", help="Write a report for people, as Markdown; OUT.pdf: as pages.")
@click.option(
    "--hold",
    type=click.FloatRange(0, min_open=True),
    metavar="SECONDS",
    help="Keep the script paused at its first problem, for `attach`; SCRIPT.held has the command.",
)
def check(
    script: str,
    args: tuple[str, ...],
    everything: bool,
    audit: bool,
    digits: bool,
    rules: str | None,
    json_: bool,
    passes: int,
    report: str | None,
    hold: float | None,
    **options: object,
) -> None:
    """Run SCRIPT without a screen; report the first problem.

    Exit status: 0 no problem; 1 problem; 2 usage error or unreadable script; 3 no problem, but the script
    exited nonzero or crashed.
    """
    from ..check import Hold, as_json, as_report, as_text, held_text
    from ..check import check as run_check

    launch = launch_of(script, args, options)
    launch.go_on = everything
    if hold is not None and (everything or audit):
        raise BadUse("--hold keeps the script at its first trip: leave --all and --audit out.")
    launch.rewind = launch.children_pause = hold is not None
    if audit:
        launch.audit = rules_of(rules)
        launch.pause_on, launch.checks = set(), False
    elif rules is not None:
        raise BadUse("--rules is for --audit.")
    elif digits:
        raise BadUse("--digits is for --audit. uneven-sum digits has the digits alone.")
    launch.output_to_stderr = json_
    launch.passes = passes if json_ or report else 0
    there_is_a_folder_for(report)
    told = False  # what tripped is in the report of the script that is held

    def tell(facts: Facts, line: str, file: str) -> None:
        nonlocal told
        told = True
        click.echo(held_text(facts, line, file, hold or 0.0), err=True)

    how = Hold(hold, tell) if hold is not None else None
    outcome = endings.run(run_check(launch, lambda text: click.echo(visible(text), err=True), how))
    if digits and outcome.outcome != "died":
        from ..check.digits import with_digits  # with NumPy, which takes long to import
        from ..check.watching import watched

        endings.run(watched(lambda watch: with_digits(launch, outcome, watch)))
    if report is not None:
        write_report(as_report(launch, outcome), report, launch.name)
    if json_:
        click.echo(as_json(outcome))
    elif not told and (outcome.pauses or outcome.said or outcome.outcome == "died" or audit):
        sys.stdout.flush()
        click.echo(as_text(outcome), err=True)
    sys.exit(outcome.our_status)


@click.command(epilog=examples("differ"))
@click.argument("script")
@click.argument("other", required=False)
@click.option("--twice", is_flag=True, help="Run SCRIPT twice: is it deterministic?")
@click.option("--python", multiple=True, metavar="PATH", help="The interpreter; given twice, one for each run.")
@click.option("--args", multiple=True, metavar="'ARG …'", help="Arguments; given twice, those of each run.")
@click.option("--env", multiple=True, metavar="NAME=VALUE", help="A variable; NAME given twice, one for each run.")
@click.option("--cwd", multiple=True, metavar="FOLDER", help="Working directory; given twice, one for each run.")
@click.option("--module", "-m", is_flag=True, help="SCRIPT and OTHER are names of modules.")
@click.option("--relative", type=click.FloatRange(0), default=0.0, metavar="X", help="Relative tolerance.  Default: 0.")
@click.option("--absolute", type=click.FloatRange(0), default=0.0, metavar="X", help="Absolute tolerance.  Default: 0.")
@click.option("--at", multiple=True, metavar="FILE:LINE=X", help="Relative tolerance of a line of SCRIPT.")
@click.option("--terms", is_flag=True, help="Compare each term, not only what is stored: slower, more exact.")
@click.option("--stdin", metavar="FILE", help="Standard input of both runs.  Default: empty.")
@click.option("--keep", metavar="FILE", help="Store the values of SCRIPT as Parquet; without OTHER it runs alone.")
@click.option("--in-place", is_flag=True, help="Run in the folder itself; without it, each run has a copy.")
@click.option("--report", metavar="OUT.md", help="Write a report for people, as Markdown; OUT.pdf: as pages.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
def differ(
    script: str,
    other: str | None,
    twice: bool,
    json_: bool,
    stdin: str | None,
    keep: str | None,
    report: str | None,
    **options: Any,
) -> None:
    """Compare two runs, value by value: where do they first differ?

    Runs SCRIPT and OTHER, or SCRIPT twice with two interpreters, arguments, folders or values of a variable.

    Each is a file, REV:PATH (a file of a git revision), or a run that --keep has stored.

    Exit status: 0 equal within the tolerances; 1 different; 2 usage error.
    """
    from ..check.differences import as_json, as_report, as_text
    from ..check.watching import watched
    from ..client.differing.launches import is_alone, one_launch, pair_of_launches
    from ..client.differing.runs import How, compare, store

    say = (lambda text: None) if json_ else (lambda text: click.echo(visible(text), err=True))
    given = input_of(stdin)
    there_is_a_folder_for(keep)
    if keep is not None and is_alone(script, other, twice, **options):
        launch, in_place = one_launch(script, **options), options["in_place"]
        run = endings.run(watched(lambda watch: store(launch, keep, in_place, given, say, watch)))
        click.echo(f"{script} ran {run.ended}; its values are in {keep}." if run.status is not None else "Not stored.")
        sys.exit(0 if run.status is not None else 130)
    launches = pair_of_launches(script, other, twice, **options)
    there_is_a_folder_for(report)
    names = ("relative", "absolute", "in_place", "terms")
    how = How(**{name: options[name] for name in names}, twice=twice, given=given, keep=keep)
    how.at_lines = tolerances_of(options["at"])
    found = endings.run(watched(lambda watch: compare(launches, how, say, watch)))
    if report is not None:
        write_report(as_report(found), report, "two runs")
    click.echo(as_json(found) if json_ else as_text(found))
    sys.exit(_ended([found.a, found.b], not found.equal))


@click.command(context_settings=SCRIPT_SETTINGS, epilog=examples("digits"))
@script_options
@click.option("--result", multiple=True, metavar="NAME", help="Another name whose value is a result.")
@click.option("--stdin", metavar="FILE", help="Standard input of each run.  Default: empty.")
@click.option("--in-place", is_flag=True, help="Run in the folder itself; without it, each run has a copy.")
@click.option("--report", metavar="OUT.md", help="Write a report for people, as Markdown; OUT.pdf: as pages.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
def digits(
    script: str,
    args: tuple[str, ...],
    result: tuple[str, ...],
    stdin: str | None,
    in_place: bool,
    report: str | None,
    json_: bool,
    **options: object,
) -> None:
    """Measure how many digits of each result can be trusted.

    Runs SCRIPT four times, three of them with changed last digits.

    Exit status: 0 no finding; 1 digits of a result are lost; 2 usage error.
    """
    from ..check.digits import as_json, as_report, as_text
    from ..check.watching import watched
    from ..client.digits.runs import digits as held

    launch = launch_of(script, args, options)
    there_is_a_folder_for(report)
    say = (lambda text: None) if json_ else (lambda text: click.echo(visible(text), err=True))
    given, named = input_of(stdin), frozenset(result)
    found = endings.run(watched(lambda watch: held(launch, named, in_place, given, say, watch)))
    if report is not None:
        write_report(as_report(launch, found), report, launch.name)
    click.echo(as_json(found) if json_ else as_text(found))
    sys.exit(_ended(found.runs, any(not f.question for f in found.findings)))


@click.command(context_settings=SCRIPT_SETTINGS, epilog=examples("passes"))
@script_options
@click.option("--loop", required=True, metavar="FILE:LINE", help="The head of the loop; LINE alone is the script's.")
@click.option("--values", metavar="NAME,…", help="Only these of the names that the loop's body assigns.")
@click.option("--times", is_flag=True, help="Also the time of each pass.")
@click.option("--out", metavar="FILE", help="The file to write.  Default: standard output.")
def passes(
    script: str, args: tuple[str, ...], loop: str, values: str | None, times: bool, out: str | None, **options: object
) -> None:
    """Write each pass (iteration) of one loop of SCRIPT as CSV.

    Exit status: 0 written; 2 usage error; 3 written, but the script ended in an error or with a status of its own.
    """
    from ..check.passes import expressions, place, recorded, write

    launch = launch_of(script, args, options)
    launch.output_to_stderr = out is None
    file, line = place(loop, script, launch.cwd)
    names = expressions(values or "")
    if out is not None and not os.path.isdir(os.path.dirname(os.path.abspath(out))):
        raise BadUse(f"There is no folder {os.path.dirname(out)} to write {os.path.basename(out)} in.")
    table = endings.run(recorded(launch, file, line, names, times))
    try:
        if out is None:
            write(table, sys.stdout)
        else:
            with open(out, "w", encoding="utf-8", newline="") as f:
                write(table, f)
    except OSError as e:
        raise BadUse(f"{out or 'Standard output'} cannot be written: {e.strerror}.") from None
    for text in (table.sentence, table.error):
        if text:
            click.echo(visible(text), err=True)
    sys.exit(3 if table.status or table.status is None or table.error else 0)


@click.command(context_settings=SCRIPT_SETTINGS, epilog=examples("origin"))
@script_options
@click.option("--of", "of", metavar="PLACE", help="A name, attribute or element, such as 'flow[211]'.")
@click.option("--line", type=click.IntRange(1), metavar="N", help="Instead of --of: what line N of the output prints.")
@click.option("--at", metavar="[FILE:]LINE[xN]", help="Before this line runs (for time N); without it, at the end.")
@click.option("--pause", is_flag=True, help="At the first problem, instead of at the end.")
@click.option(
    "--steps", default=40, show_default=True, type=click.IntRange(1, 1000), metavar="N", help="Follow at most N steps."
)
@click.option(
    "--expect", default="", metavar="CONDITION", help="What values should be: 'value > 0'. Follow what breaks it."
)
@click.option("--input", "input_", metavar="FILE", help="Standard input of SCRIPT.")
@click.option("--forward", is_flag=True, help="Trace forward: list the statements that read the value.")
@click.option("--in-place", is_flag=True, help="Run in the folder itself; without it, in a copy.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
def origin(
    script: str,
    args: tuple[str, ...],
    of: str | None,
    line: int | None,
    at: str | None,
    pause: bool,
    steps: int,
    expect: str,
    input_: str | None,
    forward: bool,
    in_place: bool,
    json_: bool,
    **options: Any,
) -> None:
    """Trace a value back, from statement to statement.

    A value that is not finite is followed to the statement that made it.  SCRIPT runs several times, in a copy of its
    folder.  Exit status: 0 found; 2 usage error, or nothing found.
    """
    from ..check.origin import Asked, as_json, as_text
    from ..check.origin import origin as origin_of

    if at is not None and pause:
        raise BadUse("Give one of --at and --pause.")
    if (of is None) is (line is None):
        raise BadUse("Give one of --of PLACE and --line N.")
    asked = Asked(of or "", *place_and_time(at, script, options["cwd"]), pause, line or 0)
    if forward and not (at or pause):
        raise BadUse("--forward begins at a place: give --at LINE or --pause.")
    launch = launch_of(script, args, options)
    input_of(input_)  # BadUse where it cannot be read
    launch.stdin_file = input_
    chain = endings.run(origin_of(launch, asked, steps, in_place, forward, expect))
    if not chain.steps:
        raise BadUse(chain.said)
    click.echo(as_json(chain) if json_ else as_text(chain), nl=json_)


@click.command(epilog=examples("cells"))
@click.argument("file", metavar="FILE")
@click.option("--to", "to", required=True, metavar="FILE", help="The file to write: .py or .ipynb.")
def cells(file: str, to: str) -> None:
    """Convert a notebook to a script with cells, or back.

    Cells of a script begin with '# %%', '# %% title' or '# In[3]:'.  Outputs are left out.  Exit status: 0 written; 2
    usage error.
    """
    from ..client.convert_cells import convert

    click.echo(visible(convert(file, to)))


COMMANDS = (cells, check, differ, digits, origin, passes, sweep)
