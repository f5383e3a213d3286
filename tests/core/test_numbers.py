"""Units, measures and reductions against closed forms and plain loops."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from bavlo.core import spatial
from bavlo.core.errors import RequestError
from bavlo.core.measures import CellSample, OverlayIndex, parse_measure
from bavlo.core.overlay import Overlay
from bavlo.core.partials import Rules, Unit
from bavlo.core.reductions import CellFirst, RegionFirst
from bavlo.core.steps import time_axis
from bavlo.core.timeaxis import HOUR, to_instant
from bavlo.core.units import AMOUNT, RATE, STATE, Variable, convert, quantity, step_amounts
from brute import weighted_percentile
from support import daily, folding_of, some_overlay

values = arrays.arrays(
    np.float64,
    (5, 12),
    elements=st.one_of(st.sampled_from([0.0, 1.0, np.nan]), st.floats(-50, 50, width=32)),
)


@settings(max_examples=60, deadline=None)
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


def test_percentiles_of_many_steps_are_sorted_together_and_as_each_step_alone(monkeypatch):
    rng = np.random.default_rng(9)
    index = OverlayIndex(some_overlay(rng, 3, 300))
    block = rng.normal(0, 5, (900, 300))
    sorts = []
    pieces = spatial._pieces
    monkeypatch.setattr(
        spatial, "_pieces", lambda *given: [sorts.append(1) or each for each in pieces(*given)]
    )
    monkeypatch.setattr(spatial, "SORTED_AT_ONCE", 2**16)
    found = CellSample(index, block).percentile(90)
    assert len(sorts) < 20
    for step in (0, 450, 899):
        alone = CellSample(index, block[step : step + 1]).percentile(90)
        assert found[step].tobytes() == alone[0].tobytes()


@settings(max_examples=25, deadline=None)
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
    reduction = order(
        OverlayIndex(shared),
        folding_of(daily(90), every),
        (parse_measure("max"), parse_measure("p90")),
        Rules(combine, min_steps=0.5),
    )
    whole = reduction.finish(reduction.update(Unit(0, 90), block))
    edges = [0, *sorted(cuts), 90]
    merged = None
    for first, last in itertools.pairwise(edges):
        part = reduction.update(Unit(first, last), block[first:last])
        merged = part if merged is None else reduction.merge(merged, part)
    again = reduction.finish(merged)
    for name in ("value", "area_valid", "steps"):
        np.testing.assert_allclose(
            getattr(again, name), getattr(whole, name), rtol=1e-14, equal_nan=True
        )


def test_orders_differ_as_they_should():
    """The wettest cell's total is not the total of each day's wettest cell."""
    block = np.array([[10.0, 0.0], [0.0, 10.0]])
    shared = Overlay(
        (1, 2),
        np.arange(2),
        np.array([0, 2]),
        np.arange(2, dtype=np.int32),
        np.ones(2),
        np.ones(2),
        np.array([2.0]),
    )
    measures = (parse_measure("max"),)
    folding = folding_of(daily(2), "all")
    found = []
    for order in (RegionFirst, CellFirst):
        reduction = order(OverlayIndex(shared), folding, measures, Rules("total"))
        found.append(float(reduction.finish(reduction.update(Unit(0, 2), block)).value[0, 0, 0]))
    assert found == [20.0, 10.0]


def test_a_cell_with_a_gap_counts_its_days_and_leaves_the_region_when_cells_come_first():
    block = np.ones((4, 4))
    block[1, 0] = np.nan
    shared = Overlay(
        (1, 4),
        np.arange(4),
        np.array([0, 4]),
        np.arange(4, dtype=np.int32),
        np.ones(4),
        np.ones(4),
        np.array([4.0]),
    )
    measures = (parse_measure("mean"),)
    folding = folding_of(daily(4), "all")
    region = RegionFirst(OverlayIndex(shared), folding, measures, Rules("total"))
    cell = CellFirst(OverlayIndex(shared), folding, measures, Rules("total"))
    a, b = (r.finish(r.update(Unit(0, 4), block)) for r in (region, cell))
    assert (a.value[0, 0, 0], a.area_valid[0, 0], a.steps[0, 0]) == (4.0, 15 / 16, 4.0)
    assert (b.value[0, 0, 0], b.area_valid[0, 0], b.steps[0, 0]) == (4.0, 0.75, 4.0)


@pytest.mark.parametrize(
    ("unit", "name", "standard_name", "cell_methods", "kind", "total_unit"),
    [
        ("mm", "rain", "", "", AMOUNT, "mm"),
        ("mm", "x", "", "time: sum", AMOUNT, "mm"),
        ("kg m-2", "pr", "", "", AMOUNT, "mm"),
        ("m", "total_precipitation", "", "", AMOUNT, "m"),
        ("kg m-2 s-1", "x", "precipitation_flux", "", RATE, "mm"),
        ("mm/day", "x", "", "", RATE, "mm"),
        ("mm month-1", "x", "", "", RATE, "mm"),
        ("m s-1", "wind", "wind_speed", "time: mean", STATE, ""),
        ("m s-1", "pr", "lwe_precipitation_rate", "", RATE, "mm"),
        ("m", "height", "surface_altitude", "", STATE, ""),
        ("K", "tmax", "air_temperature", "", STATE, ""),
        ("1", "share", "", "", STATE, ""),
        ("", "anything", "", "", STATE, ""),
    ],
)
def test_kinds_are_told_by_unit_and_name(unit, name, standard_name, cell_methods, kind, total_unit):
    what = quantity(Variable(name, unit, standard_name, "", cell_methods), "file")
    assert (what.kind, what.total_unit) == (kind, total_unit)


def test_a_rate_becomes_an_amount_by_the_length_of_its_step():
    time = daily(31)
    for unit, factor in (("kg m-2 s-1", 86400), ("mm day-1", 1), ("mm/hour", 24)):
        what = quantity(Variable("pr", unit), "file")
        np.testing.assert_allclose(step_amounts(what, time), factor, rtol=1e-14)
    hours = to_instant("standard", 2001) + 3 * HOUR * np.arange(8)
    what = quantity(Variable("pr", "mm day-1"), "file")
    np.testing.assert_allclose(step_amounts(what, time_axis(hours, None, "standard")), 1 / 8)


def test_rates_by_month_and_year_mean_calendar_months_and_years():
    starts = np.array([to_instant("standard", 2004, m) for m in range(1, 13)])
    months = time_axis(starts, None, "standard")
    by_month = step_amounts(quantity(Variable("pr", "mm/month"), "file"), months)
    np.testing.assert_allclose(by_month, 1.0, rtol=1e-14)
    by_year = step_amounts(quantity(Variable("pr", "mm year-1"), "file"), months)
    assert by_year.sum() == pytest.approx(1.0, rel=1e-14)
    assert by_year[1] == pytest.approx(29 / 366, rel=1e-12)


def test_temperatures_convert_with_the_offset_and_their_differences_without():
    kelvin = np.array([0.0, 273.15, 300.0])
    np.testing.assert_allclose(
        convert(kelvin, "K", "degC", difference=False), [-273.15, 0, 26.85], atol=1e-12
    )
    np.testing.assert_allclose(convert(kelvin, "K", "degF", difference=True), kelvin * 1.8)
    np.testing.assert_allclose(convert(np.array([25.4]), "kg m-2", "inch", difference=False), 1)
    with pytest.raises(RequestError, match="cannot be converted"):
        convert(kelvin, "K", "mm", difference=False)
