"""Formulas on the values of periods, and with functions of the cells of regions."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bavlo.core.reduce.cells import CellReducer
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.time.axis import PERIOD, TimeAxis
from bavlo.core.values.combine import TOTAL
from bavlo.core.values.kinds import AMOUNT, STATE, as_asked, quantity, total_unit_of
from bavlo.core.values.stages import CELL, STEP
from bavlo.errors import RequestError
from bavlo.grids.derived import DerivedGrid, align
from bavlo.grids.regional import PeriodGrid, RegionalCells, RegionalGrid, by_entries
from bavlo.grids.source import GridSource, where
from bavlo.jobs.periods import assign, choose_combine, periods_of, rules_of, step_weights_of
from bavlo.jobs.regions import open_regions, overlay_of
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request, combined_alone, for_grid


def with_made(
    found: dict[str, GridSource], request: Request, report: Reporter
) -> dict[str, GridSource]:
    """Grids by name, and after them those that the formulas of a request make of them."""
    made = {formula.name for formula in request.grids.make}
    own = [name for field, name, _ in request.grids.by_grid if field == "combine"]
    own = [name for name in own if name not in made]
    if own and request.grids.make_on == STEP:
        raise combined_alone(own[0])
    if request.grids.make_on == CELL and request.time.rule.kind != "step":
        found = {name: period_grid(source, request, name) for name, source in found.items()}
    for formula in request.grids.make:
        if formula.name in found:
            raise RequestError("make", f"there is a grid {formula.name} already", "rename it")
        missing = sorted(formula.term.names() - found.keys())
        if missing:
            raise RequestError(
                "make",
                f"'{formula.text}': there is no grid {missing[0]}",
                f"there is: {', '.join(found)}; name one as {missing[0]}=PATH",
            )
        aligned = align({n: s for n, s in found.items() if n in formula.term.names()})
        if aligned.left_out:
            report.warn(
                f"{formula.name}: {aligned.left_out} steps are left out, since not all of "
                f"{', '.join(aligned.sources)} have them"
            )
        said = [v for f, name, v in request.grids.by_grid if (f, name) == ("kind", formula.name)]
        derived = DerivedGrid(formula, aligned, said[0] if said else "")
        report.note(f"{formula.text}: in {derived.variable.unit or 'no unit'}")
        found[formula.name] = derived
    return found


def period_grid(source: GridSource, request: Request, name: str) -> GridSource:
    """The values of periods of a grid; one without time stays as it is."""
    if source.time is None:
        return source
    request = for_grid(request, name)
    if request.time.combine.running or request.time.combine.degree_days is not None:
        raise RequestError(
            "combine",
            f"{request.time.combine} makes no values of periods that a formula could be of",
            "use total, mean, min or max, or ‹make_on step›",
        )
    what = as_asked(quantity(source.variable, where(source)), request.time.combine.how)
    combine = choose_combine(request.time, what, source)
    periods = periods_of(request.time.rule, source.time)
    assignment = assign(source, periods, combine)
    step_weights = step_weights_of(source.time, what, periods, assignment, None)
    time = TimeAxis(periods.start, periods.end, periods.calendar, PERIOD, f"{name} {combine}")
    variable = replace(
        source.variable,
        unit=total_unit_of(what, combine),
        kind=AMOUNT if combine == TOTAL else STATE,
        kind_evidence=f"{combine} of {name}",
    )
    reducer = CellReducer(step_weights, rules_of(request, combine, what))
    return PeriodGrid(source, reducer, time, variable)


def regional(source: GridSource, index: OverlayIndex) -> tuple[GridSource, OverlayIndex]:
    """A grid made with functions of regions on entries of the overlay; any other as it is.

    Parameters
    ----------
    index
        The overlay with all weights.
    """
    if not isinstance(source, DerivedGrid) or not source.formula.term.calls():
        return source, index
    shared = index.overlay
    entries = by_entries(shared)
    areas = None if index.cell_area is None else index.cell_area[shared.index]
    extra = None if index.extra is None else index.extra[shared.index]
    own = OverlayIndex(entries, areas, extra, index.extra_is_count)
    return RegionalGrid(source, shared, own), own


def regional_cells(source: GridSource, request: Request, report: Reporter) -> GridSource:
    """A grid made with functions of regions, or of the whole grid, on its own cells."""
    if not isinstance(source, DerivedGrid) or not source.formula.term.calls():
        return source
    if not request.regions.regions:
        shared = _whole_grid(source.layout)
    else:
        regions = open_regions(request.regions, report)
        shared = overlay_of(regions.regions, source.layout, "cell", request.run.jobs)
        if np.bincount(shared.index).max(initial=0) > 1:
            raise RequestError(
                "make",
                "functions of regions have two values in cells that two regions share",
                "leave ‹regions› out, so that they are of the whole grid, or use ‹only›",
            )
    return RegionalCells(source, shared, OverlayIndex(by_entries(shared)))


def _whole_grid(layout: GridLayout) -> Overlay:
    """All cells of a grid as one region."""
    cells = np.arange(layout.shape[0] * layout.shape[1])
    if layout.is_lonlat and not layout.has_corners:
        rows, columns = layout.sphere_areas()
        areas = (rows[:, None] * columns).ravel()
    else:
        areas = layout.ellipsoid_areas(cells)
    ends = np.array([0, cells.size])
    index, fraction = cells.astype(np.int32), np.ones(cells.size)
    return Overlay(layout.shape, cells, ends, index, fraction, areas, np.array([areas.sum()]))
