"""A run beside the one before it."""

from __future__ import annotations

from pathlib import Path

import pytest
from driving_app import rest, settled, until

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.widgets.bars import Headline
from uneven_sum.client import BadUse, Launch, verify
from uneven_sum.client.verify import Result, Seen
from uneven_sum.protocol import Facts


def trip(line: int, reason: str = "nonfinite", file: str = "/f.py") -> Facts:
    return Facts(reason=reason, headline="", file=file, line=line, function="f")


TEXT = ["a = 1", "b = 2", "c = a / 0", "d = 4"]


def test_sentences_about_a_later_run() -> None:
    before = Seen([trip(3)], texts={"/f.py": TEXT}, results={"t": "nan"})
    moved = {"/f.py": ["import os", *TEXT]}
    now = Seen([], ended=True, results={"t": "3.5"}, texts=moved)
    assert verify.at_end(before, now) == (
        "Compared with the previous run: fixed: the problem at line 3; t was nan, is 3.5."
    )
    now = Seen([], texts=moved)
    assert verify.at_pause(before, trip(4), now) == "Same problem as in the previous run.", "the line has moved"
    assert verify.at_pause(before, trip(5, "error"), now).startswith("New: the previous run paused at line 3")
    now.trips = [trip(4), trip(5, "error")]
    told = verify.at_end(before, now)
    assert "unchanged: 1 problem" in told and "new: error at line 5" in told
    assert verify.at_pause(Seen(), trip(3), Seen()) == "" and verify.at_end(Seen(), Seen()) == ""
    same = verify.at_end(
        Seen(ended=True, results={"t": "3"}),
        Seen(ended=True, results={"t": "3"}, against={"t": "is t.npy within 0, 0"}),
    )
    assert same == "Compared with the previous run: t is 3, as before, and is t.npy within 0, 0."


def test_results_as_they_are_typed(tmp_path) -> None:
    (tmp_path / "t.npy").write_bytes(b"")
    one = verify.parse(f"total / 2 against {tmp_path}/t.npy within 1e-3, 1e-6")
    assert one == Result("total / 2", f"{tmp_path}/t.npy", 1e-3, 1e-6)
    assert verify.parse(one.sentence.removeprefix("verify ")) == one and verify.parse("a") == Result("a")
    for text, why in (
        ("1 +", "is not an expression"),
        ("a against no.npy", "There is no file"),
        (f"a against {tmp_path}/t.npy within x", "no two tol"),
    ):
        with pytest.raises(BadUse, match=why):
            verify.parse(text)


FAULTY = "import numpy as np\nlevel = np.array([1.0, 0.0, 4.0])\nflow = np.zeros(3)\nfor k in range(3):\n    flow[k] = 1 / level[k]\ntotal = flow.sum()\n"


async def test_mended_and_verified_against_a_file(script, tmp_path) -> None:
    import numpy as np

    path = script(FAULTY)
    np.save(tmp_path / "right.npy", np.array([1.0, 0.0, 0.25]))
    app = UnevenSum(Launch(path))
    async with app.run_test(size=(140, 42)) as pilot:
        bench = await settled(pilot, "paused", 5)
        answer = bench.verifying.name_result(f"flow against {tmp_path}/right.npy within 1e-9, 0")
        assert "compared with the previous run at each end" in answer and bench.verifying.name_result(
            "total"
        ).startswith("verify total")
        await pilot.press("enter")
        for _ in range(20):
            await rest(pilot, 0.2)
            if bench.state == "paused" and bench.facts.reason == "end":
                break
            if bench.state == "paused":
                await pilot.press("enter")
        assert bench.facts.reason == "end" and "Compared" not in bench.facts.headline, (
            "the first run has none before it"
        )
        Path(path).write_text("# mended\n" + FAULTY.replace("1 / level[k]", "1 / level[k] if level[k] else 0.0"))
        await pilot.press("R")
        await until(pilot, lambda: bench.runs == 2 and bench.state == "paused" and bench.facts.reason == "end", 60)
        told = bench.facts.headline
        assert "fixed: the problem at line 5" in told or "lines 5, 6" in told
        assert "total was inf, is 1.25" in told and "is right.npy within 1e-09, 0" in told
        assert "Compared with the previous run" in str(bench.query_one(Headline).render())
        bench.case.keep_case()
        Path(path).write_text(FAULTY)
        await pilot.press("R")
        await until(pilot, lambda: bench.runs == 3 and bench.state == "paused" and bench.facts.reason != "end", 60)
        assert "fixed: " in bench.facts.headline or bench.facts.line == 5
    text = Path(path.replace(".py", ".case.toml")).read_text()
    assert "verify flow against" in text and '"verify total"' in text
