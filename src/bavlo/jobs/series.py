"""Values by region and period: from a request to a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.series import SeriesReducer, ValueRange
from bavlo.core.stats.bands import BandIndex
from bavlo.core.stats.measures import SHARES
from bavlo.core.values.kinds import implausible
from bavlo.core.values.stages import REGION, STEP
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.engine.protocol import Needs
from bavlo.engine.segments import Segment
from bavlo.figures.titles import title_of
from bavlo.grids.source import where
from bavlo.jobs.bands import sums_sample
from bavlo.jobs.missing import check_range
from bavlo.jobs.opening import each_grid
from bavlo.jobs.provenance import about_series
from bavlo.jobs.reading import (
    BlockReader,
    rechunked_source,
)
from bavlo.jobs.result import TableResult, shapes_of, together
from bavlo.jobs.series_plan import OpenedSeries, SeriesPlan, open_series, plan_series
from bavlo.jobs.series_table import (
    SeriesArrays,
    apply_windows,
    drop_partial_sums,
    series_summary,
    series_table,
)
from bavlo.jobs.store import SettledValues
from bavlo.jobs.writing import check_columns
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request


def series(request: Request, report: Reporter) -> TableResult:
    """Aggregate grids over regions and periods, each grid in one pass."""
    if request.grids.make and request.grids.make_on != STEP and len(request.time.every) > 1:
        return together(request, [series(one, report) for one in request.of_each_every()])
    if request.grids.make and request.grids.make_on == REGION:
        from bavlo.jobs.made_series import made_of_regions

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
    blocks: tuple[Block, ...]

    def compute(self, segments: Sequence[Segment], report: Reporter) -> list[SeriesArrays]:
        """The numbers of each plan's table, as far as some segments give them."""
        index = self.opened.index
        if isinstance(index, BandIndex):
            return self._by_bands(index, report)
        run = self.plans[0].request.run
        report.stage("reading and adding up")
        values = [SeriesArrays(plan) for plan in self.plans]
        kept = sum(each.nbytes for each in values)
        trees = any(segment.is_open for segment in self.segments)
        needs = series_needs(self.plans, self.blocks, kept, trees=trees)
        reducer = SeriesReducer(
            tuple(group.reducer for plan in self.plans for group in plan.groups),
            any(bool(plan.of_whole.any()) for plan in self.plans),
        )
        cells = self.plans[0].cells
        with rechunked_source(self.opened.source, cells, run, report) as source:
            reader = BlockReader(source, cells)
            groups = [len(plan.groups) for plan in self.plans]
            for settled in reduced(run, needs, report, reader, reducer, segments):
                for each, own in zip(values, settled.split(groups), strict=True):
                    each.store(own)
        return values

    def _by_bands(self, index: BandIndex, report: Reporter) -> list[SeriesArrays]:
        """The same of a grid without time, added up band by band."""
        report.stage("reading and adding up")
        values = [SeriesArrays(plan) for plan in self.plans]
        request = self.plans[0].request
        sample, value_range = sums_sample(request, self.opened.source, index, report)
        for plan, each in zip(self.plans, values, strict=True):
            each.store_sums(plan, sample, value_range)
        return values


def series_job(request: Request, report: Reporter) -> SeriesJob:
    """Open one grid and its regions, and settle what is to be computed."""
    report.stage("opening")
    opened = open_series(request, report)
    plans = tuple(plan_series(one, opened) for one in request.of_each_every())
    if isinstance(opened.index, BandIndex):
        return SeriesJob(opened, plans, (), ())
    assignments = [plan.step_weights.assignment for plan in plans]
    blocks = choices.blocks_of(assignments, plans[0].cells.size)
    return SeriesJob(opened, plans, choices.segments_of(assignments, blocks), blocks)


def values_of(job: SeriesJob, report: Reporter) -> list[SeriesArrays]:
    """The numbers of all tables of a job, those that are kept not made again."""
    run = job.plans[0].request.run
    if run.store is None or isinstance(job.opened.index, BandIndex):
        return job.compute(job.segments, report)
    store = SettledValues.of(run.store, job.plans, job.blocks)
    kept = store.load()
    if kept is None:
        values = job.compute(job.segments, report)
    else:
        left = kept.needed(job.segments)
        count = sum(block.last - block.first for segment in left for block in segment.blocks)
        report.note(f"{count} of {job.blocks[-1].last} steps are worked on again")
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
        from bavlo.jobs.shares import class_shares

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


def series_needs(
    plans: Sequence[SeriesPlan], blocks: Sequence[Block], kept: int, *, trees: bool
) -> Needs:
    """What blocks take in memory, and what is kept beside them."""
    cells, shared = plans[0].cells, plans[0].by_cells.overlay
    window = sum(w.shape[0] * w.shape[1] for w in cells.windows)
    groups = [
        choices.GroupSize(
            group.order == "cell",
            any(measure.percent is not None for measure in group.measures),
            any(not m.linear and m.percent is None for m in group.measures),
        )
        for plan in plans
        for group in plan.groups
    ]
    entries = shared.index.size, int(shared.entries.max(initial=0))
    return choices.needs_of_series(blocks, (cells.size, window), entries, groups, kept, trees=trees)
