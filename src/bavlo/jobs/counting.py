"""The three ways of counting: cells as the steps go by, series of regions, and bricks of cells."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.conditions.conditions import ALL_DAYS, WET_DAYS, Percentile
from bavlo.core.conditions.counting import Counting, CountState, Occurrence
from bavlo.core.reduce.protocol import ENOUGH, Block, EachAlone
from bavlo.core.stats.calendar_percentiles import YEAR
from bavlo.core.stats.cell_sample import WHOLE_WITHIN, CellSample
from bavlo.core.stats.measures import Measure, parse_measure
from bavlo.core.sums import range_of_rows
from bavlo.engine import choices
from bavlo.engine.executor import by_bricks, reduced
from bavlo.engine.protocol import StepRecords
from bavlo.errors import RequestError
from bavlo.jobs.conditions import BoundCondition, evaluate_condition, gaps_in
from bavlo.jobs.count_arrays import BrickSums, CellMeans, ExtremesArrays
from bavlo.jobs.extremes_plan import ExtremesPlan, counting_of
from bavlo.jobs.records import (
    ConditionReader,
    cell_means,
    least_steps,
    occurrence_of_record,
    plan_condition_blocks,
    record_values,
)
from bavlo.jobs.store import Kept, needed
from bavlo.request.reporter import Reporter

if TYPE_CHECKING:
    from scipy import sparse


StepValues = tuple[int, np.ndarray, np.ndarray, np.ndarray]  # first step; see `_daily_of_cells`


@dataclass(frozen=True, eq=False)
class CountingState:
    """What is counted of each condition in a run of steps.

    Parameters
    ----------
    counts
        Of periods that are open.
    daily
        What happened on each step, by condition and block, where it is wanted.
    """

    counts: list[CountState]
    daily: list[list[StepValues]]


@dataclass(frozen=True, eq=False)
class CountingSettled:
    """By condition, means over regions in periods that are over, and what happened on each step."""

    means: list[list[CellMeans]]
    daily: list[list[StepValues]]


@dataclass(frozen=True, eq=False)
class CountingReducer:
    """Counts each condition in each block."""

    plan: ExtremesPlan
    countings: tuple[Counting, ...]
    wants_daily: bool

    @property
    def follows_spells(self) -> bool:
        """Whether spells have to be followed from block to block."""
        return any(counting.follows_spells for counting in self.countings)

    def update(self, block: Block, values: Mapping[str, np.ndarray]) -> list[CountingState]:
        """Count each condition in the values (T, C) of a block."""
        known = gaps_in(values)
        counts: list[CountState] = []
        daily: list[list[StepValues]] = []
        for bound, counting in zip(self.plan.bound, self.countings, strict=True):
            occurs = evaluate_condition(
                bound, block.first, values, tuple(counting.sums), known=known
            )
            counts.append(counting.update(block.first - self.plan.first, occurs))
            daily.append([])
            if self.wants_daily:
                daily[-1].append((block.first, *_daily_of_cells(self.plan, bound, occurs, values)))
        return [CountingState(counts, daily)]

    def merge(self, earlier: CountingState, later: CountingState) -> CountingState:
        """The counts of two neighbouring runs of steps together."""
        pairs = zip(self.countings, earlier.counts, later.counts, strict=True)
        daily = [one + other for one, other in zip(earlier.daily, later.daily, strict=True)]
        return CountingState(
            [counting.merge(before, after) for counting, before, after in pairs], daily
        )

    def settle(self, state: CountingState) -> tuple[CountingSettled, CountingState | None]:
        """Means of the periods that are over, and the counts of the others."""
        means, rest = [], []
        for counting, counts in zip(self.countings, state.counts, strict=True):
            periods, over, still = counting.settled(counts)
            means.append(cell_means(self.plan, periods, over))
            rest.append(still)
        nothing: list[list[StepValues]] = [[] for _ in rest]
        is_open = self.follows_spells or any(counts.periods.size for counts in rest)
        return (
            CountingSettled(means, state.daily),
            CountingState(rest, nothing) if is_open else None,
        )

    def close(self, state: CountingState) -> CountingSettled:
        """Means of all periods, once no step follows."""
        means = []
        for counting, counts in zip(self.countings, state.counts, strict=True):
            closed = counting.close(counts)
            means.append(cell_means(self.plan, closed.periods, closed.counts))
        return CountingSettled(means, state.daily)


def count_by_stream(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: Kept | None
) -> None:
    """Count cells as the steps go by."""
    blocks = plan_condition_blocks(plan)
    countings = tuple(counting_of(plan, bound) for bound in plan.bound)
    reducer = CountingReducer(plan, countings, bool(arrays.daily))
    segments = choices.segments_of(
        [plan.assignment], blocks, "counts", follows_spells=reducer.follows_spells
    )
    cells, run = plan.cells.size, plan.request.run
    states = cells * 8 * choices.KEPT_OF_CELL["counts"] * len(plan.bound)
    names = len(plan.aligned.sources)
    needs = choices.needs_of_blocks(blocks, cells, "counts", arrays.nbytes + states, names)
    steps = sum(block.last - block.first for block in blocks)
    follows = sum(counting.follows_spells for counting in countings)
    needs = choices.with_loops(run, needs, "spells", follows * steps * cells)
    left = needed(kept, segments)
    for settled in reduced(run, needs, report, ConditionReader(plan), reducer, left):
        for n, means in enumerate(settled.means):
            for each in means:
                arrays.put_cells(n, each)
        for n, daily in enumerate(settled.daily):
            for first, *parts in daily:
                arrays.daily[n].put(first - plan.first, *parts)


def _daily_of_cells(
    plan: ExtremesPlan, bound: BoundCondition, occurs: Occurrence, values: Mapping[str, np.ndarray]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Share of each region's area on which a condition holds, its mean value and the weight of
    the cells that meet it, by step.
    """
    steps = len(occurs.occurs)
    valid = np.broadcast_to(occurs.valid, occurs.occurs.shape)
    sample = CellSample(plan.index, np.where(valid, occurs.occurs, np.nan))
    share = np.broadcast_to(sample.mean, (steps, plan.index.overlay.regions))
    area = np.broadcast_to(sample.area_valid, share.shape)
    share = np.where(area >= plan.request.measuring.least_area - ENOUGH, share, np.nan)
    mean = CellSample(plan.index, values[bound.tests[0].variable.name]).mean
    met = sample.summed(plan.index.matrix)
    return share, mean, met


