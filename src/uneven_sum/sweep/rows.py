"""The inputs of a sweep: a row for each run, from a table, from files, from products of values."""

from __future__ import annotations

import csv
import glob
import itertools
import json
import os
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from ..host.launch import BadUse

PLACEHOLDER = re.compile(r"\{(\w+)\}")
FILE = "file"  # the column of `--each`


@dataclass(frozen=True)
class Row:
    """One run.  `number`: from 1, in the order of the inputs; `args`: of the script; `bad`: why it cannot run."""

    number: int
    values: dict[str, str]
    args: tuple[str, ...] = ()
    bad: str = ""


@dataclass
class Inputs:
    """What a sweep goes over.  `table`: a CSV file or one of JSON lines; `each`: a pattern of file names; `vary`: texts
    `NAME=A,B,C`.  Several are multiplied."""

    table: str | None = None
    each: str | None = None
    vary: Sequence[str] = ()
    columns: list[str] = field(default_factory=list)

    def rows(self, template: Sequence[str]) -> Iterator[Row]:
        """All rows, with the arguments of the script filled in.  BadUse where there are none, or the names of
        columns do not match."""
        parts: list[Iterable[dict[str, str] | str]] = []
        if self.table is not None:
            parts.append(self._of_table(self.table))
        if self.each is not None:
            parts.append(self._of_files(self.each))
        parts += [self._of_vary(text) for text in self.vary]
        if not parts:
            raise BadUse("A sweep needs inputs: give --args-from, --each or --vary.")
        names = [name for text in template for name in PLACEHOLDER.findall(text)]
        found = parts[0] if len(parts) == 1 else itertools.product(*map(list, parts))
        for number, one in enumerate(found, 1):
            each = one if isinstance(one, tuple) else (one,)
            bad = next((part for part in each if isinstance(part, str)), "")
            values: dict[str, str] = {}
            for part in each:
                values.update(part if isinstance(part, dict) else {})
            if not bad and number == 1:
                self.columns = list(values)
                missing = sorted(set(names) - set(values))
                if missing:
                    raise BadUse(f"There is no column {missing[0]}: the inputs have {', '.join(values) or 'none'}.")
            yield Row(number, values, () if bad else filled(template, values, names), bad)

    @staticmethod
    def _of_files(pattern: str) -> Iterator[dict[str, str]]:
        found = sorted(glob.glob(pattern, recursive=True))
        if not found:
            raise BadUse(f"No file fits {pattern}.")
        for path in found:
            yield {FILE: path}

    @staticmethod
    def _of_vary(text: str) -> list[dict[str, str] | str]:
        name, equals, values = text.partition("=")
        if not equals or not name.strip().isidentifier() or not values:
            raise BadUse(f"--vary takes NAME=A,B,C, not {text!r}.")
        return [{name.strip(): value.strip()} for value in values.split(",")]

    @staticmethod
    def _of_table(path: str) -> Iterator[dict[str, str] | str]:
        """The rows of a table; a text instead of one that cannot be read, which says why."""
        try:
            with open(path, encoding="utf-8-sig", newline="") as f:
                if path.endswith((".jsonl", ".ndjson", ".json")):
                    yield from _json_lines(f)
                else:
                    yield from _csv_rows(f, os.path.basename(path))
        except OSError as e:
            raise BadUse(f"{path} cannot be read: {e.strerror}.") from None
        except UnicodeDecodeError as e:
            raise BadUse(f"{os.path.basename(path)} is no text: byte {e.start} is no UTF-8.") from None


def _json_lines(lines: Iterable[str]) -> Iterator[dict[str, str] | str]:
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            told = json.loads(line)
        except json.JSONDecodeError as e:
            yield f"line {number} is no JSON: {e.msg}"
            continue
        if not isinstance(told, dict):
            yield f"line {number} is no object"
            continue
        yield {str(k): v if isinstance(v, str) else json.dumps(v) for k, v in told.items()}


def _csv_rows(lines: Iterable[str], name: str) -> Iterator[dict[str, str] | str]:
    reader = csv.reader(lines)
    head = [one.strip() for one in next(reader, [])]
    if not head or not all(head):
        raise BadUse(f"{name} has no names of columns in its first line.")
    for cells in reader:
        if not cells:
            continue
        if len(cells) != len(head):
            yield f"line {reader.line_num} has {len(cells)} fields instead of {len(head)}"
            continue
        yield dict(zip(head, (cell.strip() for cell in cells)))


def filled(template: Sequence[str], values: dict[str, str], names: Sequence[str]) -> tuple[str, ...]:
    """The arguments of a run.  Without a placeholder each column is an option, `--name value`; a file an argument."""
    if names:
        return tuple(PLACEHOLDER.sub(lambda found: values.get(found[1], found[0]), text) for text in template)
    more: list[str] = []
    for name, value in values.items():
        more += [value] if name == FILE else [f"--{name}", value]
    return (*template, *more)
