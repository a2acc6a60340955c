"""A source file opened for editing: its encoding, line ends and indentation stay as they are."""

from __future__ import annotations

import difflib
import io
import math
import os
import re
import tokenize
import zlib
from collections import Counter
from dataclasses import dataclass

from ..host.launch import BadUse
from ..notebooks import files
from ..notebooks.patch import patched
from .edits import write_whole

LARGE = 8_000_000  # bytes beyond which a file is not opened
LONGEST = 200_000  # characters of a line
ENDS = re.compile(r"\r\n|\r|\n")


class ChangedOutside(BadUse):
    """The file is not any more what was opened."""


@dataclass
class Opened:
    """`text`: with plain line ends.  `ends`: the line end of each line, where they are mixed."""

    path: str
    text: str
    encoding: str
    mark: bytes  # a byte order mark
    end: str
    ends: list[str]
    print: int  # CRC-32 of what was read

    @property
    def tabs(self) -> bool:
        indents = re.findall(r"^([ \t])", self.text, re.M)
        return indents.count("\t") > len(indents) / 2

    @property
    def width(self) -> int:
        """Columns of one step of indentation, 4 where nothing is indented."""
        found = [len(s) for s in re.findall(r"^( +)\S", self.text, re.M)]
        step = math.gcd(*found) if found else 4
        return step if 1 < step <= 8 else 4


def open_file(path: str) -> Opened:
    """BadUse when it cannot be read, is no text, or is too large; the sentence says what to do."""
    name = os.path.basename(path)
    if files.is_notebook(path):
        return _open_notebook(path)
    try:
        if os.path.getsize(path) > LARGE:
            raise BadUse(f"{name} has more than {LARGE // 1_000_000} MB. Edit it in an editor of your own (ctrl+e).")
        with open(path, "rb") as f:
            data = f.read()
    except OSError as e:
        raise BadUse(f"{name} cannot be read: {e.strerror}. Look at its permissions, or open another file.") from None
    if data.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise BadUse(f"{name} is in UTF-16, which Python does not run. Save it as UTF-8.")
    if b"\0" in data:
        raise BadUse(f"{name} holds NUL bytes: it is not Python text.")
    mark = b"\xef\xbb\xbf" if data.startswith(b"\xef\xbb\xbf") else b""
    try:
        encoding, _ = tokenize.detect_encoding(io.BytesIO(data).readline)
        encoding = "utf-8" if encoding == "utf-8-sig" else encoding
        text = data[len(mark) :].decode(encoding)
    except (SyntaxError, UnicodeDecodeError, LookupError) as e:
        raise BadUse(f"{name} cannot be read as text: {e}. Put its encoding right first (ctrl+e).") from None
    ends = ENDS.findall(text)
    kinds = Counter(ends)
    end = kinds.most_common(1)[0][0] if kinds else "\n"
    plain = ENDS.sub("\n", text)
    if max(map(len, plain.split("\n"))) > LONGEST:
        raise BadUse(f"{name} has a line of more than {LONGEST} characters. Edit it in an editor of your own (ctrl+e).")
    return Opened(path, plain, encoding, mark, end, ends if len(kinds) > 1 else [], zlib.crc32(data))


def _open_notebook(path: str) -> Opened:
    try:
        with open(path, "rb") as f:
            data = f.read()
        files.read(path)
        text = files.sheet(data)[0]
    except OSError as e:
        raise BadUse(f"{os.path.basename(path)} cannot be read: {e.strerror}.") from None
    except ValueError as e:
        raise BadUse(str(e)) from None
    if len(text) > LARGE:
        raise BadUse(f"The cells of {os.path.basename(path)} have more than {LARGE // 1_000_000} MB.")
    return Opened(path, text, "utf-8", b"", "\n", [], zlib.crc32(data))


def save(opened: Opened, text: str, force: bool = False) -> None:
    """Writes a new text, at once or not at all; `opened` is then what the file is.

    ChangedOutside when the file has changed since (unless `force`); BadUse when it cannot be written: it is as it was.
    """
    name = os.path.basename(opened.path)
    real = os.path.realpath(opened.path)
    if not force:
        try:
            with open(real, "rb") as f:
                present = zlib.crc32(f.read())
        except FileNotFoundError:
            raise ChangedOutside(f"{name} is gone: it was moved or deleted.") from None
        except OSError as e:
            raise BadUse(f"{name} cannot be read: {e.strerror}. Nothing was changed.") from None
        if present != opened.print:
            raise ChangedOutside(f"{name} was changed by another program since it was opened.")
    if files.is_notebook(opened.path):
        _save_notebook(opened, real, text)
        return
    ends = _ends(opened, text)
    body = ENDS.sub(opened.end, text) if not ends else _joined(text, ends)
    try:
        data = opened.mark + body.encode(opened.encoding)
    except UnicodeEncodeError as e:
        sign = e.object[e.start]
        raise BadUse(f"{name} is in {opened.encoding}, which has no {sign!r}. Nothing was changed.") from None
    write_whole(real, data)
    opened.text, opened.ends, opened.print = text, ends, zlib.crc32(data)


def _save_notebook(opened: Opened, real: str, text: str) -> None:
    name = os.path.basename(opened.path)
    try:
        with open(real, "rb") as f:
            data = patched(f.read(), text)
    except OSError as e:
        raise BadUse(f"{name} cannot be read: {e.strerror}. Nothing was changed.") from None
    except (ValueError, KeyError, IndexError) as e:
        raise BadUse(f"{name} cannot be changed: {e}. Nothing was written.") from None
    write_whole(real, data)
    opened.text, opened.print = files.sheet(data)[0], zlib.crc32(data)


def _ends(opened: Opened, text: str) -> list[str]:
    """Where line ends are mixed, unchanged lines keep theirs."""
    if not opened.ends:
        return []
    old, new = opened.text.split("\n"), text.split("\n")
    found = [opened.end] * (len(new) - 1)
    for block in difflib.SequenceMatcher(None, old, new, autojunk=False).get_matching_blocks():
        for n in range(block.size):
            if block.b + n < len(found) and block.a + n < len(opened.ends):
                found[block.b + n] = opened.ends[block.a + n]
    return found


def _joined(text: str, ends: list[str]) -> str:
    lines = text.split("\n")
    return "".join(line + (ends[n] if n < len(ends) else "") for n, line in enumerate(lines))
