"""The results of a sweep in a Parquet file; while it runs, each run is a line of a file beside it.

Columns: `row`, `args` (JSON), `in.NAME` for each input, `outcome`, `fault` (JSON), `headline`, `seconds`, `out.NAME`
for each result that was named.  All but `row` (int64) and `seconds` (float64) are texts.  The key `uneven_sum_sweep`
of the file's metadata is JSON: `format`, `script`, `print` (a CRC-32 of its text), `runs` (how they are made).
"""

from __future__ import annotations

import itertools
import json
import os
import types
from array import array
from collections.abc import Iterable, Iterator
from typing import IO, Protocol

import msgspec

from ..client.edits import write_whole
from ..host.launch import BadUse
from .one import Ran

FORMAT = 1
KEY = b"uneven_sum_sweep"
NUMBERS = {"row": "q", "seconds": "d"}  # columns that are no texts
CHUNK = 1_000  # rows of a row group


class Kept:
    """`about`: what all runs have in common; a file of others is refused."""

    def __init__(self, path: str, about: dict[str, object]) -> None:
        self.path, self.about = path, {"format": FORMAT, **about}
        self.part = path + ".part"
        self.done: dict[int, int] = {}  # hash of the arguments -> how many rows of these ran
        self._file: IO[str] | None = None

    def open(self) -> int:
        """Take up what was done before; how many runs that are.  BadUse where the file is of other runs."""
        count = 0
        for ran in self.rows():
            key = hash(tuple(ran.args))
            self.done[key] = self.done.get(key, 0) + 1
            count += 1
        try:
            new = not _has_head(self.part)
            self._file = open(self.part, "w" if new else "a", encoding="utf-8")  # noqa: SIM115  # until `close`
            if new:
                self._write(json.dumps(self.about))
            elif not _ends_a_line(self.part):  # a signal has cut the last one
                self._write("")
        except OSError as e:
            raise BadUse(f"{self.part} cannot be written: {e.strerror}. Give another file with --results.") from None
        return count

    def was_done(self, args: tuple[str, ...]) -> bool:
        """Whether a row of these arguments has run; each counts once, since two rows may have the same."""
        key = hash(args)
        left = self.done.get(key, 0)
        if left:
            self.done[key] = left - 1
        return left > 0

    def add(self, ran: Ran) -> None:
        """BadUse where the disk is full; what was written before stays."""
        self._write(msgspec.json.encode(ran).decode())

    def _write(self, line: str) -> None:
        assert self._file is not None
        try:
            self._file.write(line + "\n")
            self._file.flush()
        except OSError as e:
            raise _full(self.part, e) from None

    def rows(self) -> Iterator[Ran]:
        """All runs that are kept, those of the Parquet file first.  A signal may have come after that was written and
        before the lines were removed: what is in both counts once."""
        both = os.path.exists(self.path) and _has_head(self.part)
        seen = set()
        for ran in self._of_parquet() if os.path.exists(self.path) else ():
            if both:
                seen.add((ran.row, hash(tuple(ran.args))))
            yield ran
        for ran in self._of_lines() if _has_head(self.part) else ():
            if (ran.row, hash(tuple(ran.args))) not in seen:
                yield ran

    def _of_lines(self) -> Iterator[Ran]:
        with open(self.part, encoding="utf-8") as f:
            head = next(f, "")
            self._compare(head)
            for line in f:
                try:
                    yield msgspec.json.decode(line, type=Ran)
                except msgspec.MsgspecError:
                    continue  # the last one, which a full disk or a signal has cut

    def _of_parquet(self) -> Iterator[Ran]:
        pa, pq = _arrow()
        try:
            file = pq.ParquetFile(self.path, pre_buffer=False)
            self._compare(((file.schema_arrow.metadata or {}).get(KEY) or b"").decode())
            for batch in file.iter_batches(batch_size=CHUNK, use_threads=False):
                for one in batch.to_pylist():
                    yield Ran(
                        row=one["row"],
                        args=json.loads(one["args"]),
                        values={k[3:]: v for k, v in one.items() if k.startswith("in.") and v is not None},
                        outcome=one["outcome"],
                        fault=json.loads(one["fault"]),
                        headline=one["headline"],
                        seconds=one["seconds"],
                        results={k[4:]: v for k, v in one.items() if k.startswith("out.") and v is not None},
                    )
        except (pa.ArrowInvalid, OSError) as e:
            raise BadUse(f"{self.path} is no file of a sweep: {str(e).splitlines()[0]}.") from None

    def _compare(self, told: str) -> None:
        try:
            about = json.loads(told)
        except json.JSONDecodeError:
            about = None
        if not isinstance(about, dict) or "format" not in about:
            raise BadUse(f"{self.path} is no file of a sweep. Give another one with --results.")
        for name, what in (
            ("script", "another script"),
            ("print", "another text of the script"),
            ("runs", "other runs"),
        ):
            if about.get(name) != self.about.get(name):
                raise BadUse(f"{self.path} has results of {what}. Remove it, or give another one with --results.")

    def close(self) -> None:
        """Put all into the Parquet file, at once or not at all."""
        if self._file is None:
            return
        file, self._file = self._file, None
        try:
            file.close()
        except OSError as e:
            raise _full(self.part, e) from None
        pa, pq = _arrow()
        inputs: dict[str, None] = {}
        outputs: dict[str, None] = {}
        for ran in self.rows():
            inputs.update(dict.fromkeys(ran.values))
            outputs.update(dict.fromkeys(ran.results))
        names = ["args", *(f"in.{n}" for n in inputs), "outcome", "fault", "headline", *(f"out.{n}" for n in outputs)]
        fields = [("row", pa.int64()), ("seconds", pa.float64()), *((name, pa.string()) for name in names)]
        schema = pa.schema(fields).with_metadata({KEY: json.dumps(self.about).encode()})
        sink = pa.BufferOutputStream()
        with pq.ParquetWriter(sink, schema, compression="zstd", use_dictionary=False) as writer:
            rows = self.rows()
            while some := list(itertools.islice(rows, CHUNK)):
                writer.write_batch(_batch(some, schema))
        write_whole(os.path.realpath(self.path), sink.getvalue().to_pybytes())
        os.unlink(self.part)


