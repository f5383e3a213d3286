"""Rows as they are stored, brought onto new ones: what decoded rows give, to the last bit."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.compiled import allow, compiled
from bavlo.core.reduce.totals import DecodedStep
from bavlo.core.space import rows as rows_of_grid
from bavlo.core.space.axis_regrid import axis_areas
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.row_kernels import add_rows


class StoredRows:
    """Float32 numbers whose missing ones are -1."""

    def __init__(self, numbers):
        self.numbers = numbers

    def __len__(self):
        return len(self.numbers)

    def __getitem__(self, rows):
        own = self.numbers[rows].astype(np.float64)
        return np.where(own == -1, np.nan, own)

    def plain(self, rows):
        return self.numbers[rows].ravel(), DecodedStep(self[rows].ravel()).seen


@given(
    seed=st.integers(0, 10**6),
    old=st.tuples(st.integers(3, 40), st.integers(3, 40)),
    new=st.tuples(st.integers(1, 50), st.integers(1, 50)),
    share=st.sampled_from([0.0, 0.3, 1.0]),
    counts=st.booleans(),
)
def test_sums_of_rows_as_they_are_stored_are_those_of_decoded_ones_to_the_last_bit(
    seed, old, new, share, counts
):
    pytest.importorskip("numba")
    allow()
    if compiled(add_rows) is None:
        pytest.skip("compiled loops are switched off")
    rng = np.random.default_rng(seed)
    numbers = rng.gamma(0.5, 9, old).astype("f4")
    numbers[rng.random(old) < share] = -1
    source = GridLayout(np.linspace(70, 80, old[1] + 1), np.linspace(-40, -30, old[0] + 1))
    target = GridLayout(np.linspace(71, 82, new[1] + 1), np.linspace(-41, -31, new[0] + 1))
    areas, first = axis_areas(source, target, counts), int(rng.integers(0, old[0]))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(rows_of_grid, "CELLS_AT_ONCE", 3 * old[1])
        stored = StoredRows(numbers[first:])
        found = areas.sums(first, stored, of_codes=False)
        wanted = areas.sums(first, stored[:], of_codes=False)
    assert found.first == wanted.first
    assert found.weight.tobytes() == wanted.weight.tobytes()
    if wanted.total is None:
        assert found.total is None
    else:
        assert found.total.tobytes() == wanted.total.tobytes()
