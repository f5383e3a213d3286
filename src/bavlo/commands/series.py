"""Values by region and period: from a request to a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from bavlo.core.reduce import ends
from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.regions import RegionFirst
from bavlo.core.stats import spatial
from bavlo.core.stats.measures import SHARES
from bavlo.core.stats.spatial import SORTED_AT_ONCE
from bavlo.core.stats.strips import StripIndex
from bavlo.core.values.kinds import implausible
from bavlo.core.values.stages import REGION, STEP
from bavlo.engine.executor import executor
from bavlo.engine.memory import load_where_it_fits
from bavlo.engine.needs import Needs
from bavlo.engine.segments import (
    VALUES_AT_ONCE,
    Segment,
    common_assignment,
    group_units,
    plan_segments,
    plan_units,
)
from bavlo.figures.titles import title_of
from bavlo.grids.fast import planes, stored
from bavlo.grids.fast.packed import HasPacked
from bavlo.grids.source import GridSource, where
from bavlo.plan.grids import each_grid
from bavlo.plan.inspection import check_range
from bavlo.plan.outputs import check_columns
from bavlo.plan.provenance import about_series
from bavlo.plan.reading import (
    BlockReader,
    UnitReader,
    rechunked_source,
    turning_needs,
    will_add_as_stored,
)
from bavlo.plan.result import TableResult, shapes_of, together
from bavlo.plan.series import OpenedSeries, SeriesPlan, open_series, plan_series
from bavlo.plan.series_reducer import SeriesReducer
from bavlo.plan.series_table import (
    SeriesArrays,
    apply_windows,
    drop_partial_sums,
    series_summary,
    series_table,
)
from bavlo.plan.settled import SettledValues
from bavlo.plan.strips import strip_sample
from bavlo.plan.value_range import ValueRange
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

UNIT_VALUES = VALUES_AT_ONCE
SUMMED_VALUES = 2**23  # cells × steps of a unit whose steps are added up before it is measured
# Steps of such a unit of very many cells, which is part of a period: regions are measured once for
# them, and none is held meanwhile.
LEAST_OF_ONE = 16
COPIES_OF_CELLS = 8  # decoded, masked, filled and transposed copies of a unit's cells
COPIES_SORTED = 8  # ranks, orders, weights and their sums of cells that are sorted together
# Cells × steps from which on compiled loops save 0.2 s of two processors, and take 0.1 s to load.
WORTH_RANKING = 2**25
WORTH_ADDING = 2**27
STORED_SIZE = 4  # bytes of a number that is kept as it is stored
KEPT_PER_CELL = 9  # value, weight and cover of a period's cells: open, arriving and merged
KEPT_IN_TREE = 9  # the same where what segments leave open waits to be merged


def series(request: Request, report: Reporter) -> TableResult:
    """Aggregate grids over regions and periods, each grid in one pass."""
    if request.grids.make and request.grids.make_on != STEP and len(request.time.every) > 1:
        return together(request, [series(one, report) for one in request.of_each_every()])
    if request.grids.make and request.grids.make_on == REGION:
        from bavlo.commands.made_series import made_of_regions

        made = [made_of_regions(one, report, series) for one in each_grid(request)]
        return together(request, made)
    alone = each_grid(request)
    return together(request, [part for one in alone for part in _of_one_grid(one, report)])


@dataclass(frozen=True, eq=False)
class SeriesJob:
    """What is to be computed of one grid: all its sorts of periods in one pass.

    Parameters
    ----------
    plans
        One for each sort of periods.
    segments
        The whole work, in order of time.
    """

    opened: OpenedSeries
    plans: tuple[SeriesPlan, ...]
    segments: tuple[Segment, ...]
    units: tuple[Unit, ...]

    def compute(self, segments: Sequence[Segment], report: Reporter) -> list[SeriesArrays]:
        """The numbers of each plan's table, as far as some segments give them."""
        index = self.opened.index
        if isinstance(index, StripIndex):
            return self._in_strips(index, report)
        run = self.plans[0].request.run
        report.stage("reading and adding up")
        values = [SeriesArrays(plan) for plan in self.plans]
        kept = sum(each.nbytes for each in values)
        trees = any(segment.is_open for segment in self.segments)
        needs = series_needs(self.plans, self.units, kept, trees=trees)
        self._load_loops(needs)
        reducer = SeriesReducer(
            tuple(group.reducer for plan in self.plans for group in plan.groups),
            any(bool(plan.of_whole.any()) for plan in self.plans),
        )
        cells = self.plans[0].cells
        with (
            rechunked_source(self.opened.source, cells, run, report) as source,
            executor(run, needs, report.progress, report.note) as engine,
        ):
            reader = UnitReader(BlockReader(source, cells))
            for settled in engine.reduce(reader, reducer, segments):
                for each, own in zip(values, settled.of_plans(self.plans), strict=True):
                    each.store(own)
        return values

    def _load_loops(self, needs: Needs) -> None:
        """Load the compiled loops that save more time than loading them takes."""
        run, source = self.plans[0].request.run, self.opened.source
        if self._ranks_very_many:
            load_where_it_fits(run, needs, _warm_up_ranks, run.jobs)
        if self._adds_very_many:
            warm_up = partial(stored.warm_up, source.files[0].dtype)
            load_where_it_fits(run, needs.beside(turning_needs(source, run)), warm_up, run.jobs)

    @property
    def _ranks_very_many(self) -> bool:
        """Whether compiled loops for percentiles of regions save more than they take to load."""
        by_region = [g for plan in self.plans for g in plan.groups if g.order == "region"]
        percents = {m.percent for g in by_region for m in g.measures} - {None}
        if not percents:
            return False
        return self._steps * self.plans[0].by_cells.overlay.index.size >= WORTH_RANKING

    @property
    def _adds_very_many(self) -> bool:
        """Whether the same holds of loops that add up steps as they are stored."""
        groups = [g for plan in self.plans for g in plan.groups]
        first = any(isinstance(g.reducer, RegionFirst) and g.reducer.sums_first for g in groups)
        run = self.plans[0].request.run
        if not first or not will_add_as_stored(self.opened.source, run):
            return False
        # Chunks that are turned about are put together by these loops too.
        turned = turning_needs(self.opened.source, run).unit > 0
        return self._steps * self.plans[0].cells.size * (1 + turned) >= WORTH_ADDING

    @property
    def _steps(self) -> int:
        return sum(part.last - part.first for unit in self.units for part in unit.each)

    def _in_strips(self, index: StripIndex, report: Reporter) -> list[SeriesArrays]:
        """The same of a grid without time whose cells are too many to be listed."""
        report.stage("reading and adding up")
        values = [SeriesArrays(plan) for plan in self.plans]
        request = self.plans[0].request
        sample, low_high = strip_sample(request, self.opened.source, index, report)
        for plan, each in zip(self.plans, values, strict=True):
            each.store_sums(plan, sample, ValueRange(*low_high))
        return values


