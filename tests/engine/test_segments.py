"""Work is cut from the data alone, and appended steps change no cut before them."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.reduce.period_state import Rules
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst, RegionFirst
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.stats.measures import parse_measure
from bavlo.core.time.assignment import Assignment
from bavlo.engine.segments import plan_blocks, plan_segments
from support import daily, reduced, some_overlay, step_weights_of


def assignment_of(sizes, whole=None):
    """Periods of some numbers of steps, the last perhaps not yet whole."""
    period = np.repeat(np.arange(len(sizes)), sizes)
    expected = np.array(whole or sizes, float)
    return Assignment(np.arange(period.size), period, np.ones(period.size), expected)


@given(
    sizes=st.lists(st.integers(1, 90), min_size=1, max_size=12),
    kept=st.integers(1, 1000),
    values=st.integers(1, 60),
)
def test_steps_that_are_appended_change_no_cut_before_them(sizes, kept, values):
    total = sum(sizes)
    kept = min(kept, total)
    edges = np.minimum(np.cumsum([0, *sizes]), kept)
    short = [b - a for a, b in itertools.pairwise(edges.tolist()) if b > a]

    def cuts(assignment):
        units = plan_blocks(assignment, 10, values * 10)
        segments = plan_segments([assignment], units, (2, 5))
        return [{each.first for each in some} for some in (units, segments)]

    # A segment may still grow at its end, and with it the last cut may be one too many.
    before = cuts(assignment_of(short, sizes[: len(short)]))
    after = cuts(assignment_of(sizes))
    for earlier, later in zip(before, after, strict=True):
        assert earlier <= later
        last = max(earlier)
        assert {cut for cut in later if cut < last} == earlier - {last}


@pytest.mark.parametrize("every", ["day", "month", "year", "all"])
@pytest.mark.parametrize("order", [RegionFirst, CellFirst])
@pytest.mark.parametrize("combine", ["total", "max"])
def test_segments_give_what_one_unit_gives(every, order, combine):
    rng = np.random.default_rng(6)
    block = rng.integers(0, 64, (430, 10)) / 4  # sums are exact, so any order gives the same
    block[rng.random(block.shape) < 0.01] = np.nan
    shared = some_overlay(rng, 3, 10)
    shared.weight[:] = 1.0
    shared.region_weight[:] = np.diff(shared.indptr)
    weights = step_weights_of(daily(430), every)
    measures = (parse_measure("mean"), parse_measure("p90"))
    reducer = order(OverlayIndex(shared), weights, measures, Rules(combine))
    (whole,) = reducer.close(reducer.state_of(Block(0, 430), block))

    units = plan_blocks(weights.assignment, 10, 70)
    segments = plan_segments([weights.assignment], units, (3, 5))
    assert [u for s in segments for u in s.blocks] == units
    assert [s.continues_into for s in segments[:-1]] == [s.continues_from for s in segments[1:]]
    assert any(s.is_open for s in segments) == (every in ("year", "all"))
    assert max(len(s.blocks) for s in segments) <= 5
    for jobs in (1, 3):
        settled = reduced(reducer, segments, block, jobs)
        found = sorted(itertools.chain(*settled), key=lambda values: values.first)
        assert [values.first for values in found] == list(
            itertools.accumulate([len(values.value) for values in found[:-1]], initial=0)
        )
        for name in ("value", "area_valid", "steps"):
            again = np.concatenate([getattr(values, name) for values in found])
            np.testing.assert_allclose(again, getattr(whole, name), rtol=1e-13, equal_nan=True)
