"""The texts that the sheet shows: each file as it was when the run began to show it."""

from __future__ import annotations

import os
import zlib

from ...client.book import Book, decoded
from ...protocol import Facts
from ..widgets.sheet import Sheet
from .part import Part


class Texts(Part):
    """A part of the Bench."""

    facts: Facts | None
    book: Book
    texts: dict[str, str]
    versions: dict[tuple[str, int], str]
    stamps: dict[str, tuple[float, int]]

    def text_of(self, path: str) -> str:
        """A file's text as it was when it was first shown in this run."""
        if path not in self.texts:
            try:
                with open(path, "rb") as f:
                    data = f.read()
                self.texts[path] = self.versions[path, zlib.crc32(data)] = decoded(data)
            except OSError:
                self.texts[path] = "# The text of this file cannot be read."
            self.stamps[path] = stamp(path)
        return self.texts[path]

    def own_edit(self, path: str) -> None:
        """We have written this file; the script runs its older text until the new one is taken up."""
        self.stamps[path] = stamp(path)
        kept = self.text_of(path)
        del self.texts[path]
        self.text_of(path)  # known by its CRC from now on
        self.texts[path] = kept

    def show_place(self) -> None:
        """The paused line, in the text that its call runs."""
        if self.facts is not None:
            if self.facts.source_text:
                self.texts[self.facts.file] = self.facts.source_text
            self._show_text(self.facts.file, self.facts.text)
            self.bench.query_one(Sheet).show_place(self.facts.line, self.facts.end_line, self.facts.state)

    def _show_text(self, path: str, version: int = 0) -> None:
        text = self.text_of(path)
        sheet = self.bench.query_one(Sheet)
        sheet.show_file(path, self.versions.get((path, version), text))
        sheet.marks = self.book.marks(path)


def stamp(path: str) -> tuple[float, int]:
    """What changes when a file is written."""
    try:
        found = os.stat(path)
        return found.st_mtime, found.st_size
    except OSError:
        return 0.0, 0
