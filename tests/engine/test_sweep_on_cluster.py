"""Sweeps on a Dask cluster: groups, lost workers, going on, and what a cluster can lack."""

from __future__ import annotations

import asyncio
import io
import os
import signal
import subprocess
import sys
import types
import zipfile

import distributed
import pytest

from uneven_sum.client import BadUse, Launch
from uneven_sum.sweep import cluster
from uneven_sum.sweep.kept import Kept
from uneven_sum.sweep.one import Ran
from uneven_sum.sweep.rows import Inputs
from uneven_sum.sweep.sweep import Sweep

PATIENCE = 500  # seconds of a sweep: workers are processes that import the whole of Dask
pytestmark = pytest.mark.timeout(900)

CLUSTER = (
    "import sys\nfrom dask.distributed import LocalCluster\n"
    "if __name__ == '__main__':\n"
    "    made = LocalCluster(n_workers=int(sys.argv[1]), threads_per_worker=1, dashboard_address=None)\n"
    "    print(made.scheduler_address, *[w.pid for w in made.workers.values()], flush=True)\n"
    "    for line in sys.stdin:\n        made.scale(0)\n"
    "    made.close(timeout=5)\n"
)
WEIR = (
    "import sys\nimport time\n\ntime.sleep(0.05)\nalpha, width = float(sys.argv[1]), float(sys.argv[2])\n"
    "first = float(open('gauge.csv').read())\n"
    "total = first / (width - 3.0)\nhead = alpha - 0.5\ntotal += 1e308 * (head > 0.3) * 10\nprint(total)\n"
)


