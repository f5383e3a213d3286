"""Reductions: from blocks of cells to one value for each region and period.

A reduction is fed one unit of work after the other (`update`), in any place and order; what comes
out is merged in order of time (`merge`) and turned into values once a period is over (`finish`).
"""

from __future__ import annotations

from functools import cached_property
from typing import Protocol

import numpy as np
from scipy import sparse

from bavlo.core.combine import MAX, MEAN, MIN, TOTAL
from bavlo.core.measures import CellSample, Measure, OverlayIndex
from bavlo.core.partials import (
    ENOUGH,
    Folded,
    Partial,
    Result,
    Rules,
    StepFolding,
    Unit,
    find_gaps,
)

Pairs = tuple[np.ndarray, np.ndarray, np.ndarray]  # steps, periods, and shares of the steps


class Reduction(Protocol):
    """What the loop needs of a reduction."""

    def update(self, unit: Unit, block: np.ndarray) -> Partial | None:
        """Reduce the cells of a unit; None where its steps belong to no period."""

    def merge(self, earlier: Partial, later: Partial) -> Partial:
        """Put together what two neighbouring runs of steps have made."""

    def finish(self, partial: Partial) -> Result:
        """Values of periods that are over."""


class _PeriodReduction:
    """What both orders share: bookkeeping of steps and area, and merging."""

    def __init__(
        self,
        index: OverlayIndex,
        folding: StepFolding,
        measures: tuple[Measure, ...],
        rules: Rules,
    ) -> None:
        self.index = index
        self.folding = folding
        self.measures = measures
        self.percents = tuple(m.percent for m in measures if m.percent is not None)
        self.rules = rules

    def merge(self, earlier: Partial, later: Partial) -> Partial:
        """Put together what two neighbouring runs of steps have made."""
        gap = later.first - earlier.stop
        if gap > 0:  # periods without any step
            raise ValueError("units must follow one another")
        overlap = -gap

        def join(a: np.ndarray, b: np.ndarray) -> np.ndarray:
            if not overlap:
                return np.concatenate([a, b])
            return np.concatenate([a[:-overlap], a[-overlap:] + b[:overlap], b[overlap:]])

        return Partial(
            earlier.first,
            earlier.rows.joined(later.rows, overlap, self.rules.combine),
            join(earlier.steps, later.steps),
            join(earlier.area, later.area),
            join(earlier.counted_days, later.counted_days),
            join(earlier.all_area, later.all_area),
            join(earlier.all_days, later.all_days),
        )

    def _pairs(self, unit: Unit) -> Pairs | None:
        """Steps of the unit (from 0), periods, and shares of the steps."""
        fold = self.folding.fold
        low, high = np.searchsorted(fold.step, [unit.first, unit.last])
        if low == high:
            return None
        return fold.step[low:high] - unit.first, fold.period[low:high], fold.share[low:high]

    def _partial(
        self,
        unit: Unit,
        sample: CellSample,
        rows: np.ndarray,
        folded: Folded | None = None,
    ) -> Partial | None:
        """Fold rows (T, K), NaN where they have no value, and the steps that count.

        `folded` is given where that is done already.
        """
        pairs = self._pairs(unit)
        if pairs is None:
            return None
        step, period, share = pairs
        first = int(period.min())
        shape = (int(period.max()) - first + 1, unit.last - unit.first)
        period = period - first
        whole = slice(unit.first, unit.last)
        days = share * self.folding.duration[whole][step]

        def folder(amounts: np.ndarray) -> sparse.csr_array:
            return sparse.csr_array((amounts, (period, step)), shape=shape)

        if folded is None:
            folded = self._folded(rows, step, period, share, shape[0], folder, whole)
        if len(sample.area_valid) == 1:  # all steps miss the same cells
            return self._alike(first, folded, sample.area_valid, period, share, days, shape[0])
        shape_r = (unit.last - unit.first, self.index.overlay.regions)
        area = np.broadcast_to(sample.area_valid, shape_r)
        counts = (area >= self.rules.min_area - ENOUGH) & (area > 0)
        counted = counts.astype(np.float64)
        by_day = folder(days)
        return Partial(
            first,
            folded,
            folder(share) @ counted,
            by_day @ (counted * area),
            by_day @ counted,
            by_day @ np.ascontiguousarray(area),
            np.bincount(period, weights=days, minlength=shape[0]),
        )

    def _alike(
        self,
        first: int,
        folded: Folded,
        area: np.ndarray,
        period: np.ndarray,
        share: np.ndarray,
        days: np.ndarray,
        periods: int,
    ) -> Partial:
        """The bookkeeping of steps that all have the same area (1, R)."""
        counted = ((area >= self.rules.min_area - ENOUGH) & (area > 0)).astype(np.float64)
        steps = np.bincount(period, share, periods)[:, None]
        length = np.bincount(period, days, periods)[:, None]
        return Partial(
            first,
            folded,
            steps * counted,
            length * (counted * area),
            length * counted,
            length * area,
            length[:, 0],
        )

    def _folded(self, rows, step, period, share, periods, folder, whole) -> Folded:  # type: ignore[no-untyped-def]
        if self.rules.transform is not None:
            rows = self.rules.transform(rows)
        missing = np.isnan(rows)
        same = (missing == missing[:1]).all()
        days = folder(share * self.folding.duration[whole][step])
        weights = folder(share * self.folding.weight[whole][step])
        if same:  # one mask for all steps: a sum over steps instead of one over cells
            valid = (~missing[:1]).astype(np.float64)
            covered = np.asarray(days.sum(axis=1))[:, None] * valid
            weight = np.asarray(weights.sum(axis=1))[:, None] * valid
        else:
            valid = (~missing).astype(np.float64)
            covered, weight = days @ valid, weights @ valid
        if self.rules.combine in (MIN, MAX):
            choose = np.fmin if self.rules.combine == MIN else np.fmax
            value = np.full((periods, rows.shape[1]), np.nan)
            present, start = np.unique(period, return_index=True)
            value[present] = choose.reduceat(rows[step], start, axis=0)
            return Folded(value, weight, covered)
        filled = np.where(missing, 0.0, rows) if missing.any() else rows
        by_factor = folder(share * self.folding.factor[whole][step])
        value = (by_factor if self.rules.combine == TOTAL else weights) @ filled
        gaps = None
        if self.rules.most_missing is not None:
            begin = self.folding.step_start[whole][step]
            end = begin + self.folding.duration[whole][step]
            gaps = find_gaps(missing[step], begin, end, period, periods)
        return Folded(value, weight, covered, gaps)

    def _area_valid(self, partial: Partial) -> np.ndarray:
        """(P, R) mean share of area over the counted steps, over all steps where none counts."""
        with np.errstate(invalid="ignore", divide="ignore"):
            counted = partial.area / partial.counted_days
            overall = partial.all_area / partial.all_days[:, None]
        area = np.where(partial.counted_days > 0, counted, overall)
        return np.where(np.abs(area - 1) < 1e-12, 1.0, area)

    def _when(self, partial: Partial) -> tuple[np.ndarray, np.ndarray]:
        """Beginnings and lengths of the periods, days."""
        part = slice(partial.first, partial.stop)
        return self.folding.period_start[part], self.folding.period_length[part]


