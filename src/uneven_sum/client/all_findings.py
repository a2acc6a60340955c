"""The findings of an audit in all processes of a run as one list: what was found at one place is one finding."""

from __future__ import annotations

import msgspec

from ..protocol import Finding
from .events import Found

SCRIPT = "the script"


class AllFindings:
    """Takes what each process tells."""

    def __init__(self) -> None:
        self._by_process: dict[str, list[Finding]] = {}

    def take(self, told: Found) -> None:
        known = self._by_process.get(told.process, [])
        self._by_process[told.process] = [*known, *told.findings] if told.part else told.findings

    def merged(self) -> list[Finding]:
        """The weightiest first; new objects each time."""
        found: list[Finding] = []
        known: dict[tuple[object, ...], Finding] = {}
        for process in sorted(self._by_process):  # the script's own is the first
            for one in self._by_process[process]:
                _add(one, process, found, known)
        for one in known.values():
            if one.processes == [SCRIPT]:
                one.processes = []
        return sorted(found, key=lambda f: -f.weight)


def _add(one: Finding, process: str, to: list[Finding], known: dict[tuple[object, ...], Finding]) -> None:
    name = process or SCRIPT
    same = known.get(_place(one))
    if same is None:
        same = known[_place(one)] = _copy(one, name)
        to.append(same)
    else:
        same.times += one.times
        if name not in same.processes:
            same.processes.append(name)
    for more in one.follows:
        _add(more, process, same.follows, known)


def _copy(one: Finding, name: str) -> Finding:
    return msgspec.structs.replace(one, follows=[], processes=[name])


def _place(one: Finding) -> tuple[object, ...]:
    return one.rule, one.file, one.line, one.term
