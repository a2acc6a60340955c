"""The Findings: an audit of a script, its findings with their evidence, and what is done with them."""

from __future__ import annotations

import asyncio
import re
from pathlib import Path

import pytest
from driving_app import rest, until
from textual.widgets import Input, OptionList, Static, TextArea

from uneven_sum.app.app import UnevenSum
from uneven_sum.app.bench.cards import Cards
from uneven_sum.app.bench.keep_call import KeepDialog
from uneven_sum.app.bench.origin_drawer import OriginDrawer
from uneven_sum.app.bench.repairs import Repairs
from uneven_sum.app.bench.screen import Bench
from uneven_sum.app.bench.try_edit import TryChange
from uneven_sum.app.findings.screen import Findings
from uneven_sum.app.ledger.screen import LedgerScreen
from uneven_sum.app.widgets.bars import Keys
from uneven_sum.app.widgets.dialogs import Choose, Prompt
from uneven_sum.app.widgets.sheet import Sheet
from uneven_sum.check import check
from uneven_sum.client import Launch, notes
from uneven_sum.client.setup import Setup

pytestmark = pytest.mark.usefixtures("own_folder")

SCRIPT = """import numpy as np
counts = np.zeros(6, dtype=int)
for day in range(6):
    counts[day] = day * 0.5
level = [1.0, 2.0, 3.0]
rise = [level[k] - level[k - 1] for k in range(3)]
print(counts, rise)
"""


def text_of(screen: Findings, name: str) -> str:
    return str(screen.query_one(name, Static).render())


def rows(screen: Findings) -> list[str]:
    options = screen.query_one(OptionList)
    return [str(options.get_option_at_index(n).prompt) for n in range(options.option_count)]


async def audited(pilot, path: str) -> Findings:
    """From the Desk, by its key."""
    app = pilot.app
    await until(pilot, lambda: app.desk is not None and app.desk.setup is not None)
    app.desk.show_case(Setup(path))
    await rest(pilot, 0.2)
    await pilot.press("8")
    await until(pilot, lambda: isinstance(app.screen, Findings) and app.screen.state == "done", 60)
    await rest(pilot, 0.2)
    return app.screen


async def test_findings_with_their_evidence(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script(SCRIPT, "gauge.py"))
        shown = rows(screen)
        assert len(shown) == 2 and shown[0].startswith("wrong         4  counts[day] stores integers (int64)")
        assert "3 times, since pass 2" in shown[0] and shown[1].startswith("question      6  level[k - 1]")
        assert screen.query_one(Sheet).at_line == 4
        assert "try changed line" not in str(screen.query_one(Keys).render())  # none is safe to propose
        said = text_of(screen, "#evidence-text")
        assert "3 times, first in pass 2 of the loop at line 3" in said and "right would be\n0.5" in said
        await pilot.press("down")
        await until(pilot, lambda: screen.query_one(Sheet).at_line == 6)
        assert "wraparound-index" in text_of(screen, "#evidence-text")
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)


async def test_an_accepted_finding_is_kept_with_the_case(script) -> None:
    path = script(SCRIPT, "gauge.py")
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, path)
        await pilot.press("A")
        await until(pilot, lambda: any(r.startswith("accepted") for r in rows(screen)))
        assert "accepted_findings" in Path(path).with_suffix(".case.toml").read_text()
        await pilot.press("h")
        await until(pilot, lambda: len(rows(screen)) == 1)
        begin, begun = screen.begin, []
        screen.begin = lambda: begun.append(begin())
        await pilot.press("r")
        await until(pilot, lambda: bool(begun) and screen.state == "done", 60)
        assert [f.accepted for f in screen.audit.findings] == [True, False]
    launch = Launch(path, audit=[], pause_on=set(), checks=False, capture=True)
    outcome = await check(launch)
    assert [f.accepted for f in outcome.findings or []] == [True, False] and outcome.our_status == 1
    Path(path).write_text(SCRIPT.replace("day * 0.5", "day * 0.25"))
    outcome = await check(launch)
    assert not any(f.accepted for f in outcome.findings or [])  # its statement is another one


async def test_going_there_pauses_at_the_line_and_pass(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script(SCRIPT, "gauge.py"))
        await pilot.press("ctrl+k")
        await until(pilot, lambda: "Saved to the Notes" in text_of(screen, "#said"))
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        bench = app.screen
        await until(pilot, lambda: bench.state == "paused" and bench.facts is not None and bench.facts.line == 4, 60)
        assert bench.facts is not None and bench.facts.loops[0].number == 2
        kept = notes.load(screen.audit.script)
        assert kept[0].kind == "finding" and kept[0].title == "wrong at line 4 of gauge.py: truncation"
        await pilot.press("8")
        await until(pilot, lambda: isinstance(app.screen, Findings) and app.screen.state == "done", 60)
        await pilot.press("down", "enter")
        await until(pilot, lambda: app.screen is bench and bench.state == "paused" and bench.facts is not None, 60)
        await until(pilot, lambda: bench.facts is not None and bench.facts.line == 6, 60)


