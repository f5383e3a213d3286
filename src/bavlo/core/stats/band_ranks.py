"""Percentiles of regions of grids without time, from two passes over bands of rows.

The first pass adds up how much the cells of each region weigh between the values of a sample. So
it is known between which of these a percentile lies, and the second pass keeps only what is there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.space.overlay import LEAST_COVER
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.spans import Spans, listed

MOST_BINS, MOST_WEIGHTS = 4096, 2**20  # bins of a region, and of all regions together
BYTES_OF_CELL = 160.0  # that is kept: five numbers, four times over while they are sorted


def edges_of(sample: np.ndarray, regions: int) -> np.ndarray:
    """Ascending values of a sample between which about as many cells lie.

    What many cells have, as where nobody lives, is a bin of this one value.
    """
    known = sample[~np.isnan(sample)]
    if not known.size:
        return np.zeros(0)
    count = min(MOST_BINS, max(16, MOST_WEIGHTS // max(regions, 1)))
    shares = np.linspace(0, 1, count + 1)[1:-1]
    values, times = np.unique(np.quantile(known, shares, method="lower"), return_counts=True)
    return np.union1d(values, np.nextafter(values[times > 1], np.inf))


def _entries(
    spans: Spans, values: np.ndarray, area: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Region, value and weight of all cells with data that regions cover enough."""
    number = listed(spans.start, spans.length)
    value, fraction = values.ravel()[number], np.repeat(spans.fraction, spans.length)
    weight = fraction * area.ravel()[number]
    known = (fraction >= LEAST_COVER) & (weight > 0) & ~np.isnan(value)
    return np.repeat(spans.region, spans.length)[known], value[known], weight[known]


@dataclass(frozen=True, eq=False)
class BinWeights:
    """What the cells of R regions weigh in each of B bins.

    Parameters
    ----------
    weight, least, most : (R, B) float64
        Of all cells together, and of the lightest and the heaviest.
    count : (R, B) int64
        Cells.
    """

    weight: np.ndarray
    least: np.ndarray
    most: np.ndarray
    count: np.ndarray

    @classmethod
    def nothing(cls, regions: int, edges: np.ndarray) -> BinWeights:
        """Those of no cells."""
        shape = regions, edges.size + 1
        return cls(
            np.zeros(shape), np.full(shape, np.inf), np.zeros(shape), np.zeros(shape, np.int64)
        )

    def take_in(
        self, spans: Spans, values: np.ndarray, area: np.ndarray, edges: np.ndarray
    ) -> None:
        """Add the cells of some rows."""
        owner, value, weight = _entries(spans, values, area)
        key = owner, np.searchsorted(edges, value, side="right")
        np.add.at(self.weight, key, weight)
        np.minimum.at(self.least, key, weight)
        np.maximum.at(self.most, key, weight)
        np.add.at(self.count, key, 1)

    def __add__(self, other: BinWeights) -> BinWeights:
        """The weights of both."""
        return BinWeights(
            self.weight + other.weight,
            np.minimum(self.least, other.least),
            np.maximum(self.most, other.most),
            self.count + other.count,
        )


@dataclass(frozen=True, eq=False)
class HeldValues:
    """The different values (N,) near each percentile of each region, ascending in each.

    Parameters
    ----------
    target
        Region × Q + percentile.
    value, weight
        Weight of all cells of that value.
    least, most
        Weights of the lightest and the heaviest of these cells, which come first and last.
    rows
        How many rows were looked at.
    """

    target: np.ndarray
    value: np.ndarray
    weight: np.ndarray
    least: np.ndarray
    most: np.ndarray
    rows: int = 0

    @classmethod
    def joined(cls, parts: Sequence[HeldValues]) -> HeldValues:
        """The values of all parts, equal ones as one."""
        arrays = [
            np.concatenate([getattr(part, name) for part in parts])
            for name in ("target", "value", "weight", "least", "most")
        ]
        order = np.lexsort((arrays[1], arrays[0]))
        target, value, weight, least, most = (array[order] for array in arrays)
        rows = sum(part.rows for part in parts)
        if not order.size:
            return cls(target, value, weight, least, most, rows)
        other = (np.diff(target) != 0) | (np.diff(value) != 0)
        start = np.concatenate([[0], np.flatnonzero(other) + 1])
        sums = np.add.reduceat(weight, start)
        ends = np.minimum.reduceat(least, start), np.maximum.reduceat(most, start)
        return cls(target[start], value[start], sums, *ends, rows)

    def __add__(self, other: HeldValues) -> HeldValues:
        """The values of both."""
        return HeldValues.joined([self, other])


