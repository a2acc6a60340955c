"""Worker processes on the Bench: which is shown, how many more are paused, from one to another."""

from __future__ import annotations

import os
import signal
from dataclasses import replace

import pytest
from driving_app import settled, until
from textual.widgets import Static

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.output_drawer import OutputDrawer
from uneven_sum.app.findings.screen import Findings
from uneven_sum.app.widgets.bars import Headline, Keys, TopLine
from uneven_sum.app.widgets.dialogs import Choose
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.client import Launch

SCRIPT = (
    "import multiprocessing\n\n\ndef flow(k):\n    return 1e308 * k\n\n\ncontext = multiprocessing.get_context('fork')\n"
    "with context.Pool(2) as pool:\n    found = len(pool.map(flow, [5.0, 6.0], chunksize=1))\nprint(found)\n"
)


def text_of(widget: Static) -> str:
    return str(widget.render())


async def paused_twice(pilot):
    """The Bench at the pause of one worker, the other one paused, too."""
    bench = await settled(pilot, "paused", 5)
    await until(pilot, lambda: bench.facts is not None and bench.facts.waiting == 1, 60)
    return bench


async def test_from_worker_to_worker_and_on(script) -> None:
    app = UnevenSum(Launch(script(SCRIPT), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await paused_twice(pilot)
        first = bench.facts.process
        assert text_of(bench.query_one(Headline)).startswith(
            f"▍In {first}, and in 1 more process: inf created at line 5"
        )
        assert f"{first} · 1 more paused" in text_of(bench.query_one(TopLine))
        assert "( ) walk processes" in text_of(bench.query_one(Keys))
        await pilot.press("right_parenthesis")
        await until(pilot, lambda: bench.facts.process != first and bench.state == "paused", 60)
        second = bench.facts.process
        assert second.startswith("ForkPoolWorker-")
        await until(pilot, lambda: second in text_of(bench.query_one(TopLine)))
        await pilot.press("backspace")
        await until(
            pilot, lambda: any(text.startswith("A worker process has no snapshots") for text in app.messages), 60
        )
        bench.processes.list_processes()
        await until(pilot, lambda: isinstance(app.screen, Choose), 60)
        labels = [choice.label for choice in app.screen.choices]
        assert len(labels) == 3 and ", runs, for " in labels[0] and "in <module>, line 10" in labels[0]
        assert [", paused, for " in label for label in labels] == [
            False,
            *(label.startswith(first) for label in labels[1:]),
        ]
        await pilot.press(*["down"] * (labels.index(next(x for x in labels if x.startswith(first)))), "enter")
        await until(pilot, lambda: bench.facts.process == first and bench.state == "paused", 60)
        await pilot.press("enter")  # both go on
        await until(
            pilot, lambda: bench.state == "paused" and bench.facts is not None and bench.facts.reason == "end", 90
        )
        assert bench.facts.process == "" and bench.facts.waiting == 0
        await pilot.press("left_parenthesis")
        await until(pilot, lambda: "No other process of the script is paused." in app.messages, 60)


async def test_a_worker_that_is_killed_is_reported(script) -> None:
    app = UnevenSum(Launch(script(SCRIPT), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await paused_twice(pilot)
        shown = bench.facts.process
        os.kill(int(shown.rpartition("(")[2].rstrip(")")), signal.SIGKILL)
        said = f"{shown} crashed: SIGKILL"
        await until(pilot, lambda: any(text.startswith(said) for text in app.messages), 60)
        await until(pilot, lambda: bench.state == "paused" and bench.facts.process not in ("", shown), 60)
        assert bench.query_one(OutputDrawer).last_line.startswith(said)


async def test_the_others_wait_if_the_settings_say_so(script) -> None:
    app = UnevenSum(Launch(script(SCRIPT.replace("[5.0, 6.0]", "[5.0]")), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused", 5)
        bench.take_settings(replace(bench.settings, hold_others=True))
        await pilot.press("R")
        await until(pilot, lambda: bench.facts is not None and bench.facts.held == 2 and bench.state == "paused", 60)
        assert f"{bench.facts.process} · 2 held" in text_of(bench.query_one(TopLine))
        await until(pilot, lambda: "( ) walk processes" in text_of(bench.query_one(Keys)))
        bench.processes.list_processes()
        await until(pilot, lambda: isinstance(app.screen, Choose), 60)
        labels = [choice.label for choice in app.screen.choices]
        assert [", held, for " in label for label in labels].count(True) == 2 and ", held, for " in labels[0]
        await pilot.press("enter")  # the script itself
        await until(pilot, lambda: bench.state == "paused" and bench.facts.headline.startswith("Held at line 10"), 60)
        bench.take_settings(replace(bench.settings, hold_others=False))
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.process != "", 60)
        await pilot.press("enter")
        await until(
            pilot, lambda: bench.state == "paused" and bench.facts is not None and bench.facts.reason == "end", 90
        )


GAUGES = (
    "import multiprocessing\n\nimport numpy as np\n\n\ndef total(gauge):\n    counts = np.array([90, gauge], dtype=np.int8)\n"
    "    return int((counts + np.array([60, 5], dtype=np.int8)).sum())\n\n\nif __name__ == '__main__':\n"
    "    with multiprocessing.get_context('{method}').Pool(2) as pool:\n        print(pool.map(total, range(4)))\n"
)


@pytest.mark.parametrize("method", ["fork", "spawn"])
async def test_a_finding_in_workers(method: str, script) -> None:
    """It says in which; `enter` goes there in a worker of a new run; the functions are not said to be never called."""
    app = UnevenSum(Launch(script(GAUGES.format(method=method)), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "paused")
        assert bench.facts.reason == "end"
        assert not [note for note in bench.query_one(Sheet).notes.values() if "never" in str(note)]
        await pilot.press("8")
        await until(pilot, lambda: isinstance(app.screen, Findings) and app.screen.state == "done", 90)
        (finding,) = app.screen.rows
        assert "PoolWorker-" in finding.processes[0] and finding.times == 4
        assert f"In {finding.processes[0]}" in text_of(app.screen.query_one("#evidence-text", Static))
        await pilot.press("enter")
        await until(pilot, lambda: app.screen is bench and bench.state == "paused" and bench.facts.line == 8, 90)
        assert "PoolWorker-" in bench.facts.process and bench.facts.function == "total"
        await until(pilot, lambda: not bench.recording.passing)
        assert not bench.book.wanted()
        await pilot.press("enter")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.reason == "end", 90)


async def test_a_worker_without_a_task_waits_for_one(script) -> None:
    text = "import multiprocessing, time\n\n\ndef flow(k):\n    time.sleep(600 if k else 0)\n\n\n"
    text += "context = multiprocessing.get_context('fork')\nwith context.Pool(2) as pool:\n"
    text += "    pool.map(flow, [0, 1], chunksize=1)\n"
    app = UnevenSum(Launch(script(text), keep_case=False))
    async with app.run_test(size=(140, 44)) as pilot:
        bench = await settled(pilot, "running")
        await until(pilot, lambda: bench.client is not None and len(bench.client.processes()) == 3, 60)

        async def labels() -> list[str]:
            bench.processes.list_processes()
            await until(pilot, lambda: isinstance(app.screen, Choose), 60)
            found = [choice.label for choice in app.screen.choices[1:]]
            await pilot.press("escape")
            return sorted(", ".join(label.split(", ")[1:2] + label.split(", ")[3:]) for label in found)

        for _ in range(60):
            found = await labels()
            if found == ["runs, in flow, line 5", "waits for a task"]:
                break
        assert found == ["runs, in flow, line 5", "waits for a task"]
