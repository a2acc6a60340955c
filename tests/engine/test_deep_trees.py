"""Trees deeper than the recursion limit: hundreds of `elif`, and sums of thousands of terms, are watched."""

from __future__ import annotations

from driving import running


async def test_hundreds_of_elif(script, interpreter: str) -> None:
    text = "gauge = 399\nif gauge == 0:\n    rate = 0\n"
    text += "".join(f"elif gauge == {n}:\n    rate = 1 / ({n} - gauge)\n" for n in range(1, 400))
    async with running(script(text), python=interpreter) as run:
        facts = await run.pause()
        assert facts.reason == "error" and facts.line == 801 and facts.culprit.text == "1 / (399 - gauge)"
        assert not run.unwatched and not run.trouble


async def test_a_sum_of_thousands_of_terms(script) -> None:
    text = "import numpy as np\nlevel, sill = 1.0, 2.0\nvolume = " + " + ".join(f"level * {n}.0" for n in range(2500))
    async with running(script(text + " + np.log(level - sill)\n"), pause_on={"nonfinite"}) as run:
        facts = await run.pause()
        assert facts.reason == "nonfinite" and facts.line == 3 and facts.culprit.text == "np.log(level - sill)"
        assert not run.unwatched and not run.trouble
