"""Counting conditions and indices of cells by bricks with their whole record."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.conditions.conditions import ALL_DAYS, WET_DAYS, Percentile
from bavlo.core.stats.calendar_percentiles import YEAR
from bavlo.core.sums import range_of_rows
from bavlo.engine import choices
from bavlo.engine.executor import by_bricks
from bavlo.engine.protocol import StepRecords
from bavlo.extremes.arrays import BrickSums, ExtremesArrays
from bavlo.extremes.plan import ExtremesPlan
from bavlo.extremes.records import record_values
from bavlo.extremes.values import ConditionReader, least_steps, plan_condition_blocks
from bavlo.request.reporter import Reporter

if TYPE_CHECKING:
    from scipy import sparse


def count_by_bricks(plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter) -> None:
    """Go by bricks of cells with their whole record, after one pass that reads the grids."""
    cells, steps = plan.cells.size, plan.last - plan.first
    names = len(plan.aligned.sources)
    work = RecordWork(plan, choices.bricks_of(cells, steps), bool(arrays.daily))
    blocks, run = plan_condition_blocks(plan), plan.request.run
    needs = choices.needs_of_records(blocks, work.bricks, steps, names, arrays.nbytes, run.memory)
    needs = choices.with_loops(run, needs, "calendar days", _calendar_days(plan))
    records = StepRecords(ConditionReader(plan), blocks)
    for sums in by_bricks(run, needs, report, records, work):
        for n, each in enumerate(sums):
            arrays.add_brick(n, each)
    arrays.close_bricks()


def _calendar_days(plan: ExtremesPlan) -> float:
    """Calendar days of cells whose percentiles are taken; endless with the bootstrap."""
    of_calendar_days = sum(
        isinstance(test.test.threshold, Percentile)
        and test.test.threshold.of not in (WET_DAYS, ALL_DAYS)
        for bound in plan.bound
        for test in bound.tests
    )
    return math.inf if bootstraps(plan) else of_calendar_days * plan.cells.size * YEAR


def bootstraps(plan: ExtremesPlan) -> bool:
    """Whether percentiles are taken anew for each year that stands in for another."""
    return plan.request.conditions.bootstrap and any(i.bootstrapped for i in plan.indices)


@dataclass(frozen=True, eq=False)
class RecordWork:
    """What the cells of a brick add up to, from their whole record."""

    plan: ExtremesPlan
    bricks: tuple[slice, ...]
    wants_daily: bool

    @cached_property
    def _by_cells(self) -> tuple[sparse.csc_array, sparse.csc_array]:
        """Weights and areas (R, C), of which a few columns are had without a look at all."""
        return self.plan.index.matrix.by_scipy.tocsc(), self.plan.index.areas.by_scipy.tocsc()

    def compute(self, number: int, values: Mapping[str, np.ndarray]) -> list[BrickSums]:
        """The sums of a brick for each condition or index, from its whole record (T, b)."""
        cells = self.bricks[number]
        matrix, areas = (each[:, cells].tocsr() for each in self._by_cells)
        regions = np.flatnonzero(np.diff(matrix.indptr) + np.diff(areas.indptr))
        matrix, areas = matrix[regions], areas[regions]
        matrix.eliminate_zeros()
        least = least_steps(self.plan, np.arange(len(self.plan.periods)))[:, None]
        out = []
        for found, valid, daily in record_values(self.plan, values, self.wants_daily):
            enough = valid >= least if self.plan.bound else ~np.isnan(found[0])
            known = valid > 0
            sums = [areas @ np.where(enough, 1.0, 0.0).T]
            sums += [matrix @ part.T for part in (np.where(known, valid, 0.0), _number(known))]
            extents = []
            for values_of_count in found:
                extents.append(range_of_rows(matrix.indices, matrix.indptr, values_of_count.T))
                has = ~np.isnan(values_of_count)
                sums.append(matrix @ np.where(has, values_of_count, 0.0).T)
                sums.append(matrix @ _number(has).T)
            low, high = (np.stack(each) for each in zip(*extents, strict=True))
            of_steps = None
            if daily is not None:
                of_steps = np.stack([(matrix @ _number(part).T).T for part in daily])
            out.append(BrickSums(regions, np.stack(sums), low, high, of_steps))
        return out


def _number(flags: np.ndarray) -> np.ndarray:
    return flags.astype(np.float64, copy=False)
