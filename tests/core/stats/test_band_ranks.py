"""Percentiles from two passes over bands are those of all cells at once, by brute force."""

import functools
import operator
from types import SimpleNamespace

import numpy as np
import pytest

from bavlo.core.space.spans import Spans
from bavlo.core.stats.band_ranks import BinWeights, RankIndex, RankTargets, edges_of

SHAPE = ROWS, COLUMNS = 24, 15
PERCENTS = (0.0, 1.0, 37.3, 50.0, 90.0, 99.0, 100.0)
FIELDS = {
    "all different": lambda rng: rng.normal(size=SHAPE),
    "rounded": lambda rng: np.round(rng.gamma(0.4, 3, SHAPE), 1),
    "mostly zero": lambda rng: np.maximum(0, np.round(rng.normal(-1, 1, SHAPE), 2)),
    "one value": lambda rng: np.full(SHAPE, 3.5),
    "with gaps": lambda rng: np.where(rng.random(SHAPE) < 0.3, np.nan, rng.normal(size=SHAPE)),
}  # fmt: skip


def spans_of_three_regions(rng):
    """Region 0 covers the left of all rows, 1 the right of some, 2 is a cell, 3 is nowhere."""
    width = rng.integers(3, 9, ROWS)
    left = [(0, row * COLUMNS, width[row]) for row in range(ROWS)]
    right = [(1, row * COLUMNS + 7, 8) for row in range(5, 20)]
    region, start, length = np.array(sorted([*left, *right, (2, 130, 1)], key=lambda s: s[1])).T
    share, one = rng.uniform(0.05, 1, region.size), np.ones(4)
    return Spans(SHAPE, region, start, length, share, one, one)


def by_brute_force(spans, values, area):
    """Sorted by value, then weight; linear between the midpoints of the cumulated weights."""
    out = np.full((4, len(PERCENTS)), np.nan)
    for region in range(3):
        mine = np.flatnonzero(spans.region == region)
        cells = [
            (c, spans.fraction[s]) for s in mine for c in spans.start[s] + range(spans.length[s])
        ]
        value = np.array([values.flat[c] for c, _ in cells])
        weight = np.array([area.flat[c] * share for c, share in cells])
        order = np.lexsort((weight, value))[: np.count_nonzero(~np.isnan(value))]
        value, weight = value[order], weight[order]
        if value.size:
            stands = np.cumsum(weight) - weight / 2
            out[region] = np.interp(np.array(PERCENTS) / 100 * weight.sum(), stands, value)
    return out  # fmt: skip


@pytest.mark.parametrize("field", FIELDS)
@pytest.mark.parametrize("many", [4, 2**17])  # regions, so that bins are narrow or wide
@pytest.mark.parametrize("seed", range(4))
def test_percentiles_of_two_passes_are_those_of_all_cells(field, many, seed):
    rng = np.random.default_rng(seed)
    values, area, spans = (
        FIELDS[field](rng),
        rng.uniform(0.5, 2, SHAPE),
        spans_of_three_regions(rng),
    )
    edges = edges_of(rng.choice(values.ravel(), 40), many)
    bands = [(0, 7), (7, 8), (8, ROWS)]

    weights = []
    for low, high in bands:
        weights.append(BinWeights.nothing(4, edges))
        weights[-1].take_in(spans.of_rows(low, high), values[low:high], area[low:high], edges)
    targets = RankTargets.of(functools.reduce(operator.add, weights), edges, PERCENTS)
    areas = SimpleNamespace(weights=lambda low, high: area[low:high])
    ranks = RankIndex(spans, areas, edges, targets)
    held = [ranks.sums(low, values[low:high]) for low, high in bands]
    found = ranks.sample(functools.reduce(operator.add, held))

    wanted = by_brute_force(spans, values, area)
    for q, percent in enumerate(PERCENTS):
        np.testing.assert_allclose(found[percent], wanted[:, q], rtol=1e-12, atol=1e-12)


def test_what_is_held_is_few_of_many_cells():
    rng = np.random.default_rng(1)
    values, spans = FIELDS["mostly zero"](rng), spans_of_three_regions(rng)
    edges = edges_of(values.ravel(), 4)
    weights = BinWeights.nothing(4, edges)
    weights.take_in(spans, values, np.ones(SHAPE), edges)
    assert RankTargets.of(weights, edges, (50.0,)).held == 0  # zeros are known from the first pass
    assert RankTargets.of(weights, edges, (99.0,)).held < weights.count.sum() / 10