def _arrow() -> tuple[types.ModuleType, types.ModuleType]:
    """pyarrow, which takes a while to import, and its Parquet part.  Its own pool keeps what it has had: 15 MB."""
    import pyarrow as pa
    import pyarrow.parquet as pq

    pa.set_memory_pool(pa.system_memory_pool())
    return pa, pq


def _full(path: str, e: OSError) -> BadUse:
    return BadUse(f"{path} cannot be written: {e.strerror}. Make room, and sweep again: it goes on.")


def _has_head(path: str) -> bool:
    """Whether a file exists and has a first line; a full disk may have cut it."""
    try:
        with open(path, "rb") as f:
            return f.readline().endswith(b"\n")
    except OSError:
        return False


def _ends_a_line(path: str) -> bool:
    with open(path, "rb") as f:
        f.seek(max(0, os.path.getsize(path) - 1))
        return f.read() in (b"", b"\n")


class _Field(Protocol):
    name: str
    type: object


def _batch(rows: list[Ran], schema: Iterable[_Field]) -> object:
    """Rows as a record batch, column by column: from Python's objects pyarrow would import pandas, 50 MB of memory."""
    import pyarrow as pa
    from pyarrow.lib import StringBuilder

    columns = []
    told = [_texts(ran) for ran in rows]
    for field in schema:
        if field.name in NUMBERS:
            numbers = array(NUMBERS[field.name], (getattr(ran, field.name) for ran in rows))
            columns.append(pa.Array.from_buffers(field.type, len(rows), [None, pa.py_buffer(numbers)]))
        else:
            builder = StringBuilder()
            builder.append_values([one.get(field.name) for one in told])
            columns.append(builder.finish())
    return pa.RecordBatch.from_arrays(columns, schema=schema)


def _texts(ran: Ran) -> dict[str, str]:
    told = {"args": json.dumps(ran.args), "fault": json.dumps(ran.fault)}
    told |= {"outcome": ran.outcome, "headline": ran.headline}
    told |= {f"in.{name}": value for name, value in ran.values.items()}
    return told | {f"out.{name}": value for name, value in ran.results.items()}
