"""Puts changed lines into a source file: its encoding, line ends, indentation and permissions stay as they are."""

from __future__ import annotations

import ast
import io
import os
import shutil
import tempfile
import textwrap
import tokenize

from ..host.launch import BadUse
from ..notebooks import files
from ..notebooks.patch import patched
from .sources import as_python, place_words


def indented_like(new: str, old: str) -> str:
    """A text with the indentation (and its kind) of the first of the old lines."""
    first = old.split("\n")[0]
    lead = first[: len(first) - len(first.lstrip())]
    body = textwrap.dedent(new.expandtabs(4)).strip("\n")
    if "\t" in lead:
        lines = [_with_tabs(line) for line in body.split("\n")]
        body = "\n".join(lines)
    return "\n".join(lead + line if line.strip() else "" for line in body.split("\n"))


def _with_tabs(line: str) -> str:
    deep = len(line) - len(line.lstrip())
    return "\t" * (deep // 4) + line.lstrip()


def replace_lines(path: str, first: int, last: int, old: str, new: str) -> str:
    """Replaces lines `first` to `last` (from 1), which must read `old`, by `new` in their indentation; the file's
    whole new text.

    BadUse, the file untouched, when it cannot be read or written, has changed outside, or would be no Python.
    """
    name = os.path.basename(path)
    real = os.path.realpath(path)
    try:
        with open(real, "rb") as f:
            data = f.read()
        if files.is_notebook(path):
            return _replace_in_notebook(real, data, first, last, old, new)
        encoding, _ = tokenize.detect_encoding(io.BytesIO(data).readline)
        text = data.decode(encoding)
    except OSError as e:
        raise BadUse(f"{name} cannot be read: {e.strerror}. Nothing was changed.") from None
    except (SyntaxError, UnicodeDecodeError, LookupError) as e:
        raise BadUse(f"{name} cannot be read as text: {e}. Nothing was changed.") from None
    lines = text.splitlines(keepends=True)
    present = "".join(lines[first - 1 : last])
    if [line.rstrip("\r\n") for line in lines[first - 1 : last]] != old.rstrip("\n").split("\n"):
        raise BadUse(f"Lines {first} to {last} of {name} have changed since the script started. Rerun it.")
    end = "\r\n" if "\r\n" in present else "\r" if "\r" in present else "\n"
    body = indented_like(new, old).replace("\n", end)
    lines[first - 1 : last] = [body + (end if present.endswith(("\n", "\r")) else "")]
    whole = "".join(lines)
    try:
        ast.parse(whole.encode(encoding), name)
    except UnicodeEncodeError as e:
        raise BadUse(f"{name} is in {encoding}, which has no {e.object[e.start]!r}. Nothing was changed.") from None
    except (SyntaxError, ValueError) as e:
        line = getattr(e, "lineno", None)
        where = f", line {line}" if line else ""
        raise BadUse(f"{name} would be no Python{where}: {getattr(e, 'msg', e)}. Nothing was changed.") from None
    write_whole(real, whole.encode(encoding))
    return whole


def _replace_in_notebook(path: str, data: bytes, first: int, last: int, old: str, new: str) -> str:
    """As `replace_lines`, of the text of a notebook."""
    name = os.path.basename(path)
    try:
        lines = files.sheet(data)[0].split("\n")
    except ValueError:
        raise BadUse(f"{name} is no notebook any more. Nothing was changed.") from None
    if lines[first - 1 : last] != old.rstrip("\n").split("\n"):
        raise BadUse(f"{place_words(path, first).capitalize()} of {name} has changed since the run started. Rerun it.")
    lines[first - 1 : last] = indented_like(new, old).split("\n")
    text = "\n".join(lines)
    try:
        ast.parse(as_python(path, text), name)
    except (SyntaxError, ValueError) as e:
        raise BadUse(f"{name} would be no Python: {getattr(e, 'msg', e)}. Nothing was changed.") from None
    try:
        new_data = patched(data, text)
    except (ValueError, KeyError, IndexError) as e:
        raise BadUse(f"{name} cannot be changed: {e}. Nothing was written.") from None
    write_whole(path, new_data)
    return text


def write_whole(path: str, data: bytes) -> None:
    """Writes a file at once or not at all, with its permissions kept.  BadUse when that cannot be done."""
    name = os.path.basename(path)
    folder = os.path.dirname(path) or "."
    new = ""
    try:
        if os.path.exists(path) and not os.access(path, os.W_OK):
            raise BadUse(f"{name} may not be written: its permissions forbid it. Nothing was changed.")
        handle, new = tempfile.mkstemp(prefix=f".{name}.", dir=folder)
        with os.fdopen(handle, "wb") as f:
            f.write(data)
            f.flush()
            os.fsync(f.fileno())
        if os.path.exists(path):
            shutil.copystat(path, new)
            kept = os.stat(path)
            if (kept.st_uid, kept.st_gid) != (os.getuid(), os.getgid()):
                os.chown(new, kept.st_uid, kept.st_gid)
        os.replace(new, path)
        os.utime(path)
    except OSError as e:
        if new and os.path.exists(new):
            os.unlink(new)
        raise BadUse(f"{name} cannot be written: {e.strerror}. Nothing was changed.") from None
