"""Units, measures and reductions against closed forms and plain loops."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from bavlo.core.reduce.merging import InOrder
from bavlo.core.reduce.period_state import Rules
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst, RegionFirst
from bavlo.core.space.overlay import Overlay
from bavlo.core.stats import spatial
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.measures import parse_measure
from brute import weighted_percentile
from support import daily, some_overlay, step_weights_of

values = arrays.arrays(
    np.float64,
    (5, 12),
    elements=st.one_of(st.sampled_from([0.0, 1.0, np.nan]), st.floats(-50, 50, width=32)),
)


def one_region(cells):
    """A region of whole cells that weigh alike."""
    number, ones = np.arange(cells), np.ones(cells)
    return Overlay(
        (1, cells),
        number,
        np.array([0, cells]),
        number.astype(np.int32),
        ones,
        ones,
        np.array([float(cells)]),
    )


@settings(max_examples=60)
@given(block=values, seed=st.integers(0, 99), percent=st.sampled_from([0, 5, 50, 90, 99.5, 100]))
def test_measures_agree_with_plain_loops(block, seed, percent):
    shared = some_overlay(np.random.default_rng(seed), 4, 12)
    sample = CellSample(OverlayIndex(shared), block)
    names = ["mean", "min", "max", "range", "std", "median", f"p{percent}"]
    found = {name: parse_measure(name).compute(sample) for name in names}
    for t in range(5):
        for r in range(4):
            part = slice(shared.indptr[r], shared.indptr[r + 1])
            x, w = block[t, shared.index[part]], shared.weight[part]
            x, w = x[~np.isnan(x)], w[~np.isnan(x)]
            share = sample.area_valid[0 if sample.area_valid.shape[0] == 1 else t, r]
            if not x.size:
                assert all(np.isnan(found[name][t, r]) for name in names)
                assert share == 0
                continue
            mean = np.average(x, weights=w)
            expected = {
                "mean": mean,
                "min": x.min(),
                "max": x.max(),
                "range": x.max() - x.min(),
                "std": np.sqrt(np.average((x - mean) ** 2, weights=w)),
                "median": weighted_percentile(x, w, 50),
                f"p{percent}": weighted_percentile(x, w, percent),
            }
            for name in names:
                assert found[name][t, r] == pytest.approx(expected[name], rel=1e-9, abs=1e-9)
            assert share == pytest.approx(w.sum() / shared.region_weight[r], abs=1e-12)


@pytest.mark.parametrize(
    "spoil",
    [
        lambda x: 300 + x * 1e-9,  # all the same in single precision
        lambda x: np.round(x) * 0.1,
        lambda x: np.round(x) * -0.0,
        lambda x: x * 1e300,
    ],
    ids=["nearly equal", "many ties", "both zeros", "beyond single precision"],
)
def test_percentiles_order_what_single_precision_cannot_tell_apart(spoil):
    rng = np.random.default_rng(8)
    shared = some_overlay(rng, 5, 300)
    block = spoil(rng.normal(0, 5, (40, 300)))
    block[rng.random(block.shape) < 0.1] = np.nan
    found = CellSample(OverlayIndex(shared), block).percentile(90)
    for (t, r), value in np.ndenumerate(found):
        entries = slice(*shared.indptr[r : r + 2])
        x, w = block[t, shared.index[entries]], shared.weight[entries]
        expected = weighted_percentile(x, w, 90) if x.size else np.nan
        assert value == pytest.approx(expected, rel=1e-14, nan_ok=True)


def test_percentiles_of_one_region_of_very_many_cells_are_interpolated():
    rng = np.random.default_rng(12)
    weight, block = rng.random(30_000) + 0.1, rng.normal(0, 5, (3, 30_000))
    start, cells = np.zeros(1, np.int64), np.arange(30_000)
    classes = spatial.size_classes(np.zeros(1, np.int64), start, cells, weight, 30_000)
    found = spatial.weighted_percentiles(classes, block, 1, {10.0, 50.0, 90.0})
    for row, values in enumerate(block):
        order = np.argsort(values)
        middle = np.cumsum(weight[order]) - weight[order] / 2
        for percent, value in found.items():
            expected = np.interp(percent / 100 * weight.sum(), middle, values[order])
            assert value[row, 0] == pytest.approx(expected, rel=1e-9)


def test_percentiles_of_many_steps_are_those_of_each_step_alone():
    rng = np.random.default_rng(9)
    index = OverlayIndex(some_overlay(rng, 3, 300))
    block = rng.normal(0, 5, (2_000, 300))
    found = CellSample(index, block).percentile(90)
    for step in (0, 450, 1999):
        alone = CellSample(index, block[step : step + 1]).percentile(90)
        assert found[step].tobytes() == alone[0].tobytes()


@settings(max_examples=25)
@given(
    cuts=st.sets(st.integers(1, 89), max_size=6),
    combine=st.sampled_from(["total", "mean", "min", "max"]),
    order=st.sampled_from([RegionFirst, CellFirst]),
    every=st.sampled_from(["day", "month", "all"]),
)
def test_units_merge_to_what_one_unit_gives(cuts, combine, order, every):
    rng = np.random.default_rng(4)
    block = rng.integers(0, 64, (90, 12)) / 4  # sums are exact, so any order gives the same
    block[rng.random(block.shape) < 0.02] = np.nan
    shared = some_overlay(rng, 3, 12)
    shared.weight[:] = 1.0
    shared.region_weight[:] = np.diff(shared.indptr)
    reducer = order(
        OverlayIndex(shared),
        step_weights_of(daily(90), every),
        (parse_measure("max"), parse_measure("p90")),
        Rules(combine, min_steps=0.5),
    )
    (whole,), rest = reducer.settle(reducer.state_of(Block(0, 90), block))
    assert rest is None
    found, run = [], InOrder(reducer)
    for first, last in itertools.pairwise([0, *sorted(cuts), 90]):
        settled, rest = reducer.settle(reducer.state_of(Block(first, last), block[first:last]))
        found += [*settled, *itertools.chain(*run.add(rest))]
    assert run.rest is None
    found.sort(key=lambda values: values.first)
    for name in ("value", "area_valid", "steps"):
        again = np.concatenate([getattr(values, name) for values in found])
        np.testing.assert_allclose(again, getattr(whole, name), rtol=1e-14, equal_nan=True)


def test_orders_differ_as_they_should():
    """The wettest cell's total is not the total of each day's wettest cell."""
    block = np.array([[10.0, 0.0], [0.0, 10.0]])
    shared = one_region(2)
    measures = (parse_measure("max"),)
    step_weights = step_weights_of(daily(2), "all")
    found = []
    for order in (RegionFirst, CellFirst):
        reduction = order(OverlayIndex(shared), step_weights, measures, Rules("total"))
        (values,), _ = reduction.settle(reduction.state_of(Block(0, 2), block))
        found.append(float(values.value[0, 0, 0]))
    assert found == [20.0, 10.0]


def test_a_cell_with_a_gap_counts_its_days_and_leaves_the_region_when_cells_come_first():
    block = np.ones((4, 4))
    block[1, 0] = np.nan
    shared = one_region(4)
    measures = (parse_measure("mean"),)
    step_weights = step_weights_of(daily(4), "all")
    region = RegionFirst(OverlayIndex(shared), step_weights, measures, Rules("total"))
    cell = CellFirst(OverlayIndex(shared), step_weights, measures, Rules("total"))
    a, b = (r.settle(r.state_of(Block(0, 4), block))[0][0] for r in (region, cell))
    assert (a.value[0, 0, 0], a.area_valid[0, 0], a.steps[0, 0]) == (4.0, 15 / 16, 4.0)
    assert (b.value[0, 0, 0], b.area_valid[0, 0], b.steps[0, 0]) == (4.0, 0.75, 4.0)


@pytest.mark.parametrize(
    ("missing", "area", "value", "steps"),
    [
        ((3, 2), (1 / 4 + 2 / 4) / 2, np.nan, 0),  # none has enough area: the mean of all steps
        ((0, 1), (4 / 4 + 3 / 4) / 2, 1.0, 2),
        ((3, 0), 4 / 4, 1.0, 1),  # that of the one step that counts
        ((4, 4), 0.0, np.nan, 0),
        ((4, 2), (0 / 4 + 2 / 4) / 2, np.nan, 0),
    ],
)
def test_the_share_of_area_with_data_is_that_of_the_steps_that_count_or_else_of_all(
    missing, area, value, steps
):
    shared = one_region(4)
    block = np.ones((2, 4))
    for step, cells in enumerate(missing):
        block[step, :cells] = np.nan
    rules = Rules("mean", min_steps=0.0, min_area=0.6)
    own = step_weights_of(daily(2), "all")
    reducer = RegionFirst(OverlayIndex(shared), own, (parse_measure("mean"),), rules)
    (found,) = reducer.settle(reducer.state_of(Block(0, 2), block))[0]
    assert found.area_valid[0, 0] == area
    np.testing.assert_equal(found.value[0, 0, 0], value)
    assert found.steps[0, 0] == steps
