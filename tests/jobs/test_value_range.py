"""The range of values is that of the values that there are."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from bavlo.core.reduce.series import ValueRange


@given(arrays(np.float32, st.integers(0, 70), elements=st.floats(width=32)), st.booleans())
def test_the_range_leaves_out_gaps_and_is_that_of_the_values(values, is_whole):
    if is_whole:
        values = np.nan_to_num(values, nan=1.0)
    known = [float(n) for n in values if not np.isnan(n)]
    expected = (min(known, default=np.inf), max(known, default=-np.inf))
    for block in (values, values.astype(np.float64)):
        found = ValueRange.of(block)
        assert (found.low, found.high) == expected
