"""Values of further libraries: one of every kind."""

import decimal
import fractions

import astropy.units as u
import dask.array
import dask.dataframe
import geopandas
import h5py
import jax.numpy as jnp
import mpmath
import netCDF4
import numpy as np
import pandas as pd
import pint
import polars as pl
import scipy.optimize
import scipy.stats
import shapely
import statsmodels.api as sm
import sympy
import uncertainties
import uncertainties.unumpy
import unyt
import xarray as xr
import zarr
from sklearn.linear_model import LinearRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import StandardScaler

ureg = pint.UnitRegistry()
speed = 3.5 * ureg.meter / ureg.second
depths = np.array([1.0, np.nan, 3.0]) * ureg.mm
span, spans = 3.0 * u.m, np.array([[1.0, np.nan], [2.0, 3.0]]) * u.km
drop, drops = unyt.unyt_quantity(2.0, "kg"), unyt.unyt_array([1.0, 2.0], "cm")
rated = uncertainties.ufloat(1.5, 0.2)
ratings = uncertainties.unumpy.uarray([1.0, 2.0], [0.1, 0.2])
columns = np.arange(6.0).reshape(3, 2)
fitted = LinearRegression().fit(columns, [1.0, 2.0, 3.0])
bare = LinearRegression()
steps = make_pipeline(StandardScaler(), LinearRegression())
chain = make_pipeline(StandardScaler(), LinearRegression()).fit(columns, [1.0, 2.0, 3.0])
found = scipy.optimize.minimize(lambda x: (x[0] - 1) ** 2, [0.0])
model = sm.OLS(np.arange(9.0) * 2, sm.add_constant(np.arange(9.0))).fit()
normal = scipy.stats.norm(0, 2.5)
levels = h5py.File("levels.h5", "w", driver="core", backing_store=False)
stored = levels.create_dataset("stage", data=np.arange(12.0).reshape(4, 3))
cube = levels.create_dataset("cube", data=np.arange(24.0).reshape(2, 3, 4))
tides = netCDF4.Dataset("tides.nc", "w", diskless=True)
tides.createDimension("day", 3)
tide = tides.createVariable("tide", "f8", ("day",))
tide.units = "m"
tide[:] = [1.0, 2.0, np.nan]
packed = zarr.array(np.arange(12.0).reshape(3, 4), chunks=(1, 4))
packs = zarr.group()
packs.create_array("rain", data=np.eye(2))
planned = dask.array.from_array(np.arange(10.0), chunks=5) / 0
parts = dask.dataframe.from_pandas(pd.DataFrame({"gauge": ["sill"], "depth": [1.0]}), npartitions=1)
labelled = xr.DataArray(planned, dims="day")
lazy = pl.DataFrame({"depth": [1.0]}).lazy()
gauges = geopandas.GeoDataFrame(
    {"depth": [1.0, np.nan]}, geometry=[shapely.Point(0, 1), shapely.Point(1, 2)], crs="EPSG:4326"
)
places, place, basin = gauges.geometry, shapely.Point(1.0, 2.0), shapely.box(0, 0, 2, 1)
counts, names = pd.array([1, None, 3], dtype="Int64"), pd.array(["sill", None], dtype="string")
heads = pd.array([1.5, None], dtype="float64[pyarrow]")
bands, months = pd.arrays.IntervalArray.from_breaks([0, 1, 2]), pd.period_range("2020-01", periods=3, freq="M").array
classes = pd.Categorical(["dry", "wet", None])
exact = pd.Series([decimal.Decimal("1.5"), decimal.Decimal("2.5")], index=["sill", "weir"])
thirds = pd.Series([fractions.Fraction(1, 3), fractions.Fraction(2, 3)])
texts = np.array(["sill", "weir"], dtype=np.dtypes.StringDType())
spread = jnp.array([1.0, 2.0, jnp.inf])
x, y = sympy.symbols("x y")
outflow, unknown = sympy.integrate(sympy.exp(-(x**2)) * x, x), sympy.Function("stage")(x)
long = sympy.expand((x + y) ** 200)
jacobian = sympy.Matrix([[x, 1], [y, x * y]])
with mpmath.workdps(50):
    third = mpmath.mpf(1) / 3
turn, square = mpmath.mpc(1, 2), mpmath.matrix([[1, 2], [3, 4]])


class Rating(sympy.Function):
    def _sympystr(self, printer):
        raise RuntimeError


rating = Rating(x)
breakpoint()
