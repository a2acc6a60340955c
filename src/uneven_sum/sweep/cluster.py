"""Runs the rows of a sweep on a Dask cluster.

The working folder is shipped once, as an archive that each worker unpacks where it runs; a task is one row.  Lost
workers are made good by Dask's own retries.  The workers need this program in their environment.
"""

from __future__ import annotations

import asyncio
import contextlib
import hashlib
import io
import os
import shutil
import sys
import tempfile
import zipfile
from collections.abc import AsyncIterator, Awaitable, Callable, Generator
from contextlib import AbstractAsyncContextManager
from dataclasses import replace
from typing import Protocol, TypeVar, cast

import msgspec

from ..client import Launch
from ..host.launch import BadUse
from ..protocol.messages import Message
from .one import Ran, run_row

MOST = 200 * 1024 * 1024  # bytes of files that are shipped
LEFT_OUT = ("__pycache__", "node_modules", "venv")  # folders that are not; nor hidden ones
AHEAD = 2  # rows under way for each thread of the cluster
ATTEMPTS = 5  # to run a row whose files were lost
LOST = "All workers of {address} are gone. Start some, and sweep again: it goes on."
PATIENCE = 30.0  # seconds that a cluster may be without a worker
ANSWER = 15.0  # seconds at most until a scheduler answers
LOOK = 2.0

Run = Callable[[Ran], Awaitable[Ran]]


def packed(folder: str) -> bytes:
    """The files of a folder as an archive.  BadUse where they are too many to ship."""
    room, total = io.BytesIO(), 0
    with zipfile.ZipFile(room, "w", zipfile.ZIP_DEFLATED) as archive:
        for here, folders, files in os.walk(folder):
            folders[:] = sorted(f for f in folders if not f.startswith(".") and f not in LEFT_OUT)
            for name in sorted(files):
                path = os.path.join(here, name)
                if name.startswith(".") or ".sweep.parquet" in name or not os.path.isfile(path):
                    continue
                total += os.path.getsize(path)
                if total > MOST:
                    raise BadUse(f"{folder} has over {MOST >> 20} MB of files: give a smaller one with --cwd.")
                info = zipfile.ZipInfo(os.path.relpath(path, folder))  # without times: the same files, the same archive
                info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, (os.stat(path).st_mode & 0xFFFF) << 16
                with open(path, "rb") as f:
                    archive.writestr(info, f.read())
    return room.getvalue()


def unpacked(archive: bytes) -> str:
    """The folder on this machine that has the files of an archive; they are unpacked once."""
    base = os.path.join(tempfile.gettempdir(), f"uneven-sum-sweep-{os.getuid()}")
    os.makedirs(base, mode=0o700, exist_ok=True)
    if os.stat(base).st_uid != os.getuid():
        raise BadUse(f"{base} belongs to somebody else.")
    folder = os.path.join(base, hashlib.sha256(archive).hexdigest()[:16])
    if not os.path.isdir(folder):
        made = tempfile.mkdtemp(dir=base)
        with zipfile.ZipFile(io.BytesIO(archive)) as files:
            for info in files.infolist():
                path = files.extract(info, made)
                os.chmod(path, (info.external_attr >> 16) & 0o777 or 0o600)
        try:
            os.rename(made, folder)
        except OSError:  # another thread was faster
            shutil.rmtree(made, ignore_errors=True)
    return folder


def run_shipped(archive: bytes, launch: bytes, row: bytes, wanted: list[str], limit: float | None, own: bool) -> bytes:
    """A task: one row, in the worker's environment; a `Ran` as JSON."""
    ran = msgspec.json.decode(row, type=Ran)
    folder = unpacked(archive)
    here = replace(msgspec.json.decode(launch, type=Launch), cwd=folder)
    ran = asyncio.run(run_row(here, ran, wanted, limit, own))
    ran.fault = [part.replace(folder + os.sep, "") for part in ran.fault]
    ran.headline = ran.headline.replace(folder + os.sep, "")
    return msgspec.json.encode(ran)


