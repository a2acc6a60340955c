"""Threads of the script that run on when its last line has run: they are watched to their end."""

from __future__ import annotations

import atexit
import contextlib
import threading
from typing import TYPE_CHECKING

from ..core import run_state
from ..core.transport import Closed
from . import audited

if TYPE_CHECKING:
    from .engine import Engine


def wait() -> None:
    """The script has not ended while threads of its own run.  Those of an executor wait for work, and are not."""
    for one in _running():
        if getattr(getattr(one, "_target", None), "__module__", "") != "concurrent.futures.thread":
            one.join()


def quiet_when_ended(engine: Engine) -> None:
    """Nothing of the script is watched any more once its threads have ended, for which the interpreter waits before it
    calls what `atexit` knows."""
    if _running():
        atexit.register(_ended, engine)
    else:
        run_state.quiet = True


def _ended(engine: Engine) -> None:
    with contextlib.suppress(Closed):
        audited.send(engine)
    run_state.quiet = True


def _running() -> list[threading.Thread]:
    here = threading.current_thread()
    return [one for one in threading.enumerate() if one is not here and not one.daemon]
