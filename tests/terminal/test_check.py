"""The check command: report, JSON, exit statuses, bad input."""

from __future__ import annotations

import json
import os
import shlex
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from uneven_sum.check.check import check as run_check
from uneven_sum.check.report import as_json, as_text
from uneven_sum.cli import EXAMPLES, cli
from uneven_sum.client import Client, Launch, Trouble
from uneven_sum.demo import CASES, FOLDER, find

ENV = {**os.environ, "PYTHONPATH": ""}


def check(*args: str, **options) -> subprocess.CompletedProcess:
    command = [sys.executable, "-m", "uneven_sum", "check", *args]
    return subprocess.run(command, capture_output=True, text=True, timeout=300, stdin=subprocess.DEVNULL, **options)


DEMOS = {
    "rating": ("nonfinite", "created", "rating_year.py", 35, "rate", "head ** 1.5", 212, 365),
    "routing": ("nonfinite", "created", "channel.py", 22, "Channel.step", "coming - through", 429, 672),
    "lagged": ("error", None, "lagged_inflow.py", 28, "response", "inflow[day + LAG]", 365, 365),
    "join": ("nonfinite", "created", "join_gauges.py", 23, "coefficient", "inflow.join(rain)", None, None),
    "share": ("nonfinite", "created", "brook_share.py", 21, "shares", "flows / total", None, None),
}


def test_the_fit_is_found_whatever_the_linear_algebra_makes_of_it() -> None:
    """By rounding the normal equations are singular (an error), or their inverse has a negative diagonal."""
    (pause,) = json.loads(check("--json", str(find("fit"))).stdout)["pauses"]
    assert (os.path.basename(pause["file"]), pause["function"]) == ("fit_curve.py", "solve")
    assert pause["reason"] in ("error", "nonfinite") and pause["line"] in (30, 31, 32)
    assert set(CASES) == {*DEMOS, "fit", "total", "logger", "clock", "rain", "twins", "wet"}


@pytest.mark.parametrize("name", DEMOS)
def test_demo_cases(name: str) -> None:
    done = check("--json", str(find(name)))
    assert done.returncode == 1
    told = json.loads(done.stdout)
    assert (told["schema"], told["outcome"], told["exit_status"]) == (1, "tripped", None)
    (pause,) = told["pauses"]
    loop = pause["loops"][0] if pause["loops"] else {"pass": None, "of": None}
    assert os.path.isabs(pause["file"])
    got = (pause["reason"], pause["kind"], os.path.basename(pause["file"]), pause["line"], pause["function"])
    assert (*got, pause["culprit"]["text"], loop["pass"], loop["of"]) == DEMOS[name]


def test_json_holds_what_is_promised() -> None:
    told = json.loads(check("--json", str(find("rating"))).stdout)
    assert set(told) == {"schema", "outcome", "exit_status", "seconds", "pauses"}
    pause = told["pauses"][0]
    promised = {"reason", "kind", "headline", "exception", "warnings", "file", "line", "function", "statement", "trail"}
    assert promised | {"loops", "culprit", "terms"} <= set(pause)
    assert pause["statement"] == "flow[day] = C * head ** 1.5 * WIDTH"
    assert {"depth", "text", "value", "type", "shape", "dtype", "nonfinite", "culprit", "how"} == set(pause["terms"][0])
    assert {"text", "value", "type", "cell", "operands"} <= set(pause["culprit"])
    assert [p["pass"] for p in pause["passes"]] == list(range(202, 212))
    assert pause["passes"][-1]["values"]["level"] == 4.003 and pause["passes"][-1]["values"]["flow[day]"] > 0
    (pause,) = json.loads(check("--json", "--passes", "0", str(find("rating"))).stdout)["pauses"]
    assert pause["passes"] == []
    assert pause["culprit"]["operands"] == [{"text": "head", "value": "-0.017"}]
    assert [c["function"] for c in pause["trail"]] == ["<module>", "main", "rate"]
    assert pause["culprit"]["type"] == "numpy.float64"


