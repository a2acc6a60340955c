"""The command line."""

from __future__ import annotations

import asyncio
import contextlib
import os
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, NoReturn

import click

from . import __version__, endings
from .host.launch import BadUse, Launch, SyntaxFault
from .protocol.trips import AUDIT_RULES, TRIPS
from .protocol.trips import PAUSES as CHOICES
from .safe_text import visible

if TYPE_CHECKING:
    from .client.differing.runs import RunOf
    from .client.settings import Settings

EXAMPLES = {
    "run": (
        "run model.py --year 2031",
        "run --python .venv/bin/python --pause-on error model.py",
        "run -m basin.model",
    ),
    "check": ("check model.py", "check --json --all model.py --year 2031", "check --report out.pdf model.py"),
    "passes": ("passes --loop 32 model.py", "passes --loop rating.py:12 --values head,flow --out passes.csv model.py"),
    "digits": ("digits model.py", "digits --result head --json model.py --year 2031"),
    "differ": ("differ old.py new.py", "differ HEAD~1:model.py model.py --relative 1e-9", "differ --twice model.py"),
    "demo": ("demo", "demo rating"),
    "serve": ("serve --stdio", "serve --port 0"),
}
SCRIPT_SETTINGS = {"ignore_unknown_options": True, "allow_interspersed_args": False}


def examples(command: str) -> str:
    """The end of a command's help: how it is called, a line each (click folds them otherwise)."""
    return "\b\nExamples:\n" + "\n".join(f"  uneven-sum {line}" for line in EXAMPLES[command])


def _input_of(path: str | None) -> str | None:
    """The text of the file that a run reads as its standard input."""
    if path is None:
        return None
    try:
        with open(path, encoding="utf-8", errors="replace") as f:
            return f.read()
    except OSError as e:
        raise BadUse(f"{path} cannot be read: {e.strerror}.") from None


def _ended(runs: Sequence[RunOf], bad: bool) -> int:
    """The exit status of several runs: 130 where ctrl+c has ended them and nothing was found."""
    from .client.differing.runs import STOPPED

    return 1 if bad else 130 if any(run.ended == STOPPED for run in runs) else 0


def fail(message: str) -> NoReturn:
    """One clear sentence on standard error, exit status 2."""
    click.echo(visible(f"uneven-sum: {message}"), err=True)
    sys.exit(2)


def _log_to(path: str, level: str) -> None:
    """Only our own messages: the libraries' are not for the user."""
    import logging

    try:
        handler = logging.FileHandler(path, encoding="utf-8")
    except OSError as e:
        raise BadUse(f"{path} cannot be written: {e.strerror}. Give another file with --log.") from None
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)-7s %(name)s: %(message)s"))
    logger = logging.getLogger("uneven_sum")
    logger.addHandler(handler)
    logger.setLevel(level.upper())
    logger.propagate = False
    logger.info("uneven-sum %s, Python %s", __version__, sys.version.split()[0])


def _settings() -> Settings:
    from .client import settings as kept

    found, wrong = kept.load()
    for text in wrong:
        click.echo(visible(f"uneven-sum: {text}"), err=True)
    return found


def _trips(text: str | None, option: str) -> set[str]:
    found = {w.strip() for w in (text or "").split(",") if w.strip()}
    wrong = sorted(found - set(CHOICES))
    if wrong:
        raise BadUse(f"{option} does not know {', '.join(wrong)}. It takes a list of: {', '.join(CHOICES)}.")
    return found


def _rules(text: str | None) -> list[str]:
    """The rules of `--rules`; none: all that are not weak."""
    found = [name.strip() for name in (text or "").split(",") if name.strip()]
    wrong = [name for name in found if name not in AUDIT_RULES]
    if wrong:
        raise BadUse(f"--rules does not know {', '.join(wrong)}. There are: {', '.join(AUDIT_RULES)}.")
    return found


def _launch(script: str, args: tuple[str, ...], options: dict[str, Any]) -> Launch:
    env: dict[str, str] = {}
    for pair in options["env"]:
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise BadUse(f"--env takes NAME=VALUE, not {pair!r}.")
        env[name] = value
    pause_on = set(TRIPS)
    only, never = options.get("pause_on"), options.get("no_pause_on")
    if only is not None:
        pause_on = _trips(only, "--pause-on")
    pause_on -= _trips(never, "--no-pause-on")
    return Launch(
        script,
        list(args),
        as_module=options["module"],
        python=options["python"],
        cwd=options["cwd"],
        env=env,
        user_code=[os.path.abspath(p) for p in options["user_code"]],
        pause_on=pause_on,
        pause_on_given=only is not None or never is not None,
    )


