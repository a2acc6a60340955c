"""The case file: what is kept of a case beside its script, as `NAME.case.toml`.

Lookouts and tripwires stand in it as their sentences, so that it reads, and differs, well under version control.
Unknown keys are kept; a file that cannot be read is reported and never overwritten.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
import tempfile
from collections.abc import Callable, Sized
from pathlib import Path

import tomlkit
from platformdirs import user_state_path
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AoT, Table

from ..host.launch import BadUse
from ..protocol import TRIPS
from . import verify
from .book import Book, Kept
from .sentences import ABOUT, Unclear, parse, parse_tripwire, sentence, tripwire_sentence
from .setup import Setup
from .sources import lines_of

SCHEMA = 1
# The entries of the file's table `run`, and what they are called in a Setup.
RUN = {
    "arguments": "args",
    "interpreter": "python",
    "folder": "cwd",
    "environment": "env",
    "pause_on": "pause_on",
    "input": "stdin",
}
PATHS = {"python", "cwd", "stdin"}


class Damaged(Exception):
    """A case file that cannot be read; the text says where and why."""


def place(script: str) -> Path:
    """Where a script's case file stands, or would: beside it, else in the user's state folder."""
    beside = Path(script).with_suffix(".case.toml")
    if beside.exists() or os.access(beside.parent, os.W_OK):
        return beside
    mark = hashlib.sha256(os.path.realpath(script).encode()).hexdigest()[:12]
    return user_state_path("uneven-sum") / "cases" / f"{Path(script).stem}-{mark}.case.toml"


class Claim:
    """A claim on a case, so that a second program can say who has it.  Ends with `release`, or with the process."""

    def __init__(self, script: str) -> None:
        mark = hashlib.sha256(os.path.realpath(script).encode()).hexdigest()[:16]
        self.handle = -1
        self.other = 0  # the process that has it open already
        folder = user_state_path("uneven-sum") / "open"
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self.handle = os.open(folder / mark, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            fcntl.flock(self.handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            os.ftruncate(self.handle, 0)
            os.write(self.handle, str(os.getpid()).encode())
        except BlockingIOError:
            held = os.read(self.handle, 20).decode(errors="replace")
            self.other = int(held) if held.isdigit() else -1
        except OSError:
            pass  # no place for it: no claim

    def release(self) -> None:
        if self.handle >= 0:
            os.close(self.handle)
            self.handle = -1


def read(script: str) -> tomlkit.TOMLDocument | None:
    """The case file's document; None when there is none.  Damaged when it cannot be read."""
    path = place(script)
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        return None
    except (OSError, UnicodeDecodeError) as e:
        raise Damaged(f"{path} cannot be read: {getattr(e, 'strerror', None) or e}. It is unchanged.") from None
    try:
        found = tomlkit.parse(text)
    except TOMLKitError as e:
        raise Damaged(f"{path} cannot be parsed: {e}. Repair or move it; it is unchanged.") from None
    schema = found.get("schema", SCHEMA)
    if not isinstance(schema, int) or schema > SCHEMA:
        raise Damaged(f"{path} is of a later version ({schema}). It is unchanged.")
    return found


