"""From blocks of cells to one value for each region and period, in either order.

`RegionFirst` measures each step of a region and combines the steps; `CellFirst` combines the steps
of each cell and measures the cells of a region.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np

from bavlo.core.reduce.period_reducer import BlockSteps, OpenPeriods, PeriodReducer
from bavlo.core.reduce.period_state import (
    Coverage,
    PeriodState,
    PeriodSums,
    PeriodValues,
    Rules,
    StepWeights,
)
from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.measures import Measure
from bavlo.core.values.combine import MEAN, TOTAL


class RegionReducer(PeriodReducer[PeriodValues]):
    """What both orders share: measures of regions, and how much of their area had data.

    Parameters
    ----------
    index
        Shared areas of R regions and C cells.
    measures
        M measures.
    """

    def __init__(
        self,
        index: OverlayIndex,
        step_weights: StepWeights,
        measures: tuple[Measure, ...],
        rules: Rules,
    ) -> None:
        super().__init__(step_weights, rules)
        self.index = index
        self.measures = measures
        self.percents = tuple(m.percent for m in measures if m.percent is not None)

    def covered(self, steps: BlockSteps, sample: CellSample, sums: PeriodSums) -> OpenPeriods:
        """The state of a block: its sums, and the coverage of its steps."""
        if len(sample.area_valid) == 1:
            coverage = self._coverage_alike(steps, sample.area_valid)
        else:
            coverage = self._coverage(steps, sample.area_valid)
        return (PeriodState(steps.first, steps.block.first, steps.block.last, sums, coverage),)

    def _coverage(self, steps: BlockSteps, area_valid: np.ndarray) -> Coverage:
        """Of steps with an area (T, R) of their own."""
        block = steps.block
        area = np.broadcast_to(area_valid, (block.last - block.first, self.index.overlay.regions))
        counted = self._counts(area)
        days = steps.share * steps.of(self.step_weights.duration)
        by_day = steps.matrix(days)
        return Coverage(
            steps.matrix(steps.share) @ counted,
            by_day @ (counted * area),
            by_day @ counted,
            by_day @ np.ascontiguousarray(area),
            steps.added(days),
        )

    def _coverage_alike(self, steps: BlockSteps, area: np.ndarray) -> Coverage:
        """Of steps that all miss the same cells and so have the same area (1, R)."""
        counted = self._counts(area)
        number = steps.added(steps.share)[:, None]
        length = steps.added(steps.share * steps.of(self.step_weights.duration))[:, None]
        return Coverage(
            number * counted,
            length * (counted * area),
            length * counted,
            length * area,
            length[:, 0],
        )

    def _counts(self, area: np.ndarray) -> np.ndarray:
        """1 where a step has enough area to count, else 0."""
        return ((area >= self.rules.min_area - ENOUGH) & (area > 0)).astype(np.float64)


class RegionFirst(RegionReducer):
    """Measure each step of a region, then combine the steps."""

    def state_of(self, block: Block, cells: np.ndarray) -> OpenPeriods:
        """Measure every step (T, C) and combine the measures."""
        steps = self.block_steps(block)
        if self.sums_first and len(cells) > 1:
            state = self._cells_summed(steps, cells)
            if state is not None:
                return state
        sample = CellSample(self.index, cells, self.percents)
        enough = self._counts(sample.area_valid) > 0
        values = [np.where(enough, m.compute(sample), np.nan) for m in self.measures]
        rows = np.stack(values, axis=-1).reshape(cells.shape[0], -1)
        return self.covered(steps, sample, self.period_sums(steps, rows))

    @cached_property
    def sums_first(self) -> bool:
        """Whether totals over steps and sums over cells may change places."""
        return (
            all(measure.adds_up for measure in self.measures)
            and self.rules.combine in (TOTAL, MEAN)
            and self.rules.degrees is None
            and self.rules.most_missing is None
        )

    def _cells_summed(self, steps: BlockSteps, cells: np.ndarray) -> OpenPeriods | None:
        """Add up the steps of each cell first; None where not all steps miss the same cells.

        What is added is the same, in another order, and a region is measured once a period instead
        of once a step.
        """
        sample = CellSample(self.index, steps.matrix(self._amounts(steps)) @ cells)
        if not _miss_alike(cells, sample.invalid):
            return None
        return self._of_sums(steps, sample)

    def _amounts(self, steps: BlockSteps) -> np.ndarray:
        """(N,) what each step of a period is multiplied by before it is added up."""
        total = self.rules.combine == TOTAL
        each = self.step_weights.factor if total else self.step_weights.weight
        return np.asarray(steps.share * steps.of(each))

    def _of_sums(self, steps: BlockSteps, sample: CellSample) -> OpenPeriods:
        """Measure sums over periods of which all miss the same cells."""
        periods = sample.steps
        values = [measure.compute(sample) for measure in self.measures]
        enough = self._counts(sample.area_valid) > 0
        stacked = np.stack([np.where(enough, v, np.nan) for v in values], axis=-1)
        rows = stacked.reshape(periods, -1)
        days = steps.share * steps.of(self.step_weights.duration)
        weights = steps.share * steps.of(self.step_weights.weight)
        known = ~np.isnan(rows)
        sums = PeriodSums(
            np.where(known, rows, 0.0),
            np.bincount(steps.period, weights, periods)[:, None] * known,
            np.bincount(steps.period, days, periods)[:, None] * known,
        )
        return self.covered(steps, sample, sums)

    def finish(self, state: PeriodState) -> PeriodValues:
        """Values of periods that are over."""
        rows = state.sums.combined(self.rules, *self.time_of(state))
        steps = state.coverage.steps
        value = rows.reshape(*steps.shape, len(self.measures))
        return PeriodValues(state.first, value, state.coverage.area_valid(), steps)


def _miss_alike(cells: np.ndarray, missing: np.ndarray) -> bool:
    """Whether all steps of a cells (T, C) miss the same cells.

    Parameters
    ----------
    missing : (P, C) or (1, C) bool
        Cells whose sums over the steps of each period lack a step; one row if all are alike.
    """
    if len(missing) > 1:
        return False
    # A sum has a value only where all steps have one: only the others need another look.
    others = np.flatnonzero(missing[0])
    return all(np.isnan(row[others]).all() for row in cells)


class CellFirst(RegionReducer):
    """Combine the steps of each cell, then measure the cells of a region.

    A cell with too few steps has no value. `area_valid` of a period with enough steps is the share
    of the area whose cells have one.
    """

    def state_of(self, block: Block, cells: np.ndarray) -> OpenPeriods:
        """Combine the values (T, C) of every cell."""
        steps = self.block_steps(block)
        sample = CellSample(self.index, cells)
        return self.covered(steps, sample, self.period_sums(steps, cells))

    def finish(self, state: PeriodState) -> PeriodValues:
        """Values of periods that are over."""
        start, length = self.time_of(state)
        coverage = state.coverage
        sample = CellSample(
            self.index, state.sums.combined(self.rules, start, length), self.percents
        )
        least = (self.rules.min_steps - ENOUGH) * length
        if self.rules.most_missing is not None:
            least = length - self.rules.most_missing[0] - ENOUGH
        complete = coverage.counted_days >= least[:, None]
        area = np.broadcast_to(sample.area_valid, coverage.steps.shape)
        enough = complete & (coverage.counted_days > 0) & (area >= self.rules.min_area - ENOUGH)
        values = [np.where(enough, m.compute(sample), np.nan) for m in self.measures]
        area = np.where(complete, area, coverage.area_valid())
        place = None
        if self.rules.place:
            place = np.stack([sample.place_of(value) for value in values], axis=-1)
        return PeriodValues(state.first, np.stack(values, axis=-1), area, coverage.steps, place)
