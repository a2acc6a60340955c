"""Quantities, uncertain numbers, datasets in files, results of fits: as what they are, not as objects."""

from __future__ import annotations

import os
import sys

import pytest
from driving import running

SCRIPT = os.path.join(os.path.dirname(__file__), "values_more.py")
SHOWN = {
    "speed": "3.5 meter / second",
    "depths": "3 cells float64, [1.0 nan 3.0] millimeter",
    "rated": "1.50000 ± 0.20000",
    "bare": "LinearRegression, not fitted",
    "stored": "4 x 3 cells float64, in a file: /stage",
}
BEGINS = {"fitted": "LinearRegression, fitted: ", "found": "OptimizeResult(success=True, message="}


async def test_kinds_of_further_libraries() -> None:
    async with running(SCRIPT, python=sys.executable) as run:
        await run.pause()
        for name, text in SHOWN.items():
            assert await run.ask(name) == text
        for name, text in BEGINS.items():
            assert (await run.ask(name)).startswith(text)
        assert await run.ask("stored[1, 2]") == "5.0"
    assert not run.trouble


TENSORS = """
import torch
depth = torch.tensor([1.0, 0.0, -2.0], requires_grad=True)
whole = torch.arange(4)
short = torch.tensor([1.5, 2.5], dtype=torch.bfloat16)
level = torch.log(depth) * 2.0
print("end")
"""


async def test_tensors_are_arrays(script) -> None:
    pytest.importorskip("torch")
    async with running(script(TENSORS), python=sys.executable) as run:
        facts = await run.pause()
        assert (facts.reason, facts.kind, facts.line) == ("nonfinite", "created", 6)
        assert "torch.log(depth) at [1] with depth = 0.0, the logarithm of zero" in facts.headline
        texts = {c.name: c.text for c in await run.client.cards(about="call")}
        assert texts["depth"] == "3 cells float32, [1.0 0.0 -2.0], requires_grad"
        assert texts["whole"] == "4 cells int64, [0 1 2 3]" and texts["short"] == "2 cells bfloat16, [1.5 2.5]"