def load(script: str, book: Book) -> tuple[list[str], list[str]]:
    """Takes a case file up into a book.  (watches, what could not be taken up, a sentence each)."""
    document = read(script)
    if document is None:
        return [], []
    folder = os.path.dirname(script)
    told: list[str] = []

    def odd(key: str, entry: object, why: str) -> None:
        """Keep an entry as it is, and say so."""
        book.unread.setdefault(key, []).append(entry)
        at = _line_of(script, entry)
        told.append(f"{place(script).name}{f', line {at}' if at else ''}: {why} It is kept as it stands.")

    for entry in _entries(document, "lookouts", odd):
        if not isinstance(entry, dict) or not isinstance(entry.get("sentence"), str):
            odd("lookouts", entry, "a lookout has no sentence.")
            continue
        text, line_text = str(entry["sentence"]), str(entry.get("line", ""))
        try:
            lookout = parse(text, script, _near(folder))
        except Unclear as e:
            odd("lookouts", entry, f"the lookout {text!r} is not understood. {e}")
            continue
        number = book.add(lookout)
        if lookout.line and line_text:
            _follow(book.kept[number], line_text, told)
    tripwires = document.get("tripwires") or {}
    if not isinstance(tripwires, dict):
        odd("tripwires=", tripwires, "`tripwires` is not a table.")
        tripwires = {}
    for name in ABOUT:
        if name in tripwires:
            try:
                said = parse_tripwire(name, str(tripwires[name]))
            except Unclear as e:
                odd(f"tripwires.{name}", tripwires[name], f"the tripwire {name} is not understood. {e}")
                continue
            setattr(book.switches, name, said.wire)
            for extra in TRIPS[name].extras:
                setattr(book.switches, extra, extra in said.extras)
    for key, word, places in (("accepted", "accepted", book.accepted), ("recorded", "recorded", book.recorded)):
        for entry in _entries(document, key, odd):
            if not isinstance(entry, dict) or type(entry.get("number")) not in (int, tomlkit.items.Integer):
                odd(key, entry, f"a place in `{key}` has no number.")
                continue
            path = os.path.normpath(os.path.join(folder, str(entry.get("file", ""))))
            line = _find_line(path, int(entry["number"]), str(entry.get("line", "")))
            if line is None:
                odd(key, entry, f"the {word} line {entry['number']} is not in {entry.get('file')} now.")
            else:
                places.append((path, line))
    for accepted in _entries(document, "accepted_as", odd):
        if str(accepted).startswith(("calls of ", "values of ")):
            book.accepted_as.append(str(accepted))
        else:
            odd("accepted_as", accepted, f"{str(accepted)!r} begins neither with `calls of` nor with `values of`.")
    book.always = document.get("record") == "always"
    for result in _entries(document, "results", odd):
        try:
            book.results.append(verify.parse(str(result).removeprefix("verify ")))
        except BadUse as e:
            odd("results", result, f"the result {str(result)!r} is not understood. {e}")
    formats = document.get("formats") or {}
    if isinstance(formats, dict):
        book.formats = {str(k): str(v) for k, v in formats.items()}
    else:
        odd("formats=", formats, "`formats` is not a table.")
    book.over = [str(o) for o in _entries(document, "stepped_over", odd)]
    return [str(w) for w in _entries(document, "watches", odd)], told


def _entries(document: tomlkit.TOMLDocument, key: str, odd: Callable[[str, object, str], None]) -> list[object]:
    """The entries of a list in the file; something else there is kept as it is."""
    found = document.get(key)
    if found is None or isinstance(found, list):
        return list(found or [])
    odd(f"{key}=", found, f"`{key}` is not a list.")
    return []


def _line_of(script: str, entry: object) -> int:
    """The line of the case file where an entry is; 0 when it is not found."""
    texts = [str(v) for v in entry.values()] if isinstance(entry, dict) else [str(entry)]
    try:
        lines = place(script).read_text(encoding="utf-8").split("\n")
    except (OSError, UnicodeDecodeError):
        return 0
    return next((n for n, line in enumerate(lines, 1) for text in texts if text and text in line), 0)


def setup_of(script: str) -> Setup | None:
    """How a case is run, as its file says; None where it says nothing of it.  Damaged when it cannot be read."""
    document = read(script)
    entries = document.get("run") if document is not None else None
    if not isinstance(entries, dict):
        return None
    folder = os.path.dirname(os.path.abspath(script))
    found = Setup(os.path.abspath(script))
    for key, name in RUN.items():
        value = entries.get(key)
        if isinstance(value, str):
            setattr(found, name, _absolute(value, folder) if name in PATHS and value else value)
    return found


def _run_table(setup: Setup, folder: str) -> Table:
    """The entries that are not as usual; paths below the script's folder as seen from it."""
    table, usual = tomlkit.table(), Setup(setup.program)
    for key, name in RUN.items():
        value = getattr(setup, name)
        if value != getattr(usual, name):
            table[key] = _relative(value, folder) if name in PATHS else value
    return table


def _relative(path: str, folder: str) -> str:
    if os.sep not in path:
        return path  # a command, found by the search path
    full = os.path.abspath(os.path.expanduser(path))
    inside = full == folder or full.startswith(os.path.join(folder, ""))
    return os.path.join(".", os.path.relpath(full, folder)) if inside and full != folder else "." if inside else full


def _absolute(path: str, folder: str) -> str:
    return os.path.normpath(os.path.join(folder, path)) if os.sep in path or path == "." else path


