"""Values by region and period: from a request to a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from bavlo.core.reduce.period_state import StepWeights
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst, RegionFirst
from bavlo.core.reduce.series import SeriesReducer, ValueRange
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.stats.bands import BandIndex
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.stats.measures import SHARES, Measure, parse_measure
from bavlo.core.time.axis import STATIC, TimeAxis
from bavlo.core.values.kinds import Quantity, implausible
from bavlo.core.values.stages import REGION, STEP
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.engine.protocol import Needs
from bavlo.engine.segments import Segment
from bavlo.figures.titles import title_of
from bavlo.grids.cells import CellSelection
from bavlo.grids.source import GridSource, where
from bavlo.jobs.bands import adds_up_by_bands, spans_of, sums_sample
from bavlo.jobs.missing import check_range
from bavlo.jobs.opening import each_grid, open_source
from bavlo.jobs.periods import (
    Periods,
    assign,
    choose_combine,
    choose_periods,
    rules_of,
    step_weights_of,
)
from bavlo.jobs.provenance import about_series
from bavlo.jobs.reading import BlockReader, rechunked_source
from bavlo.jobs.regions import (
    FurtherWeights,
    check_overlap,
    further_weights,
    open_regions,
    overlay_of,
)
from bavlo.jobs.result import TableResult, shapes_of, together
from bavlo.jobs.rules import (
    check_classes,
    check_complete,
    check_measures,
    check_moving,
    check_place,
    check_unit,
)
from bavlo.jobs.series_table import (
    SeriesArrays,
    apply_windows,
    drop_partial_sums,
    series_summary,
    series_table,
)
from bavlo.jobs.store import Store, key_of, needed, source_digests, told_of_source
from bavlo.jobs.writing import check_columns
from bavlo.regions.read import RegionFile
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

KEPT = ("range", "has_data")  # of all periods together


def series(request: Request, report: Reporter) -> TableResult:
    """Aggregate grids over regions and periods, each grid in one pass."""
    if request.grids.make and request.grids.make_on != STEP and len(request.time.every) > 1:
        return together(request, [series(one, report) for one in request.of_each_every()])
    if request.grids.make and request.grids.make_on == REGION:
        from bavlo.jobs.made_series import made_of_regions

        made = [made_of_regions(one, report, series) for one in each_grid(request)]
        return together(request, made)
    results = []
    for one in each_grid(request):
        report.stage("opening")
        job = plan(one, open_inputs(one, report))
        if one.measuring.measure == (SHARES,):
            from bavlo.jobs.shares import class_shares

            results += [class_shares(each, report) for each in job.plans]
            continue
        results += tabulate(job, compute(job, report), report)
    return together(request, results)


@dataclass(frozen=True, eq=False)
class SeriesInputs:
    """A grid and regions as they are opened, whatever the periods.

    Parameters
    ----------
    what
        What kind of number the grid holds.
    regions
        As read, labelled and repaired.
    index
        Shared areas arranged for measuring, with further weights.
    cells
        Those that are read; none where the grid is read in bands.
    measures, orders, of_whole
        In the order asked for; the order of measuring and combining of each, and whether it counts
        only where all cells have data that ever do.
    weights
        What cells weigh besides their areas.
    """

    source: GridSource
    what: Quantity
    regions: RegionFile
    index: OverlayIndex | BandIndex
    cells: CellSelection
    measures: tuple[Measure, ...]
    orders: list[str]
    of_whole: np.ndarray
    weights: FurtherWeights

    @property
    def labels(self) -> tuple[str, ...]:
        """Names of the regions."""
        return tuple(self.regions.regions.labels)

    @property
    def by_cells(self) -> OverlayIndex:
        """Shared areas cell by cell.

        Raises
        ------
        TypeError
            Where the grid is read in bands.
        """
        if not isinstance(self.index, OverlayIndex):
            raise TypeError("a grid that is read in bands has no list of cells")
        return self.index


@dataclass(frozen=True, eq=False)
class MeasureGroup:
    """Measures that share an order.

    Parameters
    ----------
    positions
        Where they stand among all measures.
    reducer
        Makes their values.
    """

    order: str
    measures: tuple[Measure, ...]
    positions: np.ndarray
    reducer: RegionFirst | CellFirst


@dataclass(frozen=True, eq=False)
class SeriesPlan:
    """One table: a sort of periods, and what its values follow.

    Parameters
    ----------
    combine
        How steps become a period.
    chosen
        The periods that are computed, and those that are not reported.
    step_weights
        Which steps belong to which periods, and what they weigh.
    groups
        Measures by their orders; none where the grid is read in bands.
    """

    request: Request
    inputs: SeriesInputs
    time: TimeAxis
    combine: str
    chosen: Periods
    step_weights: StepWeights
    groups: tuple[MeasureGroup, ...]


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

    inputs: SeriesInputs
    plans: tuple[SeriesPlan, ...]
    segments: tuple[Segment, ...]
    blocks: tuple[Block, ...]


def open_inputs(request: Request, report: Reporter) -> SeriesInputs:
    """Open the files of a request, and overlay regions and grid."""
    source, what = open_source(request, report)
    regions = open_regions(request.regions, report)
    asked, jobs = request.measuring, request.run.jobs
    measures = tuple(parse_measure(name) for name in asked.measure)
    of_whole = np.array([m.of_whole and asked.min_area is None for m in measures], bool)
    rules = measures, [asked.order or measure.order for measure in measures], of_whole
    if adds_up_by_bands(request, source, what, measures):
        spans = spans_of(regions.regions, source, jobs)
        if spans is not None:
            check_overlap(source, regions, spans, report)
            wanted = frozenset(measure.made_of for measure in measures)
            percents = {m.percent: None for m in measures if m.percent is not None}
            index = BandIndex(spans, RowAreas(source.layout), wanted, tuple(percents))
            none = CellSelection(spans.shape, np.zeros(0, np.int64))
            return SeriesInputs(source, what, regions, index, none, *rules, FurtherWeights())
    shared = overlay_of(regions.regions, source.layout, asked.measure, jobs)
    check_overlap(source, regions, shared, report)
    weights = further_weights(asked, source, shared, report)
    areas = None
    if any(measure.needs_areas for measure in measures):
        areas = source.layout.ellipsoid_areas(shared.cells)
    by_cells = OverlayIndex(shared, areas, weights.values, weights.is_count)
    if request.grids.make:
        from bavlo.jobs.made import regional

        source, by_cells = regional(source, by_cells)
    cells = CellSelection(by_cells.overlay.shape, by_cells.overlay.cells)
    return SeriesInputs(source, what, regions, by_cells, cells, *rules, weights)


def plan(request: Request, inputs: SeriesInputs) -> SeriesJob:
    """Settle what is to be computed: periods, rules and blocks; or refuse it."""
    plans = tuple(plan_series(one, inputs) for one in request.of_each_every())
    lengths = [len(each.chosen.axis) - each.chosen.lead for each in plans]
    check_columns(request, inputs.regions, lengths, len(inputs.measures))
    assignments = [each.step_weights.assignment for each in plans]
    blocks = choices.blocks_of(assignments, inputs.cells.size)
    return SeriesJob(inputs, plans, choices.segments_of(assignments, blocks), blocks)


def plan_series(request: Request, inputs: SeriesInputs) -> SeriesPlan:
    """Settle one sort of periods."""
    source, what, measures = inputs.source, inputs.what, inputs.measures
    time = source.time or STATIC
    combine = choose_combine(request.time, what, source)
    check_measures(measures, what, combine, source)
    check_moving(request, measures)
    check_place(request, measures)
    check_complete(request.time, time)
    chosen = choose_periods(request.time, source.time, where(source))
    check_unit(request.measuring.unit, what, combine)
    assignment = assign(source, chosen.axis, combine)
    check_classes(measures, assignment)
    degree_days = request.time.combine.degree_days
    weights = step_weights_of(time, what, chosen.axis, assignment, degree_days)
    groups = []
    for order, kind in (("region", RegionFirst), ("cell", CellFirst)):
        for of_whole in (True, False):  # the steps that count are those of the last group
            alike = (np.array(inputs.orders) == order) & (inputs.of_whole == of_whole)
            positions = np.flatnonzero(alike)
            if positions.size and isinstance(inputs.index, OverlayIndex):
                own = tuple(measures[i] for i in positions)
                rules = rules_of(request, combine, what, any_area=of_whole)
                reducer = kind(inputs.index, weights, own, rules)
                groups.append(MeasureGroup(order, own, positions, reducer))
    return SeriesPlan(request, inputs, time, combine, chosen, weights, tuple(groups))


def compute(job: SeriesJob, report: Reporter) -> list[SeriesArrays]:
    """The numbers of each table of a job; those that are kept are not computed again."""
    store = _store_of(job)
    kept = None if store is None else store.load(KEPT)
    if kept is not None and not kept.is_longer and _looks_at_all(job, kept.arrays["range"]):
        kept = None
    segments = needed(kept, job.segments)
    if kept is not None:
        count = sum(block.last - block.first for segment in segments for block in segment.blocks)
        report.note(f"{count} of {job.blocks[-1].last} steps are worked on again")
    values = compute_segments(job, segments, report)
    if kept is not None:
        kept.fill(values)
        low, high = kept.arrays["range"].tolist()
        for each in values:
            each.value_range = each.value_range.wider(ValueRange(low, high))
            if kept.arrays["has_data"].size:
                own = each.has_data if each.has_data is not None else False
                each.has_data = np.asarray(own | kept.arrays["has_data"])
    if store is not None:
        found, has_data = values[0].value_range, values[0].has_data
        none = np.zeros(0, bool) if has_data is None else has_data
        store.keep(values, range=np.array([found.low, found.high]), has_data=none)
    return values


def compute_segments(
    job: SeriesJob, segments: Sequence[Segment], report: Reporter
) -> list[SeriesArrays]:
    """The numbers of each table, as far as some segments give them."""
    report.stage("reading and adding up")
    plans, inputs = job.plans, job.inputs
    run = plans[0].request.run
    values = [SeriesArrays(plan) for plan in plans]
    if isinstance(inputs.index, BandIndex):
        sample, value_range = sums_sample(run, inputs.source, inputs.index, report)
        for plan, each in zip(plans, values, strict=True):
            each.store_sums(plan, sample, value_range)
        return values
    if not segments:
        return values
    reducer = SeriesReducer(
        tuple(group.reducer for plan in plans for group in plan.groups),
        bool(inputs.of_whole.any()),
    )
    groups = [len(plan.groups) for plan in plans]
    needs = _needs(job, sum(each.nbytes for each in values))
    with rechunked_source(inputs.source, inputs.cells, run, report) as source:
        reader = BlockReader(source, inputs.cells)
        for settled in reduced(run, needs, report, reader, reducer, segments):
            for each, own in zip(values, settled.split(groups), strict=True):
                each.store(own)
    return values


def tabulate(job: SeriesJob, values: Sequence[SeriesArrays], report: Reporter) -> list[TableResult]:
    """The table of each sort of periods, and how it came to be."""
    report.stage("making the table")
    source, found = job.inputs.source, values[0].value_range
    check_range(source, found.low, found.high)
    difference = source.variable.difference
    odd = implausible(job.inputs.what, found.low, found.high, difference=difference)
    if odd:
        report.warn(f"{where(source)}: {odd}")
    pairs = zip(job.plans, values, strict=True)
    return [series_result(plan, each, report) for plan, each in pairs]


def series_result(plan: SeriesPlan, values: SeriesArrays, report: Reporter) -> TableResult:
    """The table of one sort of periods, and how it came to be."""
    drop_partial_sums(plan, values)
    plan = apply_windows(plan, values)
    table = series_table(plan, values)
    summary = series_summary(plan, table)
    about = about_series(plan, table, summary, report)
    every, shapes = plan.request.time.every_text, shapes_of(plan.inputs.regions)
    return TableResult(table, title_of(table), summary, about, every=every, shapes=shapes)


def _needs(job: SeriesJob, kept: int) -> Needs:
    """What blocks take in memory, and what is kept beside them."""
    shared, cells = job.inputs.by_cells.overlay, job.inputs.cells
    window = sum(w.shape[0] * w.shape[1] for w in cells.windows)
    groups = [
        choices.GroupSize(
            group.order == "cell",
            any(measure.percent is not None for measure in group.measures),
            any(not m.linear and m.percent is None for m in group.measures),
        )
        for plan in job.plans
        for group in plan.groups
    ]
    entries = shared.index.size, int(shared.entries.max(initial=0))
    trees = any(segment.is_open for segment in job.segments)
    sizes = cells.size, window
    return choices.needs_of_series(job.blocks, sizes, entries, groups, kept, trees=trees)


def _store_of(job: SeriesJob) -> Store | None:
    """Where the values of a job are kept; None where nothing is."""
    inputs, plans = job.inputs, job.plans
    first = plans[0]
    folder = first.request.run.store
    if folder is None or not job.blocks or any(each.request.time.same_span for each in plans):
        return None
    digest = source_digests(inputs.source)
    if digest is None:
        return None
    told: list[Any] = [first.time.calendar, first.time.length, first.time.how, inputs.what]
    told += [*told_of_source(inputs.source), inputs.labels, first.request.measuring]
    for each in plans:
        time = replace(each.request.time, during=None, window=(1,))
        told += [time, each.combine, inputs.orders, [measure.name for measure in inputs.measures]]
    key = key_of(told, inputs.source.layout, inputs.by_cells.overlay, inputs.weights)
    assignments = [each.step_weights.assignment for each in plans]
    labels = [each.chosen.axis.labels for each in plans]
    return Store(folder / f"{key}.npz", first.time, digest, assignments, labels)


def _looks_at_all(job: SeriesJob, value_range: np.ndarray) -> bool:
    """Whether something else than the periods' values hangs on steps that have changed."""
    difference = job.inputs.source.variable.difference
    odd = implausible(job.inputs.what, *value_range.tolist(), difference=difference)
    return bool(odd) or bool(job.inputs.of_whole.any())
