"""Quantities, uncertain numbers, datasets in files, geometries, tensors, results of fits: shown as what they are."""

from __future__ import annotations

import base64
import os
import struct
import sys

import pytest
from driving import running

from uneven_sum.client import BadUse

SCRIPT = os.path.join(os.path.dirname(__file__), "..", "support", "values_more.py")
SHOWN = {
    "speed": "3.5 meter / second",
    "depths": "3 cells float64, [1.0 nan 3.0] millimeter",
    "span": "3.0 m",
    "spans": "2 x 2 cells float64, 1.0 … 3.0, mean 2.0, 1 nan, first at [0, 1] km",
    "drop": "2.0 kg",
    "drops": "2 cells float64, [1.0 2.0] cm",
    "rated": "1.50000 ± 0.20000",
    "ratings": "2 cells object: 1.00000 ± 0.10000, 2.00000 ± 0.20000",
    "bare": "LinearRegression, not fitted",
    "steps": "Pipeline, not fitted",
    "normal": "distribution norm(0, 2.5)",
    "levels": "File with 2 members: cube, stage",
    "stored": "4 x 3 cells float64, in a file: /stage",
    "cube": "2 x 3 x 4 cells float64, in a file: /cube",
    "tides": "Dataset with 1 member: tide",
    "tide": "3 cells float64, in a file: tide",
    "packed": "3 x 4 cells float64, in a file: /",
    "packs": "Group with 1 member: rain",
    "planned": "10 cells float64, not computed: 2 blocks",
    "parts": "DataFrame, not computed: 1 partition, gauge, depth",
    "labelled": "day 10, not computed",
    "lazy": "a plan that has not run: collect() runs it",
    "gauges": "2 rows x 2 columns: depth, geometry; missing: depth 1; EPSG:4326",
    "places": "2 rows of geometry: 2 Points; EPSG:4326",
    "place": "Point (1.0, 2.0)",
    "basin": "Polygon, x 0.0 … 2.0, y 0.0 … 1.0",
    "counts": "3 cells Int64, 1 … 3, mean 2.0, 1 missing, first at row 1",
    "names": "2 cells string: sill, <NA>, 1 missing, first at row 1",
    "heads": "2 cells double[pyarrow], 1.5 … 1.5, mean 1.5, 1 missing, first at row 1",
    "bands": "2 cells interval[int64, right]: (0, 1], (1, 2]",
    "months": "3 cells period[M]: 2020-01, 2020-02, 2020-03",
    "classes": "3 values in 2 categories, 1 missing",
    "exact": "2 rows object: 1.5, 2.5",
    "thirds": "2 rows object: 1/3, 2/3",
    "texts": "2 cells StringDType(): 'sill', 'weir'",
    "spread": "3 cells float32, [1.0 2.0 inf]",
    "x": "x",
    "outflow": "-exp(-x**2)/2",
    "unknown": "stage(x)",
    "long": "an expression, Add of 201 parts",
    "jacobian": "2 x 2 matrix [[x, 1], [y, x*y]]",
    "third": "0.33333333333333333333",
    "turn": "(1.0 + 2.0j)",
    "square": "2 x 2 matrix [[1.0, 2.0], [3.0, 4.0]]",
}
BEGINS = {
    "fitted": "LinearRegression, fitted: ",
    "rating": "Rating(",
    "chain": "Pipeline, fitted: standardscaler=StandardScaler",
    "found": "OptimizeResult(success=True, message=",
    "model": "RegressionResultsWrapper(params=2 cells float64, ",
}
GRIDS = {
    "depths": (3, 1),
    "spans": (2, 2),
    "stored": (4, 3),
    "tide": (3, 1),
    "packed": (3, 4),
    "gauges": (2, 2),
    "counts": (3, 1),
    "months": (3, 1),
    "classes": (3, 1),
    "spread": (3, 1),
}
FACTS = {
    "spans": ("unit", "km"),
    "tide": ("units", "m"),
    "labelled": ("values", "not read or computed: ask for .load()"),
    "places": ("CRS", "EPSG:4326"),
    "exact": ("mean", "2.0"),
    "outflow": ("symbols", "x"),
    "thirds": ("maximum", "2/3"),
    "tides": ("dimensions", "3 day"),
    "classes": ("missing", "1"),
}


async def test_kinds_of_further_libraries() -> None:
    async with running(SCRIPT, python=sys.executable) as run:
        await run.pause()
        shown = {name: await run.ask(name) for name in SHOWN}
        assert shown == SHOWN
        for name, text in BEGINS.items():
            assert (await run.ask(name)).startswith(text)
        for name in [*SHOWN, *BEGINS]:
            told = await run.client.closeup(name)
            assert "fail" not in str(told.get("error", "")), name
            for label, text in [FACTS[name]] if name in FACTS else []:
                assert dict(map(tuple, told["facts"]))[label] == text
            if name in GRIDS:
                assert (told["grid"]["rows"], told["grid"]["columns"]) == GRIDS[name], name
                assert (await run.client.page(name))["columns"] == GRIDS[name][1]
            if told["children"]:
                assert (await run.client.parts(name, 0, 0, 5))["parts"], name
        page = await run.client.page("cube", slice="[1, :, -3::2]")
        assert (page["rows"], page["columns"]) == (3, 2)
        cells = [struct.unpack("<3d", base64.b64decode(column["data"])) for column in page["cells"]]
        assert cells == [(13.0, 17.0, 21.0), (15.0, 19.0, 23.0)]
        with pytest.raises(BadUse, match="does not fit the shape"):
            await run.client.page("cube", slice="[2, :, :]")
    assert not run.trouble