Decorator = Callable[[Callable[..., Any]], Callable[..., Any]]
SCRIPT: list[Decorator] = [
    click.argument("args", nargs=-1, type=click.UNPROCESSED, metavar="[ARG]..."),
    click.argument("script"),
    click.option("--user-code", multiple=True, metavar="PATH", help="Another folder to treat as your code."),
    click.option("--module", "-m", is_flag=True, help="SCRIPT is a module's name, run as python -m would."),
    click.option("--env", multiple=True, metavar="NAME=VALUE", help="Set a variable of the script's environment."),
    click.option("--cwd", metavar="FOLDER", help="The script's working directory."),
    click.option("--python", metavar="PATH", help="The script's interpreter (CPython 3.11 or later)."),
]
PAUSES: list[Decorator] = [
    click.option("--no-pause-on", metavar="LIST", help="Of error, warning, nonfinite: do not pause on these."),
    click.option("--pause-on", metavar="LIST", help="Pause only on: error, warning, nonfinite, start."),
]


def script_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options that all commands with a script share."""
    for option in SCRIPT:
        command = option(command)
    return command


def pause_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of commands that pause, or report pauses."""
    for option in PAUSES:
        command = option(command)
    return command


@click.group(
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"]},
    epilog="Examples:  uneven-sum demo rating  |  uneven-sum run model.py --year 2031  |  uneven-sum check model.py",
)
@click.version_option(__version__, prog_name="uneven-sum")
@click.option("--log", metavar="FILE", help="Write a log to FILE; give it before the command.")
@click.option(
    "--log-level",
    type=click.Choice(["debug", "info", "warning", "error"]),
    default="info",
    show_default=True,
    help="How much of it: debug tells each request to the script.",
)
@click.pass_context
def cli(context: click.Context, log: str | None, log_level: str) -> None:
    """Find the faulty calculation in a numerical Python script."""
    if log is not None:
        _log_to(log, log_level)
    if context.invoked_subcommand is None:
        if sys.stdin.isatty() and sys.stdout.isatty():
            from .app import open_bench

            failed = open_bench(None, _settings().theme)
            if failed:
                fail(failed)
            return
        from .demo import listing

        click.echo(context.get_help())
        click.echo("\n" + listing())


@cli.command(context_settings=SCRIPT_SETTINGS, epilog=examples("run"))
@script_options
@pause_options
@click.option("--theme", type=click.Choice(["slate", "chalk"]), help="Colours.  Default: the setting, slate.")
@click.option(
    "--no-snapshots", "--no-return-points", "no_return_points", is_flag=True, help="Make no snapshots (no going back)."
)
def run(script: str, args: tuple[str, ...], theme: str | None, no_return_points: bool, **options: object) -> None:
    """Debug SCRIPT in the terminal."""
    kept = _settings()
    launch = _launch(script, args, options)
    if not launch.pause_on_given:
        launch.pause_on = set(kept.pause_on)
    launch.return_points = kept.return_points and not no_return_points
    launch.entries_given = bool(args) or any(options[n] for n in ("python", "cwd", "env", "pause_on", "no_pause_on"))
    _open(launch, theme or kept.theme)


@cli.command(context_settings=SCRIPT_SETTINGS, epilog=examples("check"))
@script_options
@pause_options
@click.option("--all", "everything", is_flag=True, help="Report every problem, not only the first.")
@click.option("--audit", is_flag=True, help="Run to the end, and report finite results that cannot be trusted.")
@click.option("--digits", is_flag=True, help="With --audit, also four runs with other last digits: which digits hold?")
@click.option("--rules", metavar="LIST", help="With --audit, only these rules, separated by commas.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
@click.option(
    "--passes",
    default=10,
    show_default=True,
    type=click.IntRange(0, 400),
    metavar="N",
    help="With --json, tell the last N passes before each trip; 0 records no loops.",
)
@click.option("--report", metavar="OUT.md", help="Write a report for people, as Markdown; OUT.pdf: as pages.")
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
    **options: object,
) -> None:
    """Run SCRIPT without a screen to its first trip, and report.

    Exit status: 0 nothing tripped; 1 something tripped; 2 bad use, or a script that cannot be read or
    compiled; 3 nothing tripped but the script ended with a status of its own.
    """
    from .check import as_json, as_report, as_text
    from .check import check as run_check
    from .check.digits import with_digits
    from .check.watching import watched

    launch = _launch(script, args, options)
    launch.go_on = everything
    if audit:
        launch.audit = _rules(rules)
        launch.pause_on, launch.checks = set(), False
    elif rules is not None:
        raise BadUse("--rules is for --audit.")
    elif digits:
        raise BadUse("--digits is for --audit. uneven-sum digits has the digits alone.")
    launch.output_to_stderr = json_
    launch.passes = passes if json_ or report else 0
    if report is not None and not os.path.isdir(os.path.dirname(os.path.abspath(report))):
        raise BadUse(f"There is no folder {os.path.dirname(report)} to write {os.path.basename(report)} in.")
    outcome = endings.run(run_check(launch))
    if digits and outcome.outcome != "died":
        endings.run(watched(lambda watch: with_digits(launch, outcome, watch)))
    if report is not None:
        _write_report(as_report(launch, outcome), report, launch.name)
    if json_:
        click.echo(as_json(outcome))
    elif outcome.pauses or outcome.unwatched or outcome.outcome == "died" or audit:
        sys.stdout.flush()
        click.echo(as_text(outcome), err=True)
    sys.exit(outcome.our_status)


