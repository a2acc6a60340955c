"""Sweeps that run: faults grouped, ended half-way and gone on with, kept in Parquet."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pyarrow.parquet as pq
import pytest
from driving import PATIENCE, slowness

from uneven_sum.client import BadUse, Launch
from uneven_sum.host.launch import Limits
from uneven_sum.sweep.kept import Kept
from uneven_sum.sweep.one import Ran
from uneven_sum.sweep.report import as_json, as_report, as_text
from uneven_sum.sweep.rows import Inputs
from uneven_sum.sweep.sweep import Sweep

SCRIPT = """\
import os
import sys
import time

row, width, gauge = int(sys.argv[1]), float(sys.argv[2]), sys.argv[3]
rating = {"north": 1.0, "east": 0.5, "sill": 0.0}
flow = 1e200 * width ** 2
big = flow * flow if width > 4 else flow
share = 1.0 / rating[gauge]
if row % 20 == 19:
    os.abort()
if row == 7:
    time.sleep(600)
with open("log.txt", "a") as f:
    f.write(f"{row}\\n")
total = row * 2.0
"""


def a_table(folder: Path, rows: int) -> str:
    lines = ["row,width,gauge"]
    for n in range(rows):
        gauge = "sill" if n % 10 == 3 else ("north", "east")[n % 2]
        lines.append(f"{n},{4.5 + n / 1000 if n % 10 == 4 else n % 4},{gauge}")
    (folder / "runs.csv").write_text("\n".join(lines) + "\n")
    return str(folder / "runs.csv")


async def test_faults_of_a_sweep(script, tmp_path: Path) -> None:
    path = script(SCRIPT)
    made = Sweep(
        Launch(path, ["{row}", "{width}", "{gauge}"], cwd=str(tmp_path)),
        Inputs(table=a_table(tmp_path, 20)),
        str(tmp_path / "kept.parquet"),
        ["total"],
        limit=8 * slowness(),
    )
    heard: list[int] = []
    found = await made.run(lambda done, before, ran: heard.append(done))
    assert heard == list(range(21))
    assert (found.ran, found.counts) == (20, {"finished": 14, "tripped": 4, "died": 1, "slow": 1})
    told = {one.outcome + one.fault[-1][:12]: (sorted(r.row for r in one.rows), one.apart) for one in found.faults}
    assert told == {
        "trippedflow * flow": ([5, 15], ["all 2 have width over 3"]),
        "tripped1.0 / rating": ([4, 14], ["all 2 have gauge = sill"]),
        "diedscript.py cr": ([20], ["it has row over 18"]),
        "slowslow": ([8], []),
    }
    text = as_text(found)
    assert ". 2 runs, non-finite at script.py:8\n" in text
    assert text.endswith("20 runs: 14 fine, 4 tripped, 1 died, 1 took too long. 4 different faults.\n")
    assert json.loads(as_json(found))["faults"][-1]["smallest"]["inputs"]["row"] in ("7", "19")
    table = pq.read_table(made.kept)
    assert table.num_rows == 20 and {"in.width", "out.total", "outcome"} <= set(table.column_names)
    rows = list(Kept(made.kept, made.about()).rows())
    assert {r.row: r.results.get("total") for r in rows}[3] == "4.0"
    assert "| 1 | 0 | 0 | north | 0.0 |" in as_report(found, rows, path)
    again = await made.run()
    assert again.ran == 20 and len((tmp_path / "log.txt").read_text().split()) == 14, "nothing ran twice"


def test_a_sweep_that_was_killed_goes_on(tmp_path: Path) -> None:
    (tmp_path / "model.py").write_text(SCRIPT.replace("row == 7", "False").replace("os.abort()", "pass"))
    a_table(tmp_path, 40)
    command = [sys.executable, "-m", "uneven_sum", "sweep", "--args-from", "runs.csv", "--jobs", "2", "--json"]
    command += ["model.py", "{row}", "{width}", "{gauge}"]
    part = tmp_path / "model.py.sweep.parquet.part"
    for how in (signal.SIGKILL, signal.SIGINT):
        before = len(part.read_text().splitlines()) if part.exists() else 0
        process = subprocess.Popen(
            command, cwd=tmp_path, stdout=-1, stderr=-1, start_new_session=True, preexec_fn=_hears_ctrl_c
        )
        end = time.monotonic() + PATIENCE
        while not part.exists() or len(part.read_text().splitlines()) < before + 6:
            assert time.monotonic() < end and process.poll() is None
            time.sleep(0.1)
        process.send_signal(how)
        _, said = process.communicate(timeout=PATIENCE)
        assert process.returncode == (-signal.SIGKILL if how == signal.SIGKILL else 130), said
    assert not part.exists(), "what was done is in the Parquet file"
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True)
    assert done.returncode == 1, done.stderr
    assert "runs are in model.py.sweep.parquet already" in done.stderr
    told = json.loads(done.stdout)
    assert (told["runs"], told["finished"], len(told["faults"])) == (40, 32, 2)
    log = [int(line) for line in (tmp_path / "log.txt").read_text().split()]
    ran = [ran.row for ran in Kept(str(tmp_path / "model.py.sweep.parquet"), _about(tmp_path)).rows()]
    assert sorted(ran) == list(range(1, 41)), "each row once"
    assert len(log) - len(set(log)) <= 4, "but those that were under way when it was ended"


def _hears_ctrl_c() -> None:
    """What a shell starts in the background ignores it."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def _about(folder: Path) -> dict:
    made = Sweep(Launch("model.py", ["{row}", "{width}", "{gauge}"], cwd=str(folder)), Inputs(), "")
    return {**made.about(), "runs": repr([sorted(made.launch.pause_on), None, [], {}, None, None])}


