"""A request for a series, with its files opened and its choices made."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.period_state import StepWeights
from bavlo.core.reduce.regions import CellFirst, RegionFirst
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.spans import Spans
from bavlo.core.stats.bands import BandIndex
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.stats.measures import Measure, parse_measure
from bavlo.core.time.axis import STATIC, TimeAxis
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.values.kinds import Quantity
from bavlo.grids.source import CellSelection, GridSource, where
from bavlo.jobs.bands import adds_up_by_bands, spans_of
from bavlo.jobs.opening import open_source
from bavlo.jobs.periods import assign, choose_combine, choose_periods, rules_of, step_weights_of
from bavlo.jobs.regions import (
    FurtherWeights,
    check_overlap,
    further_weights,
    open_regions,
    overlay_of,
)
from bavlo.jobs.rules import (
    check_classes,
    check_complete,
    check_measures,
    check_moving,
    check_place,
    check_unit,
)
from bavlo.regions.read import RegionFile
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request


@dataclass(frozen=True, eq=False)
class MeasureGroup:
    """Measures that share an order.

    Parameters
    ----------
    positions
        Where they stand among all measures.
    reducer
        Makes their values.
    of_whole
        Their values count only where all cells have data that ever do.
    """

    order: str
    measures: tuple[Measure, ...]
    positions: np.ndarray
    reducer: RegionFirst | CellFirst
    of_whole: bool


@dataclass(frozen=True, eq=False)
class SeriesPlan:
    """A request for a series, with its files opened and its choices made.

    Parameters
    ----------
    source, time
        The grid and its steps.
    what
        What kind of number the grid holds.
    regions
        As read, labelled and repaired.
    overlay, index, cells
        Shared areas, the same arranged for measuring, and the cells that are read; none where the
        grid is read in bands.
    combine
        How steps become a period.
    periods
        Those that are computed.
    left_out
        Labels of periods that `during` cuts.
    lead
        Periods at the beginning that windows and running values need and that are not reported.
    step_weights
        Which steps belong to which periods, and what they weigh.
    measures, groups
        In the order asked for, and by the order of measuring and combining; no groups where the
        grid is read in bands.
    weights
        What cells weigh besides their areas.
    """

    request: Request
    source: GridSource
    time: TimeAxis
    what: Quantity
    regions: RegionFile
    overlay: Overlay | Spans
    index: OverlayIndex | BandIndex
    cells: CellSelection
    combine: str
    periods: PeriodAxis
    left_out: tuple[str, ...]
    lead: int
    step_weights: StepWeights
    measures: tuple[Measure, ...]
    groups: tuple[MeasureGroup, ...]
    weights: FurtherWeights

    @property
    def orders(self) -> list[str]:
        """The order of each measure."""
        return orders_of(self.request, self.measures)

    @property
    def of_whole(self) -> np.ndarray:
        """(M,) bool which measures count only where all cells have data that ever do."""
        return wholes_of(self.request, self.measures)

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

    @property
    def labels(self) -> tuple[str, ...]:
        """Names of the regions."""
        return tuple(self.regions.regions.labels)


@dataclass(frozen=True, eq=False)
class OpenedSeries:
    """A grid and regions as they are opened, whatever the periods.

    Parameters
    ----------
    index
        Shared areas arranged for measuring, with further weights.
    weights
        What cells weigh besides their areas.
    """

    source: GridSource
    what: Quantity
    regions: RegionFile
    overlay: Overlay | Spans
    index: OverlayIndex | BandIndex
    measures: tuple[Measure, ...]
    weights: FurtherWeights


def orders_of(request: Request, measures: tuple[Measure, ...]) -> list[str]:
    """The order of each measure: as asked for, else as suits it."""
    return [request.measuring.order or measure.order for measure in measures]


def wholes_of(request: Request, measures: tuple[Measure, ...]) -> np.ndarray:
    """(M,) bool which measures count only where all cells have data that ever do."""
    asked = request.measuring.min_area is not None
    return np.array([measure.of_whole and not asked for measure in measures], bool)


def open_series(request: Request, report: Reporter) -> OpenedSeries:
    """Open the files of a request, and overlay regions and grid."""
    source, what = open_source(request, report)
    regions = open_regions(request.regions, report)
    measures = tuple(parse_measure(name) for name in request.measuring.measure)
    if adds_up_by_bands(request, source, what, measures):
        wanted = frozenset(measure.made_of for measure in measures)
        spans = spans_of(regions.regions, source, request.run.jobs)
        if spans is not None:
            check_overlap(source, regions, spans, report)
            by_bands = BandIndex(spans, RowAreas(source.layout), wanted)
            none = FurtherWeights()
            return OpenedSeries(source, what, regions, spans, by_bands, measures, none)
    shared = overlay_of(
        regions.regions, source.layout, request.measuring.at_points, request.run.jobs
    )
    check_overlap(source, regions, shared, report)
    weights = further_weights(request.measuring, source, shared, report)
    areas = None
    if any(measure.needs_areas for measure in measures):
        areas = source.layout.ellipsoid_areas(shared.cells)
    index = OverlayIndex(shared, areas, weights.values, weights.is_count)
    if request.grids.make:
        from bavlo.jobs.made import regional

        source, shared, index = regional(source, shared, index)
    return OpenedSeries(source, what, regions, shared, index, measures, weights)


def plan_series(request: Request, opened: OpenedSeries) -> SeriesPlan:
    """Settle the periods and rules of a series."""
    source, what, measures = opened.source, opened.what, opened.measures
    time = source.time or STATIC
    combine = choose_combine(request.time, what, source)
    check_measures(measures, what, combine, source)
    check_moving(request, measures)
    check_place(request, measures)
    check_complete(request.time, time)
    periods = choose_periods(request.time, source.time, where(source))
    check_unit(request.measuring.unit, what, combine)
    assignment = assign(source, periods.axis, combine)
    check_classes(measures, assignment)
    degree_days = request.time.combine.degree_days
    step_weights = step_weights_of(time, what, periods.axis, assignment, degree_days)
    orders, wholes = orders_of(request, measures), wholes_of(request, measures).tolist()
    groups = []
    index = opened.index
    for order, kind in (("region", RegionFirst), ("cell", CellFirst)):
        for of_whole in (True, False):  # the steps that count are those of the last group
            own = [(order, of_whole) == pair for pair in zip(orders, wholes, strict=True)]
            positions = np.flatnonzero(own)
            if positions.size and isinstance(index, OverlayIndex):
                chosen = tuple(measures[i] for i in positions)
                rules = rules_of(request, combine, what, any_area=of_whole)
                reducer = kind(index, step_weights, chosen, rules)
                groups.append(MeasureGroup(order, chosen, positions, reducer, of_whole))
    cells = opened.overlay.cells if isinstance(opened.overlay, Overlay) else np.zeros(0, np.int64)
    return SeriesPlan(
        request,
        source,
        time,
        what,
        opened.regions,
        opened.overlay,
        opened.index,
        CellSelection(opened.overlay.shape, cells),
        combine,
        periods.axis,
        periods.left_out,
        periods.lead,
        step_weights,
        measures,
        tuple(groups),
        opened.weights,
    )
