"""The range of values is the same by either way."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from bavlo.compiled import allow, at_hand
from bavlo.core.reduce import ends
from bavlo.core.reduce.ends import ends_without_gaps
from bavlo.core.reduce.step_kernels import find_range
from bavlo.plan.value_range import ValueRange


@given(arrays(np.float32, st.integers(0, 70), elements=st.floats(width=32)), st.booleans())
def test_the_range_leaves_out_gaps_and_is_that_of_the_values(values, is_whole):
    if is_whole:
        values = np.nan_to_num(values, nan=1.0)
    known = [float(n) for n in values if not np.isnan(n)]
    expected = (min(known, default=np.inf), max(known, default=-np.inf))
    allow()
    ends.warm_up()
    for block in (values, values.astype(np.float64)):
        found = ValueRange.of(block)
        assert (found.low, found.high) == expected


def test_float32_values_without_gaps_are_looked_at_by_a_loop():
    allow()
    ends.warm_up()
    if at_hand(find_range) is None:
        pytest.skip("compiled loops are not there")
    assert ends_without_gaps(np.array([2, -3, 5], np.float32)) == (-3, 5)
    assert ends_without_gaps(np.array([2, np.nan], np.float32)) is None
    assert ends_without_gaps(-np.array([2, np.nan], np.float32)) is None
