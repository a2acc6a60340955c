"""Parts of the agent and the protocol, each on its own."""

from __future__ import annotations

import ast
import base64
import json
import math
import os
import struct
import subprocess
import sys
from decimal import Decimal

import numpy as np
import pandas as pd
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from uneven_sum.agent.core import text
from uneven_sum.agent.diagnosis import reasons
from uneven_sum.agent.frames import stack
from uneven_sum.agent.probes import runtime
from uneven_sum.agent.reload.loader import Loader
from uneven_sum.agent.source import registry
from uneven_sum.agent.source.sites import Options
from uneven_sum.agent.source.source_file import SourceFile
from uneven_sum.agent.stepping.line_events import LineEvents
from uneven_sum.agent.values import describe, nonfinite
from uneven_sum.app.plotting.spark import decode, spark
from uneven_sum.app.shell.theme import CHALK, SLATE
from uneven_sum.protocol import Decoder, MalformedMessage, encode

floats = st.floats(allow_nan=True, allow_infinity=True)


@given(st.lists(floats, max_size=40))
def test_counts_agree_with_numpy(data: list[float]) -> None:
    array = np.array(data, dtype=float)
    wanted = int((~np.isfinite(array)).sum())
    assert nonfinite.count(array) == wanted
    assert nonfinite.any_bad(array) == (wanted > 0)
    assert nonfinite.mask(array).sum() == wanted
    assert nonfinite.count(array.astype(complex)) == wanted
    assert bool(nonfinite.count(data)) == (wanted > 0)
    assert nonfinite.count(pd.Series(array)) == wanted
    assert describe.summary(array)["nonfinite"] == wanted


@given(st.integers(0, 300_000), st.sampled_from([math.nan, math.inf, -math.inf]))
@settings(max_examples=20)
def test_large_arrays_are_looked_at_everywhere(place: int, bad: float) -> None:
    array = np.zeros(300_001)
    array[place] = bad
    assert nonfinite.count(array) == 1 and nonfinite.any_bad(array)
    grid = np.zeros((601, 602))[:, ::2]
    grid.flat[place % grid.size] = bad
    assert nonfinite.count(grid) == 1 and nonfinite.any_bad(grid)


@pytest.mark.parametrize(
    ("value", "count"),
    [
        (1.0, 0),
        (math.nan, 1),
        (complex(0, math.inf), 1),
        (Decimal("NaN"), 1),
        (Decimal("1.5"), 0),
        (np.float32("inf"), 1),
        (np.int64(3), 0),
        ("nan", 0),
        (None, 0),
        ((1.0, math.nan), 1),
        ({"a": math.inf}, 1),
        (np.ma.masked_invalid([1.0, math.nan]), 0),
        (np.array([1, 2]), 0),
        (np.array([], dtype=float), 0),
        (np.array(math.nan), 1),
        (np.array([(1.0, math.nan)], dtype=[("a", float), ("b", float)]), 1),
        (pd.DataFrame({"a": [1.0, math.nan], "b": ["x", None]}), 2),
        (pd.Series([1, None], dtype="Int64"), 1),
        (np.array([1.5, None, math.nan], dtype=object), 1),
    ],
)
def test_counts_of_kinds(value: object, count: int) -> None:
    assert nonfinite.count(value) == count


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_numbers_shown_have_six_digits(value: float) -> None:
    shown = text.number(value)
    assert math.isclose(float(shown), value, rel_tol=5.1e-6, abs_tol=5e-324)
    assert any(c in shown for c in ".e")


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (0.0, "0.0"),
        (math.nan, "nan"),
        (-math.inf, "-inf"),
        (True, "True"),
        (7**1000, "int of about 846 digits"),
        (1 + 2j, "1.0 + 2.0j"),
        ([1, 2.5], "[1, 2.5]"),
        ((1,), "(1,)"),
        ({"a": 1}, "1 key {'a': 1}"),
        (range(3), "range(0, 3), 3 numbers"),
        (np.arange(3.0), "3 cells float64, [0.0 1.0 2.0]"),
        (np.zeros((2, 3), dtype=int), "2 x 3 cells int64, 0 … 0"),
        (np.array(["2031-01-01", "NaT"], dtype="datetime64[D]"), "2 cells datetime64[D], 1 NaT"),
        (Decimal("1.50"), "1.50"),
        (math, "module math"),
        (len, "function len"),
        ("a\tb", "'a\\tb'"),
    ],
)
def test_one_line_summaries(value: object, text: str) -> None:
    assert describe.text_of(value) == text