async def test_files_of_other_runs_are_refused(script, tmp_path: Path) -> None:
    path = script("import sys\nx = float(sys.argv[2])\n")
    kept = str(tmp_path / "kept.parquet")
    launch = Launch(path)
    await Sweep(launch, Inputs(vary=["x=1,2"]), kept).run()
    with pytest.raises(BadUse, match="has results of other runs"):
        await Sweep(launch, Inputs(vary=["x=1"]), kept, ["x"]).run()
    Path(path).write_text("import sys\ny = float(sys.argv[2])\n")
    with pytest.raises(BadUse, match="has results of another text of the script"):
        await Sweep(launch, Inputs(vary=["x=1"]), kept).run()
    Path(kept).write_text("no parquet")
    with pytest.raises(BadUse, match="is no file of a sweep"):
        await Sweep(launch, Inputs(vary=["x=1"]), kept).run()
    assert Path(kept).read_text() == "no parquet"


@pytest.mark.parametrize("room", [1500, 1], ids=["for some runs", "not for the first line"])
def test_a_full_disk_loses_nothing(room: int, script) -> None:
    """A limit on the size of files stands for the disk.  What was done before stays, and room makes it go on."""
    path = Path(script("import sys\nx = 1.0 / float(sys.argv[1])\n"))
    part = path.parent / "kept.parquet.part"
    command = [sys.executable, "-m", "uneven_sum", "sweep", "--vary", "k=" + ",".join(map(str, range(12)))]
    command += ["--jobs", "2", "--results", str(part.with_suffix("")), str(path), "{k}"]
    limited = f"import resource; resource.setrlimit(resource.RLIMIT_FSIZE, ({room}, {room}))"
    start = f"{limited}; import os, sys; os.execv(sys.argv[1], sys.argv[1:])"
    full = subprocess.run([sys.executable, "-c", start, *command], capture_output=True, text=True)
    assert full.returncode == 2 and "cannot be written: File too large. Make room, and sweep again" in full.stderr
    assert "Traceback" not in full.stderr
    done = sum(line.endswith("}") for line in part.read_text().splitlines()[1:])
    again = subprocess.run(command, capture_output=True, text=True)
    assert (f"{done} runs are in" in again.stderr) == (room > 1) == (0 < done < 12)
    assert again.returncode == 1 and "12 runs: 11 fine, 1 tripped" in again.stdout
    assert not part.exists()


def test_options_behind_the_script(script) -> None:
    path = script("pass\n")
    command = [sys.executable, "-m", "uneven_sum", "sweep", path, "--vary", "k=1,2"]
    said = subprocess.run(command, capture_output=True, text=True)
    assert said.returncode == 2 and f"put --vary before {path}." in said.stderr


