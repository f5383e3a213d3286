"""A request for a grid, with its files opened and its choices made."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from bavlo.core.reduce.cells import CellReducer, SingleSteps, cell_reducer
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.beneath import RowReach, rows_of
from bavlo.core.space.layout import (
    GridLayout,
    after_widest_gap,
    is_all_around,
    rolled,
)
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.regrid import Regrid, regrid
from bavlo.core.space.resampling import AREA, MAJORITY
from bavlo.core.stats.normals import (
    ANOMALY,
    NORMAL,
    PERCENT,
    SCORE,
    TREND,
    VALUE,
    Base,
    YearlyPeriods,
    choose_base,
    in_years,
)
from bavlo.core.time.axis import STATIC
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.values.combine import MAX, MEAN, MIN, TOTAL
from bavlo.core.values.kinds import CLASS, Quantity, total_unit_of
from bavlo.core.values.stages import REGION
from bavlo.core.values.units import is_temperature
from bavlo.engine import choices
from bavlo.errors import RequestError
from bavlo.grids.cells import CellSelection, WholeRows, whole
from bavlo.grids.derived import RolledGrid
from bavlo.grids.source import GridSource, where
from bavlo.grids.tiles import MosaicGrid
from bavlo.grids.writing import CHUNK, GridOutput, OutputVariable
from bavlo.jobs.made import regional_cells
from bavlo.jobs.opening import open_source
from bavlo.jobs.periods import (
    assign,
    choose_combine,
    choose_periods,
    reported_periods,
    rules_of,
    step_weights_of,
)
from bavlo.jobs.regions import open_regions, overlay_of
from bavlo.jobs.rules import check_complete, check_percent, check_unit
from bavlo.jobs.targets import Target, target_cells, with_way
from bavlo.request.reporter import Reporter
from bavlo.request.request import GriddingRequest, Request

CELL_METHODS = {TOTAL: "sum", MEAN: "mean", MIN: "minimum", MAX: "maximum"}  # CF-1.11, appendix E


@dataclass(frozen=True, eq=False)
class Onto:
    """The cells that a grid is brought onto.

    Parameters
    ----------
    layout
        The cells.
    beneath
        The cells whose values are brought.
    inside : (C',) bool or None
        Those that regions cover, where the rest becomes missing.
    way
        How it is done, and whether totals are kept.
    reach
        Where the rows of the source lie in the system of the cells.
    """

    layout: GridLayout
    beneath: GridLayout
    inside: np.ndarray | None
    way: Target
    reach: RowReach

    @cached_property
    def regrid(self) -> Regrid:
        """What brings values onto the cells; of a large grid only ever for a band."""
        return regrid(self.beneath, self.layout, self.way.how, counts=self.way.counts)

    def apply(self, field: np.ndarray, least_area: float) -> np.ndarray:
        """(ny', nx') values of the cells (ny, nx)."""
        brought = self.regrid.apply(field, least_area)
        if self.inside is None:
            return brought
        return np.where(self.inside.reshape(brought.shape), brought, np.nan)


@dataclass(frozen=True, eq=False)
class GridPlan:
    """A request for a grid, with its files opened and its choices made.

    Parameters
    ----------
    periods, written
        Those that are computed, and those that are written.
    yearly
        Those that are computed, as parts of years.
    base
        Years of the normals; None where values are written as they are.
    reported : (W,) int
        Positions of the written periods among those that are computed; not for normals.
    layout
        Cells that are written, before they are brought onto others.
    cells
        The same cells of the source, row by row.
    inside : (C,) bool or None
        Cells that regions cover, where the rest becomes missing.
    onto
        The cells that they are brought onto, and how.
    in_bands
        Whether the old rows are too many to be read together, and add up one after the other.
    """

    request: Request
    source: GridSource
    what: Quantity
    combine: str
    periods: PeriodAxis
    written: PeriodAxis
    left_out: tuple[str, ...]
    yearly: YearlyPeriods
    base: Base | None
    reported: np.ndarray
    reducer: CellReducer | SingleSteps
    layout: GridLayout
    cells: CellSelection
    inside: np.ndarray | None
    onto: Onto | None
    in_bands: bool = False

    @property
    def unit(self) -> str:
        """Of the values."""
        return self.request.measuring.unit or total_unit_of(self.what, self.combine)

    @property
    def written_layout(self) -> GridLayout:
        """The cells that are written."""
        return self.layout if self.onto is None else self.onto.layout


def plan_grid(request: Request, report: Reporter) -> GridPlan:
    """Open the grid, and settle cells, periods and rules."""
    source, what = _source_of(request, report)
    product = request.gridding.product
    if not request.time.every and source.time is not None and product == VALUE:
        request = request.every("step")
    time = source.time or STATIC
    combine = choose_combine(request.time, what, source)
    check_percent(product, combine, what)
    wanted = request.time if product in (VALUE, TREND) else request.whole_record().time
    periods = choose_periods(wanted, source.time, where(source))
    check_complete(request.time, time)
    check_unit(request.measuring.unit, what, combine)
    assignment = assign(source, periods.axis, combine)
    degree_days = request.time.combine.degree_days
    step_weights = step_weights_of(time, what, periods.axis, assignment, degree_days)
    target = target_cells(request.gridding, source, what)
    if target is None:
        layout, cells, inside, column = cut_cells(request, source.layout, report)
        source, onto = RolledGrid(source, column) if column else source, None
    else:
        new, _, inside_new, _ = cut_cells(request, target.layout, report)
        reach = RowReach.of(source.layout, new)
        layout, cells = cells_beneath(source.layout, new, reach)
        onto, inside = Onto(new, layout, inside_new, target, reach), None
    yearly = YearlyPeriods.of(periods.axis)
    base = None
    if product not in (VALUE, TREND):
        base = choose_base(request.climate.base, yearly.year)
    reported, written = _written_periods(request, periods.axis, yearly, base)
    return GridPlan(
        request,
        source,
        what,
        combine,
        periods.axis,
        written,
        periods.left_out,
        yearly,
        base,
        reported,
        cell_reducer(step_weights, rules_of(request, combine, what)),
        layout,
        cells,
        inside,
        onto,
        onto is not None and adds_up_in_bands(source, onto),
    )


def _source_of(request: Request, report: Reporter) -> tuple[GridSource, Quantity]:
    """The grid, of which regions and whole cells can be made.

    Raises
    ------
    RequestError
        Where what is asked for does not go with what it holds.
    """
    if request.grids.make_on == REGION:
        raise RequestError("make_on", "region makes values of regions", "use step or cell")
    reading = replace(request.grids.reading, resample_tiles=True)
    opened = replace(request, grids=replace(request.grids, reading=reading))
    source, what = open_source(opened, report)
    if isinstance(source, MosaicGrid):
        source = with_way(source, request, what, report)
    source = regional_cells(source, request, report)
    if what.kind == CLASS and source.time is not None and request.time.every not in ((), ("step",)):
        raise RequestError("every", "class codes are not combined over time", "use ‹every step›")
    if source.time is None and request.gridding.product != VALUE:
        raise RequestError("product", f"{where(source)} has no time axis", "leave it out")
    return source, what


def _written_periods(
    request: Request, axis: PeriodAxis, yearly: YearlyPeriods, base: Base | None
) -> tuple[np.ndarray, PeriodAxis]:
    """Which periods are reported, and what is written: they, or the periods of the year."""
    product, reported = request.gridding.product, np.arange(len(axis))
    if product == TREND:
        span = Base(int(yearly.year.min()), int(yearly.year.max()))
        return reported, periods_of_the_year(axis, yearly.year, span)
    if base is None:
        return reported, axis
    reported = reported_periods(request.time, axis)
    if product == NORMAL:
        return reported, periods_of_the_year(axis, yearly.year, base)
    return reported, axis.take(reported)


def adds_up_in_bands(source: GridSource, onto: Onto) -> bool:
    """Whether a grid is brought onto others band by band, which the grids alone decide."""
    ny, nx = source.layout.shape
    return (
        source.time is None
        and source.reads_rows
        and not source.layout.has_corners
        and onto.way.how in (AREA, MAJORITY)
        and source.layout.crs == onto.layout.crs
        and choices.is_read_in_bands(ny * nx)
        and ny > onto.layout.shape[0]
    )


def bands_of(plan: GridPlan) -> Iterator[tuple[slice, GridPlan]]:
    """The plan by bands of written rows, where it is too large to be held as a whole.

    Bands follow from the grids alone, so that no value depends on the memory that is allowed.
    """
    rows, height = plan.written_layout.shape[0], band_rows(plan)
    if height >= rows:
        yield slice(0, rows), plan
        return
    for first in range(0, rows, height):
        band = slice(first, min(first + height, rows))
        yield band, _of_band(plan, band)


def band_rows(plan: GridPlan) -> int:
    """Written rows of a band: whole chunks of the file, or a share of one."""
    written = plan.written_layout
    rows = written.shape[0]
    one_system = plan.onto is None or (
        not plan.layout.has_corners and plan.layout.crs == written.crs
    )
    if plan.in_bands:
        return min(rows, choices.rows_beneath(plan.cells.shape[1]))
    if written.has_corners:
        return rows
    values_only = not plan.reducer.combines and plan.request.gridding.product == VALUE
    what = "two systems" if not one_system else "steps" if values_only else "combined"
    return choices.band_height(written.shape, plan.cells.size, CHUNK, what)


def _of_band(plan: GridPlan, band: slice) -> GridPlan:
    """The plan of some of the written rows."""
    written = plan.written_layout
    edges = written.y_edges[band.start : band.stop + 1]
    layout = GridLayout(written.x_edges, edges, written.crs)

    def covered(inside: np.ndarray | None) -> np.ndarray | None:
        return None if inside is None else inside.reshape(written.shape)[band].ravel()

    if plan.onto is None:
        rows = plan.cells.whole_rows
        if rows is not None:
            own = slice(rows.start + band.start, rows.start + band.stop)
            cells: CellSelection = WholeRows(plan.cells.shape, own)
        else:
            number = plan.cells.cells.reshape(written.shape)[band].ravel()
            cells = CellSelection(plan.cells.shape, number)
        return replace(plan, layout=layout, cells=cells, inside=covered(plan.inside))
    beneath, cells = cells_beneath(plan.source.layout, layout, plan.onto.reach)
    onto = replace(plan.onto, layout=layout, beneath=beneath, inside=covered(plan.onto.inside))
    return replace(plan, layout=beneath, cells=cells, onto=onto)


def cells_beneath(
    layout: GridLayout, target: GridLayout, reach: RowReach
) -> tuple[GridLayout, CellSelection]:
    """The rows of a grid that lie beneath other cells or next to them, whole."""
    rows = reach.beneath(target)
    return rows_of(layout, rows), WholeRows(layout.shape, rows)


def cut_cells(
    request: Request, layout: GridLayout, report: Reporter
) -> tuple[GridLayout, CellSelection, np.ndarray | None, int]:
    """The rectangle of cells that is written, which of them regions cover, and the first column.

    That is another than the grid's own where the regions lie across the seam of a grid all around
    the globe, whose columns then are counted from there.
    """
    ny, nx = layout.shape
    if not request.regions.regions:
        if request.gridding.outside is not None:
            raise RequestError("outside", "goes with ‹regions›", "name a file of regions")
        return layout, whole((ny, nx)), None, 0
    regions = open_regions(request.regions, report)
    shared = overlay_of(regions.regions, layout, jobs=request.run.jobs)
    if not shared.cells.size:
        raise RequestError("regions", "no region lies on the grid", "check the files")
    covered = _covered(request.gridding, shared).reshape(ny, nx)
    if not covered.any():
        raise RequestError(
            "regions",
            f"cover no cell by {request.gridding.least_share:.0%}",
            "use a smaller ‹min_share›; 0 keeps all cells that they touch",
        )
    outside = request.gridding.outside or "both"
    rows, columns = slice(0, ny), slice(0, nx)
    first = 0
    if outside in ("crop", "both"):
        if layout.has_corners:
            raise RequestError("outside", "this grid cannot be cropped", "use ‹outside missing›")
        wanted = np.any(covered, axis=0)
        if is_all_around(layout) and wanted[0] and wanted[-1] and not wanted.all():
            first = after_widest_gap(wanted)
            layout, covered = rolled(layout, first), np.roll(covered, -first, axis=1)
        r, c = np.flatnonzero(covered.any(axis=1)), np.flatnonzero(covered.any(axis=0))
        rows, columns = slice(int(r[0]), int(r[-1]) + 1), slice(int(c[0]), int(c[-1]) + 1)
        layout = GridLayout(
            layout.x_edges[columns.start : columns.stop + 1],
            layout.y_edges[rows.start : rows.stop + 1],
            layout.crs,
        )
    number = np.arange(ny * nx).reshape(ny, nx)[rows, columns].ravel()
    inside = covered[rows, columns].ravel() if outside in ("missing", "both") else None
    return layout, CellSelection((ny, nx), number), inside, first


def _covered(request: GriddingRequest, shared: Overlay) -> np.ndarray:
    """(cells,) bool those of which regions cover enough."""
    share = np.zeros(shared.shape[0] * shared.shape[1])
    np.add.at(share, shared.cells[shared.index], shared.fraction)
    return np.asarray((share > 0) & (share >= request.least_share - ENOUGH))


def periods_of_the_year(periods: PeriodAxis, years: np.ndarray, base: Base) -> PeriodAxis:
    """The periods of the year, each from its first to its last occurrence in the base."""
    cycle = tuple(dict.fromkeys(periods.cycle))
    if len(cycle) > 100:
        cycle = tuple(sorted(cycle))
    inside = in_years(years, base)
    names = np.array(periods.cycle, object)
    at = [np.flatnonzero(inside & (names == kind)) for kind in cycle]
    kept = [n for n, position in enumerate(at) if position.size]
    kept.sort(key=lambda n: int(periods.start[at[n][0]]))  # a time axis ascends
    return PeriodAxis(
        tuple(cycle[n] for n in kept),
        tuple(cycle[n] for n in kept),
        np.array([periods.start[at[n][0]] for n in kept], np.int64),
        np.array([periods.end[at[n][-1]] for n in kept], np.int64),
        periods.calendar,
    )


def grid_output(plans: Sequence[GridPlan]) -> GridOutput:
    """Everything of what is written but the values.

    Raises
    ------
    RequestError
        Where several grids have other cells or other periods, or variables of one name.
    """
    first = plans[0]
    layout = first.written_layout
    for plan in plans[1:]:
        name = f"{plan.source.variable.name} and {first.source.variable.name}"
        if not layout.same_cells(plan.written_layout):
            raise RequestError(
                "", f"{name} have other cells", "bring them onto the same ones with ‹onto›"
            )
        if plan.written.labels != first.written.labels:
            raise RequestError(
                "", f"{name} have other periods", "choose those of both with ‹during›"
            )
    variables = tuple(one for plan in plans for one in output_variables(plan))
    names = [one.name for one in variables]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise RequestError("", f"two grids would be written as {twice}", "name them as NAME=PATH")
    sources = ", ".join(dict.fromkeys(where(plan.source) for plan in plans))
    attributes = {
        "title": "; ".join(one.long_name for one in variables[: len(plans)]),
        "source": f"made by Bavlo from {sources}",
    }
    if first.base is not None:
        attributes["base"] = str(first.base)
    return GridOutput(
        variables,
        layout,
        first.written.labels,
        first.written.start,
        first.written.end,
        first.written.calendar,
        first.request.gridding.product in (NORMAL, TREND),
        attributes,
        min(band_rows(plan) for plan in plans),
    )


def output_variables(plan: GridPlan) -> tuple[OutputVariable, ...]:
    """The variable that a grid is written as; with trends how likely they are without any."""
    variable, product, base = plan.source.variable, plan.request.gridding.product, plan.base
    way = CELL_METHODS[plan.combine]
    name, long_name, unit = variable.name, variable.title, plan.unit
    if plan.reducer.combines and plan.source.time is not None:
        how = {MIN: "lowest", MAX: "highest"}.get(plan.combine, plan.combine)
        of = long_name[:1].lower() + long_name[1:] if long_name[1:2].islower() else long_name
        long_name = f"{how} of {of}"
    methods = f"time: {way}" if plan.source.time is not None else ""
    difference = variable.difference or (product == ANOMALY and is_temperature(unit))
    if product != VALUE:
        name = f"{name}_{product}"
        long_name = {
            NORMAL: f"{long_name}, normal of {base}",
            ANOMALY: f"{long_name}, anomaly against {base}",
            PERCENT: f"{long_name}, percent of the normal of {base}",
            SCORE: f"{long_name}, anomaly in standard deviations of {base}",
            TREND: f"{long_name}, trend a decade",
        }[product]
        a_decade = f"{unit or '1'}/(10 years)"  # as UDUNITS has it
        unit = {PERCENT: "%", SCORE: "1", TREND: a_decade}.get(product, unit)
    if product == NORMAL:
        methods = f"time: {way} within years time: mean over years"
    if product == TREND:
        methods = f"time: {way} within years"
    own = OutputVariable(
        name.replace("/", "_"),
        long_name,
        unit,
        methods,
        difference,
        variable.flags if plan.what.kind == CLASS else (),
        variable.colours if plan.what.kind == CLASS else (),
        plan.what.kind == CLASS,
        f"{variable.name}_p_value" if product == TREND else "",
    )
    if product != TREND:
        return (own,)
    title = f"{variable.title}, p value of no trend (Mann-Kendall)"
    return own, OutputVariable(own.ancillary, title, "1", methods)


def against_normal(
    product: str, value: np.ndarray, mean: np.ndarray, std: np.ndarray
) -> np.ndarray:
    """Values held against their normals: anomaly, percent of normal or score."""
    with np.errstate(invalid="ignore", divide="ignore"):
        if product == PERCENT:
            return np.where(mean != 0, value / mean * 100, np.nan)
        if product == SCORE:
            return np.where(std > 0, (value - mean) / std, np.nan)
    return np.asarray(value - mean)
