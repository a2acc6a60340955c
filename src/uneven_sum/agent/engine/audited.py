"""What an audit finds goes to the host: all of it at the end of the process; in one that the script has started each
finding at once as well, since such a process may be ended from outside."""

from __future__ import annotations

import contextlib
from typing import TYPE_CHECKING

from ..audit.finding import Finding
from ..core import run_state
from ..core.transport import Closed
from .children import process_name

if TYPE_CHECKING:
    from .engine import Engine


def all_found(engine: Engine) -> dict[str, object]:
    """The findings so far, and the process."""
    kept, run_state.quiet = run_state.quiet, True
    try:
        found = [f.as_dict() for f in engine.audit.findings()] if engine.audit is not None else []
    finally:
        run_state.quiet = kept
    return {"findings": found, "process": process_name(engine)}


def send(engine: Engine) -> None:
    """Closed where there is no host any more."""
    if engine.audit is not None and not engine.gone:
        told = all_found(engine)
        with engine.lock:
            engine.wire.event("unevenSum/findings", told)


def in_process(engine: Engine, forked: bool) -> None:
    """In a process that the script has started: tell each finding when it is made; `forked`: the script's own are its
    own."""
    audit = engine.audit
    if audit is None:
        return

    def heard(finding: Finding) -> None:
        told = {"findings": [finding.as_dict()], "process": process_name(engine), "part": True}
        with contextlib.suppress(Closed), engine.lock:
            engine.wire.event("unevenSum/findings", told)

    if forked:
        audit.forked()
    audit.heard = heard


def before_exit(engine: Engine) -> None:
    """A process that the script has started ends at once, by `os._exit`."""
    if process_name(engine):
        with contextlib.suppress(Closed):
            send(engine)