async def test_rows_that_are_bad_and_scripts_of_their_own_folder(script, tmp_path: Path) -> None:
    home = tmp_path / "home"
    path = script(
        "import sys\nwith open('out.txt', 'x') as f:\n    f.write(sys.argv[1])\nraise SystemExit(int(sys.argv[1]))\n",
        "home/m.py",
    )
    (tmp_path / "runs.csv").write_text("n\n0\n3\n3,4\n")
    made = Sweep(
        Launch(path, ["{n}"], cwd=str(home)), Inputs(table=str(tmp_path / "runs.csv")), str(tmp_path / "k.parquet")
    )
    made.own_folder = True
    found = await made.run()
    assert found.counts == {"finished": 1, "status": 1, "bad": 1}
    assert os.listdir(home) == ["m.py"], "each run wrote in a copy"
    text = as_text(found)
    assert "Row 3: line 4 has 2 fields instead of 1." in text and "It ends with status 3." in text


MANY = """
import json, os, sys
import pyarrow.parquet
from uneven_sum.sweep.kept import Kept
from uneven_sum.sweep.one import Ran
from uneven_sum.sweep.one import Ran


def own():
    with open("/proc/self/status") as f:
        return next(int(line.split()[1]) for line in f if line.startswith("RssAnon")) / 1024


before, most = own(), 0.0
about = {"script": "m.py", "print": 1, "runs": ""}
kept = Kept(sys.argv[1], about)
kept.open()
for n in range(100_000):
    kept.add(Ran(n, [str(n)], {"a": str(n)}, headline="fine", results={"total": str(1.5 * n)}))
kept.close()
most = own()
again = Kept(sys.argv[1], about)
count = again.open()
most = max(most, own())
done = [again.was_done(("17",)), again.was_done(("17",))]
again.close()
print(json.dumps([count, done, max(most, own()) - before]))
"""


def test_many_rows_need_little_memory(tmp_path: Path) -> None:
    """A hundred thousand: what they need beside the program and the library itself, as it is between two steps."""
    told = subprocess.run([sys.executable, "-c", MANY, str(tmp_path / "k.parquet")], capture_output=True, text=True)
    count, done, megabytes = json.loads(told.stdout)
    assert (count, done) == (100_000, [True, False])
    assert megabytes < 40, "a list of them would need more"


async def test_what_happens_in_the_processes_of_a_run(script, tmp_path: Path) -> None:
    path = script(
        "import multiprocessing\nimport os\nimport sys\n\n\ndef flow(k):\n    if k == 3:\n        os.abort()\n"
        "    return 1e308 * k\n\n\nwith multiprocessing.get_context('fork').Pool(1) as pool:\n"
        "    print(pool.map(flow, [int(sys.argv[1])]))\n"
    )
    launch = Launch(path, ["{k}"], limits=Limits(trial=60))
    made = Sweep(launch, Inputs(None, None, ["k=0,3,5,6"]), str(tmp_path / "kept.parquet"))
    found = await made.run()
    assert (found.ran, found.fine) == (4, 1)
    told = {ran.row: (ran.outcome, ran.fault[:1]) for ran in Kept(made.kept, made.about()).rows() if ran.fault}
    assert told == {2: ("died", ["died"]), 3: ("tripped", ["nonfinite"]), 4: ("tripped", ["nonfinite"])}
    assert sorted(len(one.rows) for one in found.faults) == [1, 2]


def test_runs_in_both_files_count_once(tmp_path: Path) -> None:
    """The sweep was killed when the table was written, and before the lines were removed."""
    about = {"script": "model.py", "print": 1, "runs": "[]"}
    kept = Kept(str(tmp_path / "kept.parquet"), about)
    kept.open()
    for n in range(10):
        kept.add(Ran(n, ["7"], {}, headline="fine"))  # rows may have the same arguments
    lines = (tmp_path / "kept.parquet.part").read_bytes()
    kept.close()
    (tmp_path / "kept.parquet.part").write_bytes(lines)
    again = Kept(str(tmp_path / "kept.parquet"), about)
    assert again.open() == 10
    again.close()
    assert [ran.row for ran in Kept(str(tmp_path / "kept.parquet"), about).rows()] == list(range(10))
