"""Audits scripts in this process, and reads the texts of `support/audit`: scripts with one finite fault, and clean ones.

In a text `#: faulty` or `#: clean` begins a script; the line of a fault ends in `#!`.
"""

from __future__ import annotations

import contextlib
import io
import warnings
from pathlib import Path
from typing import NamedTuple

from uneven_sum.agent.audit import probes
from uneven_sum.agent.audit.auditor import Auditor
from uneven_sum.agent.audit.finding import Finding
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source.sites import Options

FOLDER = Path(__file__).parent / "audit"


class Case(NamedTuple):
    """`line`: of the fault; 0 for a clean script."""

    text: str
    line: int


def cases(name: str) -> list[Case]:
    found = []
    for part in (FOLDER / f"{name}.txt").read_text().split("#: ")[1:]:
        kind, _, text = part.partition("\n")
        marked = [n for n, line in enumerate(text.split("\n"), 1) if line.rstrip().endswith("#!")]
        assert len(marked) == (kind == "faulty"), text
        found.append(Case(text, marked[0] if marked else 0))
    return found


def audit_here(text: str, path: Path, rules: set[str] | None = None) -> list[Finding]:
    """Run a script with an audit's probes; what it prints is dropped."""
    auditor = Auditor(rules)
    kept = dict(runtime.PROBES)
    runtime.PROBES.update(probes.of(auditor))
    try:
        loader = Loader(Options(checks=False, audit=auditor.wants()))
        code = loader.compile(str(path), text.encode())
        with contextlib.redirect_stdout(io.StringIO()), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            exec(code, {"__name__": "audited"})
    finally:
        runtime.PROBES.clear()
        runtime.PROBES.update(kept)
    return [f for f in auditor.findings() if f.place.file == str(path)]
