"""The texts that the sheet shows: each file as it was when the run began to show it."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from ...client.sources import print_of, text_in, text_of
from ..widgets.sheet import Sheet
from .controller import Controller

if TYPE_CHECKING:
    from .screen import Bench


class SourceTexts(Controller):
    """A controller of the Bench.  `earlier`: texts of files that have been edited since, as an earlier run had them."""

    def __init__(self, screen: Bench) -> None:
        super().__init__(screen)
        self.earlier: dict[str, str] = {}

    def text_of(self, path: str) -> str:
        """A file's text as it was when it was first shown in this run."""
        if path not in self.bench.texts:
            try:
                with open(path, "rb") as f:
                    data = f.read()
                self.bench.texts[path] = self.bench.versions[path, print_of(path, data)] = text_in(path, data)
            except OSError:
                self.bench.texts[path] = "# The text of this file cannot be read."
            self.bench.stamps[path] = stamp(path)
        return self.bench.texts[path]

    def run_ends(self) -> None:
        """Keep the texts of this run that have changed in their files."""
        self.earlier = {**self.earlier, **self.changed_since()}

    def before_edits(self) -> dict[str, str]:
        """The texts of files before their last edit, as this run or an earlier one has them."""
        self.run_ends()
        return {path: text for path, text in self.earlier.items() if text != _now(path)}

    def changed_since(self) -> dict[str, str]:
        """The texts that this run has of files that read otherwise now."""
        return {path: text for path, text in self.bench.texts.items() if text != _now(path)}

    def own_edit(self, path: str) -> None:
        """We have written this file; the script runs its older text until the new one is taken up."""
        self.bench.stamps[path] = stamp(path)
        kept = self.text_of(path)
        del self.bench.texts[path]
        self.text_of(path)  # known by its CRC from now on
        self.bench.texts[path] = kept

    def show_place(self) -> None:
        """The paused line, in the text that its call runs."""
        if self.bench.facts is not None:
            if self.bench.facts.source_text:
                self.bench.texts[self.bench.facts.file] = self.bench.facts.source_text
            self.show_text(self.bench.facts.file, self.bench.facts.text)
            self.bench.query_one(Sheet).show_place(
                self.bench.facts.line, self.bench.facts.end_line, self.bench.facts.state
            )

    def show_text(self, path: str, version: int = 0) -> None:
        text = self.text_of(path)
        sheet = self.bench.query_one(Sheet)
        sheet.show_file(path, self.bench.versions.get((path, version), text))
        sheet.marks = self.bench.book.marks(path)


def _now(path: str) -> str:
    return text_of(path)


def stamp(path: str) -> tuple[float, int]:
    """What changes when a file is written."""
    try:
        found = os.stat(path)
        return found.st_mtime, found.st_size
    except OSError:
        return 0.0, 0