@cli.command(epilog=examples("differ"))
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
@click.option("--stdin", metavar="FILE", help="What both runs read from standard input.  Default: nothing.")
@click.option("--keep", metavar="FILE", help="Store the values of SCRIPT as Parquet; without OTHER it runs alone.")
@click.option("--in-place", is_flag=True, help="Both runs work in the folder itself, not in a copy each.")
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
    """Run SCRIPT and OTHER, or SCRIPT twice with two of anything, and say where their values first differ.

    Each is a file, REV:PATH, a file as git has it in a revision, or a run that --keep has stored.

    Exit status: 0 equal within the tolerances; 1 different; 2 bad use.
    """
    from .check.differences import as_json, as_report, as_text
    from .check.watching import watched
    from .client.differing.launches import is_alone, one_launch, pair_of_launches
    from .client.differing.runs import compare, store

    say = (lambda text: None) if json_ else (lambda text: click.echo(visible(text), err=True))
    given = _input_of(stdin)
    if keep is not None and not os.path.isdir(os.path.dirname(os.path.abspath(keep))):
        raise BadUse(f"There is no folder {os.path.dirname(keep)} to write {os.path.basename(keep)} in.")
    if keep is not None and is_alone(script, other, twice, **options):
        launch, in_place = one_launch(script, **options), options["in_place"]
        run = endings.run(watched(lambda watch: store(launch, keep, in_place, given, say, watch)))
        click.echo(f"{script} ran {run.ended}; its values are in {keep}." if run.status is not None else "Not stored.")
        sys.exit(0 if run.status is not None else 130)
    launches = pair_of_launches(script, other, twice, **options)
    if report is not None and not os.path.isdir(os.path.dirname(os.path.abspath(report))):
        raise BadUse(f"There is no folder {os.path.dirname(report)} to write {os.path.basename(report)} in.")
    found = endings.run(
        watched(
            lambda watch: compare(
                launches,
                options["relative"],
                options["absolute"],
                options["in_place"],
                twice,
                given,
                say,
                watch,
                keep,
            )
        )
    )
    if report is not None:
        _write_report(as_report(found), report, "two runs")
    click.echo(as_json(found) if json_ else as_text(found))
    sys.exit(_ended([found.a, found.b], not found.equal))


@cli.command(context_settings=SCRIPT_SETTINGS, epilog=examples("digits"))
@script_options
@click.option("--result", multiple=True, metavar="NAME", help="A name whose value is a result, too.")
@click.option("--stdin", metavar="FILE", help="What each run reads from standard input.  Default: nothing.")
@click.option("--in-place", is_flag=True, help="All runs work in the folder itself, not in a copy each.")
@click.option("--json", "json_", is_flag=True, help="Report as one JSON object on standard output.")
def digits(
    script: str,
    args: tuple[str, ...],
    result: tuple[str, ...],
    stdin: str | None,
    in_place: bool,
    json_: bool,
    **options: object,
) -> None:
    """Run SCRIPT four times, three of them with other last digits, and say how many digits of its results hold.

    Exit status: 0 no finding; 1 digits of a result are lost; 2 bad use.
    """
    from .check.digits import as_json, as_text
    from .check.watching import watched
    from .client.digits.runs import digits as held

    launch = _launch(script, args, options)
    say = (lambda text: None) if json_ else (lambda text: click.echo(visible(text), err=True))
    given, named = _input_of(stdin), frozenset(result)
    found = endings.run(watched(lambda watch: held(launch, named, in_place, given, say, watch)))
    click.echo(as_json(found) if json_ else as_text(found))
    sys.exit(_ended(found.runs, any(not f.question for f in found.findings)))


