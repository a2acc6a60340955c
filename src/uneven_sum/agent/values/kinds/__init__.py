"""The kinds of values.  Adding one is a small file that calls `register`, named here.

The order counts for those found by a test: the first that fits.
"""

from . import scalars, texts, collections, objects, workings, arrays, mapped, tensors, quantities, stored, frames  # noqa: F401, I001
from . import geometries, fitted, foreign, symbols  # noqa: F401