@given(st.one_of(st.text(), st.binary(), st.lists(floats), st.dictionaries(st.text(), floats), st.complex_numbers()))
def test_summaries_are_one_printable_line(value: object) -> None:
    text = describe.text_of(value)
    assert text.isprintable() and len(text) < 500


@pytest.mark.parametrize(
    ("code", "operands", "words"),
    [
        ("a ** b", [-1.0, 1.5], "a negative number to a fractional power"),
        ("a / b", [1.0, 0.0], "a division by zero"),
        ("a / b", [0.0, 0.0], "zero divided by zero"),
        ("a - b", [math.inf, math.inf], "inf minus inf"),
        ("a * b", [0.0, math.inf], "zero times infinity"),
        ("a * b", [1e200, 1e200], "float overflow"),
        ("np.log(a)", [0.0], "the logarithm of zero"),
        ("np.sqrt(a)", [-1.0], "the square root of a negative number"),
        ("f(a)", ["text"], ""),
    ],
)
def test_reasons(code: str, operands: list, words: str) -> None:
    assert reasons.reason(ast.parse(code, mode="eval").body, operands).text == words


def test_statements_know_their_surroundings() -> None:
    file = SourceFile(
        "x.py",
        b"def f():\n    for k in a:\n        try:\n            b = (k +\n                 1)\n        except (KeyError, E):\n            pass\n",
    )
    inner = file.innermost(5)
    assert inner is not None and inner.line == 4
    assert [type(n).__name__ for n in inner.loops] == ["For"]
    assert [len(h.classes or []) for h in inner.handlers] == [2]
    assert file.innermost(99) is None


def test_only_the_users_files_are_rewritten(tmp_path) -> None:
    loader = Loader(Options())
    loader.folders = [str(tmp_path) + "/"]
    assert loader.is_users(str(tmp_path / "model.py"))
    assert not loader.is_users(str(tmp_path / ".venv/lib/python3.11/site-packages/numpy/x.py"))
    assert not loader.is_users(ast.__file__)
    assert not loader.is_users("/elsewhere/model.py")


def test_what_cannot_be_rewritten_runs_plain() -> None:
    deep = "".join("    " * k + f"for k{k} in [0]:\n" for k in range(18)) + "    " * 18 + "x = 1.0\n"
    space: dict = {}
    exec(Loader(Options()).compile("deep.py", deep.encode()), space)
    assert space["x"] == 1.0


def test_the_agent_needs_the_standard_library_only() -> None:
    code = (
        "import sys; sys.path[:] = [p for p in sys.path if 'site-packages' not in p];"
        "import importlib.util as u;"
        "s = u.spec_from_file_location('_a', sys.argv[1] + '/__init__.py', submodule_search_locations=[sys.argv[1]]);"
        "m = u.module_from_spec(s); sys.modules['_a'] = m; s.loader.exec_module(m);"
        "import pkgutil, importlib;"
        "names = [n.name for n in pkgutil.walk_packages(m.__path__, '_a.') if n.name != '_a.boot'];"
        "[importlib.import_module(n) for n in names];"
        "others = {n.partition('.')[0] for n in sys.modules} - sys.stdlib_module_names - {'_a', '__main__'};"
        "print(len(names) > 60, sorted(others))"
    )
    folder = os.path.dirname(os.path.dirname(nonfinite.__file__))
    done = subprocess.run([sys.executable, "-I", "-S", "-c", code, folder], capture_output=True, text=True)
    assert done.stdout == "True []\n", done.stdout + done.stderr


messages = st.dictionaries(st.text(), st.one_of(st.integers(-(2**53), 2**53), st.text(), st.booleans(), st.none()))


@given(st.lists(messages, max_size=5), st.integers(1, 50))
def test_framing_survives_any_cutting(sent: list[dict], size: int) -> None:
    data = b"".join(map(encode, sent))
    decoder, got = Decoder(), []
    for start in range(0, len(data), size):
        got += decoder.feed(data[start : start + size])
    assert got == sent


@pytest.mark.parametrize(
    "data",
    [
        b"Content-Length: x\r\n\r\n",
        b"Length: 3\r\n\r\n",
        b"Content-Length: 3\r\n\r\n{a}",
        b"Content-Length: 2\r\n\r\n[]",
        b"x" * 9000,
    ],
)
def test_malformed_messages_are_refused(data: bytes) -> None:
    with pytest.raises(MalformedMessage):
        Decoder().feed(data)


