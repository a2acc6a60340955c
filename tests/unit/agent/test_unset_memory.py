"""Arrays whose memory is not set, in runs whose values are compared."""

from __future__ import annotations

import numpy as np
import pytest

from uneven_sum.agent.recording import unset_memory


@pytest.mark.parametrize("dtype", ["f8", "f4", "i8", "u4", "c16"])
def test_cells_that_are_not_set_are_told_as_missing(dtype: str) -> None:
    made = unset_memory.filled(np.empty(4, dtype))
    made[1:] = 3
    real = made.view(made.real.dtype)
    told = unset_memory.without(np, real)
    first = 2 if made.dtype.kind == "c" else 1
    assert np.isnan(told[:first]).all() and np.isfinite(told[first:]).all()
    assert np.array_equal(real[first:], told[first:])


def test_what_is_large_or_a_view_is_left_alone() -> None:
    large = np.zeros(unset_memory.MOST // 8 + 1)
    assert unset_memory.filled(large) is large and not large.any()
    view = np.ndarray(3, buffer=np.ones(3))
    assert (unset_memory.filled(view) == 1).all()
    assert unset_memory.filled([1.0]) == [1.0]