def _warm_up_ranks() -> None:
    """Call the loops that ranking uses, and those beside it, which then cost next to nothing."""
    spatial.warm_up()
    planes.warm_up()
    ends.warm_up()


def series_job(request: Request, report: Reporter) -> SeriesJob:
    """Open one grid and its regions, and settle what is to be computed."""
    report.stage("opening")
    opened = open_series(request, report)
    plans = tuple(plan_series(one, opened) for one in request.of_each_every())
    units = () if isinstance(opened.index, StripIndex) else tuple(series_units(plans))
    segments = plan_segments([plan.step_weights.assignment for plan in plans], units)
    return SeriesJob(opened, plans, tuple(segments), units)


def values_of(job: SeriesJob, report: Reporter) -> list[SeriesArrays]:
    """The numbers of all tables of a job, those that are kept not made again."""
    run = job.plans[0].request.run
    if run.store is None or isinstance(job.opened.index, StripIndex):
        return job.compute(job.segments, report)
    store = SettledValues.of(run.store, job.plans, job.units)
    kept = store.load()
    if kept is None:
        values = job.compute(job.segments, report)
    else:
        left = kept.needed(job.segments)
        count = sum(unit.last - unit.first for segment in left for unit in segment.units)
        report.note(f"{count} of {job.units[-1].last} steps are worked on again")
        values = job.compute(left, report) if left else [SeriesArrays(p) for p in job.plans]
        kept.fill(values)
    store.keep(values)
    return values