def test_nothing_is_added_when_nothing_trips(script) -> None:
    path = script("import sys\nprint('out', 1 / 4)\nprint('err', file=sys.stderr)\n")
    done = check(path)
    assert (done.returncode, done.stdout, done.stderr) == (0, "out 0.25\n", "err\n")


def test_report_follows_the_output_on_standard_error(script) -> None:
    done = check(script("print('before')\nx = 1 / 0\n"))
    assert (done.returncode, done.stdout) == (1, "before\n")
    assert done.stderr.startswith("ZeroDivisionError at line 2: division by zero.")
    assert "  in     2  x = 1 / 0" in done.stderr
    assert "1 / 0  ! raised  culprit" in done.stderr


def test_with_json_the_script_writes_to_standard_error(script) -> None:
    done = check("--json", script("print('hello')\n"))
    assert json.loads(done.stdout)["outcome"] == "finished"
    assert done.stderr == "hello\n"


def test_all_records_each_statement_once_and_goes_on(script) -> None:
    path = script(
        "import numpy as np\nfor k in range(3):\n    a = np.float64(1.0) / 0\n    b = np.log(np.float64(-k - 1))\nraise KeyError('end')\n"
    )
    done = check("--json", "--all", path)
    told = json.loads(done.stdout)
    assert [(p["reason"], p["line"]) for p in told["pauses"]] == [("nonfinite", 3), ("nonfinite", 4), ("error", 5)]
    assert (told["outcome"], told["exit_status"], done.returncode) == ("tripped", 1, 1)
    assert "KeyError: 'end'" in done.stderr


def test_status_of_its_own(script) -> None:
    done = check(script("import sys\nsys.exit(7)\n"))
    assert (done.returncode, done.stderr) == (3, "")
    assert json.loads(check("--json", script("raise SystemExit('bye')\n")).stdout)["exit_status"] == 1


def test_arguments_after_the_script_are_its_own(script) -> None:
    done = check(script("import sys\nprint(sys.argv[1:])\n"), "--json", "--all", "-h")
    assert done.stdout == "['--json', '--all', '-h']\n"


def test_pause_on_and_no_pause_on(script) -> None:
    path = script("import numpy as np\nx = np.log(np.array([-1.0]))\nprint('end')\n")
    assert check("--no-pause-on", "nonfinite,warning", path).returncode == 0
    assert check("--pause-on", "error", path).returncode == 0
    assert json.loads(check("--json", "--pause-on", "warning", path).stdout)["pauses"][0]["reason"] == "warning"


def test_environment_directory_and_user_code(script, tmp_path) -> None:
    other = tmp_path / "other"
    other.mkdir()
    (other / "gauges.py").write_text("def ratio(a, b):\n    return a / b\n")
    path = script(
        "import os, sys\nsys.path.append(os.environ['GAUGES'])\nimport gauges\nprint(os.getcwd())\ngauges.ratio(1, 0)\n"
    )
    done = check("--json", "--env", f"GAUGES={other}", "--cwd", str(tmp_path), "--user-code", str(other), path)
    pause = json.loads(done.stdout)["pauses"][0]
    assert (os.path.basename(pause["file"]), pause["line"], pause["function"]) == ("gauges.py", 2, "ratio")


@pytest.mark.parametrize(
    ("code", "signal", "sentence"),
    [
        ("import os, signal\nx = 1\nos.kill(os.getpid(), signal.SIGSEGV)\n", "SIGSEGV", "segmentation fault"),
        ("import ctypes\nx = 1\nctypes.string_at(0)\n", "SIGSEGV", "segmentation fault"),
        ("import os\nx = 1\nos.abort()\n", "SIGABRT", "abort"),
    ],
)
def test_a_script_that_dies(code: str, signal: str, sentence: str, script) -> None:
    path = script(code)
    done = check("--json", path)
    told = json.loads(done.stdout)
    assert (told["outcome"], told["exit_status"], told["signal"]) == ("died", None, signal)
    assert sentence in told["message"] and f"line 3 of {path}" in told["message"]
    assert done.returncode == 3