async def test_no_findings_an_error_and_an_end_before_the_end(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script("x = 1.0 + 2.0\n", "fine.py"))
        assert "No findings" in text_of(screen, "#none") and not rows(screen)
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)
        screen = await audited(pilot, script("n = int(0.29 * 100)\nlevel = [1][2]\n", "fails.py"))
        assert len(rows(screen)) == 1 and "what was found until then is shown" in text_of(screen, "#said")
        await pilot.press("escape")
        screen = await audited(pilot, script("n = int(0.29 * 100)\nlevel = input()\n", "asks.py"))
        assert len(rows(screen)) == 1 and "EOFError" in text_of(screen, "#said")
        await pilot.press("escape")
        path = script("import time\nn = int(0.29 * 100)\nwhile True:\n    time.sleep(0.01)\n", "long.py")
        await until(pilot, lambda: app.screen is app.desk)
        app.desk.show_case(Setup(path))
        await rest(pilot, 0.2)
        await pilot.press("8")
        await until(pilot, lambda: isinstance(app.screen, Findings) and "line" in text_of(app.screen, "#none"))
        await asyncio.sleep(0)
        screen = app.screen
        await until(pilot, lambda: "line 4" in text_of(screen, "#none") or "line 3" in text_of(screen, "#none"), 30)
        await pilot.press("x")
        await until(pilot, lambda: screen.state == "done", 30)
        assert len(rows(screen)) == 1 and "ended before the script was" in text_of(screen, "#said")
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)
        app.desk.show_case(Setup(script("x = = 1\n", "wrong.py")))
        await rest(pilot, 0.2)
        await pilot.press("8")
        await until(pilot, lambda: isinstance(app.screen, Findings) and app.screen.state == "done", 30)
        assert "line 1" in text_of(app.screen, "#said")


async def test_the_changed_line_is_tried_in_a_copy(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        path = script("share = 0.29\nn = int(share * 100)\nprint(n)\n", "gauge.py")
        screen = await audited(pilot, path)
        assert "a line to try\nn = round(share * 100)" in text_of(screen, "#evidence-text")
        assert "try changed line" in str(screen.query_one(Keys).render())
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, TryChange), 60)
        trying = app.screen
        await until(pilot, lambda: trying.fine, 30)
        would = str(trying.query_one("#would", Static).render())
        assert re.search(r"round\(share \* 100\)\s+29\b", would) and "int(" not in would
        assert trying.query_one(TextArea).text == "n = round(share * 100)"
        await pilot.press("escape")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.state == "paused")
        assert app.screen.facts.line == 2 and Path(path).read_text().startswith("share = 0.29\nn = int(")
        await pilot.press("8")
        await until(pilot, lambda: isinstance(app.screen, Findings) and app.screen.state == "done", 60)


async def test_what_comes_from_a_finding_stands_under_it(script) -> None:
    text = "import numpy as np\nt = np.array([2_000_000_000], dtype=np.int32)\nlate = t + np.int32(500_000_000)\n"
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script(text + "shown = late\ntwice = shown * np.int32(3)\n", "clock.py"))
        (entry,) = rows(screen)
        assert entry.startswith("wrong         3") and "1 more comes from it: line 5" in entry
        assert "what comes from it\nline 5: shown * np.int32(3) wraps around" in text_of(screen, "#evidence-text")
        assert screen.query_one(Sheet).notes[5].text == "comes from line 3"


async def test_the_digits_that_hold_stand_under_the_findings(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script("x = 0.4\nfor k in range(120):\n    x = 3.9 * x * (1 - x)\nprint(x)\n"))
        assert rows(screen) == [] and "check digits" in str(screen.query_one(Keys).render())
        await pilot.press("d")
        await until(pilot, lambda: screen.state == "shaken")
        assert "end run" in str(screen.query_one(Keys).render())
        await until(pilot, lambda: screen.state == "done", 60)
        shown = rows(screen)
        assert shown[0].startswith("wrong         3  The digits of 1 - x are lost pass by pass")
        assert (
            shown[1].startswith("digits        4  x = 0.2090861692467031: 0.")
            and "120 passes, lowest in pass" in shown[2]
        )
        assert "The worst result holds 0." in text_of(screen, "#said")
        assert "digits that hold, by pass" in text_of(screen, "#evidence-text")
        await pilot.press("down")
        await until(pilot, lambda: screen.query_one(Sheet).at_line == 4)
        assert "accept" not in str(screen.query_one(Keys).render())
        await pilot.press("r")
        await until(pilot, lambda: screen.state == "done" and rows(screen) == [], 60)