@cli.command(context_settings=SCRIPT_SETTINGS, epilog=examples("passes"))
@script_options
@click.option("--loop", required=True, metavar="FILE:LINE", help="The head of the loop; LINE alone is the script's.")
@click.option("--values", metavar="NAME,…", help="Just these of the names that its body assigns.")
@click.option("--times", is_flag=True, help="The time that each pass took, too.")
@click.option("--out", metavar="FILE", help="Where to write the table; without it, standard output.")
def passes(
    script: str, args: tuple[str, ...], loop: str, values: str | None, times: bool, out: str | None, **options: object
) -> None:
    """Run SCRIPT with one loop recorded, and write its passes as CSV.

    Exit status: 0 written; 2 bad use; 3 written, but the script ended in an error or with a status of its own.
    """
    from .check.passes import place, recorded, write

    launch = _launch(script, args, options)
    launch.output_to_stderr = out is None
    file, line = place(loop, script, launch.cwd)
    names = [n.strip() for n in (values or "").split(",") if n.strip()]
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


@cli.command(epilog=examples("demo"))
@click.argument("name", required=False)
@click.option("--theme", type=click.Choice(["slate", "chalk"]), help="Colours.  Default: the setting, slate.")
def demo(name: str | None, theme: str | None) -> None:
    """List the shipped cases, or open the one called NAME."""
    from .demo import find, listing

    if name is None:
        click.echo(listing())
        return
    path = find(name)
    if path is None:
        raise BadUse(f"There is no demo case {name}. uneven-sum demo lists them.")
    _open(Launch(str(path), cwd=str(path.parent), keep_case=False), theme)


@cli.command()
def guide() -> None:
    """Five steps on a copy of a shipped case; they can be left at any time."""
    from .app.desk.guide_case import prepared

    _open(prepared(), None, guided=True)


@cli.command()
def settings() -> None:
    """Show the settings and their file."""
    from .client import settings as kept

    click.echo(kept.told())


@cli.command(epilog=examples("serve"))
@click.option("--stdio", is_flag=True, help="Speak over standard input and output.")
@click.option("--socket", "socket_", metavar="PATH", help="Listen at a Unix socket (mode 0600).")
@click.option("--port", type=click.IntRange(0, 65535), help="Listen at a port of the loopback; 0 chooses one.")
@click.option("--token", help="With --port: what a client must show in initialize; by default a random one.")
def serve(stdio: bool, socket_: str | None, port: int | None, token: str | None) -> None:
    """Speak the Debug Adapter Protocol with another front end."""
    import secrets

    from .host.serve import serve_socket, serve_stdio

    if [stdio, socket_ is not None, port is not None].count(True) != 1:
        raise BadUse("Give serve only one of --stdio, --socket PATH and --port N.")
    if stdio:
        endings.run(serve_stdio())
        return
    endings.run(serve_socket(socket_, port, (token or secrets.token_urlsafe(18)) if port is not None else None))


def _write_report(text: str, path: str, name: str) -> None:
    """Markdown, or pages for `.pdf`.  BadUse when it cannot be written."""
    if not path.lower().endswith(".pdf"):
        from .client.edits import write_whole

        write_whole(os.path.abspath(path), text.encode())
        return
    from pathlib import Path

    from .charts import write_pages

    try:
        write_pages(text, Path("."), path, name)
    except OSError as e:
        raise BadUse(f"{path} cannot be written: {e.strerror}.") from None


def _open(launch: Launch, theme: str | None, guided: bool = False) -> None:
    from .host.launch import inspect_script

    inspect_script(launch)
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise BadUse("The Bench needs a terminal. Without one, use uneven-sum check.")
    from .app import open_bench

    failed = open_bench(launch, theme or _settings().theme, guided)
    if failed:
        fail(failed)


def _give_up_output() -> None:
    """What is still to be written is dropped: the interpreter would try again at its end, and complain."""
    with contextlib.suppress(OSError):
        empty = os.open(os.devnull, os.O_WRONLY)
        os.dup2(empty, 1)
        os.close(empty)


def main() -> None:
    """Entry point: no internal traceback reaches the user."""
    try:
        try:
            cli(prog_name="uneven-sum")
        finally:
            for stream in (sys.stdout, sys.stderr):
                if stream is not None:
                    stream.flush()
    except SyntaxFault as e:
        fail(e.picture())
    except BadUse as e:
        fail(str(e))
    except OSError as e:
        _give_up_output()
        with contextlib.suppress(OSError):
            click.echo(f"uneven-sum: The output cannot be written: {e.strerror or e}.", err=True)
        sys.exit(2)
    except (KeyboardInterrupt, asyncio.CancelledError):
        sys.exit(130)
    except Exception as e:
        from . import crash

        click.echo(f"uneven-sum: {crash.sentence(e)}", err=True)
        sys.exit(70)
