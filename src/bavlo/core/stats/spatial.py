"""Percentiles in space: of the cells of regions, weighted, for many steps at once.

A value and the place of its cell are sorted as one whole number, regions of like size as one array:
five times faster than to sort the places by their values. The cumulated weights are looked for in
runs of eight cells, so that only one run for each percentile is cumulated cell by cell.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.batches import AT_ONCE, batches

RUN = 8  # cells whose weights are added up before they are cumulated
GROWTH = 1.12  # from one size class to the next

SIGN = np.uint64(1 << 63)
LEFT_OUT = np.uint64(0xFFF8 << 48)  # the rank of what has no value, or no weight: that of NaN
PLACE = np.uint64((1 << 29) - 1)  # bits that a float64 has more than a float32, free for a place


@dataclass(frozen=True, eq=False)
class SizeClass:
    """Regions of like size, so that they can be sorted as one array.

    Parameters
    ----------
    regions : (G,)
    cells, weights : (G, n)
        By weight, so that equal values always come in the same order; n is a multiple of RUN. Short
        regions are filled up with a cell of no weight, whose number is that after the last cell.
    """

    regions: np.ndarray
    cells: np.ndarray
    weights: np.ndarray

    @cached_property
    def count(self) -> np.ndarray:
        """(G,) cells that have a weight."""
        return np.asarray(np.maximum(np.count_nonzero(self.weights > 0, axis=1), 1))

    @cached_property
    def places(self) -> np.ndarray:
        """(G, n) uint64: places in the tables of cells and weights."""
        return np.arange(self.cells.size, dtype=np.uint64).reshape(self.cells.shape)

    def parts(self, few: int) -> list[SizeClass]:
        """The same, a few regions at a time."""
        if few not in self._parts:
            self._parts[few] = [
                SizeClass(self.regions[some], self.cells[some], self.weights[some])
                for first in range(0, self.regions.size, few)
                for some in [slice(first, first + few)]
            ]
        return self._parts[few]

    @cached_property
    def _parts(self) -> dict[int, list[SizeClass]]:
        return {}


def size_classes(
    regions: np.ndarray, start: np.ndarray, cells: np.ndarray, weights: np.ndarray, nowhere: int
) -> list[SizeClass]:
    """Regions of like size side by side.

    Parameters
    ----------
    regions, start : (G,)
        Regions that have cells, and where the entries of each begin.
    cells, weights : (entries,)
        Cells and their weights, region by region.
    nowhere
        The number after the last cell.
    """
    entries = np.diff(np.append(start, cells.size))
    sizes = [RUN]
    while sizes[-1] < entries.max(initial=0):
        grown = -(-int(sizes[-1] * GROWTH) // RUN) * RUN
        sizes.append(max(sizes[-1] + RUN, grown))
    kind = np.searchsorted(sizes, entries)
    classes = []
    for value in np.unique(kind):
        members = np.flatnonzero(kind == value)
        count = entries[members][:, None]
        nth = np.arange(sizes[value])
        position = start[members][:, None] + np.minimum(nth, count - 1)
        weight = np.where(nth < count, weights[position], 0.0)
        order = np.argsort(weight, axis=1, kind="stable")
        weight = np.take_along_axis(weight, order, axis=1)
        ordered = np.where(weight > 0, np.take_along_axis(cells[position], order, axis=1), nowhere)
        classes.append(SizeClass(regions[members], ordered, weight))
    return classes


def weighted_percentiles(
    classes: Sequence[SizeClass], block: np.ndarray, regions: int, percents: set[float]
) -> dict[float, np.ndarray]:
    """(T, R) of each percentile, of cells (T, C) float64, NaN where there is no data.

    Linear between the midpoints of the cumulated weights: with sorted values x₁…xₙ and weights w,
    value xᵢ stands at (w₁ + … + wᵢ − wᵢ/2) / Σw; below the first and above the last of these the
    value is x₁ and xₙ. Equal values stand in the order of their weights.
    """
    steps = len(block)
    wanted = np.array(sorted(percents))
    out = np.full((wanted.size, steps, regions), np.nan)
    ranks, exact = _ranks(block)
    most = max(AT_ONCE, max((each.cells.shape[1] for each in classes), default=0))
    keys, weights = np.empty(most, np.uint64), np.empty(most)
    for part, some in _pieces(classes, steps):
        shape = some.stop - some.start, *part.cells.shape
        size = math.prod(shape)
        key, weight = keys[:size].reshape(shape), weights[:size].reshape(shape)
        np.take(ranks[some], part.cells, axis=1, out=key, mode="clip")
        key |= part.places
        key.sort(axis=-1)
        # What is left out stands last, so a row has gaps where its last cell is left out.
        gaps = np.nonzero(key[:, np.arange(len(part.count)), part.count - 1] >= LEFT_OUT)
        left_out = key[gaps] >= LEFT_OUT
        key &= PLACE
        position = key.view(np.int64)
        if not exact:
            _put_right(position, block[some], part)
        np.take(part.weights, position, out=weight, mode="clip")
        if left_out.size:
            weight[gaps] = np.where(left_out, 0.0, weight[gaps])
        out[:, some, part.regions] = _between_midpoints(block[some], part, position, weight, wanted)
    return dict(zip(wanted.tolist(), out, strict=True))


def _pieces(classes: Sequence[SizeClass], steps: int) -> Iterator[tuple[SizeClass, slice]]:
    """Regions and steps that are sorted together."""
    for each in classes:
        size = each.cells.shape[1]
        few = max(1, AT_ONCE // (steps * size))
        for part in each.parts(few):
            for some in batches(steps, size):
                yield part, some


def _ranks(block: np.ndarray) -> tuple[np.ndarray, bool]:
    """Values as whole numbers in the same order: the bits of a float64, but for the last ones.

    Returns
    -------
    ranks : (T, C + 1) uint64
        With the bits of PLACE empty; at least LEFT_OUT where there is no data, and in the column
        after the last.
    exact
        Whether the bits that are left out hold nothing, as with numbers that were float32, so that
        different values have different ranks.
    """
    steps, cells = block.shape
    ranks = np.empty((steps, cells + 1), np.uint64)
    ranks[:, -1] = LEFT_OUT
    exact = True
    for row, rank in zip(block, ranks[:, :-1], strict=True):  # a step stays near the processor
        bits = np.ascontiguousarray(row).view(np.uint64)
        used = np.bitwise_or.reduce(bits)
        if not used & SIGN:  # NaN is larger than all numbers already
            np.bitwise_or(bits, SIGN, out=rank)
        else:  # negative numbers grow downwards, and -0.0 is 0.0
            bits = (row + 0.0).view(np.uint64)
            np.bitwise_xor(bits, (bits.view(np.int64) >> 63).view(np.uint64) | SIGN, out=rank)
            np.copyto(rank, LEFT_OUT, where=np.isnan(row))
        if used & (PLACE | SIGN):
            np.bitwise_and(rank, ~PLACE, out=rank)
        exact = exact and not used & PLACE
    return ranks, exact


def _put_right(position: np.ndarray, block: np.ndarray, part: SizeClass) -> None:
    """Sort by the values themselves where ranks that are not exact put two cells in wrong order.

    Parameters
    ----------
    position : (T, G, n)
        Places in the tables of `part` in the order of the ranks, what is left out being last;
        changed.
    """
    values = np.take(block, part.cells, axis=1, mode="clip")
    values[np.isnan(values) | (part.weights <= 0)] = np.inf
    begin = part.places[:, :1].astype(np.int64)
    ordered = np.take_along_axis(values, position - begin, axis=-1)
    wrong = (ordered[..., 1:] < ordered[..., :-1]).any(axis=-1)
    again = np.argsort(values[wrong], axis=-1, kind="stable")
    position[wrong] = again + np.broadcast_to(begin, (*wrong.shape, 1))[wrong]


def _between_midpoints(
    block: np.ndarray,
    part: SizeClass,
    position: np.ndarray,
    weight: np.ndarray,
    percents: np.ndarray,
) -> np.ndarray:
    """(Q, T, G) percentiles, from the places and weights (T, G, n) of cells in their order.

    Rows are taken side by side: (…, N) of N = T × G, as short sums along rows take longer.
    """
    steps, regions, size = weight.shape
    number = steps * regions
    row = np.arange(number)
    rows = weight.reshape(number, size)
    sums, room = rows, np.empty(rows.size)
    while sums.shape[1] > size // RUN:
        half, room = np.split(room, [sums.size // 2])
        half = half.reshape(number, -1)
        sums = np.add(sums[:, 0::2], sums[:, 1::2], out=half)
    ends = _cumulated(sums)
    last_midpoints = ends - rows[:, RUN - 1 :: RUN].T / 2
    whole = ends[-1]
    target = whole * (percents / 100)[:, None]
    run = _below(last_midpoints[:-1], target)

    # Within the run that holds the target, cell by cell.
    sum_to = np.where(run > 0, ends.take(np.maximum(run - 1, 0) * number + row), 0.0)
    up_to, below = sum_to.copy(), np.zeros(target.shape, np.int64)
    eight = rows.reshape(-1, RUN).take(row * len(ends) + run, axis=0)
    for own in np.ascontiguousarray(np.moveaxis(eight, -1, 0)):
        # Added up in another order they may miss the whole by a rounding: only cells with weight.
        under = (sum_to + own / 2 < target) & (own > 0)
        sum_to = sum_to + own
        below += under
        np.copyto(up_to, sum_to, where=under)
    above = run * RUN + below
    low, high = np.maximum(above - 1, 0), np.minimum(above, size - 1)
    low_weight, high_weight = rows.take(row * size + low), rows.take(row * size + high)
    high = np.where(high_weight > 0, high, low)
    in_block = np.repeat(np.arange(steps) * block.shape[1], regions)
    low_value, high_value = (
        block.take(part.cells.take(position.take(row * size + nth)) + in_block, mode="clip")
        for nth in (low, high)
    )
    # The weights up to the lower cell lie half its own beyond its midpoint.
    with np.errstate(invalid="ignore", divide="ignore"):
        share = (target - up_to + low_weight / 2) / ((low_weight + high_weight) / 2)
        share = np.where(high > low, np.clip(share, 0.0, 1.0), 0.0)
        value = low_value + share * (high_value - low_value)
    return np.where(whole > 0, value, np.nan).reshape(-1, steps, regions)


def _cumulated(sums: np.ndarray) -> np.ndarray:
    """(n, N) sums of rows (N, n) up to each of their columns, added one after the other."""
    if sums.shape[1] > len(sums):  # few regions of many cells
        return np.ascontiguousarray(np.add.accumulate(sums, axis=1).T)
    ends = np.ascontiguousarray(sums.T)
    for before, end in itertools.pairwise(ends):
        end += before
    return ends


def _below(midpoints: np.ndarray, target: np.ndarray) -> np.ndarray:
    """(Q, N) how many of the midpoints (n, N) are below each target (Q, N)."""
    if len(midpoints) > midpoints.shape[1]:
        return np.stack([np.count_nonzero(midpoints < each, axis=0) for each in target])
    run = np.zeros(target.shape, np.int64)
    for midpoint in midpoints:
        run += midpoint < target
    return run
