"""The numbers of an extremes table, filled in as they come from cells, bricks and regions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.sums import within
from bavlo.jobs.events import Daily
from bavlo.jobs.extremes_plan import ExtremesPlan

INDEX = "index"


@dataclass(frozen=True, eq=False)
class CellMeans:
    """Counts of cells as means over regions, in some periods.

    Parameters
    ----------
    periods : (P,) int64
    value : (counts, P, R) float64
        NaN where there is none.
    area_valid, steps : (P, R) float64
    """

    periods: np.ndarray
    value: np.ndarray
    area_valid: np.ndarray
    steps: np.ndarray


@dataclass(frozen=True, eq=False)
class BrickSums:
    """What the cells of a brick add up to, for the regions that they lie in.

    Parameters
    ----------
    regions : (r,) int
    sums : (k, r, P) float64
        Area with a value; steps with data and the weight of cells that have any; then for each
        count its sum and its weight.
    low, high : (counts, r, P) float64
        The range of each count over the cells.
    daily : (4, T, r) float64 or None
        Weights that meet the condition and that have data, sums of values and their weights.
    """

    regions: np.ndarray
    sums: np.ndarray
    low: np.ndarray
    high: np.ndarray
    daily: np.ndarray | None


class ExtremesArrays:
    """The table's numbers, filled in as they come.

    Attributes
    ----------
    value : (R, P, conditions, counts) float64
    area_valid, steps : (R, P, conditions) float64
    daily
        What happened on each step in each region, where events are asked for.
    """

    def __init__(self, plan: ExtremesPlan) -> None:
        self.plan = plan
        self.names = [str(r.condition) for r in plan.bound] or [i.name for i in plan.indices]
        self.counts = list(plan.request.conditions.count) if plan.bound else [INDEX]
        regions, periods = len(plan.regions.regions), len(plan.periods)
        shape = (regions, periods, len(self.names), len(self.counts))
        self.value = np.full(shape, np.nan)
        self.area_valid = np.zeros(shape[:3])
        self.steps = np.zeros(shape[:3])
        self.daily: list[Daily] = []
        if plan.request.output.events is not None:
            self.daily = [Daily(plan.last - plan.first, regions) for _ in plan.bound]
        self._sums: dict[int, np.ndarray] = {}  # over bricks of cells, in their order
        self._low: dict[int, np.ndarray] = {}
        self._high: dict[int, np.ndarray] = {}
        self.nbytes = self.value.nbytes * (3 if plan.on_cells else 1) + self.area_valid.nbytes * 6
        self.nbytes += sum(d.nbytes for d in self.daily)

    def put_regions(self, n: int, values: np.ndarray, valid: np.ndarray) -> None:
        """(counts, P, R) values of regions that were tested themselves; steps with data (P, R)."""
        self.value[:, :, n] = values.transpose(2, 1, 0)
        self.steps[:, :, n] = valid.T

    def put_cells(self, n: int, means: CellMeans) -> None:
        """Means over the cells of the regions, in some periods."""
        self.value[:, means.periods, n] = means.value.transpose(2, 1, 0)
        self.area_valid[:, means.periods, n] = means.area_valid.T
        self.steps[:, means.periods, n] = means.steps.T

    def add_brick(self, n: int, sums: BrickSums) -> None:
        """What the cells of a brick add up to, in all periods."""
        if n not in self._sums:
            shape = len(sums.sums), len(self.plan.regions.regions), len(self.plan.periods)
            self._sums[n] = np.zeros(shape)
            unknown = np.full((len(sums.low), *shape[1:]), np.nan)
            self._low[n], self._high[n] = unknown, unknown.copy()
        at = slice(None), sums.regions
        self._sums[n][at] += sums.sums
        self._low[n][at] = np.fmin(self._low[n][at], sums.low)
        self._high[n][at] = np.fmax(self._high[n][at], sums.high)
        if sums.daily is not None:
            self.daily[n].add(sums.regions, sums.daily)

    def close_bricks(self) -> None:
        """Turn sums over bricks into means."""
        region_weight = self.plan.index.region_weight[:, None]
        for n, (covered, valid, known, *sums) in self._sums.items():
            area = np.clip(covered / region_weight, 0, 1)
            area = np.where(np.abs(area - 1) < 1e-9, 1.0, area)
            enough = (area >= self.plan.request.measuring.least_area - ENOUGH) & (area > 0)
            self.area_valid[:, :, n] = area
            with np.errstate(invalid="ignore", divide="ignore"):
                self.steps[:, :, n] = np.nan_to_num(valid / known)
                for c, (total, weight) in enumerate(zip(sums[::2], sums[1::2], strict=True)):
                    present = enough & (weight > 0)
                    mean = np.where(present, total / weight, np.nan)
                    self.value[:, :, n, c] = within(mean, self._low[n][c], self._high[n][c])
        for each in self.daily:
            each.divide(self.plan.index.region_weight, self.plan.request.measuring.least_area)
