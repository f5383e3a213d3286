"""Sums of bands are those of their cells one by one."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.spans import Spans
from bavlo.core.stats.bands import ADDED_UP, BandIndex, BandSums
from bavlo.core.stats.cell_sample import LEAST_COVER
from bavlo.errors import RequestError

REGIONS = 4


def layout_of(columns):
    return GridLayout(80 + 0.01 * np.arange(columns + 1.0), np.array([-30, -30.5, -31.2, -31.5]))


def spans_in(shape, *spans):
    """Spans of regions from their first cell, length, region and share."""
    start, length, region, fraction = zip(*sorted(spans), strict=True)
    zeros = np.zeros(REGIONS)
    return Spans(
        shape, np.array(region), np.array(start), np.array(length), np.array(fraction), zeros, zeros
    )


def a_band(seed, columns, share):
    """Numbers of three rows, some of them missing, and spans of cells in them."""
    rng = np.random.default_rng(seed)
    values = np.round(rng.normal(3, 100, (3, columns)))
    values[rng.random(values.shape) < share] = np.nan
    found = [(0, 1, 0, 0.5)]
    for row in range(3):
        edges = np.unique(rng.integers(0, columns + 1, rng.integers(2, 9)))
        for a, b in itertools.pairwise(edges.tolist()):
            for whose in rng.choice(REGIONS, rng.integers(0, 3), replace=False).tolist():
                covered = LEAST_COVER / 2 if rng.random() < 0.1 else rng.random()
                if row * columns + a > 0:
                    found.append((row * columns + a, b - a, whose, covered))
    return values, spans_in(values.shape, *found)


bands = given(
    seed=st.integers(0, 10**6),
    columns=st.sampled_from([1, 7, 300]),
    share=st.sampled_from([0.0, 0.2, 1.0]),
)


def cells_of(values, spans):
    """Value, region, share, and both areas of each cell of each span."""
    areas = RowAreas(layout_of(values.shape[1]))
    weight, square_km = areas.weights(0, 3).ravel(), areas.square_km(0, 3).ravel()
    for first, length, whose, share in zip(
        spans.start, spans.length, spans.region, spans.fraction, strict=True
    ):
        for cell in range(first, first + length):
            yield values.ravel()[cell], whose, share, weight[cell], square_km[cell]


@bands
def test_sums_of_bands_are_those_of_their_cells_one_by_one(seed, columns, share):
    values, spans = a_band(seed, columns, share)
    index = BandIndex(spans, RowAreas(layout_of(columns)), frozenset(ADDED_UP))
    parts = [index.sums(0, values[:1]), index.sums(1, values[1:])]
    found = sum(parts, BandSums.nothing(REGIONS))
    terms = {}
    for value, whose, covered, weight, square_km in cells_of(values, spans):
        if np.isnan(value):
            each = {"missing": weight}
        else:
            each = {
                "valid": weight, "number": 1, "total": value, "weighted": value * weight,
                "volume": value * square_km,
            }  # fmt: skip
            terms.setdefault(("pairs", whose), []).append((value, covered * weight))
            if covered >= LEAST_COVER:
                terms.setdefault(("cells", whose), []).append(value)
        for name, term in each.items():
            terms.setdefault((name, whose), []).append(covered * term)
    for name in ("missing", "valid", "number", "total", "weighted", "volume"):
        for whose in range(REGIONS):
            known = terms.get((name, whose), [])
            close = 1e-13 * max(map(abs, known), default=0.0) * len(known)
            wanted = pytest.approx(math.fsum(known), rel=1e-12, abs=close)
            assert getattr(found, name)[whose] == wanted
    for whose in range(REGIONS):
        value, weight = np.array(terms.get(("pairs", whose), [(0.0, 1.0)])).T
        away = value - np.average(value, weights=weight)
        close = 1e-12 * max(value**2) * weight.sum()
        assert found.squares[whose] == pytest.approx((away**2 * weight).sum(), rel=1e-9, abs=close)
        known = terms.get(("cells", whose), [np.nan])
        np.testing.assert_array_equal([found.low[whose]], [min(known)])
        np.testing.assert_array_equal([found.high[whose]], [max(known)])


@bands
def test_areas_of_classes_are_those_of_their_cells(seed, columns, share):
    values, spans = a_band(seed, columns, share)
    codes = np.random.default_rng(seed).choice([0, 3, 40, -7, 900, 1e9], values.shape)
    values = np.where(np.isnan(values), np.nan, codes)
    index = BandIndex(spans, RowAreas(layout_of(columns)), frozenset(("classes",)))
    (found,) = index.sums(0, values).classes
    wanted = {}
    for code, whose, covered, weight, square_km in cells_of(values, spans):
        if not np.isnan(code):
            wanted.setdefault((whose, code), []).append((covered * weight, covered * square_km))
    assert found.codes.tolist() == sorted({code for _, code in wanted})
    for whose, code in itertools.product(range(REGIONS), found.codes.tolist()):
        own = np.sum(wanted.get((whose, code), [(0.0, 0.0)]), axis=0)
        at = whose, np.searchsorted(found.codes, code)
        np.testing.assert_allclose([found.weight[at], found.square_km[at]], own, rtol=1e-12)


@pytest.mark.parametrize("inside", [3.0, 0.5])
def test_only_what_lies_in_regions_must_be_a_code(inside):
    values = np.array([[0.5, inside, np.nan, 7.5]])
    spans = spans_in((3, 4), (1, 2, 0, 1.0))
    index = BandIndex(spans, RowAreas(layout_of(4)), frozenset(("classes",)))
    if inside == 0.5:
        with pytest.raises(RequestError, match="not whole numbers"):
            index.sums(0, values)
        return
    (found,) = index.sums(0, values).classes
    assert found.codes.tolist() == [3]


@given(seed=st.integers(0, 10**6), value=st.sampled_from([25.1, -0.3, 1e-7, 3e5]))
def test_the_mean_of_equal_cells_is_their_value_and_they_do_not_vary(seed, value):
    values, spans = a_band(seed, 300, 0.2)
    values = np.where(np.isnan(values), np.nan, value)
    index = BandIndex(spans, RowAreas(layout_of(300)), frozenset(("means", "squares")))
    sample = index.sample(index.sums(0, values[:2]) + index.sums(2, values[2:]))
    known = ~np.isnan(sample.sums.low)
    assert known.any()
    assert (sample.mean[0, known] == value).all()
    assert (sample.variance[0, known] == 0).all()
