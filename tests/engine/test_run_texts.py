"""Code that a script runs from a text, by `exec`, `eval` or `runpy`: it pauses in the text itself."""

from __future__ import annotations

import os

import pytest
from driving import running

from uneven_sum.agent.probes import run_texts

BEFORE = "head, area = 0.0, 2.0\n"
FORMULA = "area * 3 / head"
RATIO = f"flow = 1.0\\nflow = {FORMULA}"
WAYS = {
    "eval": (f'q = eval("  {FORMULA}")', 1),
    "eval in a function": (f'def rate(area, head):\n    return eval("{FORMULA}")\nrate(2.0, 0.0)', 1),
    "eval of bytes": (f'q = eval(b"{FORMULA}", {{"area": 2.0, "head": 0.0}})', 1),
    "eval compiled": (f'q = eval(compile("{FORMULA}", "<rule>", "eval"))', 1),
    "eval of a list": (f'q = eval("[{FORMULA} for head in (1.0, 0.0)]")', 1),
    "eval of a lambda": (f'q = eval("lambda area, head: {FORMULA}")(2.0, 0.0)', 1),
    "exec": (f'exec("{RATIO}")', 2),
    "exec compiled": (f'exec(compile("{RATIO}", "<rule>", "exec"))', 2),
    "exec of an expression": (f'exec(compile("{FORMULA}", "<rule>", "eval"))', 1),
}


@pytest.mark.parametrize("way", WAYS)
async def test_an_error_in_a_text_pauses_in_it_with_its_terms(script, interpreter: str, way: str) -> None:
    text, line = WAYS[way]
    async with running(script(BEFORE + text + "\n"), python=interpreter) as run:
        facts = await run.pause()
        assert (facts.exception.type, facts.line) == ("ZeroDivisionError", line)
        assert os.path.basename(facts.file).startswith("<")
        assert facts.culprit.text == FORMULA
        assert [(o.text, o.value) for o in facts.culprit.operands][-1] == ("head", "0.0")
        assert await run.ask("area + head") == "2.0"


async def test_a_non_finite_value_in_a_text_is_found_there(script) -> None:
    formula = "stage / (crest - crest)"
    path = script(
        f'import numpy as np\nstage, crest = np.ones(3), 2.0\nwith np.errstate(all="ignore"):\n    q = eval("{formula}")\nprint(q)\n'
    )
    async with running(path) as run:
        facts = await run.pause()
        assert (facts.kind, facts.line, facts.culprit.text) == ("created", 1, formula)


@pytest.mark.parametrize("before", ["", "import pkgutil, importlib.util, types\n"], ids=["alone", "all else is there"])
async def test_runpy_watches_a_file_beside_the_script(before: str, script, tmp_path, interpreter: str) -> None:
    part = tmp_path / "weir.py"
    part.write_text(f"{BEFORE}q = {FORMULA}\n")
    path = script(f"{before}import runpy\nrunpy.run_path({str(part)!r})\n")
    async with running(path, python=interpreter) as run:
        facts = await run.pause()
        assert (facts.file, facts.line, facts.culprit.text) == (str(part), 2, FORMULA)


async def test_many_texts_are_run_as_they_are_and_this_is_reported(script) -> None:
    number = run_texts.KEPT + 5
    path = script(f'for k in range({number}):\n    q = eval(f"{{k}} / 2")\nprint(q)\n')
    async with running(path) as run:
        assert await run.pause() is None
        assert run.out == f"{(number - 1) / 2}\n"
        assert {f"over {run_texts.KEPT} different texts" in one.why for one in run.unwatched} == {True}
