"""Findings of an audit that the user has accepted, kept in the case file: a place counts until its text changes."""

from __future__ import annotations

import os

import tomlkit

from ..host.launch import BadUse
from ..protocol import Finding
from . import case

KEY = "accepted_findings"


def _entry(finding: Finding, folder: str) -> dict[str, str]:
    file = os.path.relpath(finding.file, folder)
    return {"rule": finding.rule, "file": file, "term": finding.term, "statement": finding.statement}


def _entries(document: tomlkit.TOMLDocument | None) -> list[dict[str, str]]:
    found = document.get(KEY, []) if document is not None else []
    if not isinstance(found, list):
        return []
    return [{str(k): str(v) for k, v in one.items()} for one in found if isinstance(one, dict)]


def mark(script: str, findings: list[Finding]) -> None:
    """Note in each finding whether its place is accepted in the script's case.  A damaged case accepts nothing."""
    folder = os.path.dirname(os.path.abspath(script))
    try:
        known = _entries(case.read(script))
    except case.Damaged:
        known = []
    for one in findings:
        one.accepted = _entry(one, folder) in known


def accept(script: str, finding: Finding, on: bool) -> None:
    """Accept a finding at its place, or take that back.  BadUse when the case file cannot be read or written."""
    entry = _entry(finding, os.path.dirname(os.path.abspath(script)))
    try:
        document = case.read(script) or case.new_document()
        kept = [one for one in _entries(document) if one != entry]
        tables = tomlkit.aot()
        for one in [*kept, entry] if on else kept:
            table = tomlkit.table()
            table.update(one)
            tables.append(table)
        document.pop(KEY, None)
        if len(tables):
            document[KEY] = tables
        case.write(script, document)
    except case.Damaged as e:
        raise BadUse(str(e)) from None
    except OSError as e:
        raise BadUse(f"{case.place(script)} cannot be written: {e.strerror}.") from None
    finding.accepted = on
