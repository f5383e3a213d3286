"""Counting conditions and indices of cells by bricks with their whole record."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.conditions.conditions import ALL_DAYS, WET_DAYS, Percentile
from bavlo.core.stats.calendar_percentiles import YEAR
from bavlo.core.sums import range_of_rows
from bavlo.engine.bricks import bricks_of
from bavlo.engine.executor import executor
from bavlo.engine.memory import use_loops
from bavlo.engine.needs import Needs
from bavlo.engine.protocol import StepRecords
from bavlo.extremes.arrays import BrickSums, ExtremesArrays
from bavlo.extremes.plan import ExtremesPlan
from bavlo.extremes.records import record_values
from bavlo.extremes.values import ConditionReader, least_steps, plan_condition_units
from bavlo.request.reporter import Reporter

if TYPE_CHECKING:
    from scipy import sparse

BRICK_VALUES = 2**22  # cells × steps of a brick
# Of one with the bootstrap, so that several workers fit into little memory.
BOOTSTRAPPED_VALUES = 2**21
WORTH_COMPILING = 2**21  # calendar days of cells; loops save a second of one processor then
COPIES_OF_BRICK = 12.0
KEPT_SHARE = 0.2  # of `memory` that records may take before they go to disk


def count_by_bricks(plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter) -> None:
    """Go by bricks of cells with their whole record, after one pass that reads the grids."""
    cells, steps = plan.cells.size, plan.last - plan.first
    names = len(plan.aligned.sources)
    values = BOOTSTRAPPED_VALUES if bootstraps(plan) else BRICK_VALUES
    work = RecordWork(plan, tuple(bricks_of(cells, steps, values)), bool(arrays.daily))
    units = plan_condition_units(plan)
    room = KEPT_SHARE * plan.request.run.memory
    unit_size = max(u.last - u.first for u in units) * cells * 8 * 3 * names
    brick_size = max(b.stop - b.start for b in work.bricks) * steps * 8
    kept = arrays.nbytes * 2 + min(room, steps * cells * 8.0 * names)
    needs = Needs(max(unit_size, brick_size * (COPIES_OF_BRICK + names)), kept, room)
    if _pays_to_compile(plan):
        needs = use_loops(plan.request.run, needs)
    with executor(plan.request.run, needs, report.progress, report.note) as engine:
        for sums in engine.by_bricks(StepRecords(ConditionReader(plan), units), work):
            for n, each in enumerate(sums):
                arrays.add_brick(n, each)
    arrays.close_bricks()


def _pays_to_compile(plan: ExtremesPlan) -> bool:
    """Whether the compiled loops save more than they take to load."""
    of_calendar_days = sum(
        isinstance(test.test.threshold, Percentile)
        and test.test.threshold.of not in (WET_DAYS, ALL_DAYS)
        for bound in plan.bound
        for test in bound.tests
    )
    days = of_calendar_days * plan.cells.size * YEAR
    return bootstraps(plan) or days >= WORTH_COMPILING


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