@dataclass(frozen=True, eq=False)
class RankTargets:
    """In which bins the percentiles of regions lie.

    Parameters
    ----------
    percents
        Q of them.
    first, last : (R, Q) int
        Bins, both included.
    below, goal : (R, Q) float64
        Weight of the cells below these, and at which the percentile stands.
    known
        What the bins of one value hold of them.
    unknown : (R, B) bool
        The other bins among them, whose cells are needed.
    held
        How many cells these are, counted for each percentile.
    """

    percents: tuple[float, ...]
    first: np.ndarray
    last: np.ndarray
    below: np.ndarray
    goal: np.ndarray
    known: HeldValues
    unknown: np.ndarray
    held: int

    @classmethod
    def of(cls, bins: BinWeights, edges: np.ndarray, percents: Sequence[float]) -> RankTargets:
        """The bin that holds each percentile, and those next to it that hold cells."""
        regions, count = bins.count.shape
        number, row = np.arange(count), np.arange(regions)[:, None]
        total, filled = np.cumsum(bins.weight, axis=1), bins.count > 0
        goal = total[:, -1:] * np.asarray(percents) / 100
        own = np.minimum((total[:, None] < goal[..., None]).sum(axis=-1), count - 1)
        before = np.maximum.accumulate(np.where(filled, number, -1), axis=1)
        after = np.minimum.accumulate(np.where(filled, number, count)[:, ::-1], axis=1)[:, ::-1]
        first = np.where(own > 0, before[row, np.maximum(own - 1, 0)], -1)
        first = np.where(first < 0, own, first)
        last = np.where(own < count - 1, after[row, np.minimum(own + 1, count - 1)], count)
        last = np.where(last == count, own, last)
        limits = np.concatenate([[-np.inf], edges, [np.inf]])
        is_one = np.nextafter(limits[:-1], np.inf) == limits[1:]
        within = (number >= first[..., None]) & (number <= last[..., None]) & filled[:, None]
        region, q, one = np.nonzero(within & is_one)
        known = HeldValues(
            region * len(percents) + q,
            limits[one],
            bins.weight[region, one],
            bins.least[region, one],
            bins.most[region, one],
        )
        below = np.pad(total, ((0, 0), (1, 0)))[row, first]
        within &= ~is_one
        held = int((within * bins.count[:, None]).sum())
        return cls(tuple(percents), first, last, below, goal, known, within.any(axis=1), held)


@dataclass(frozen=True, eq=False)
class RankIndex:
    """Spans of cells and where the percentiles of regions lie, for the second pass."""

    overlay: Spans
    areas: RowAreas
    edges: np.ndarray
    targets: RankTargets

    @property
    def nbytes(self) -> float:
        """What is held in memory, before and after it is joined."""
        return BYTES_OF_CELL * self.targets.held + self.targets.unknown.nbytes

    def sums(self, first: int, block: np.ndarray) -> HeldValues:
        """What a band (n, nx), whose first row is given, holds near the percentiles."""
        none = np.zeros(0)
        parts = [HeldValues(np.zeros(0, np.int64), none, none, none, none, len(block))]
        wanted = self.targets
        for some in batches(len(block), 2 * block.shape[1]):
            rows = first + some.start, first + some.stop
            area = self.areas.weights(*rows)
            owner, value, weight = _entries(self.overlay.of_rows(*rows), block[some], area)
            place = np.searchsorted(self.edges, value, side="right")
            near = wanted.unknown[owner, place]
            owner, place, value, weight = owner[near], place[near], value[near], weight[near]
            for q in range(len(wanted.percents)):
                own = (place >= wanted.first[owner, q]) & (place <= wanted.last[owner, q])
                target = owner[own].astype(np.int64) * len(wanted.percents) + q
                parts.append(HeldValues(target, value[own], weight[own], weight[own], weight[own]))
        return HeldValues.joined(parts)

    def sample(self, found: HeldValues) -> dict[float, np.ndarray]:
        """(R,) of each percentile; NaN for regions without data.

        Linear between the midpoints of the cumulated weights, as `weighted_percentiles` has it:
        cells of one value stand in the order of their weights, so that between the first and the
        last of them the percentile is that value.
        """
        wanted, out = self.targets, np.full(self.targets.goal.size, np.nan)
        found = found + wanted.known
        start = np.flatnonzero(np.diff(found.target, prepend=-1))
        target, last = found.target[start], np.append(start[1:], found.target.size) - 1
        size = last - start + 1
        total = np.cumsum(found.weight)
        before = np.repeat(total[start] - found.weight[start], size)
        ends = total - before + np.repeat(wanted.below.ravel()[target], size)
        goal = np.repeat(wanted.goal.ravel()[target], size)
        first_midpoint = ends - found.weight + found.least / 2
        reached = np.cumsum(first_midpoint <= goal)
        under = reached[last] - reached[start] + (first_midpoint <= goal)[start]
        low = start + np.maximum(under - 1, 0)
        high = np.minimum(low + 1, last)
        goal, stands = wanted.goal.ravel()[target], ends[low] - found.most[low] / 2
        gap = (found.most[low] + found.least[high]) / 2
        share = np.where(high > low, np.clip((goal - stands) / gap, 0.0, 1.0), 0.0)
        share = np.where(under > 0, share, 0.0)
        out[target] = found.value[low] + share * (found.value[high] - found.value[low])
        each = out.reshape(wanted.goal.shape)
        return {percent: each[:, q] for q, percent in enumerate(wanted.percents)}
