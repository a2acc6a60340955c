"""Runs of pytest and unittest: what pauses, what does not, and that the runner says what it says without us."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from driving import running

from uneven_sum.check import check
from uneven_sum.client import Launch

TESTED = Path(__file__).parent.parent / "support" / "tested"
# Tests of the folder that fail as nobody expects, with the line where each pauses; one more is told at a line of before.
FAIL = {
    "test_total_fails": "total([1.0, 4.0]) == 7.0 with total([1.0, 4.0]) = 6.0",
    "test_message_of_its_own": "the weir gives too little. Culprit: share(1.0) > 3.0 with share(1.0) = 2.0",
    "test_several_parts": "Culprit: total(heads) < 5.0 with total(heads) = 6.0",
    "test_not": "Culprit: not share(1.0) with share(1.0) = 2.0",
    "test_in": "Culprit: 3.0 in [share(1.0), share(4.0)]",
    "test_lists": "Culprit: [share(h) for h in (1.0, 4.0, 9.0)] == [2.0, 4.0, 7.0]",
    "test_dictionaries": 'Culprit: {"north": share(1.0)} == {"north": 2.5, "south": 1.0}',
    "test_texts": 'Culprit: "gauge north" == "gauge south"',
    "test_texts_of_lines": 'Culprit: "one',
    "test_close": "Culprit: total([2.0, 3.0]) == pytest.approx(6.0) with total([2.0, 3.0]) = 6.29253",
    "test_walrus": "Culprit: (found := again) == 4.0",
    "test_lambda": "Culprit: (lambda head: share(head) + 1.0)(1.0) == 4.0",
    "test_error": "ValueError at line 7 of flow.py: head is negative",
    "test_error_in_assertion": "ValueError at line 7 of flow.py: head is negative",
    "test_raises_nothing": "Failed at line 84 of test_flow.py: DID NOT RAISE",
    "test_raises_another": "ValueError at line 7 of flow.py: head is negative",
    "test_raises_with_other_words": "AssertionError at line 94 of test_flow.py: Regex pattern did not match",
    "test_fails_by_call": "Failed at line 115 of test_flow.py: the record is too short",
    "test_expected_another": "ValueError at line 7 of flow.py: head is negative",
    "test_values[4.0-5.0]": "Culprit: share(head) == flow with share(head) = 4.0, flow = 5.0",
    "test_fixture": "Culprit: share(level) == level + 1.0 with share(level) = 4.0, level + 1.0 = 5.0",
    "test_broken_fixture": "ZeroDivisionError at line 11 of conftest.py",
    "test_bad_end": "ValueError at line 17 of conftest.py: the logger was not closed",
    "test_warns_not": "Failed at line 170 of test_flow.py: DID NOT WARN",
    "test_output": 'Culprit: capsys.readouterr().out == "flow 3.0',
    "test_of_a_task": "Culprit: share(1.0) == 3.0 with share(1.0) = 2.0",
    "test_isnan": "Culprit: math.isnan(share(1.0)) with share(1.0) = 2.0",
    "TestWeir::test_method": "Culprit: total(self.heads) == 6.5 with total(self.heads) = 6.0",
    "TestWeir::test_method_with_values[2.0]": "Culprit: share(head) == 2.0 with share(head) = 2.82843",
    "Weir::test_close": "AssertionError at line 23 of test_weir.py: 2.8284271247461903 != 2.8",
    "Weir::test_error": "ValueError at line 7 of flow.py: head is negative",
    "Weir::test_fails": "Culprit: self.assertEqual(total(self.heads), 6.5) with total(self.heads) = 6.0",
    "Weir::test_parts": "AssertionError at line 53 of test_weir.py: 4.0 != 2.0. Pass 2 of 2",
    "Weir::test_plain_assertion": "Culprit: total(self.heads) == 6.5 with total(self.heads) = 6.0",
    "Weir::test_raises_nothing": "AssertionError at line 40 of test_weir.py: ValueError not raised",
    "Dry::test_flow": "ValueError at line 7 of flow.py: head is negative",
    "Waiting::test_flow": "Culprit: self.assertEqual(share(1.0), 3.0) with share(1.0) = 2.0",
}
QUIET = ["-p", "no:cacheprovider"]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    return Path(shutil.copytree(TESTED, tmp_path / "tested", ignore=shutil.ignore_patterns("__pycache__")))


def runs(folder: Path, *args: str, python: str | None = None, module: str = "pytest") -> Launch:
    more = QUIET if module == "pytest" else []
    return Launch(module, [*more, *args], as_module=True, python=python, cwd=str(folder), pause_on={"error"})


async def test_each_failure_pauses_in_its_test_and_nothing_that_is_expected(folder) -> None:
    met = {}
    async with running(runs(folder)) as run:
        facts = await run.pause()
        while facts is not None:
            assert facts.test.runner == "pytest"
            name = facts.test.name.partition("::")[2]
            assert name not in met, name
            met[name] = facts.headline
            facts = await run.step("on")
    assert met.keys() == FAIL.keys()
    for name, part in FAIL.items():
        assert part in met[name], (name, met[name])
    assert not run.trouble
    assert not run.unwatched


@pytest.mark.interpreters
@pytest.mark.parametrize("more", ["-v", "--showlocals", "--import-mode=importlib"])
async def test_pytest_says_what_it_says_without_us(folder, interpreter: str, more: str) -> None:
    if subprocess.run([interpreter, "-c", "import pytest"], capture_output=True).returncode:
        pytest.skip("no pytest for this interpreter")
    alone = subprocess.run([interpreter, "-m", "pytest", *QUIET, more], cwd=folder, text=True, capture_output=True)
    command = [
        sys.executable,
        "-m",
        "uneven_sum",
        "check",
        "--json",
        "--all",
        "--cwd",
        str(folder),
        "--python",
        interpreter,
    ]
    watched = subprocess.run([*command, "--module", "pytest", *QUIET, more], text=True, capture_output=True)
    assert " failed" in alone.stdout
    assert _told(watched.stderr) == _told(alone.stderr + alone.stdout)


def _told(text: str) -> list[str]:
    """The lines of a report without addresses and times; the rules around a line are as long as its time lets them."""
    text = re.sub(r"0x[0-9a-f]+", "0x", re.sub(r"in [0-9.]+s( \([0-9:]+\))?", "in", text))
    return re.sub(r"={2,}", "==", text).splitlines()


async def test_what_pytest_has_kept_compiled_is_watched_too(folder) -> None:
    environment = {"PYTHONDONTWRITEBYTECODE": ""}
    command = [sys.executable, "-m", "pytest", *QUIET, "-q", "test_flow.py"]
    subprocess.run(command, cwd=folder, capture_output=True, env=environment | {"PATH": "/usr/bin:/bin"})
    assert list(folder.glob("__pycache__/test_flow*pytest*.pyc"))
    launch = runs(folder, "-k", "total_fails")
    launch.env = environment
    (pause,) = (await check(launch)).pauses
    assert pause.line == 17


async def test_the_messages_stay_after_a_breakpoint_in_a_test(folder) -> None:
    """A function that gets a probe is compiled anew: its assertions are still rewritten by pytest."""
    async with running(runs(folder, "-k", "several_parts or test_in")) as run:
        facts = await run.pause()
        assert facts.test.name == "test_flow.py::test_several_parts"
        await run.client.set_breakpoints(str(folder / "test_flow.py"), [34])
        assert (await run.step("on")).reason == "breakpoint"
        assert (await run.step("on")).test.name == "test_flow.py::test_in"
        assert await run.step("on") is None
    assert "E       assert 3.0 in [2.0, 4.0]" in run.out


@pytest.mark.parametrize("name", ["test_values[4.0-5.0]", "TestWeir::test_method"])
async def test_a_test_of_pytest_runs_alone(folder, name: str) -> None:
    outcome = await check(runs(folder, "-x", "test_flow.py", "-k", f"{name.split('[')[0].split(':')[-1]}"))
    (pause,) = outcome.pauses
    assert pause.test.name == f"test_flow.py::{name}"
    assert "test_flow.py" not in pause.test.arguments
    async with running(
        Launch("pytest", pause.test.arguments, as_module=True, cwd=str(folder), pause_on={"error"})
    ) as run:
        assert (await run.pause()).test.name == pause.test.name
        assert await run.step("on") is None
    assert "collected 1 item" in run.out


@pytest.mark.parametrize(
    "args", [[], ["test_weir"], ["discover", "-s", ".", "-k", "fails"], ["test_weir.Weir.test_fails"]]
)
async def test_a_test_of_unittest_runs_alone(folder, args: list[str]) -> None:
    if args == []:
        (folder / "test_flow.py").unlink()  # it imports pytest's part only
    async with running(runs(folder, *args, module="unittest")) as run:
        facts = await run.pause()
        while facts.test.name != "test_weir.Weir.test_fails":
            facts = await run.step("on")
    async with running(
        Launch("unittest", facts.test.arguments, as_module=True, cwd=str(folder), pause_on={"error"})
    ) as run:
        assert (await run.pause()).test.name == "test_weir.Weir.test_fails"
        assert await run.step("on") is None
    assert "Ran 1 test" in run.err


async def test_a_script_that_runs_its_own_tests(folder) -> None:
    script = folder / "test_weir.py"
    script.write_text(script.read_text() + '\n\nif __name__ == "__main__":\n    unittest.main()\n')
    async with running(Launch(str(script), pause_on={"error"})) as run:
        names = []
        facts = await run.pause()
        while facts is not None:
            names.append(facts.test.name)
            last, facts = facts, await run.step("on")
    wanted = [name for name in FAIL if "::" in name and not name.startswith("TestWeir")]
    assert sorted(n.removeprefix("__main__.").replace(".", "::") for n in names) == sorted(wanted)
    async with running(Launch(str(script), last.test.arguments, pause_on={"error"})) as run:
        assert (await run.pause()).test.name == last.test.name
    assert "-k" in last.test.arguments


async def test_workers_are_not_watched_and_it_is_said(folder) -> None:
    outcome = await check(runs(folder, "-n", "1", "-k", "total_fails"))
    assert not outcome.pauses
    assert [one.sentence for one in outcome.unwatched] == [
        "pytest is not watched: its tests run in worker processes; leave out -n, or write -n 0."
    ]


async def test_an_assertion_is_taken_apart_outside_of_tests_too(script) -> None:
    text = "a, b = 0.1 + 0.2, [1, 2]\nassert len(b) == 2 and a == 0.3 and b\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert pause.headline.endswith("Culprit: a == 0.3 with a = 0.3, the two differ by 5.55e-17.")


async def test_how_far_arrays_are_apart(script) -> None:
    text = "import numpy as np\na = np.array([1.0, 2.0, 3.0])\nassert np.allclose(a, [1.0, 2.5, 3.0])\n"
    (pause,) = (await check(Launch(script(text)))).pauses
    assert "the largest difference is 0.5, at [1]" in pause.headline


UNTRUE = {
    "a = [1.0, 2.0]\nassert a == [1.0, 3.0]\n": "Culprit: a == [1.0, 3.0] with a = [1.0, 2.0]",
    "n = 10**400\nassert n == n + 1\n": "Culprit: n == n + 1",
    "assert 1j == 2j\n": "Culprit: 1j == 2j",
    "assert 1 == 2, 'assert that the levels are equal'\n": "line 1: assert that the levels are equal. Culprit: 1 == 2",
    "import numpy as np\na = np.ones(2)\nassert np.allclose(a, np.ones(3) * 2)\n": "with shapes (2,) (3,)",
    "import numpy as np\nassert np.array_equal(['a'], ['b'])\n": "Culprit: np.array_equal(['a'], ['b'])",
    "import numpy as np\nassert np.allclose([np.nan], [1.0])\n": "Culprit: np.allclose([np.nan], [1.0])",
    "class Same:\n    dtype = 1\n\n    def __eq__(self, other):\n        return False\n\n\nassert Same() == Same()\n": "Culprit: Same()",
}


@pytest.mark.parametrize("text", UNTRUE)
async def test_sides_of_any_kind_do_not_hide_the_pause(text: str, script) -> None:
    async with running(script(text), pause_on={"error"}) as run:
        facts = await run.pause()
        assert facts is not None and UNTRUE[text] in facts.headline
    assert not run.trouble


async def test_the_values_that_pytest_has_met_stand_beside_those_of_a_second_evaluation(folder) -> None:
    """What was read from the output is gone when the assertion is evaluated again."""
    (pause,) = (await check(runs(folder, "-k", "test_output"))).pauses
    assert pause.differs == "pytest: assert 'flow 2.0\\n' == 'flow 3.0\\n'"


async def test_names_that_pytest_makes_are_not_shown(folder) -> None:
    async with running(runs(folder, "-k", "several_parts")) as run:
        facts = await run.pause()
        for about in ("line", "local", "module"):
            names = [card.name for card in await run.client.cards(0, about)]
            assert not [name for name in names if not name.isidentifier()], names
        assert [card.name for card in await run.client.cards(0, "local")] == ["heads"]
        shown = [
            v.name
            for scope in await run.client.scopes()
            for v in await run.client.variables(scope["variablesReference"])
        ]
        assert "heads" in shown and not [name for name in shown if name.startswith("@")]
        assert facts.test is not None
