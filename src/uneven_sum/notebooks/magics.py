"""Reads what a notebook's cell may hold besides Python: magics, commands of the system, questions.

A line that is no Python becomes a call of the shell's stand-in, or the statement that it times; a cell in another
language is left out.  The lines stay where they are.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from .sheet import Place

FUTURE = "from __future__ import "
TIMED = ("time", "timeit", "prun")  # what is timed runs once, where it stands
WRAPPED = {"time": "begin_time", "timeit": "begin_time", "prun": "begin_time", "capture": "begin_capture"}
SILENT = ("script", "bash", "sh", "html", "javascript", "js", "svg", "latex", "markdown", "perl", "ruby", "cython")
ASSIGNED = re.compile(r"^(?P<before>[ \t]*[^=!%?]+=\s*)(?P<sign>!!?|%)(?P<rest>.*)$")
HELP = re.compile(r"^\s*(\?{1,2}\s*[\w.*]+|%{0,2}[\w.*]+\s*\?{1,2})\s*;?\s*$")
BARE = re.compile(r"^\s*(?P<name>pip3?|conda|mamba|ls|cd|pwd|cat|mkdir|rm|cp|mv|head|tail)(\s+(?P<rest>.*))?$")
OPTIONS = re.compile(r"(-\w+(\s*\d+)?\s+)*")


@dataclass
class Read:
    """The lines of a cell as Python; what of it does not run."""

    lines: list[str]
    left_out: list[str] = field(default_factory=list)


def read(source: str) -> Read:
    """A cell as Python, as far as it is."""
    lines = source.split("\n")
    first = next((n for n, line in enumerate(lines) if line.strip()), 0)
    found = Read(list(lines))
    if lines[first].startswith("%%"):
        name, _, rest = lines[first][2:].strip().partition(" ")
        if name in WRAPPED:
            found.lines[first] = _call(WRAPPED[name], rest.strip())
        elif name == "writefile":
            found.lines = [""] * len(lines)
            found.lines[first] = _call("run_cell_magic", name, rest.strip(), "\n".join(lines[first + 1 :]) + "\n")
            return found
        else:
            found.left_out.append(f"it is written for %%{name}")
            found.lines = [""] * len(lines)
            return found
    for _ in range(len(lines)):
        at = _fault(found.lines)
        if at is None:
            return found
        if not _replaced(found, at):
            break
    return found


def python_of(text: str, places: Sequence[Place]) -> tuple[str, list[tuple[int, str]]]:
    """The text of a notebook as Python with the same lines; and by the number of a cell what of it does not run.

    An import from `__future__` in a later cell counts from the first line on."""
    lines = text.split("\n")
    made = [line if line.startswith("#") else "" for line in lines]
    left_out, futures = [], []
    for cell in places:
        if cell.kind != "code" or cell.last < cell.first:
            continue
        found = read("\n".join(lines[cell.first - 1 : cell.last]))
        left_out += [(cell.number, what) for what in found.left_out]
        for n, line in enumerate(found.lines):
            if line.startswith(FUTURE) and "(" not in line:  # may stand at the beginning of a file only
                futures.append(line.partition("#")[0].strip())
                line = "pass"
            made[cell.first - 1 + n] = line
    if futures:
        made[0] = "; ".join(futures)
    return "\n".join(made), left_out


def _fault(lines: list[str]) -> int | None:
    """The number of the first line, from 0, that is no Python; None where all is."""
    try:
        ast.parse("\n".join(lines))
    except SyntaxError as e:
        return min(max((e.lineno or 1) - 1, 0), len(lines) - 1)
    except (ValueError, RecursionError, MemoryError):
        return None  # what compiles it says so
    return None


def _replaced(found: Read, at: int) -> bool:
    """Put Python in the place of a line that is none; False where it is not of a known form."""
    line = found.lines[at]
    body = line.lstrip()
    lead = line[: len(line) - len(body)]
    last = at
    while last + 1 < len(found.lines) and found.lines[last].endswith("\\") and body[:1] in "!%":
        last += 1
    if last > at:
        parts = [part.removesuffix("\\").strip() for part in found.lines[at : last + 1]]
        body = " ".join(parts)
        found.lines[at + 1 : last + 1] = [""] * (last - at)
    assigned = ASSIGNED.match(line)
    if HELP.match(line):
        found.left_out.append(f"`{body.strip()}` asks for help")
        found.lines[at] = lead + "pass"
    elif body.startswith("!!"):
        found.lines[at] = lead + _call("getoutput", body[2:].strip())
    elif body.startswith("!"):
        found.lines[at] = lead + _call("system", body[1:].strip())
    elif body.startswith("%"):
        name, _, rest = body.lstrip("%").partition(" ")
        statement = rest[len(OPTIONS.match(rest)[0]) :] if name in TIMED else ""  # type: ignore[index]  # may be empty
        if statement:
            head = "if 1: " if name == "time" else "if True:"
            found.lines[at] = lead + head.ljust(len(body) - len(statement)) + statement
        else:
            found.lines[at] = lead + _call("run_line_magic", name, rest.strip())
    elif assigned is not None:
        what = "getoutput" if assigned["sign"].startswith("!") else "run_line_magic"
        rest = assigned["rest"].strip()
        parts = [rest] if what == "getoutput" else [rest.partition(" ")[0], rest.partition(" ")[2].strip()]
        found.lines[at] = assigned["before"] + _call(what, *parts)
    elif (bare := BARE.match(line)) is not None:
        rest = (bare["rest"] or "").strip()
        known = bare["name"] in ("pip", "pip3", "conda", "mamba", "cd", "pwd")
        words = ["run_line_magic", str(bare["name"]), rest] if known else ["system", body.strip()]
        found.lines[at] = lead + _call(*words)
    else:
        return False
    return found.lines[at] != line


def _call(name: str, *words: str) -> str:
    return f"get_ipython().{name}({', '.join(map(repr, words))})"