def _of_one_grid(request: Request, report: Reporter) -> list[TableResult]:
    """The series of one grid, one for each sort of periods."""
    job = series_job(request, report)
    plans = job.plans
    lengths = [len(plan.periods) - plan.lead for plan in plans]
    check_columns(request, job.opened.regions, lengths, len(job.opened.measures))
    if request.measuring.measure == (SHARES,):
        from bavlo.commands.shares import class_shares

        return [class_shares(plan, report) for plan in plans]
    values = values_of(job, report)
    report.stage("making the table")
    _check_values(plans[0], values[0].value_range, report)
    return [series_result(plan, each, report) for plan, each in zip(plans, values, strict=True)]


def _check_values(plan: SeriesPlan, found: ValueRange, report: Reporter) -> None:
    """Warn of values that the quantity hardly has."""
    check_range(plan.source, found.low, found.high)
    difference = plan.source.variable.difference
    odd = implausible(plan.what, found.low, found.high, difference=difference)
    if odd:
        report.warn(f"{where(plan.source)}: {odd}")


def series_result(plan: SeriesPlan, values: SeriesArrays, report: Reporter) -> TableResult:
    """The table of one sort of periods, and how it came to be."""
    drop_partial_sums(plan, values)
    plan = apply_windows(plan, values)
    table = series_table(plan, values)
    summary = series_summary(plan, table)
    about = about_series(plan, table, summary, report)
    every = plan.request.time.every_text
    shapes = shapes_of(plan.regions)
    return TableResult(table, title_of(table), summary, about, every=every, shapes=shapes)


def series_units(plans: Sequence[SeriesPlan]) -> list[Unit]:
    """Runs of steps; larger ones where steps are added up before regions are measured."""
    cells = plans[0].cells.size
    assignment = common_assignment([plan.step_weights.assignment for plan in plans])
    units = plan_units(assignment, cells, UNIT_VALUES)
    reducer = plans[0].groups[0].reducer  # that of regions first, where there is one
    if isinstance(reducer, RegionFirst) and reducer.sums_first:
        most = SUMMED_VALUES // max(cells, 1)
        of_one = most if has_whole_numbers(plans[0].source) else max(most, LEAST_OF_ONE)
        return group_units(assignment, units, most, of_one)
    return units


def has_whole_numbers(source: GridSource) -> bool:
    """Whether all that is stored are whole numbers, which are added up before they are decoded."""
    return isinstance(source, HasPacked) and source.whole_numbers


def series_needs(
    plans: Sequence[SeriesPlan], units: Sequence[Unit], kept: int, *, trees: bool
) -> Needs:
    """What units take in memory, and what is kept beside them.

    Parameters
    ----------
    kept
        Bytes of the table's numbers.
    trees
        Whether periods go on from segment to segment.
    """
    plan = plans[0]
    steps = max((part.last - part.first for unit in units for part in unit.each), default=0)
    stored = 0
    if has_whole_numbers(plan.source):
        stored = max((unit.last - unit.first for unit in units if unit.parts), default=0)
    shared = plan.by_cells.overlay
    largest = int(shared.entries.max(initial=0))
    sorting = max(SORTED_AT_ONCE, largest) * 8 * COPIES_SORTED
    window = sum(w.shape[0] * w.shape[1] for w in plan.cells.windows)
    cells = plan.cells.size
    per_step = window * 8 * 2 + cells * 8 * COPIES_OF_CELLS
    beside = stored * window * STORED_SIZE
    for group in (group for each in plans for group in each.groups):
        sorts = any(measure.percent is not None for measure in group.measures)
        if group.order == "region":
            others = any(not m.linear and m.percent is None for m in group.measures)
            per_step += shared.index.size * 8 * 2 * others
            beside += sorting * sorts
        else:
            kept += cells * 8 * (KEPT_PER_CELL + KEPT_IN_TREE * trees) + sorting * sorts
    return Needs(steps * per_step + beside, kept)