@dataclass(frozen=True, eq=False)
class RegionSteps:
    """Values and valid shares of area (T, R) of each variable, by name, of the block's steps."""

    block: Block
    values: dict[str, np.ndarray]
    area_valid: dict[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class RegionStepsReducer(EachAlone[RegionSteps]):
    """Measures every step of every region; nothing goes on from one to the next."""

    plan: ExtremesPlan
    measure: str

    @property
    def of_whole(self) -> bool:
        """Whether values count only at steps with as much of the area as any step has."""
        return parse_measure(self.measure).of_whole and (
            self.plan.request.measuring.min_area is None
        )

    def update(self, block: Block, values: Mapping[str, np.ndarray]) -> list[list[RegionSteps]]:
        """Measure the values (T, C) of a block."""
        measure: Measure = parse_measure(self.measure)
        found, areas = {}, {}
        for name, cells in values.items():
            sample = CellSample(self.plan.index, cells)
            least = 0.0 if self.of_whole else self.plan.request.measuring.least_area
            enough = (sample.area_valid >= least - ENOUGH) & (sample.area_valid > 0)
            found[name] = np.where(enough, measure.compute(sample), np.nan)
            areas[name] = sample.area_valid
        return [[RegionSteps(block, found, areas)]]


def count_regions(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: Kept | None
) -> None:
    """Make the regions' series, and test those."""
    if len(plan.request.measuring.measure) > 1:
        raise RequestError("measure", "a region's series is of one measure", "choose one")
    series, area = _region_series(plan, arrays, report, kept)
    for n, (values, valid, _) in enumerate(record_values(plan, series)):
        arrays.put_regions(n, values, valid)
    steps = plan.period_steps
    for p, (begin, end) in enumerate(zip(steps.begin, steps.end, strict=True)):
        if end > begin:
            arrays.area_valid[:, p] = area[begin:end].mean(axis=0)[:, None]
    arrays.area_valid[np.abs(arrays.area_valid - 1) < 1e-12] = 1.0
    for bound, daily in zip(plan.bound, arrays.daily, strict=False):
        occurs = occurrence_of_record(plan, bound, series, ())
        own = series[bound.tests[0].variable.name]
        valid = np.broadcast_to(occurs.valid, occurs.occurs.shape)
        daily.put(0, np.where(valid, occurs.occurs, np.nan), own)


def _region_series(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: Kept | None
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """(T, R) values of each variable, by name, and the valid share of area of the first."""
    shape = plan.last - plan.first, len(plan.regions.regions)
    areas = {name: np.zeros(shape) for name in plan.aligned.sources}
    names = list(plan.aligned.sources)
    series = {name: np.full(shape, np.nan) for name in names}
    blocks = plan_condition_blocks(plan)
    held = arrays.nbytes + 2 * len(names) * areas[names[0]].nbytes * 4
    needs = choices.needs_of_blocks(blocks, plan.cells.size, "regions' steps", held, len(names))
    reducer = RegionStepsReducer(plan, plan.request.measuring.measure[0])
    segments = needed(kept, choices.segments_of([plan.assignment], blocks))
    run, reader = plan.request.run, ConditionReader(plan)
    for settled in reduced(run, needs, report, reader, reducer, segments):
        for each in settled:
            part = slice(each.block.first - plan.first, each.block.last - plan.first)
            for name, values in each.values.items():
                series[name][part] = values
                areas[name][part] = each.area_valid[name]
    if reducer.of_whole:  # a sum over cells is too low where some lack data
        for name, area in areas.items():
            series[name][area < area.max(axis=0) - WHOLE_WITHIN] = np.nan
    return series, areas[names[0]]


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
    return any(i.bootstrapped for i in plan.indices)


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
