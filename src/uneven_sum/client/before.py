"""What is wrong with a script before it runs, beside its lines: errors, and hints."""

from __future__ import annotations

import ast
import asyncio
import builtins
import difflib
import re
import sys
from dataclasses import dataclass

import msgspec

from ..notebooks import files
from ..notebooks.hidden import out_of_order
from ..notebooks.sheet import Place, place_of, places_in_script
from .slips import slips
from .sources import cells_of, decoded

# What can be found, in words; each can be turned off.
KINDS = {
    "syntax": "syntax errors",
    "undefined": "names that are not defined",
    "unused": "names that are assigned or imported and never used",
    "nan": "comparisons with nan",
    "equality": "== between floats",
    "range": "subscripts that leave their loop's range",
    "swallow": "an except that swallows everything",
    "result": "results that are thrown away",
    "shared": "lists that several names or calls share by mistake",
    "growing": "arrays and frames that a loop makes longer, which is slow",
    "cells": "cells of a notebook that ran out of order",
    "other": "other things that pyflakes finds",
}
IN_NOTEBOOKS = ("display", "get_ipython", "In", "Out", "_", "__", "___", "exit", "quit")
ASIDE = 100_000  # bytes from which on a process of its own looks at it
LARGE = 2_000_000  # bytes beyond which a file is not looked at


@dataclass(frozen=True)
class Finding:
    """A finding at a line; `column` from 1, 0 where there is none."""

    line: int
    column: int
    kind: str
    error: bool
    text: str


def findings(data: bytes, name: str, off: frozenset[str] = frozenset()) -> list[Finding]:
    """Everything that is to be said of a script's text, errors first, then by line."""
    if len(data) > LARGE:
        return [Finding(1, 0, "other", False, f"the text is longer than {LARGE // 1_000_000} MB: it is not looked at")]
    try:
        import warnings

        with warnings.catch_warnings(record=True) as warned:
            warnings.simplefilter("always")
            tree = ast.parse(data, name)
    except SyntaxError as e:
        return [_syntax(e)]
    except (ValueError, RecursionError, MemoryError) as e:
        return [Finding(1, 0, "syntax", True, f"the text cannot be read as Python: {e}")]
    found = [Finding(w.lineno or 1, 0, "other", False, str(w.message)) for w in warned]
    found += _flakes(tree, name, decoded(data))
    found += [Finding(s.line, s.column, s.kind, s.sure, s.text) for s in slips(tree)]
    kept = [f for f in dict.fromkeys(found) if f.kind not in off]
    return sorted(kept, key=lambda f: (not f.error, f.line, f.column))


def of_order(path: str) -> list[Finding]:
    """Cells of a notebook that ran before one above them, by the counts in its file."""
    cells = {cell.number: cell for cell in cells_of(path)}
    return [Finding(cells[one.number].first, 0, "cells", False, one.text) for one in out_of_order(list(cells.values()))]


async def looked_at(data: bytes, name: str, off: frozenset[str] = frozenset()) -> list[Finding]:
    """As `findings`; a long text is looked at by a process of its own, so that nobody has to wait for it."""
    if not ASIDE < len(data) <= LARGE:
        return findings(data, name, off)
    command = [sys.executable, "-P", "-c", f"from {__name__} import aside; aside()", name, *sorted(off)]
    process = await asyncio.create_subprocess_exec(*command, stdin=-1, stdout=-1, stderr=-3, start_new_session=True)
    try:
        told, _ = await process.communicate(data)
        return msgspec.json.decode(told, type=list[Finding])
    except msgspec.MsgspecError:  # it was ended, for want of memory, say
        return [Finding(1, 0, "other", False, "the text is too long to be looked at here")]
    finally:
        if process.returncode is None:
            process.kill()


def aside() -> None:
    """The process that looks at a long text: its bytes come by standard input, the findings go as JSON."""
    name, *off = sys.argv[1:]
    sys.stdout.buffer.write(msgspec.json.encode(findings(sys.stdin.buffer.read(), name, frozenset(off))))


def _syntax(e: SyntaxError) -> Finding:
    return Finding(e.lineno or 1, e.offset or 0, "syntax", True, in_words(e.msg or "this is not Python"))


