"""Weighted sums have the same bits with SciPy's matrices and without."""

import platform

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core import sums
from bavlo.core.sums import WITHOUT_FUSION, WeightedSums


@given(st.integers(0, 2**32 - 1), st.integers(1, 30), st.integers(1, 60), st.integers(0, 9))
def test_both_ways_add_the_same_products_in_the_same_order(seed, rows, columns, steps):
    if platform.machine() not in WITHOUT_FUSION:
        pytest.skip("SciPy fuses multiplication and addition here, and is always taken")
    rng = np.random.default_rng(seed)
    entries = int(rng.integers(0, rows * columns + 1))
    weight = rng.normal(size=entries) * 10.0 ** rng.integers(-9, 9, entries)
    row, column = rng.integers(0, rows, entries), rng.integers(0, columns, entries)
    found = WeightedSums.of_entries(weight, row, column, (rows, columns))
    values = rng.normal(size=(columns, steps)) if steps else rng.normal(size=columns)
    values[rng.random(values.shape) < 0.1] = -0.0
    alone, by_scipy = found.without_scipy(values), found.by_scipy @ values
    assert alone.tobytes() == np.ascontiguousarray(by_scipy).tobytes()
    dense = np.zeros((rows, columns))
    np.add.at(dense, (row, column), weight)
    np.testing.assert_allclose(alone, dense @ values, rtol=1e-9, atol=1e-3)


def test_scipy_is_loaded_once_enough_is_to_be_added(monkeypatch):
    monkeypatch.setattr(sums, "_made", 0)
    monkeypatch.setattr(sums.sys, "modules", {})
    monkeypatch.setattr(sums.platform, "machine", lambda: "x86_64")
    assert not sums._worth_loading(sums.FEW)
    assert sums._worth_loading(1)
    monkeypatch.setattr(sums, "_made", 0)
    monkeypatch.setattr(sums.platform, "machine", lambda: "arm64")
    assert sums._worth_loading(1)
