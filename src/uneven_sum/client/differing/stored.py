"""A run whose values are kept in a Parquet file, to be compared with on another day or another machine.

Columns: `place` (uint32), `part` (uint8), `more` (bool: a further record of the value that the one before began),
`value` (float64), a row for each record.  The key `uneven_sum` of the file's metadata is JSON: see docs/differ.md.
"""

from __future__ import annotations

import contextlib
import os
import platform
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import msgspec
import numpy as np

from ...host.launch import BadUse
from .places import Text
from .reading import CONTINUED, PART_BIT, Block, Place

FORMAT = 2
KEY = b"uneven_sum"
ROWS = 500_000  # of a row group
MAGIC = b"PAR1"


def _schema() -> object:
    import pyarrow as pa  # here, since it takes a while and few runs are stored

    return pa.schema([("place", pa.uint32()), ("part", pa.uint8()), ("more", pa.bool_()), ("value", pa.float64())])


class About(msgspec.Struct):
    """What is known of a stored run besides its records.  `home`: the folder that file names are relative to."""

    format: int
    program: str
    home: str
    args: list[str] = []
    python: str = ""
    system: str = ""
    as_module: bool = False
    ended: str = ""
    status: int | None = None
    out: str = ""
    places: list[Place] = []
    texts: list[tuple[float, str]] = []
    sources: dict[str, str] = {}  # the text of each file, by its path


class Keeper:
    """Writes a run's records while it runs.  The file has its name once the run has ended."""

    def __init__(self, path: str) -> None:
        self.path = os.path.abspath(path)
        self._part = self.path + ".part"
        self.places: list[Place] = []
        self.texts: list[tuple[float, str]] = []
        self._blocks: list[Block] = []
        self._rows = 0
        import pyarrow.parquet as pq

        try:
            self._writer = pq.ParquetWriter(self._part, _schema(), compression="zstd")
        except OSError as e:
            raise BadUse(f"{path} cannot be written: {e.strerror or e}.") from None

    def take(self, block: Block) -> None:
        self._blocks.append(block)
        self._rows += len(block.keys)
        if self._rows >= ROWS:
            self._write()

    def _write(self) -> None:
        import pyarrow as pa

        keys = np.concatenate([b.keys for b in self._blocks]) if self._blocks else np.empty(0, np.uint32)
        values = np.concatenate([b.values for b in self._blocks]) if self._blocks else np.empty(0)
        self._blocks, self._rows = [], 0
        parts = (keys >> PART_BIT).astype(np.uint8)
        columns = [keys & ((1 << PART_BIT) - 1), parts & ~np.uint8(CONTINUED), parts >= CONTINUED, values]
        try:
            self._writer.write_table(pa.table([pa.array(c) for c in columns], schema=_schema()))
        except OSError as e:
            raise BadUse(f"{self.path} cannot be written: {e.strerror or e}.") from None

    def finish(self, about: About, original: Callable[[str], str]) -> None:
        """The last rows, and what is known of the run.  `original`: gives the user's file for one of the copy."""
        self._write()
        about.texts = self.texts
        for place in self.places:
            path = original(place.file)
            if path not in about.sources:
                about.sources[path] = "\n".join(Text.read(place.file).lines)
            about.places.append(msgspec.structs.replace(place, file=path))
        about.system = platform.platform()
        self._writer.add_key_value_metadata({KEY: msgspec.json.encode(about)})
        self._writer.close()
        os.replace(self._part, self.path)

    def drop(self) -> None:
        """The run was not to be: no file is left."""
        self._writer.close()
        with contextlib.suppress(OSError):
            os.remove(self._part)


@dataclass
class Stored:
    """A stored run that is read again."""

    path: str
    about: About = field(default_factory=lambda: About(FORMAT, "", ""))

    @classmethod
    def open(cls, path: str) -> Stored:
        """BadUse where it is no stored run, or one of another version."""
        import pyarrow as pa
        import pyarrow.parquet as pq

        try:
            found = pq.read_metadata(path).metadata or {}
        except (OSError, pa.ArrowInvalid) as e:
            raise BadUse(f"{path} cannot be read as a stored run: {str(e).rstrip('.')}.") from None
        if KEY not in found:
            raise BadUse(
                f"{path} is a Parquet file, but no stored run. uneven-sum differ --keep FILE SCRIPT makes one."
            )
        version = msgspec.json.decode(found[KEY]).get("format")
        if version != FORMAT:
            raise BadUse(
                f"{path} was stored by another version of Uneven Sum (format {version}; this one reads {FORMAT}). "
                "Store the run again."
            )
        return cls(path, msgspec.json.decode(found[KEY], type=About))

    def sources(self) -> dict[str, Text]:
        """The files of the run, the script first."""
        known = {path: Text.of(path, text) for path, text in self.about.sources.items()}
        script = {self.about.program: known.get(self.about.program) or Text(self.about.program)}
        return {**script, **known}

    def blocks(self) -> Iterator[Block]:
        import pyarrow.parquet as pq

        with pq.ParquetFile(self.path) as file:
            for batch in file.iter_batches(batch_size=8192):
                place, part, more, value = (np.asarray(column) for column in batch.columns)
                high = part.astype(np.uint32) | np.where(more, np.uint32(CONTINUED), np.uint32(0))
                yield Block(place.astype(np.uint32) | high << PART_BIT, value.astype(np.float64))


def is_stored(path: str) -> bool:
    """Whether a file is a Parquet file."""
    try:
        with open(path, "rb") as f:
            return f.read(4) == MAGIC
    except OSError:
        return False