def test_a_script_that_leaves_at_once(script) -> None:
    told = json.loads(check("--json", script("import os\nos._exit(4)\n")).stdout)
    assert (told["outcome"], told["exit_status"], told["signal"]) == ("died", 4, None)
    assert "status 4" in told["message"] and "line 2" in told["message"]


def bad(*args: str, **options) -> str:
    done = check(*args, **options)
    assert done.returncode == 2, done
    assert "Traceback" not in done.stderr and done.stdout == ""
    assert done.stderr.startswith("uneven-sum: ") or done.stderr.startswith("Usage: ")
    return done.stderr


def test_bad_scripts(script, tmp_path) -> None:
    assert "There is no file" in bad(str(tmp_path / "none.py"))
    assert "is a folder" in bad(str(tmp_path))
    binary = tmp_path / "data.py"
    binary.write_bytes(b"\x7fELF\0\0")
    assert "not a text file" in bad(str(binary))
    wrong = bad(script("x = 1\ny = (2 +\nz = 3\n"))
    assert "line 2: '(' was never closed." in wrong and "    y = (2 +\n        ^" in wrong
    assert "cannot be found" in bad("--module", "no.such.module")
    assert "no module nothing_here" in bad("--module", "nothing_here")
    latin = tmp_path / "latin.py"
    latin.write_bytes(b"x = '\xe9'\n")
    assert "utf-8" in bad(str(latin))


def test_bad_interpreters(script, tmp_path) -> None:
    path = script("x = 1\n")
    assert "no interpreter" in bad("--python", str(tmp_path / "none"), path)
    assert "not a Python" in bad("--python", "/bin/true", path)
    assert "is a folder" in bad("--python", str(tmp_path), path)
    older = Path.home() / ".pyenv/versions/3.10.13/bin/python"
    if older.exists():
        assert "Python 3.10; 3.11 or later" in bad("--python", str(older), path)


def test_bad_options(script, tmp_path) -> None:
    path = script("x = 1\n")
    assert "--env takes NAME=VALUE" in bad("--env", "NAME", path)
    assert "does not know sums" in bad("--pause-on", "sums", path)
    assert "not a folder" in bad("--cwd", str(tmp_path / "none"), path)
    assert "Missing argument" in bad()


def test_works_in_interpreters_that_know_nothing_of_us(interpreter: str, script) -> None:
    path = script("import math\nx = 1e200\nfor k in range(5):\n    x = x * 1e30\n")
    told = json.loads(check("--json", "--python", interpreter, path).stdout)
    pause = told["pauses"][0]
    assert (pause["line"], pause["culprit"]["text"], pause["loops"][0]["pass"]) == (4, "x * 1e30", 4)


@pytest.mark.parametrize("command", EXAMPLES)
def test_help_has_examples_that_can_be_read(command: str) -> None:
    done = subprocess.run([sys.executable, "-m", "uneven_sum", command, "--help"], capture_output=True, text=True)
    assert done.returncode == 0
    lines = [line.strip() for line in done.stdout.partition("Examples:")[2].splitlines() if line.strip()]
    assert lines == [f"uneven-sum {line}" for line in EXAMPLES[command]]
    for line in EXAMPLES[command]:  # each is taken by the command line as it stands
        words = shlex.split(line)
        context = cli.commands[words[0]].make_context(words[0], words[1:])
        assert context.params


def test_demo_lists_its_cases() -> None:
    done = subprocess.run([sys.executable, "-m", "uneven_sum", "demo"], capture_output=True, text=True)
    assert all(name in done.stdout for name in CASES)
    done = subprocess.run([sys.executable, "-m", "uneven_sum", "demo", "none"], capture_output=True, text=True)
    assert done.returncode == 2 and "no demo case none" in done.stderr