class RegionFirst(_PeriodReduction):
    """Measure each step of a region, then combine the steps."""

    def update(self, unit: Unit, block: np.ndarray) -> Partial | None:
        """Measure every step and fold the measures."""
        if self.sums_first and len(block) > 1:
            partial = self._cells_summed(unit, block)
            if partial is not None:
                return partial
        sample = CellSample(self.index, block, self.percents)
        enough = sample.area_valid >= self.rules.min_area - ENOUGH
        values = [np.where(enough, m.compute(sample), np.nan) for m in self.measures]
        return self._partial(unit, sample, np.stack(values, axis=-1).reshape(block.shape[0], -1))

    @cached_property
    def sums_first(self) -> bool:
        """Whether totals over steps and sums over cells may change places."""
        return (
            all(measure.linear and measure.name != "count" for measure in self.measures)
            and self.rules.combine in (TOTAL, MEAN)
            and self.rules.transform is None
            and self.rules.most_missing is None
        )

    def _cells_summed(self, unit: Unit, block: np.ndarray) -> Partial | None:
        """Add up the steps of each cell first; None where not all steps miss the same cells.

        What is added is the same, in another order, and a region is measured once a period instead
        of once a step.
        """
        pairs = self._pairs(unit)
        if pairs is None:
            return None
        step, period, _ = pairs
        first = int(period.min())
        shape = (int(period.max()) - first + 1, unit.last - unit.first)
        adding = sparse.csr_array((self._amounts(unit, pairs), (period - first, step)), shape=shape)
        sample = CellSample(self.index, adding @ block)
        if not _miss_alike(block, sample.invalid):
            return None
        return self._of_sums(unit, pairs, sample)

    def _amounts(self, unit: Unit, pairs: Pairs) -> np.ndarray:
        """What each step of a period is multiplied by before it is added up."""
        step, _, share = pairs
        total = self.rules.combine == TOTAL
        each = self.folding.factor if total else self.folding.weight
        return np.asarray(share * each[unit.first : unit.last][step])

    def plain_runs(self, unit: Unit) -> np.ndarray | None:
        """Where the periods of a unit begin, from its first step on.

        None unless its steps may simply be added up, each in one period, before they are measured.
        """
        pairs = self._pairs(unit) if self.sums_first else None
        if pairs is None or not np.array_equal(pairs[0], np.arange(unit.last - unit.first)):
            return None
        starts = np.flatnonzero(np.diff(pairs[1], prepend=-1))
        amounts = self._amounts(unit, pairs)
        number = np.diff(np.append(starts, amounts.size))
        return starts if (amounts == np.repeat(amounts[starts], number)).all() else None

    def update_sums(self, unit: Unit, sums: np.ndarray) -> Partial:
        """The same as `update`, from the sums (P, C) over the `plain_runs` of a unit."""
        pairs = self._pairs(unit)
        assert pairs is not None
        starts = np.flatnonzero(np.diff(pairs[1], prepend=-1))
        sums = sums * self._amounts(unit, pairs)[starts, None]
        return self._of_sums(unit, pairs, CellSample(self.index, sums))

    def _of_sums(self, unit: Unit, pairs: Pairs, sample: CellSample) -> Partial:
        """Measure sums over periods of which all miss the same cells."""
        step, period, share = pairs
        first, periods = int(period.min()), sample.steps
        whole = slice(unit.first, unit.last)
        values = [measure.compute(sample) for measure in self.measures]
        enough = sample.area_valid >= self.rules.min_area - ENOUGH
        stacked = np.stack([np.where(enough, v, np.nan) for v in values], axis=-1)
        rows = stacked.reshape(periods, -1)
        days = share * self.folding.duration[whole][step]
        weights = share * self.folding.weight[whole][step]
        there = ~np.isnan(rows)
        at = period - first
        covered = np.bincount(at, days, periods)[:, None] * there
        weight = np.bincount(at, weights, periods)[:, None] * there
        folded = Folded(np.where(there, rows, 0.0), weight, covered)
        partial = self._partial(unit, sample, rows, folded)
        assert partial is not None
        return partial

    def finish(self, partial: Partial) -> Result:
        """Values of periods that are over."""
        rows = partial.rows.combined(self.rules, *self._when(partial))
        value = rows.reshape(*partial.steps.shape, len(self.measures))
        return Result(partial.first, value, self._area_valid(partial), partial.steps)


