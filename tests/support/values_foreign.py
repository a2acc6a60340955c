"""Values of libraries that the other script does without."""

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import scipy.sparse as sp
import xarray as xr

pframe = pl.DataFrame({"gauge": ["sill", "weir", None], "depth": [1.0, float("nan"), -2.0]})
pseries = pl.Series("level", [1.0, None, 3.0])
table = pa.table({"gauge": ["sill", None], "depth": [1.5, None]})
parray = pa.array([1.0, None, 2.0])
chunked = table.column("depth")
labelled = xr.DataArray(np.array([[1.0, np.nan], [3.0, 4.0]]), dims=("x", "y"), coords={"x": [10, 20]})
dataset = xr.Dataset({"depth": labelled})
coo = sp.coo_matrix(([1.0, np.inf], ([0, 1], [1, 0])), shape=(2, 2))
sparr = sp.csr_array(np.eye(3))
arrow_series = pd.Series([1.5, None], dtype="float64[pyarrow]")
lazy = pframe.lazy()
expression = (pl.col("depth") + 1).sqrt()
scalar_, schema = pa.scalar(1.5), table.schema
one, coordinates, variable, bare = xr.DataArray(2.5), labelled.coords, labelled.variable, xr.Dataset()
row = sp.coo_array(np.array([1.0, 0.0, 2.0]))
lookup, operator_ = sp.dok_array((2, 3)), sp.linalg.aslinearoperator(np.eye(2))
matrix, polynomial, flat = np.matrix([[1, 2]]), np.poly1d([1, 2]), np.eye(2).flat
compound = pd.MultiIndex.from_product([[1, 2], ["sill", "weir"]])
texts = np.array(["sill", "a long text " * 20], dtype=np.dtypes.StringDType())


class Route(sp.linalg.LinearOperator):
    def __init__(self):
        super().__init__(dtype=float, shape=(3, 2))

    def _matvec(self, x):
        return np.zeros(3)


route = Route()
breakpoint()