@pytest.fixture
def started(tmp_path):
    """Starts a cluster of so many workers in a process of its own: its process, its address, its workers' numbers."""
    opened = []

    def start(workers: int = 2):
        path = tmp_path / "of_test" / "cluster.py"
        path.parent.mkdir(exist_ok=True)
        path.write_text(CLUSTER)
        opened.append(
            subprocess.Popen(
                [sys.executable, str(path), str(workers)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
                text=True,
                cwd=path.parent,
            )
        )
        address, *pids = opened[-1].stdout.readline().split()
        return opened[-1], address, [int(pid) for pid in pids]

    yield start
    for one in opened:
        one.stdin.close()
        try:
            one.wait(30)
        except subprocess.TimeoutExpired:
            one.kill()
            one.wait()


@pytest.fixture
def folder(tmp_path):
    made = tmp_path / "weirs"
    made.mkdir()
    (made / "weir.py").write_text(WEIR)
    (made / "gauge.csv").write_text("2.5")
    return made


def sweep_of(folder, address: str, alphas: int = 10) -> Sweep:
    vary = ["alpha=" + ",".join(f"{k / 10}" for k in range(alphas)), "width=2,3,4"]
    launch = Launch("weir.py", ["{alpha}", "{width}"], cwd=str(folder))
    return Sweep(launch, Inputs(None, None, vary), str(folder / "kept.parquet"), ["total"], on=address)


async def test_the_same_groups_while_a_worker_is_lost(folder, started) -> None:
    _, address, pids = started()
    killed = False

    def say(done: int, before: int, ran) -> None:
        nonlocal killed
        if done > 5 and not killed:
            killed = True
            os.kill(pids[0], signal.SIGKILL)

    made = sweep_of(folder, address)
    found = await asyncio.wait_for(made.run(say), PATIENCE)
    assert killed and found.ran == 30 and found.fine == 16
    groups = {(one.fault[0], one.fault[2]): len(one.rows) for one in found.faults}
    assert groups == {("error", "7"): 10, ("nonfinite", "9"): 4}
    assert [one.fault[1] for one in found.faults] == ["weir.py", "weir.py"], "not the worker's folder"
    rows = sorted(ran.row for ran in Kept(made.kept, made.about()).rows())
    assert rows == list(range(1, 31)), "each row once"
    told = {ran.row: ran.results for ran in Kept(made.kept, made.about()).rows()}
    assert told[1] == {"total": "-2.5"} and told[3] == {"total": "2.5"}


async def test_interrupted_and_going_on(folder, started) -> None:
    _, address, _ = started()
    made = sweep_of(folder, address)
    first = asyncio.create_task(made.run(lambda done, before, ran: done >= 8 and first.cancel()))
    with pytest.raises(asyncio.CancelledError):
        await asyncio.wait_for(first, PATIENCE)
    before = []
    again = sweep_of(folder, address)
    found = await asyncio.wait_for(again.run(lambda done, was, ran: before.append(was)), PATIENCE)
    assert before[0] >= 8 and len(before) - 1 == 30 - before[0], "nothing is done twice"
    assert found.ran == 30


async def test_all_workers_are_lost(folder, started, monkeypatch) -> None:
    process, address, _ = started()
    monkeypatch.setattr(cluster, "PATIENCE", 1.0)
    monkeypatch.setattr(cluster, "LOOK", 0.2)
    lost = False

    def say(done: int, before: int, ran) -> None:
        nonlocal lost
        if done and not lost:
            lost = True
            process.stdin.write("\n")
            process.stdin.flush()

    made = sweep_of(folder, address, 200)
    with pytest.raises(BadUse, match=r"All workers of tcp:.* are gone\. Start some, and sweep again: it goes on\."):
        await asyncio.wait_for(made.run(say), PATIENCE)
    assert 0 < sum(1 for _ in Kept(made.kept, made.about()).rows()) < 600, "what was done is kept"


async def test_the_scheduler_is_lost(folder, started, monkeypatch) -> None:
    process, address, _ = started()
    monkeypatch.setattr(cluster, "PATIENCE", 1.0)
    monkeypatch.setattr(cluster, "LOOK", 0.2)
    made = sweep_of(folder, address, 200)
    with pytest.raises(BadUse, match="it goes on"):
        await asyncio.wait_for(made.run(lambda done, before, ran: done == 3 and process.kill()), PATIENCE)


class Failing:
    """A task whose result cannot be had."""

    def __init__(self, error: Exception) -> None:
        self.error, self.released = error, False

    async def result(self) -> bytes:
        raise self.error

    def release(self) -> None:
        self.released = True


@pytest.mark.parametrize(
    ("error", "told"),
    [
        (distributed.comm.CommClosedError("Stream is closed"), r"All workers of tcp://a are gone.*it goes on"),
        (OSError(28, "No space left on device"), r"A worker of tcp://a cannot unpack .*No space left on device"),
    ],
)
async def test_a_result_that_cannot_be_had(error, told) -> None:
    task = Failing(error)
    with pytest.raises(BadUse, match=told):
        await cluster.Cluster("tcp://a", None, b"").run(Ran(1, []), lambda files: task)
    assert task.released


async def test_a_cluster_without_workers(folder, started, monkeypatch) -> None:
    _, address, _ = started(0)
    monkeypatch.setattr(cluster, "PATIENCE", 0.5)
    with pytest.raises(BadUse, match="has no workers"):
        await sweep_of(folder, address).run()


def test_no_scheduler_and_jobs_beside(folder) -> None:
    command = [sys.executable, "-m", "uneven_sum", "sweep", "--vary", "width=2", "--on", "nowhere:1", "weir.py", "1"]
    ran = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    assert ran.returncode == 2 and ran.stderr.startswith("uneven-sum: No Dask scheduler answers at nowhere:1")
    command[4:4] = ["--jobs", "2"]
    ran = subprocess.run(command, cwd=folder, capture_output=True, text=True)
    assert ran.returncode == 2 and "--jobs is for this machine" in ran.stderr


async def test_workers_of_another_python() -> None:
    async def versions() -> dict:
        return {"workers": {"a": {"host": {"python": "3.9.1.final.0"}}, "b": {"host": {}}}}

    with pytest.raises(BadUse, match=r"run Python 3\.9, and this is 3"):
        await cluster._compare_versions(types.SimpleNamespace(get_versions=versions), "tcp://a")


class OtherVersion:
    """A client whose scheduler has calls of another version."""

    def __init__(self, *args, **named) -> None:
        self.closed = False

    def __await__(self):
        raise TypeError("Scheduler.identity() got an unexpected keyword argument 'n_workers'")
        yield

    async def close(self) -> None:
        self.closed = True


async def test_a_scheduler_of_another_version(folder, monkeypatch) -> None:
    monkeypatch.setattr("distributed.Client", OtherVersion)

    async def version(address: str) -> str:
        return "2024.12.1"

    monkeypatch.setattr(cluster, "_version_of", version)
    with pytest.raises(
        BadUse, match=r"runs Dask 2024\.12\.1, and does not work with Dask 20.*\(TypeError\): use the same"
    ):
        await sweep_of(folder, "tcp://127.0.0.1:1").run()


async def test_something_else_at_the_address(folder, monkeypatch) -> None:
    monkeypatch.setattr(cluster, "ANSWER", 1.0)
    silent = await asyncio.start_server(lambda reader, writer: None, "127.0.0.1")
    port = silent.sockets[0].getsockname()[1]
    with pytest.raises(BadUse, match="No Dask scheduler answers at tcp:"):
        await sweep_of(folder, f"tcp://127.0.0.1:{port}").run()
    silent.close()


async def test_the_version_of_a_scheduler(started) -> None:
    _, address, _ = started(1)
    assert await cluster._version_of(address) == distributed.__version__
    assert await cluster._version_of("tcp://127.0.0.1:1") == ""


def test_what_is_shipped(tmp_path, monkeypatch) -> None:
    monkeypatch.setenv("TMPDIR", str(tmp_path))
    monkeypatch.setattr("tempfile.tempdir", None)
    source = tmp_path / "source"
    for name in ("model.py", "data/one.csv", ".git/config", "__pycache__/model.pyc", "model.py.sweep.parquet"):
        (source / name).parent.mkdir(parents=True, exist_ok=True)
        (source / name).write_text(name)
    (source / "model.py").chmod(0o750)
    archive = cluster.packed(str(source))
    assert zipfile.ZipFile(io.BytesIO(archive)).namelist() == ["model.py", "data/one.csv"]
    os.utime(source / "model.py", (0, 0))
    assert cluster.packed(str(source)) == archive, "the same files are the same archive"
    folder = cluster.unpacked(archive)
    assert cluster.unpacked(archive) == folder and sorted(os.listdir(folder)) == ["data", "model.py"]
    assert os.stat(os.path.join(folder, "model.py")).st_mode & 0o777 == 0o750
    monkeypatch.setattr(cluster, "MOST", 5)
    with pytest.raises(BadUse, match="give a smaller one with --cwd"):
        cluster.packed(str(source))
