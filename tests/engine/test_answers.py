"""What `check` and audits say of sound scripts, and of those whose fault they had missed."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest


def check(path: Path, *options: str) -> subprocess.CompletedProcess:
    command = [sys.executable, "-m", "uneven_sum", "check", *options, str(path)]
    return subprocess.run(command, capture_output=True, text=True, stdin=subprocess.DEVNULL)


def pauses(tmp_path: Path, text: str) -> list[dict]:
    path = tmp_path / "script.py"
    path.write_text(text)
    return json.loads(check(path, "--all", "--json").stdout)["pauses"]


def findings(tmp_path: Path, text: str) -> list[tuple[str, int]]:
    path = tmp_path / "script.py"
    path.write_text(text)
    return [(f["rule"], f["line"]) for f in json.loads(check(path, "--audit", "--json").stdout)["findings"]]


MASKED = """\
import numpy as np

def weights(distance):
    w = 1.0 / distance
    w[np.isinf(w)] = 0.0
    return w

def named(distance):
    w = 1.0 / distance ** 2
    bad = ~np.isfinite(w)
    w[bad] = 0.0
    return w

def kept(distance):
    w = 1.0 / distance
    print(np.isinf(w).sum())
    return w

d = np.array([0.0, 1.0, 2.0])
print(weights(d), named(d), KEPT)
"""


def test_infinities_that_their_function_masks_do_not_pause(tmp_path: Path) -> None:
    assert pauses(tmp_path, MASKED.replace("KEPT", "1")) == []


COUNTED = """\
import numpy as np
w = 1.0 / np.array([0.0, 2.0])
print("infinite:", np.isinf(w).sum())
print(w.mean())
"""


@pytest.mark.parametrize("count", ["np.isinf(w).sum()", "np.isfinite(w).all()", "np.isinf(w)"])
def test_infinities_that_are_only_counted_pause(tmp_path: Path, count: str) -> None:
    (pause,) = pauses(tmp_path, COUNTED.replace("np.isinf(w).sum()", count))
    assert (pause["reason"], pause["line"]) == ("nonfinite", 2)


@pytest.mark.parametrize(
    "mask",
    [
        "w = np.where(np.isinf(w), 0.0, w)", "w[np.isinf(w)] = 0.0", "w = w[np.isfinite(w)]",
        "bad = ~np.isfinite(w)\nw[bad] = 0.0", "w = np.nan_to_num(w)", "if np.isinf(w).any():\n    w = np.zeros(2)",
    ],
)  # fmt: skip
def test_infinities_that_are_masked_at_the_top_do_not_pause(tmp_path: Path, mask: str) -> None:
    assert pauses(tmp_path, COUNTED.replace('print("infinite:", np.isinf(w).sum())', mask)) == []


def test_infinities_that_leave_their_function_pause_there(tmp_path: Path) -> None:
    (pause,) = pauses(tmp_path, MASKED.replace("KEPT", "kept(d)"))
    assert (pause["reason"], pause["line"]) == ("nonfinite", 15)


def test_a_count_is_of_cells_in_each_part_of_a_tuple(tmp_path: Path) -> None:
    text = "import numpy as np\nfrom scipy import special\na, b, c, d = special.airy(np.array([1.0, 200.0, 1e3]))\n"
    (pause,) = pauses(tmp_path, text)
    assert pause["headline"].startswith("4 non-finite cells created at line 3")


def test_a_series_to_be_filled_is_no_missing_data(tmp_path: Path) -> None:
    text = "import pandas as pd\ndays = pd.date_range('2031-01-01', periods=4)\n{}\ns[:] = 1.0\n"
    for made in ("s = pd.Series(index=days, dtype='float64')", "s = pd.DataFrame(index=days, columns=['a', 'b'])"):
        assert pauses(tmp_path, text.format(made)) == []


SOUND = """\
import numpy as np
hashes = np.array([2**63, 2**63 + 5, 17], dtype=np.uint64)
print(hashes.sum(), 1.0 in (None, -np.inf, np.inf))
x = np.array([1.0, 2.0])
label = "stage"
try:
    x.name = label
except AttributeError:
    pass
"""


def test_sound_scripts_have_no_findings(tmp_path: Path) -> None:
    assert findings(tmp_path, SOUND) == []
    hidden = SOUND.replace("    x.name = label", "    x.name = label.rate()")
    assert findings(tmp_path, hidden) == [("swallowed", 8)]


@pytest.mark.parametrize("call", ["np.ptp(x)", "np.ptp(np.stack([x, x]), axis=1)"])
def test_a_range_that_its_dtype_does_not_hold_wraps(tmp_path: Path, call: str) -> None:
    text = f"import numpy as np\nx = np.array([100, -100, 3], dtype=np.int8)\nprint({call})\n"
    assert findings(tmp_path, text) == [("wrap", 3)]
    assert findings(tmp_path, text.replace("int8", "int16")) == []


WARNS = """\
import pandas as pd
print(pd.DataFrame({"a": [1.0, 2.0], "b": [2.0, 3.0]}).sum(1))

def f(x, y):
    assert x + y == 4, "sum"

f(1, 2)
"""


def test_an_audit_prints_what_the_script_prints(tmp_path: Path, interpreter: str) -> None:
    path = tmp_path / "script.py"
    path.write_text(WARNS)
    plain = subprocess.run([interpreter, str(path)], capture_output=True, text=True)
    audited = check(path, "--audit", "--python", interpreter)
    assert plain.stdout == audited.stdout and plain.stderr in audited.stderr
