"""Values of further libraries: one of every kind."""

import h5py
import numpy as np
import pint
import scipy.optimize
import uncertainties
from sklearn.linear_model import LinearRegression

ureg = pint.UnitRegistry()
speed = 3.5 * ureg.meter / ureg.second
depths = np.array([1.0, np.nan, 3.0]) * ureg.mm
rated = uncertainties.ufloat(1.5, 0.2)
fitted = LinearRegression().fit(np.arange(6.0).reshape(3, 2), [1.0, 2.0, 3.0])
bare = LinearRegression()
found = scipy.optimize.minimize(lambda x: (x[0] - 1) ** 2, [0.0])
stored = h5py.File("levels.h5", "w", driver="core", backing_store=False).create_dataset(
    "stage", data=np.arange(12.0).reshape(4, 3)
)
breakpoint()
