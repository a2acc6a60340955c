"""The program: its group of commands, those with a screen, and how it ends."""

from __future__ import annotations

import asyncio
import contextlib
import os
import sys
from typing import TYPE_CHECKING

import click

from .. import __version__, endings
from ..host.launch import BadUse, Launch, SyntaxFault
from ..safe_text import visible
from .headless import COMMANDS
from .options import SCRIPT_SETTINGS, examples, fail, launch_of, pause_options, script_options

if TYPE_CHECKING:
    from ..client.settings import Settings


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
    from ..client import settings as kept

    found, wrong = kept.load()
    for text in wrong:
        click.echo(visible(f"uneven-sum: {text}"), err=True)
    return found


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
    help="Detail of the log; debug has each request to the script.",
)
@click.pass_context
def cli(context: click.Context, log: str | None, log_level: str) -> None:
    """Find the faulty calculation in a numerical Python script."""
    if log is not None:
        _log_to(log, log_level)
    if context.invoked_subcommand is None:
        if sys.stdin.isatty() and sys.stdout.isatty():
            from ..app import open_bench

            failed = open_bench(None, _settings().theme)
            if failed:
                fail(failed)
            return
        from ..demo import listing

        click.echo(context.get_help())
        click.echo("\n" + listing())


for _command in COMMANDS:
    cli.add_command(_command)


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
    launch = launch_of(script, args, options)
    if not launch.pause_on_given:
        launch.pause_on = set(kept.pause_on)
    launch.return_points = kept.return_points and not no_return_points
    launch.entries_given = bool(args) or any(options[n] for n in ("python", "cwd", "env", "pause_on", "no_pause_on"))
    _open(launch, theme or kept.theme)


@cli.command(epilog=examples("demo"))
@click.argument("name", required=False)
@click.option("--theme", type=click.Choice(["slate", "chalk"]), help="Colours.  Default: the setting, slate.")
def demo(name: str | None, theme: str | None) -> None:
    """List the example cases, or open the one called NAME."""
    from ..demo import find, listing

    if name is None:
        click.echo(listing())
        return
    path = find(name)
    if path is None:
        raise BadUse(f"There is no demo case {name}. uneven-sum demo lists them.")
    _open(Launch(str(path), cwd=str(path.parent), keep_case=False), theme)


@cli.command()
def guide() -> None:
    """Take five guided steps on an example case."""
    from ..app.desk.guide_case import prepared

    _open(prepared(), None, guided=True)


@cli.command()
def settings() -> None:
    """Show the settings and their file."""
    from ..client import settings as kept

    click.echo(kept.told())


@cli.command(epilog=examples("attach"))
@click.argument("path")
@click.option("--theme", type=click.Choice(["slate", "chalk"]), help="Colours.  Default: the setting, slate.")
def attach(path: str, theme: str | None) -> None:
    """Open the Bench on a script that `check --hold` keeps.

    PATH is the socket that check has printed, or the file SCRIPT.held.  Quit (q) leaves the script paused.
    """
    from ..host.attached import held_at, launch_at

    _open(launch_at(held_at(path)), theme)


@cli.command(epilog=examples("serve"))
@click.option("--stdio", is_flag=True, help="Use standard input and output.")
@click.option("--socket", "socket_", metavar="PATH", help="Listen at a Unix socket (mode 0600).")
@click.option(
    "--port", type=click.IntRange(0, 65535), metavar="N", help="Listen at a port of this machine; 0 chooses one."
)
@click.option("--token", help="With --port: the token that a client must send in initialize.  Default: a random one.")
def serve(stdio: bool, socket_: str | None, port: int | None, token: str | None) -> None:
    """Serve the Debug Adapter Protocol, for editors."""
    import secrets

    from ..host.serve import serve_socket, serve_stdio

    if [stdio, socket_ is not None, port is not None].count(True) != 1:
        raise BadUse("Give serve only one of --stdio, --socket PATH and --port N.")
    if stdio:
        endings.run(serve_stdio())
        return
    endings.run(serve_socket(socket_, port, (token or secrets.token_urlsafe(18)) if port is not None else None))


def _open(launch: Launch, theme: str | None, guided: bool = False) -> None:
    from ..host.launch import inspect_script

    inspect_script(launch)
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise BadUse("The Bench needs a terminal. Without one, use uneven-sum check.")
    from ..app import open_bench

    failed = open_bench(launch, theme or _settings().theme, guided)
    if failed:
        fail(failed)


def _give_up_output() -> None:
    """What is still to be written is dropped: the interpreter would try again at its end, and complain."""
    with contextlib.suppress(OSError):
        empty = os.open(os.devnull, os.O_WRONLY)
        os.dup2(empty, 1)
        os.close(empty)


def _open_what_is_closed() -> None:
    """Where a standard stream was closed (`>&-`), what is written there is dropped, and no file gets its number."""
    for number, name, mode in ((0, "stdin", os.O_RDONLY), (1, "stdout", os.O_WRONLY), (2, "stderr", os.O_WRONLY)):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, mode)  # the lowest number that is free
        if getattr(sys, name) is None:
            setattr(sys, name, os.fdopen(number, "w" if number else "r", closefd=False))


def main() -> None:
    """Entry point: no internal traceback reaches the user."""
    _open_what_is_closed()
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
        from .. import crash

        click.echo(f"uneven-sum: {crash.sentence(e)}", err=True)
        sys.exit(70)