def save(script: str, book: Book, watches: list[str], setup: Setup | None = None) -> Path | None:
    """Writes what is kept; None when there is nothing to keep and no file yet.  Damaged, OSError.

    `setup`: the run options; None keeps those of the file.
    """
    document = read(script)
    run = _run_table(setup, os.path.dirname(os.path.abspath(script))) if setup is not None else None
    kept = (
        *(book.kept, book.accepted, book.accepted_as, book.over, book.formats, book.recorded, book.always),
        *(book.results, watches, run, book.unread),
    )
    empty = not any(kept) and book.switches == type(book.switches)()
    if document is None:
        if empty:
            return None
        document = new_document()
    folder = os.path.dirname(script)
    lookouts = tomlkit.aot()
    for one in book.kept.values():
        table = tomlkit.table()
        table["sentence"] = sentence(one.lookout)
        if one.lookout.line:
            table["line"] = _text_at(one.lookout.file, one.lookout.line)
        lookouts.append(table)
    _append(lookouts, book.unread.get("lookouts", []))
    wires = tomlkit.table()
    for name in ABOUT:
        extras = {e for e in TRIPS[name].extras if getattr(book.switches, e)}
        as_it_stands = book.unread.get(f"tripwires.{name}")
        wires[name] = as_it_stands[0] if as_it_stands else tripwire_sentence(name, getattr(book.switches, name), extras)
    formats = tomlkit.table()
    formats.update(book.formats)
    parts: list[tuple[str, Sized]] = [("watches", watches), ("stepped_over", book.over), ("tripwires", wires)]
    parts.append(("results", [*[r.sentence for r in book.results], *book.unread.get("results", [])]))
    parts.append(("accepted_as", [*book.accepted_as, *book.unread.get("accepted_as", [])]))
    parts.append(("record", "always" if book.always else ""))
    parts.append(("formats", formats))
    tables = [
        (key, _places(found, folder)) for key, found in (("accepted", book.accepted), ("recorded", book.recorded))
    ]
    for key, found_there in tables:
        _append(found_there, book.unread.get(key, []))
    if run is not None:
        parts.append(("run", run))
    for key, part in [*parts, ("lookouts", lookouts), *tables]:
        if f"{key}=" in book.unread:
            continue  # something else than it should be: left to the user
        if len(part):
            document[key] = part
        else:
            document.pop(key, None)
    return write(script, document)


def new_document() -> tomlkit.TOMLDocument:
    """A case file without entries."""
    document = tomlkit.document()
    document.add(tomlkit.comment("Saved state of this case: breakpoints, tripwires, accepted places, watches."))
    document["schema"] = SCHEMA
    return document


def write(script: str, document: tomlkit.TOMLDocument) -> Path:
    """Write a case file.  OSError when that fails; the old file then stays."""
    target = place(script)
    target.parent.mkdir(parents=True, exist_ok=True)
    _replace(target, tomlkit.dumps(document))
    return target


def _append(tables: AoT, entries: list[object]) -> None:
    for entry in entries:
        if isinstance(entry, dict):
            table = tomlkit.table()
            table.update(entry)
            tables.append(table)


def _places(found: list[tuple[str, int]], folder: str) -> AoT:
    """Lines of files, each with its text, so that it is found again."""
    tables = tomlkit.aot()
    for path, line in found:
        table = tomlkit.table()
        table["file"] = os.path.relpath(path, folder or ".")
        table["number"] = line
        table["line"] = _text_at(path, line)
        tables.append(table)
    return tables


def _replace(path: Path, text: str) -> None:
    """Atomically: a full disk or a crash leaves the old file."""
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=path.name, suffix=".new")
    try:
        with os.fdopen(handle, "w", encoding="utf-8") as f:
            f.write(text)
            f.flush()
            os.fsync(f.fileno())
        private = path.is_relative_to(user_state_path("uneven-sum"))
        os.chmod(name, path.stat().st_mode & 0o777 if path.exists() else 0o600 if private else 0o644)
        os.replace(name, path)
    except OSError:
        os.unlink(name)
        raise


def _near(folder: str) -> list[str]:
    try:
        return [os.path.join(folder, n) for n in sorted(os.listdir(folder or ".")) if n.endswith((".py", ".ipynb"))]
    except OSError:
        return []


def _text_at(path: str, line: int) -> str:
    lines = lines_of(path)
    return lines[line - 1].strip() if 1 <= line <= len(lines) else ""


def _find_line(path: str, number: int, text: str) -> int | None:
    """The line that was meant: at its number, or else where its text is nearest."""
    lines = [s.strip() for s in lines_of(path)]
    if not text:
        return number if 1 <= number <= len(lines) else None
    if 1 <= number <= len(lines) and lines[number - 1] == text:
        return number
    found = [n for n, s in enumerate(lines, 1) if s == text]
    return min(found, key=lambda n: abs(n - number)) if found else None


def _follow(kept: Kept, text: str, told: list[str]) -> None:
    lk = kept.lookout
    line = _find_line(lk.file, lk.line, text)
    if line is None:
        kept.verified, lk.on = False, False
        kept.message = f"Its line `{text}` is not in {os.path.basename(lk.file)} now; the breakpoint is kept."
        told.append(kept.message)
    else:
        lk.line = line