T = TypeVar("T")


class Submitted(Protocol):
    """A task on the cluster."""

    def result(self) -> Awaitable[bytes]: ...
    def release(self) -> None: ...


class Scheduler(Protocol):
    """What is used of Dask's client, which has no types."""

    status: str

    def scatter(self, data: bytes, *, broadcast: bool, hash: bool) -> Awaitable[object]: ...
    def nthreads(self) -> Awaitable[dict[str, int]]: ...
    def submit(self, task: Callable[..., bytes], *args: object, pure: bool) -> Submitted: ...
    def wait_for_workers(self, n_workers: int, timeout: float) -> Awaitable[None]: ...
    def get_versions(self) -> Awaitable[Message]: ...
    def close(self) -> Awaitable[None]: ...
    def __await__(self) -> Generator[object, None, Scheduler]: ...


class _Versions(Protocol):
    def versions(self) -> Awaitable[Message]: ...


class Cluster:
    """A connection to a Dask scheduler.  `task`: what a row runs with."""

    def __init__(self, address: str, client: Scheduler, archive: bytes) -> None:
        self.address, self.client, self.archive = address, client, archive
        self.files: object = None  # the archive on the workers
        self.gone = asyncio.Event()  # no worker has been there for long, or no scheduler
        self._shipping = asyncio.Lock()

    async def ship(self, lost: object) -> None:
        """Bring the files to the workers, unless that has been done since `lost` was."""
        async with self._shipping:
            if self.files is lost:
                self.files = await self.client.scatter(self.archive, broadcast=True, hash=False)

    async def run(self, row: Ran, task: Callable[[object], Submitted]) -> Ran:
        """One row; `task` submits it, with the files that it is given."""
        import distributed

        for _ in range(ATTEMPTS):
            files = self.files
            submitted = task(files)
            try:
                return msgspec.json.decode(await self._unless_gone(submitted.result()), type=Ran)
            except distributed.client.FutureCancelledError:  # the files were lost with the last worker that had them
                if self.client.status != "running":
                    raise BadUse(LOST.format(address=self.address)) from None
                await self._unless_gone(self.ship(files))
            except distributed.KilledWorker:
                break
            except distributed.comm.core.CommClosedError:
                # In the midst of an answer, before the client knows that it is alone.
                raise BadUse(LOST.format(address=self.address)) from None
            except OSError as e:
                raise BadUse(f"A worker of {self.address} cannot unpack the files or start a run: {e}.") from None
            except ModuleNotFoundError as e:
                raise BadUse(f"The workers of {self.address} lack {e.name}: install uneven-sum there.") from None
            finally:
                submitted.release()
        said = "Several workers of the cluster ended while it ran, as they do when memory runs out."
        row.outcome, row.headline, row.fault = "died", said, ["died", "worker", said]
        return row

    async def _unless_gone(self, what: Awaitable[T]) -> T:
        """Wait for something of the cluster.  BadUse when that has no worker any more."""
        waiting, ending = asyncio.ensure_future(what), asyncio.ensure_future(self.gone.wait())
        try:
            await asyncio.wait([waiting, ending], return_when=asyncio.FIRST_COMPLETED)
            if not waiting.done():
                raise BadUse(LOST.format(address=self.address))
            return waiting.result()
        finally:
            waiting.cancel()
            ending.cancel()

    async def look(self) -> None:
        """Sets `gone` when there has been no worker, or no scheduler, for long."""
        without = 0.0
        while without < PATIENCE:
            await asyncio.sleep(LOOK)
            try:
                alive = bool(await asyncio.wait_for(self.client.nthreads(), PATIENCE))
            except (OSError, TimeoutError, ValueError):
                alive = False
            without = 0.0 if alive else without + LOOK
        self.gone.set()


