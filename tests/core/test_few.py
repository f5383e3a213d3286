"""The median and the distinct ones of a few numbers are those that NumPy gives."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

from bavlo.core.few import distinct, median

NUMBERS = st.one_of(
    arrays(np.float64, array_shapes(max_dims=2), elements=st.floats(-1e9, 1e9)),
    arrays(np.int64, array_shapes(max_dims=2), elements=st.integers(-(2**60), 2**60)),
    arrays(np.bool_, array_shapes(max_dims=1)),
)


@given(NUMBERS)
def test_the_distinct_ones_ascend(values):
    found = distinct(values)
    assert found.dtype == values.dtype
    assert found.tolist() == sorted(set(values.ravel().tolist()))


@given(NUMBERS.filter(lambda values: values.dtype != bool))
def test_the_median_is_the_middle_of_the_sorted_ones(values):
    expected = np.median(values)
    assert median(values) == expected or abs(median(values) / expected - 1) < 1e-15


def test_of_nothing_there_is_no_median_and_none_is_distinct():
    assert np.isnan(median(np.zeros(0)))
    assert distinct(np.zeros(0)).size == 0