async def test_shaken_runs_can_be_ended(script) -> None:
    app = UnevenSum(None)
    text = "import time\nx = 1e8 + 0.1\ny = x - 1e8\n"
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, script(text + "for k in range(300):\n    time.sleep(0.01)\nprint(y)\n"))
        await pilot.press("d")
        await until(pilot, lambda: screen.state == "shaken")
        await pilot.press("x")
        await until(pilot, lambda: screen.state == "done", 30)
        assert "The runs were ended before the script was" in text_of(screen, "#said")
        await pilot.press("escape")
        await until(pilot, lambda: app.screen is app.desk)


async def test_the_digits_stand_on_cards_in_terms_and_in_the_ledger(script) -> None:
    text = "def run(x):\n    for k in range(60):\n        x = 3.9 * x * (1 - x)\n    return x\n\n\nprint(run(0.4))\n"
    path = script(text)
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        screen = await audited(pilot, path)
        await pilot.press("d")
        await until(pilot, lambda: screen.state == "done" and bool(rows(screen)), 60)
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench) and app.screen.facts is not None, 30)
        bench = app.screen
        await until(pilot, lambda: bench.facts.line == 3 and bench.state == "paused", 30)
        await until(pilot, lambda: any("digits hold" in row.plain for row in bench.query_one(Cards).rows), 30)
        await pilot.press("t")
        await until(pilot, lambda: 3 in bench.query_one(Sheet).terms)
        told = {t.text: t.how for t in bench.query_one(Sheet).terms[3]}
        assert told["1 - x"].endswith("digits hold") and told["x"].endswith("digits hold")
        await pilot.press("l")
        await until(pilot, lambda: not isinstance(app.screen, Bench))
        await pilot.press("r")
        await until(pilot, lambda: app.screen is bench and bench.state == "paused" and bench.facts.line == 3, 60)
        assert bench.facts.loops[0].number == 1
        await pilot.press("o")
        await until(pilot, lambda: bench.state == "paused" and bench.facts.line == 7, 30)
        await pilot.press("l")
        await until(pilot, lambda: isinstance(app.screen, LedgerScreen) and app.screen.ledger is not None, 30)
        columns = {c.name: c.values for c in app.screen.ledger.columns}
        assert len(columns["x: digits"]) == 60
        assert columns["x: digits"][0] > 14 and min(columns["x: digits"]) < 1
        Path(path).write_text(text + "\n")
        assert app.digits.of_name(path, "x") == ""  # of another text


async def test_the_origin_of_a_finding_is_asked_for_at_its_place(script) -> None:
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await audited(pilot, script("share = 0.29\nn = int(share * 100)\nprint(n)\n", "gauge.py"))
        await pilot.press("o")
        await until(pilot, lambda: isinstance(app.screen, Prompt), 60)
        assert app.screen.query_one(Input).value == "share"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Bench))
        drawer = app.screen.query_one(OriginDrawer)
        await until(pilot, lambda: "Line 1 uses no other value for share" in text_of(drawer, "#origin-said"), 60)


async def test_repairs_of_a_finding_are_listed_at_its_place(script) -> None:
    text = "import numpy as np\na = np.array([30000, 20000], dtype=np.int16)\nb = a + a\nprint(b)\n"
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        await audited(pilot, script(text, "gauge.py"))
        await pilot.press("w")
        await until(pilot, lambda: isinstance(app.screen, Repairs), 60)
        listed = app.screen
        await until(pilot, lambda: len(listed.results) == 2, 60)
        assert [one.name for one in listed.found] == ["widen to int64", "compute as float"]
        assert "60000" in listed.results[0][0]
        await pilot.press("e")
        await until(pilot, lambda: "b = 2 cells int64, [60000 40000]" in str(listed.ends.get(0)), 90)


async def test_the_call_of_a_finding_is_kept_at_its_place(script) -> None:
    text = "def whole(share):\n    n = int(share * 100)\n    return n\n\n\nprint(whole(0.29))\n"
    app = UnevenSum(None)
    async with app.run_test(size=(140, 42)) as pilot:
        path = Path(script(text, "gauge.py"))
        await audited(pilot, str(path))
        await pilot.press("W")
        await until(pilot, lambda: isinstance(app.screen, Choose), 60)
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, Prompt))
        app.screen.query_one(Input).value = "29"
        await pilot.press("enter")
        await until(pilot, lambda: isinstance(app.screen, KeepDialog) and app.screen.done, 90)
        assert app.screen.fine
        await pilot.press("enter")
        await until(pilot, lambda: path.with_name("test_whole.py").exists())


async def test_the_screen_says_what_an_audit_does_not_look_for(script) -> None:
    sound = "level = [1.0, 2.0]\ntotal = sum(level)\nprint(total)\n"
    bad = "import math\nimport numpy as np\nflow = np.log(np.array([1.0, -2.0]))\nprint(flow.sum())\n"
    for text, said in ((sound, "no pause"), (bad, "· 1 non-finite cell created at line 3")):
        app = UnevenSum(None)
        async with app.run_test(size=(140, 42)) as pilot:
            screen = await audited(pilot, script(text))
            await until(pilot, lambda s=screen, said=said: said in text_of(s, "#watched"))
            assert "No findings" in text_of(screen, "#none")