def test_a_held_script_in_the_terminal(terminal, tmp_path) -> None:
    """Held in one terminal, looked at from another one, left, looked at again, stopped."""
    for name in ("rating_year.py", "stage_2031.csv"):
        shutil.copy(FOLDER / name, tmp_path / name)
    batch = terminal("check", "--hold", "3000", "--cwd", str(tmp_path), "rating_year.py")
    batch.expect("uneven-sum attach /")
    one = terminal("attach", str(tmp_path / "rating_year.py.held"))
    one.expect("Culprit: head ** 1.5 with head = -0.017")
    one.keys("Space")
    one.expect("At line 36.")
    one.keys("BSpace")
    one.expect("Culprit: head ** 1.5 with head = -0.017")
    one.keys("R")
    one.expect("A held script does not rerun")
    one.keys("q")
    one.expect("left with status 0")
    again = terminal("attach", str(tmp_path / "rating_year.py.held"))
    again.expect("Culprit: head ** 1.5 with head = -0.017")
    again.keys("X")
    again.expect("Script stopped.")
    batch.expect("left with status 1")
    assert not (tmp_path / "rating_year.py.held").exists()


@pytest.mark.parametrize("command", [["check"], ["check", "--hold", "0.1"], ["differ", "--twice"], ["digits"]])
def test_a_temporary_folder_of_a_long_name(command: list[str], tmp_path, monkeypatch) -> None:
    """The path of a socket must be short."""
    path = tmp_path / "gauge.py"
    path.write_text("level = 3.5\nfor k in range(3):\n    level = 0.5 * level\nprint(level)\n")
    folder = tmp_path / ("a" * 60) / ("b" * 60)
    folder.mkdir(parents=True)
    told = subprocess.run(
        [sys.executable, "-m", "uneven_sum", *command, str(path)],
        capture_output=True,
        text=True,
        env={**os.environ, "TMPDIR": str(folder)},
    )
    assert told.returncode == 0, told.stderr
    assert "AF_UNIX" not in told.stderr + told.stdout


def test_a_run_that_ctrl_c_ends_has_its_status(tmp_path: Path) -> None:
    path = tmp_path / "long.py"
    path.write_text("import time\nprint('begun', flush=True)\nwhile True:\n    time.sleep(0.05)\n")
    command = [sys.executable, "-m", "uneven_sum", "check", str(path)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True, start_new_session=True) as process:
        assert process.stdout.readline() == "begun\n"
        os.killpg(process.pid, signal.SIGINT)
        assert process.wait(60) == 130


async def test_a_failure_of_our_own_is_said(script, monkeypatch) -> None:
    """A script without a pause is not called fine where its values could not be judged."""
    events = [Trouble("TypeError: no index", "")]
    plain = Client.next_event

    async def with_trouble(client: Client) -> object:
        return events.pop() if events else await plain(client)

    monkeypatch.setattr(Client, "next_event", with_trouble)
    outcome = await run_check(Launch(script("level = 2.0\n")))
    assert outcome.our_status == 70 and outcome.said
    assert "failed while it looked at a value (TypeError: no index)" in as_text(outcome)
    assert json.loads(as_json(outcome))["failed"] == ["TypeError: no index"]


@pytest.mark.parametrize("options", ["", "--audit", "--all", "--json"])
def test_a_closed_output_is_no_crash(tmp_path: Path, options: str) -> None:
    path = tmp_path / "zero.py"
    path.write_text("import numpy as np\nprint(np.log(np.array([0.0])))\n")
    command = f"{shlex.quote(sys.executable)} -m uneven_sum check {options} {shlex.quote(str(path))} >&-"
    done = subprocess.run(["sh", "-c", command], capture_output=True, text=True, stdin=subprocess.DEVNULL)
    assert done.returncode in (0, 1) and "crashed" not in done.stderr


