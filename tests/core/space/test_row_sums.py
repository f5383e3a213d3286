"""Rows as they are stored, brought onto new ones: what decoded rows give, to the last bit."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.compiled import allow, compiled
from bavlo.core.reduce.totals import DecodedStep
from bavlo.core.space import rows as rows_of_grid
from bavlo.core.space.axis_regrid import axis_areas
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.row_kernels import add_rows


class StoredRows:
    """Numbers whose missing ones are -1."""

    def __init__(self, numbers):
        self.numbers = numbers

    def __len__(self):
        return len(self.numbers)

    def __getitem__(self, rows):
        own = self.numbers[rows].astype(np.float64)
        return np.where(own == -1, np.nan, own)

    def plain(self, rows):
        return self.numbers[rows].ravel(), DecodedStep(self[rows].ravel()).seen


grids = given(
    seed=st.integers(0, 10**6),
    old=st.tuples(st.integers(3, 40), st.integers(3, 40)),
    new=st.tuples(st.integers(1, 50), st.integers(1, 50)),
    share=st.sampled_from([0.0, 0.3, 1.0]),
    counts=st.booleans(),
)


@pytest.fixture(autouse=True)
def loops():
    pytest.importorskip("numba")
    allow()
    if compiled(add_rows) is None:
        pytest.skip("compiled loops are switched off")


def both_sums(old, new, numbers, first, *, counts, of_codes):
    """The same sums of stored and of decoded rows."""
    source = GridLayout(np.linspace(70, 80, old[1] + 1), np.linspace(-40, -30, old[0] + 1))
    target = GridLayout(np.linspace(71, 82, new[1] + 1), np.linspace(-41, -31, new[0] + 1))
    areas, stored = axis_areas(source, target, counts), StoredRows(numbers[first:])
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(rows_of_grid, "CELLS_AT_ONCE", 3 * old[1])
        found = areas.sums(first, stored, of_codes=of_codes)
        wanted = areas.sums(first, stored[:], of_codes=of_codes)
    assert found.first == wanted.first
    assert found.weight.tobytes() == wanted.weight.tobytes()
    return found, wanted


@grids
def test_sums_of_rows_as_they_are_stored_are_those_of_decoded_ones_to_the_last_bit(
    seed, old, new, share, counts
):
    rng = np.random.default_rng(seed)
    numbers = rng.gamma(0.5, 9, old).astype(("f4", "i2", "f8")[seed % 3])
    numbers[rng.random(old) < share] = -1
    first = int(rng.integers(0, old[0]))
    found, wanted = both_sums(old, new, numbers, first, counts=counts, of_codes=False)
    if wanted.total is None:
        assert found.total is None
    else:
        assert found.total.tobytes() == wanted.total.tobytes()


@grids
def test_classes_of_rows_as_they_are_stored_are_those_of_decoded_ones_to_the_last_bit(
    seed, old, new, share, counts
):
    rng = np.random.default_rng(seed)
    numbers = rng.choice([0, 4, 10, 11, 200], old).astype(("u2", "i2", "f4")[seed % 3])
    if numbers.dtype.kind != "u":
        numbers[rng.random(old) < share] = -1
    first = int(rng.integers(0, old[0]))
    found, wanted = both_sums(old, new, numbers, first, counts=False, of_codes=True)
    assert sorted(found.codes) == sorted(wanted.codes)
    for code in wanted.codes:
        assert found.codes[code].tobytes() == wanted.codes[code].tobytes()