@contextlib.asynccontextmanager
async def on_cluster(
    address: str, launch: Launch, wanted: list[str], limit: float | None, own_folder: bool
) -> AsyncIterator[tuple[Run, int]]:
    """What runs a row on the cluster, and how many rows shall be under way.  BadUse where there is no such cluster."""
    try:
        import distributed
    except ImportError:
        raise BadUse("--on needs Dask: pip install 'uneven-sum[cluster]'.") from None
    folder = os.path.abspath(launch.cwd or os.curdir)
    program = os.path.relpath(os.path.join(folder, launch.program), folder)
    if program.startswith(os.pardir):
        folder = os.path.dirname(os.path.abspath(launch.program))
        program = os.path.basename(launch.program)
    archive = await asyncio.to_thread(packed, folder)
    shipped = msgspec.json.encode(replace(launch, program=program, cwd=None))
    made = cast("Callable[..., Scheduler]", distributed.Client)
    try:
        client = made(address, asynchronous=True, timeout=10, set_as_default=False)
    except ValueError as e:
        raise BadUse(f"No Dask scheduler answers at {address}: {_first_line(e)}.") from None
    try:
        await asyncio.wait_for(client, ANSWER)
    except TimeoutError:
        await _closed(client)
        raise BadUse(f"No Dask scheduler answers at {address}: nothing has come in {ANSWER:g} s.") from None
    except Exception as e:
        await _closed(client)
        if isinstance(e, (OSError, ValueError)):
            raise BadUse(f"No Dask scheduler answers at {address}: {_first_line(e)}.") from None
        ours = getattr(distributed, "__version__", "")
        other = await _version_of(address)  # two versions of Dask may not know each other's calls
        raise BadUse(
            f"The scheduler at {address}{f' runs Dask {other}, and' if other else ''} does not work with Dask "
            f"{ours} here ({type(e).__name__}): use the same version."
        ) from None
    cluster = Cluster(address, client, archive)
    looking = asyncio.create_task(cluster.look())
    try:
        try:
            await client.wait_for_workers(1, timeout=PATIENCE)
        except TimeoutError:
            raise BadUse(f"The Dask scheduler at {address} has no workers. Start some, and sweep again.") from None
        await _compare_versions(client, address)
        await cluster.ship(None)

        async def run(row: Ran) -> Ran:
            told = msgspec.json.encode(row)
            return await cluster.run(
                row,
                lambda files: client.submit(run_shipped, files, shipped, told, wanted, limit, own_folder, pure=False),
            )

        threads = sum((await client.nthreads()).values())
        yield run, AHEAD * max(1, threads)
    finally:
        looking.cancel()
        await _closed(client)


async def _closed(client: Scheduler) -> None:
    with contextlib.suppress(Exception):  # the scheduler may be gone
        await asyncio.wait_for(client.close(), 5.0)


async def _version_of(address: str) -> str:
    """The version of Dask that a scheduler runs; empty where it does not say."""
    from distributed.core import rpc

    connect: Callable[..., AbstractAsyncContextManager[_Versions]] = rpc
    with contextlib.suppress(Exception):
        async with connect(address) as scheduler:
            told = await asyncio.wait_for(scheduler.versions(), 5.0)
        return str(told["packages"]["distributed"])
    return ""


async def _compare_versions(client: Scheduler, address: str) -> None:
    """BadUse where the workers have another Python: a row could not be sent there."""
    told = await client.get_versions()
    ours = f"{sys.version_info.major}.{sys.version_info.minor}"
    theirs = {
        ".".join(str((one or {}).get("host", {}).get("python", "")).split(".")[:2]) for one in told["workers"].values()
    }
    other = sorted(v for v in theirs if v and v != ours)
    if other:
        raise BadUse(f"The workers of {address} run Python {', '.join(other)}, and this is {ours}: use the same.")


def _first_line(e: Exception) -> str:
    return (str(e) or type(e).__name__).splitlines()[0].rstrip(".")