TRIPS = {
    "pint": ("import pint\nu = pint.UnitRegistry()\nhead = np.array([1.0, 0.0]) * u.m", "1 * u.m / head"),
    "astropy": ("import astropy.units as u\nhead = np.array([1.0, 0.0]) * u.m", "1 * u.s / head"),
    "unyt": ("import unyt\nhead = unyt.unyt_array([1.0, 0.0], 'm')", "1 / head"),
    "jax": ("import jax.numpy as jnp\nhead = jnp.array([1.0, 0.0])", "1 / head"),
    "xarray": ("import xarray as xr\nhead = xr.DataArray([1.0, 0.0])", "1 / head"),
    "nullable": ("import pandas as pd\nhead = pd.Series([1, 0], dtype='Int64')", "1 / head"),
    "Arrow": ("import pandas as pd\nhead = pd.Series([1.0, 0.0], dtype='float64[pyarrow]')", "1 / head"),
    "polars": ("import polars as pl\nhead = pl.Series([1.0, 0.0])", "1 / head"),
    "h5py": (
        "import h5py\nf = h5py.File('x.h5', 'w', driver='core', backing_store=False)\nhead = f.create_dataset('h', data=np.array([1.0, 0.0]))",
        "1 / head[:]",
    ),
}


@pytest.mark.parametrize("name", TRIPS)
async def test_what_trips_in_them_is_found(script, name: str) -> None:
    before, text = TRIPS[name]
    async with running(script(f"import numpy as np\n{before}\nrate = {text}\n"), python=sys.executable) as run:
        facts = await run.pause()
        assert (facts.reason, facts.kind) == ("nonfinite", "created")
        assert facts.culprit is not None and facts.culprit.text == text
        if name != "polars":
            assert facts.culprit.cell == [1]
        if name == "h5py":
            assert await run.ask("head[1] + 2") == "2.0"


LAZY = """
import numpy as np, dask.array as da, h5py, xarray as xr
class Counted:
    shape, dtype, ndim, reads = (4,), np.dtype(float), 1, 0
    def __getitem__(self, place):
        Counted.reads += 1
        return np.zeros(4)[place]
plan = da.from_array(Counted(), chunks=2)
Counted.reads = 0
flow = 1.0 / plan
named = xr.DataArray(flow) * 2
both = [flow, named]
print(Counted.reads)
breakpoint()
"""


async def test_nothing_is_computed_or_read_for_a_look(script) -> None:
    async with running(script(LAZY), python=sys.executable) as run:
        await run.pause()
        assert run.out == "0\n"
        for name in ("plan", "flow", "named"):
            assert "not computed" in await run.ask(name)
            await run.client.closeup(name)
        assert await run.ask("Counted.reads") == "0"


TRACED = """
import jax, jax.numpy as jnp
@jax.jit
def rate(head):
    y = 1 / head
    return y.sum()
root = jax.vmap(lambda h: jnp.sqrt(h) * 2)
print(rate(jnp.array([1.0, 2.0])), root(jnp.array([1.0, 4.0])), jax.grad(lambda w: (w ** 2).sum())(jnp.array([1.0])))
"""


async def test_a_traced_value_is_left_to_its_tracer(script) -> None:
    async with running(script(TRACED), python=sys.executable) as run:
        assert await run.pause() is None
        assert run.out == "1.5 [2. 4.] [2.]\n" and not run.trouble


TENSORS = """
import torch
depth = torch.tensor([1.0, 0.0, -2.0], requires_grad=True)
whole = torch.arange(4)
short = torch.tensor([1.5, 2.5], dtype=torch.bfloat16)
far = torch.empty((3, 2), device="meta")
model = torch.nn.Sequential(torch.nn.Linear(2, 3), torch.nn.Linear(3, 1))
level = torch.log(depth) * 2.0
print("end")
"""


async def test_tensors_are_arrays(script) -> None:
    pytest.importorskip("torch")
    async with running(script(TENSORS), python=sys.executable) as run:
        facts = await run.pause()
        assert (facts.reason, facts.kind, facts.line) == ("nonfinite", "created", 8)
        assert "torch.log(depth) at [1] with depth = 0.0, the logarithm of zero" in facts.headline
        texts = {c.name: c.text for c in await run.client.cards(about="call")}
        assert texts["depth"] == "3 cells float32, [1.0 0.0 -2.0], requires_grad"
        assert texts["whole"] == "4 cells int64, [0 1 2 3]" and texts["short"] == "2 cells bfloat16, [1.5 2.5]"
        assert texts["far"] == "3 x 2 cells float32, on meta"
        assert texts["model"] == "Sequential, 13 parameters in 4 tensors, in training"