def in_words(message: str) -> str:
    """What a syntax error says, and what is missing."""
    never = re.fullmatch(r"'(.)' was never closed", message)
    if never:
        return f"the `{never[1]}` is never closed: its `{ {'(': ')', '[': ']', '{': '}'}[never[1]] }` is missing"
    unmatched = re.fullmatch(r"unmatched '(.)'", message)
    if unmatched:
        return f"this `{unmatched[1]}` closes nothing that was opened"
    does_not = re.match(
        r"closing parenthesis '(.)' does not match opening parenthesis '(.)'(?: on line (\d+))?", message
    )
    if does_not:
        where = f" of line {does_not[3]}" if does_not[3] else ""
        return f"`{does_not[1]}` cannot close the `{does_not[2]}`{where}"
    expected = re.fullmatch(r"expected '(.)'", message)
    if expected:
        return f"a `{expected[1]}` is missing here"
    texts = {
        "invalid syntax. Perhaps you forgot a comma?": "a comma may be missing between these",
        "unexpected indent": "this line is indented more than its block",
        "unindent does not match any outer indentation level": "this line's indentation fits no block around it",
        "inconsistent use of tabs and spaces in indentation": "tabs and blanks are mixed in this indentation",
        "cannot assign to literal here. Maybe you meant '==' instead of '='?": "is `==` meant? A value takes no other",
        "invalid syntax. Maybe you meant '==' or ':=' instead of '='?": "is `==` meant here?",
    }
    if message in texts:
        return texts[message]
    block = re.match(r"expected an indented block after (.*) on line (\d+)", message)
    if block:
        return f"the {block[1].replace(chr(39), '`')} of line {block[2]} has no indented block under it"
    if message.startswith("unterminated"):
        return f"{message.partition(' (')[0]}: its closing quote is missing"
    return message[:1].lower() + message[1:]


def _flakes(tree: ast.Module, name: str, text: str) -> list[Finding]:
    """What pyflakes finds, in our words."""
    from pyflakes import checker, messages  # type: ignore[import-untyped]  # it has no types

    known = _known(tree)
    found = []
    cells = places_in_script(text) if files.is_notebook(name) else []
    for m in checker.Checker(tree, filename=name, builtins=IN_NOTEBOOKS if cells else None).messages:
        line, column = m.lineno, m.col + 1
        if cells and isinstance(m, messages.YieldOutsideFunction):
            continue  # a cell may await
        unknown = m.message_args[0] if isinstance(m, messages.UndefinedName) else ""
        if cells and unknown and (found_in := _assigned(tree, cells, unknown, m.lineno)):
            found.append(Finding(line, column, "undefined", True, f"`{m.message_args[0]}` {found_in}"))
        elif isinstance(m, messages.UndefinedName):
            near = nearest(m.message_args[0], known)
            meant = f"; is `{near}` meant?" if near else ""
            found.append(Finding(line, column, "undefined", True, f"`{m.message_args[0]}` is not defined{meant}"))
        elif isinstance(m, messages.UndefinedLocal):
            told = f"`{m.message_args[0]}` is used before it is assigned in this function"
            found.append(Finding(line, column, "undefined", True, told))
        elif isinstance(m, messages.UnusedVariable):
            found.append(Finding(line, column, "unused", False, f"`{m.message_args[0]}` is assigned and never used"))
        elif isinstance(m, messages.UnusedImport):
            found.append(Finding(line, column, "unused", False, f"`{m.message_args[0]}` is imported and never used"))
        elif isinstance(m, (messages.ImportStarUsage, messages.ImportStarUsed)):
            continue  # usual in scripts; names from it cannot be judged
        else:
            said = m.message % m.message_args
            found.append(Finding(line, column, "other", False, said[:1].lower() + said[1:]))
    return found


def _assigned(tree: ast.Module, cells: list[Place], name: str, line: int) -> str:
    """Where a name is assigned that a cell uses before: a later cell, or none, as when a cell was deleted."""
    for statement in tree.body:
        binds = {n.id for n in ast.walk(statement) if isinstance(n, ast.Name) and not isinstance(n.ctx, ast.Load)}
        binds.add(getattr(statement, "name", ""))
        cell = place_of(cells, statement.lineno)
        if name in binds and statement.lineno > line and cell is not None:
            return f"is assigned only in cell {cell.number}, which comes later"
    return ""


def nearest(name: str, known: set[str]) -> str:
    """The known name that is most like one, small and capital letters apart; empty when none is."""
    others = {n.lower(): n for n in sorted(known - {name})}
    near = difflib.get_close_matches(name.lower(), list(others), 1, 0.7)
    return others[near[0]] if near else ""


def _known(tree: ast.Module) -> set[str]:
    known = set(dir(builtins))
    for node in ast.walk(tree):
        if isinstance(node, ast.Name) and not isinstance(node.ctx, ast.Load):
            known.add(node.id)
        elif isinstance(node, ast.arg):
            known.add(node.arg)
        elif isinstance(node, ast.alias):
            known.add((node.asname or node.name).partition(".")[0])
        elif isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef)):
            known.add(node.name)
    return known