def test_a_name_that_is_no_utf8_is_refused(tmp_path: Path) -> None:
    path = os.fsencode(tmp_path) + b"/\xff.py"
    with open(path, "w") as f:
        f.write("print(1)\n")
    command = [os.fsencode(sys.executable), b"-m", b"uneven_sum", b"check", path]
    done = subprocess.run(command, capture_output=True, stdin=subprocess.DEVNULL)
    assert done.returncode == 2 and b"is not in UTF-8" in done.stderr


def test_a_file_name_with_controls_is_printed_in_one_line(tmp_path: Path) -> None:
    path = tmp_path / "a\nb\x1b[31m.py"
    path.write_text("stage = 0\nprint(1 / stage)\n")
    done = check("--hold", "0.5", str(path))
    assert r"a\nb\x1b[31m.py:2 <module>" in done.stderr and "\x1b" not in done.stderr + done.stdout
    assert r"a\nb\x1b[31m.py.held." in done.stderr


def test_a_script_that_closes_our_connection(script) -> None:
    done = check(script("import os\nos.closerange(3, 200)\nprint('done')\n"))
    assert done.stdout.startswith("done\n")
    assert "exited with status 0. It was not seen to its end: " in done.stdout + done.stderr


def test_a_warning_that_is_an_error_is_said_without_our_calls(script) -> None:
    done = check(script("stage = '\\d'\n"), env={**ENV, "PYTHONWARNINGS": "error"})
    assert done.returncode == 2 and "line 1: invalid escape sequence '\\d'" in done.stderr
    assert "Traceback" not in done.stderr
    assert check(script("print('\\d')\n")).returncode == 0


def test_a_broken_import_has_the_traceback_that_it_has_plainly(script, interpreter: str) -> None:
    script("def (\n", "gauges.py")
    path = script("import gauges\n")
    plain = subprocess.run([interpreter, path], capture_output=True, text=True, timeout=300, env=ENV).stderr
    watched = check("--all", "--python", interpreter, path).stderr
    assert watched.startswith(plain) and "frozen" not in plain


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGKILL])
def test_a_worker_that_is_killed_from_outside_is_reported(script, tmp_path: Path, number: int) -> None:
    text = "import multiprocessing, os, time\ndef flow(path):\n    with open(path + '~', 'w') as f:\n"
    text += "        f.write(str(os.getpid()))\n    os.rename(path + '~', path)\n    time.sleep(600)\n"
    text += (
        f"with multiprocessing.get_context('fork').Pool(2) as pool:\n    pool.map(flow, [{str(tmp_path / 'pid')!r}])\n"
    )
    command = [sys.executable, "-m", "uneven_sum", "check", script(text)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    end = time.monotonic() + 120
    while not (tmp_path / "pid").exists():
        assert time.monotonic() < end
        time.sleep(0.05)
    os.kill(int((tmp_path / "pid").read_text()), number)
    said, _ = process.communicate(timeout=120)
    assert process.returncode == 1 and (number.name in said)


def test_workers_that_the_script_ends_are_no_problem(script) -> None:
    text = "import multiprocessing, time\ncontext = multiprocessing.get_context('fork')\n"
    text += "pool = context.Pool(2)\npool.apply_async(time.sleep, (60,))\ntime.sleep(0.3)\npool.terminate()\n"
    text += "one = context.Process(target=time.sleep, args=(60,))\none.start()\ntime.sleep(0.3)\none.terminate()\n"
    text += "time.sleep(2)\nprint('done')\n"
    done = check(script(text))
    assert (done.returncode, done.stdout, done.stderr) == (0, "done\n", "")


def test_the_headline_says_where_a_pattern_did_not_match(script) -> None:
    text = "import re\nLINE = re.compile(r'gauge (\\w+)\\s+stage (\\d+\\.\\d+) m')\ndef stage_of(text):\n"
    text += "    found = LINE.match(text)\n    return float(found.group(2))\nstage_of('gauge upper  stage n/a m')\n"
    said = json.loads(check("--json", script(text)).stdout)["pauses"][0]["headline"]
    assert "found is None since line 4: no match: wanted `\\d+` at position 19, found `n`" in said
