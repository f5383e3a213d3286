"""Values added up step by step are those of the whole block."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.reduce.totals import DecodedStep, RunningTotals


def block_of(seed, steps, cells, gaps):
    """Values (T, C) of which all steps miss the same cells."""
    rng = np.random.default_rng(seed)
    block = rng.gamma(0.4, 9, (steps, cells)).astype("f4").astype("f8")
    block[:, rng.random(cells) < gaps] = np.nan
    return block


def added(rows, starts, cells):
    """Sums of rows as far as they miss the same cells, and how many they are."""
    sums = RunningTotals(np.asarray(starts), cells)
    for row in rows:
        if not sums.add(DecodedStep(row)):
            break
    return sums.totals(), sums.count


@given(st.integers(0, 99), st.integers(1, 40), st.sampled_from([0.0, 0.3, 1.0]), st.data())
def test_sums_over_runs_are_those_of_their_steps(seed, steps, gaps, data):
    block = block_of(seed, steps, 7, gaps)
    more = data.draw(st.sets(st.integers(1, steps), max_size=5)) - {steps}
    starts = np.array([0, *sorted(more)])
    found, count = added(block, starts, 7)
    assert count == steps
    np.testing.assert_allclose(found.value, np.add.reduceat(block, starts, axis=0), rtol=1e-12)
    known = block[~np.isnan(block)]
    assert found.value_range == (min(known, default=np.inf), max(known, default=-np.inf))


@pytest.mark.parametrize("step", [1, 4, 5])
@pytest.mark.parametrize("gaps", [0.0, 0.4])
def test_adding_up_ends_before_a_step_that_misses_other_cells(step, gaps):
    block = block_of(1, 9, 6, gaps)
    block[step:, np.flatnonzero(~np.isnan(block[0]))[0]] = np.nan
    starts = np.array([0, 3, 5])
    found, count = added(block, starts, 6)
    assert count == step
    begun = starts[starts < step]
    np.testing.assert_allclose(found.value, np.add.reduceat(block[:step], begun, axis=0))
    assert found.value_range[1] == np.nanmax(block[:step])