@given(st.lists(st.tuples(floats, floats).map(sorted), min_size=1, max_size=60), st.integers(1, 40))
@example([[0.0, 5e-324]], 1)
def test_sparks_never_fail(columns: list, width: int) -> None:
    pairs = [(a, b) if math.isfinite(a) and math.isfinite(b) else (math.nan, math.nan) for a, b in columns]
    marks = "".join("0" if math.isfinite(a) else "1" for a, _ in pairs)
    line = spark(pairs, marks, width)
    assert len(line) == min(width, (len(pairs) + 1) // 2)
    assert ("!" in line) == ("1" in marks[: 2 * width])


def test_picture_keeps_peaks_and_bad_cells() -> None:
    array = np.zeros(10_000)
    array[1234], array[4321] = 99.0, math.nan
    told = describe.summary(array)
    columns = decode(told["picture"])
    assert max(high for _, high in columns) == 99.0
    assert told["marks"].count("1") == 1
    assert base64.b64decode(told["picture"])[:8] == struct.pack("<d", 0.0)


def _luminance(colour: str) -> float:
    parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
    r, g, b = (p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
    return 0.2126 * r + 0.7152 * g + 0.0722 * b


@pytest.mark.parametrize("palette", [SLATE, CHALK], ids=lambda p: p.name)
def test_text_has_enough_contrast(palette) -> None:
    """WCAG 2.1: at least 4.5 : 1 for all text on all grounds that it stands on."""
    for ground in (palette.ground, palette.panel, palette.tint, palette.cursor):
        for name in (
            "text",
            "quiet",
            "at",
            "changed",
            "breakpoint",
            "nonfinite",
            "error",
            "warning",
            "fine",
            "keyword",
            "string",
        ):
            light, dark = sorted((_luminance(getattr(palette, name)), _luminance(ground)), reverse=True)
            assert (light + 0.05) / (dark + 0.05) >= 4.5, (name, ground)


def test_each_call_has_its_own_answer_to_a_failed_statement(monkeypatch) -> None:
    """Two threads may fail at once: the answer of one must not reach the other."""
    answers = iter(["retry", "", "retry"])

    class Answers(runtime.Listener):
        def failed(self, *args: object) -> str:
            return next(answers)

    monkeypatch.setattr(runtime, "listener", Answers())
    monkeypatch.setattr(runtime, "sites", [None])
    between: list[bool] = []

    def outer() -> bool:
        try:
            raise ValueError
        except ValueError:
            skipped = runtime.failed(0)
            inner(between)
            return runtime.again() and not skipped and not runtime.again()

    def inner(found: list[bool]) -> None:
        try:
            raise KeyError
        except KeyError:
            found += [runtime.failed(0), runtime.again(), runtime.failed(0), runtime.again(), runtime.again()]

    assert outer()
    assert between == [False, False, False, True, False]


def test_a_line_event_after_the_end_of_the_watch_does_nothing() -> None:
    """Another thread may have ended the watch while the event was on its way."""
    told: list[object] = []
    events = LineEvents(
        told.append, lambda frame: True, lambda frame, value: None, lambda: False, lambda test, frame: False
    )
    assert events._line(test_a_line_event_after_the_end_of_the_watch_does_nothing.__code__, 1) is None
    assert told == []


def test_passes_are_counted_as_they_are_told() -> None:
    source = "def work(n):\n    for k in range(n):\n        seen.append(look())\n    for k in list(range(n)):\n        seen.append(look())\n"
    name = "/passes/work.py"
    code = Loader(Options()).compile(name, source.encode())
    seen: list[tuple[int, int]] = []

    def look() -> tuple[int, int]:
        frame = sys._getframe(1)
        file = registry.files[name]
        loop = next(
            s.node for s in file.statements if isinstance(s.node, ast.For) and s.line <= frame.f_lineno <= s.line + 1
        )
        counter = stack.pass_counter(file, frame, loop)
        assert counter is not None
        return counter(), stack.passes(file, frame, loop, False)[0]

    space: dict[str, object] = {"seen": seen, "look": look}
    exec(code, space)
    space["work"](3)  # type: ignore[operator]  # the function of the text
    registry.files.clear()
    assert seen == [(1, 1), (2, 2), (3, 3)] * 2


def test_messages_hold_no_nan() -> None:
    told = {"a": [1.5, float("nan")], 2: {"b": (-float("inf"), "x", None)}, float("inf"): True}
    assert json.loads(text.to_json(told)) == {"a": [1.5, "nan"], "2": {"b": ["-inf", "x", None]}, "inf": True}
    assert json.loads(text.to_json({"a": 0.1, "b": object})) == {"a": 0.1, "b": "<class 'object'>"}