def _miss_alike(block: np.ndarray, missing: np.ndarray) -> bool:
    """Whether all steps of a block (T, C) miss the same cells.

    Parameters
    ----------
    missing : (P, C) or (1, C) bool
        Cells whose sums over the steps of each period lack a step; one row if all are alike.
    """
    if len(missing) > 1:
        return False
    # A sum has a value only where all steps have one: only the others need another look.
    others = np.flatnonzero(missing[0])
    return all(np.isnan(row[others]).all() for row in block)


class CellsAlone(_PeriodReduction):
    """Combine the steps of each cell, for grids that stay grids."""

    def __init__(self, folding: StepFolding, rules: Rules) -> None:
        self.folding = folding
        self.rules = rules

    def update(self, unit: Unit, block: np.ndarray) -> Partial | None:
        """Fold every cell."""
        pairs = self._pairs(unit)
        if pairs is None:
            return None
        step, period, share = pairs
        first = int(period.min())
        count = int(period.max()) - first + 1
        shape = (count, unit.last - unit.first)

        def folder(amounts: np.ndarray) -> sparse.csr_array:
            return sparse.csr_array((amounts, (period - first, step)), shape=shape)

        whole = slice(unit.first, unit.last)
        rows = self._folded(block, step, period - first, share, count, folder, whole)
        none, days = np.zeros((count, 0)), np.zeros(count)
        return Partial(first, rows, none, none, none, none, days)

    def cells(self, partial: Partial) -> np.ndarray:
        """(P, C) values of periods that are over, NaN where too little has data."""
        return partial.rows.combined(self.rules, *self._when(partial))


class CellFirst(_PeriodReduction):
    """Combine the steps of each cell, then measure the cells of a region.

    A cell with too few steps has no value. `area_valid` of a period with enough steps is the share
    of the area whose cells have one.
    """

    def update(self, unit: Unit, block: np.ndarray) -> Partial | None:
        """Fold every cell."""
        return self._partial(unit, CellSample(self.index, block), block)

    def finish(self, partial: Partial) -> Result:
        """Values of periods that are over."""
        start, length = self._when(partial)
        cells = partial.rows.combined(self.rules, start, length)
        sample = CellSample(self.index, cells, self.percents)
        least = (self.rules.min_steps - ENOUGH) * length
        if self.rules.most_missing is not None:
            least = length - self.rules.most_missing[0] - ENOUGH
        complete = partial.counted_days >= least[:, None]
        area = np.broadcast_to(sample.area_valid, partial.steps.shape)
        enough = complete & (partial.counted_days > 0) & (area >= self.rules.min_area - ENOUGH)
        values = [np.where(enough, m.compute(sample), np.nan) for m in self.measures]
        area = np.where(complete, area, self._area_valid(partial))
        return Result(partial.first, np.stack(values, axis=-1), area, partial.steps)
