"""A job: everything that is settled before the first value is read."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from bavlo.core.errors import InputError, RequestError
from bavlo.core.layout import CurvilinearLayout, GridLayout
from bavlo.core.measures import Measure, OverlayIndex, parse_measure
from bavlo.core.overlay import Overlay
from bavlo.core.periods import (
    Fold,
    PeriodAxis,
    fold,
    periods_between,
    refuse_finer_than_steps,
    static_period,
    step_periods,
)
from bavlo.core.points import point_overlay
from bavlo.core.projection import edges_on_grid, overlay_on_grid
from bavlo.core.reductions import (
    MEAN,
    TOTAL,
    CellFirst,
    Reduction,
    RegionFirst,
    Rules,
    StepFolding,
)
from bavlo.core.regions import Regions
from bavlo.core.timeaxis import DAY, STATIC, TimeAxis, iso_day
from bavlo.core.units import (
    AMOUNT,
    CLASS,
    COUNT,
    RATE,
    STATE,
    Quantity,
    Variable,
    as_amount,
    convert,
    quantity,
    read_unit,
    step_amounts,
    suggested_unit,
)
from bavlo.core.zones import Zones, brought_onto, zone_overlay
from bavlo.formats.grids import open_grid
from bavlo.formats.grids.source import CellSelection, GridSource, where, whole
from bavlo.formats.regions import RegionFile, read_regions
from bavlo.study.listener import Listener
from bavlo.study.request import SHARES, Request, expand

ALONE = ("majority", SHARES)  # class codes, measured step by step


@dataclass(frozen=True, eq=False)
class Pass:
    """Measures that share an order, and where they stand among all measures."""

    order: str
    measures: tuple[Measure, ...]
    place: np.ndarray
    reduction: Reduction


@dataclass(frozen=True, eq=False)
class Job:
    """A request with its files opened and its choices made.

    Parameters
    ----------
    source, time
        The grid and its steps.
    what
        What kind of number the grid holds.
    regions
        As read, labelled and repaired.
    overlay, index, cells
        Shared areas, the same arranged for measuring, and the cells that are read.
    combine
        How steps become a period.
    periods
        Those that are reported.
    left_out
        Labels of periods that --during cuts.
    folding
        How steps fall into periods.
    measures, passes
        In the order asked for, and by the order of measuring and combining.
    """

    request: Request
    source: GridSource
    time: TimeAxis
    what: Quantity
    regions: RegionFile
    overlay: Overlay
    index: OverlayIndex
    cells: CellSelection
    combine: str
    periods: PeriodAxis
    left_out: tuple[str, ...]
    folding: StepFolding
    measures: tuple[Measure, ...]
    passes: tuple[Pass, ...]

    @property
    def orders(self) -> list[str]:
        """The order of each measure."""
        orders = {int(i): each.order for each in self.passes for i in each.place}
        return [orders[n] for n in range(len(self.measures))]


def prepare(request: Request, listener: Listener) -> Job:
    """Open the files, overlay regions and grid, and settle periods and rules."""
    source, what = _open(request, listener)
    time = source.time or STATIC
    regions = _regions(request, listener)
    shared = overlay_of(regions.regions, source.layout, request.at_points)
    _check_overlap(source, regions, shared, listener)

    measures = tuple(parse_measure(name) for name in request.measures)
    combine = _combine(request, what, source)
    check_measures(measures, what, combine, source)
    periods, left_out = _periods(request, time, where(source), is_static=source.time is None)
    check_unit(request, what, combine)
    folded = fold(time, periods, may_share=combine in (TOTAL, MEAN))
    _refuse_mixed_classes(measures, folded, request)
    folding = _folding(time, what, periods, folded)
    extra, is_count = _weights(request, source, shared, listener)
    areas = None
    if any(measure.name == "volume" for measure in measures):
        areas = source.layout.ellipsoid_areas(shared.cells)
    index = OverlayIndex(shared, areas, extra, is_count)
    return Job(
        request,
        source,
        time,
        what,
        regions,
        shared,
        index,
        CellSelection(shared.shape, shared.cells),
        combine,
        periods,
        tuple(left_out),
        folding,
        measures,
        _passes(request, measures, index, folding, combine),
    )


def overlay_of(regions: Regions | Zones, layout: GridLayout, at_points: str) -> Overlay:
    """Shared areas of polygons, points or zones and the cells of a grid."""
    if isinstance(regions, Zones):
        return zone_overlay(regions, layout)
    if regions.are_points:
        return point_overlay(regions, layout, at_points)
    return overlay_on_grid(regions, layout)


def check_measures(
    measures: tuple[Measure, ...], what: Quantity, combine: str, source: GridSource
) -> None:
    """Refuse measures that make no sense for what the grid holds."""
    held = f"{source.variable.name} ({what.kind}{f', {what.unit}' if what.unit else ''})"
    for measure in measures:
        if what.kind == CLASS and measure.name not in ("majority", "count", SHARES):
            raise RequestError(
                "--measure",
                f"{measure.name} of class codes means nothing, and {held} holds codes",
                "use majority or shares",
            )
        if measure.name == "sum" and (
            what.kind in (AMOUNT, RATE) or (what.kind == STATE and what.unit not in ("", "1"))
        ):
            raise RequestError(
                "--measure",
                f"the sum over cells of {held} depends on the size of the cells",
                "use volume for depths of water and mean for states",
            )
        if measure.name == "volume" and (what.kind not in (AMOUNT, RATE) or combine == MEAN):
            raise RequestError(
                "--measure", f"volume needs depths of water, not {held}", "use mean or sum"
            )
        if measure.name == "cv" and what.kind == STATE and _is_temperature(what.unit):
            raise RequestError(
                "--measure",
                "the zero of a temperature is a convention, so its cv means nothing",
                "use std",
            )


def _is_temperature(unit: str) -> bool:
    return bool(unit) and bool(read_unit(unit, "").is_convertible("K"))


def _refuse_mixed_classes(measures: tuple[Measure, ...], folded: Fold, request: Request) -> None:
    """Class codes are never combined over time."""
    if any(m.name in ("majority", SHARES) for m in measures):
        if np.bincount(folded.period).max(initial=0) > 1:
            raise RequestError(
                "--every", "class codes are not combined over time", "use --every step"
            )
        if len(measures) > 1 and any(m.name == SHARES for m in measures):
            raise RequestError(
                "--measure", "shares make a table of their own", "ask for them alone"
            )


def _weights(
    request: Request, source: GridSource, shared: Overlay, listener: Listener
) -> tuple[np.ndarray | None, bool]:
    """The further weight of each used cell, and whether it is a count per cell."""
    if request.weight is None:
        return None, False
    weights = open_grid(expand(str(request.weight)))
    if weights.time is not None and len(weights.time) > 1:
        raise InputError(request.weight, "has several steps", "give a grid without time")
    values = weights.read(0, 1, whole(weights.layout.shape))[0].reshape(weights.layout.shape)
    if np.nanmin(values, initial=0) < 0:
        raise InputError(request.weight, "has values below 0", "weights are 0 or more")
    kind = request.weight_kind or _weight_kind(weights)
    listener.note(f"weights from {request.weight}: {weights.variable.name}, a {kind}")
    if not weights.layout.same_cells(source.layout):
        values = brought_onto(values, weights.layout, source.layout, total=kind == "count")
        listener.note(f"{request.weight}: brought onto the cells of the grid, keeping its total")
    extra = np.nan_to_num(values.ravel()[shared.cells])
    if not extra.any():
        raise InputError(request.weight, "is 0 or missing in all regions", "check the file")
    return extra, kind == "count"


def _weight_kind(weights: GridSource) -> str:
    unit = weights.variable.unit
    if quantity(weights.variable, where(weights)).kind == COUNT:
        return "count"
    if unit in ("1", "%") or re.search(r"(km|m)\s*(\^|\*\*)?-?2|/\s*(km|m)2|per", unit):
        return "density"
    raise InputError(
        where(weights),
        f"does not tell whether it is a count per cell or a density (unit '{unit}')",
        "say so with --weight-kind",
    )


def _open(request: Request, listener: Listener) -> tuple[GridSource, Quantity]:
    if len(request.grids) > 1:
        names = ", ".join(str(g.name or g.paths[0]) for g in request.grids)
        raise RequestError("", f"several grids were given: {names}", "give one grid at a time")
    argument = request.grids[0]
    source = open_grid(argument.paths, request.reading)
    for text in source.notes:
        listener.note(text)
    what = quantity(source.variable, where(source))
    if request.combine == TOTAL:
        what = as_amount(what)
    if not source.variable.unit and what.kind == STATE and request.measures != (SHARES,):
        listener.warn(f"{where(source)}: {no_unit_text(source.variable)}")
    if source.time is None:
        listener.note(f"{source.variable.name}: no time axis; {what.kind} ({what.why})")
        return source, what
    listener.note(
        f"{source.variable.name}: {len(source.time)} steps of a {source.time.step_name}, "
        f"{iso_day(int(source.time.start[0]), source.time.calendar)}.."
        f"{iso_day(int(source.time.end[-1]) - 1, source.time.calendar)} ({source.time.how}); "
        f"{what.kind} ({what.why})"
    )
    gaps = source.time.gaps()
    if gaps.size:
        first = int(gaps[0])
        listener.warn(
            f"{where(source)}: {gaps.size} gap(s) in time, the first between "
            f"{iso_day(int(source.time.end[first - 1]) - 1, source.time.calendar)} and "
            f"{iso_day(int(source.time.start[first]), source.time.calendar)}"
        )
    return source, what


def no_unit_text(variable: Variable) -> str:
    """What to say of a variable without unit: nothing is guessed."""
    text = f"{variable.name} has no unit and is taken as a state"
    suggested = suggested_unit(variable)
    if suggested:
        text += f"; its name suggests {suggested}: say so with --input-unit"
    return text


def _regions(request: Request, listener: Listener) -> RegionFile:
    if request.regions is None:
        raise RequestError("--regions", "no regions were given", "name a file of regions")
    found = read_regions(request.regions, request.region_reading)
    for text in found.notes:
        listener.warn(text)
    for text in found.repairs:
        listener.warn(f"{found.path.name}: {text}")
    listener.note(f"{found.path.name}: {len(found.regions)} regions, named by '{found.label}'")
    return found


def _check_overlap(
    source: GridSource, region_file: RegionFile, shared: Overlay, listener: Listener
) -> None:
    inside = shared.entries > 0
    if not inside.any():
        raise InputError(
            region_file.path,
            f"no region lies on the grid: the grid covers {extent_text(source.layout.extent)}, "
            f"the regions {_regions_extent(region_file, source)}",
            "check the files, or the reference system of the regions",
        )
    outside = [region_file.regions.labels[i] for i in np.flatnonzero(~inside)]
    if outside:
        listener.warn(
            f"{region_file.path.name}: {len(outside)} region(s) outside the grid have no values: "
            f"{some_of(outside)}"
        )
    partly = np.flatnonzero(inside & (shared.outside() > 1e-6))
    if partly.size:
        names = [region_file.regions.labels[i] for i in partly]
        listener.warn(
            f"{region_file.path.name}: {partly.size} region(s) lie partly outside the grid, which "
            f"lowers their area_valid: {some_of(names)}"
        )


def extent_text(extent: tuple[float, float, float, float]) -> str:
    """A box in words: x and y from..to."""
    west, south, east, north = extent
    return f"{west:.6g}..{east:.6g} by {south:.6g}..{north:.6g}"


def _regions_extent(region_file: RegionFile, source: GridSource) -> str:
    regions = region_file.regions
    if isinstance(regions, Zones):
        return extent_text(regions.layout.extent)
    if regions.are_points or isinstance(source.layout, CurvilinearLayout):
        return extent_text(tuple(shapely.total_bounds(regions.geometry).tolist()))
    edges = edges_on_grid(regions, source.layout)
    return extent_text(
        (
            float(min(edges.x0.min(), edges.x1.min())),
            float(min(edges.y0.min(), edges.y1.min())),
            float(max(edges.x0.max(), edges.x1.max())),
            float(max(edges.y0.max(), edges.y1.max())),
        )
    )


def some_of(names: Sequence[str], most: int = 5) -> str:
    """The first few names, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def unit_of(what: Quantity, combine: str) -> str:
    """The unit that combined values come in."""
    return what.total_unit if combine == TOTAL else what.unit


def check_unit(request: Request, what: Quantity, combine: str) -> None:
    """Refuse an output unit that the values cannot be converted to, before any work is done."""
    if request.unit is not None:
        convert(np.zeros(1), unit_of(what, combine), request.unit, difference=False)


def _combine(request: Request, what: Quantity, source: GridSource) -> str:
    if source.time is None:  # one step, so that every way to combine gives the step itself
        return MEAN
    combine = request.combine or (TOTAL if what.kind in (AMOUNT, RATE) else MEAN)
    if combine == TOTAL and what.kind not in (AMOUNT, RATE):
        of = f"a state in {what.unit}" if what.unit else "a variable without unit"
        raise RequestError("--combine", f"{of} has no total over time", "use mean, min or max")
    return combine


def _periods(
    request: Request, time: TimeAxis, files: str, *, is_static: bool
) -> tuple[PeriodAxis, list[str]]:
    """The reported periods, and the labels of those that --during cuts."""
    if is_static:
        if request.during is not None:
            raise RequestError("--during", f"{files} has no time axis", "leave it out")
        if request.every is not None:
            raise RequestError("--every", f"{files} has no time axis", "leave it out")
        return static_period(time), []
    first, last = int(time.start[0]), int(time.end[-1])
    wanted = (first, last)
    if request.during is not None:
        wanted = request.during.instants(time.calendar)
        if wanted[1] <= first or wanted[0] >= last:
            raise RequestError(
                "--during",
                f"{request.during} is outside the data",
                f"{files} has {iso_day(first, time.calendar)}..{iso_day(last - 1, time.calendar)}",
            )
    if request.rule.kind == "all":
        first, last = max(first, wanted[0]), min(last, wanted[1])
    if request.rule.kind == "step":
        periods = step_periods(time)
    else:
        periods = periods_between(request.rule, time.calendar, first, last)
    refuse_finer_than_steps(time, periods, request.every or "month")
    if request.during is None:
        return periods, []
    inside = (periods.start >= wanted[0]) & (periods.end <= wanted[1])
    overlaps = (periods.start < wanted[1]) & (periods.end > wanted[0])
    left_out = [periods.labels[i] for i in np.flatnonzero(overlaps & ~inside)]
    kept = periods.take(np.flatnonzero(inside))
    if not len(kept):
        raise RequestError(
            "--during",
            f"{request.during} holds no whole period of --every {request.every or 'month'}",
            "widen it or use a shorter period",
        )
    return kept, left_out


def _folding(time: TimeAxis, what: Quantity, periods: PeriodAxis, folded: Fold) -> StepFolding:
    days = time.duration / DAY
    # The mean of amounts is the mean amount of a step; of all else the mean over time.
    weight = np.ones(len(time)) if what.kind == AMOUNT else days
    return StepFolding(
        folded, step_amounts(what, time), weight, days, (periods.end - periods.start) / DAY
    )


def _passes(
    request: Request,
    measures: tuple[Measure, ...],
    index: OverlayIndex,
    folding: StepFolding,
    combine: str,
) -> tuple[Pass, ...]:
    orders = [
        request.order or ("region" if m.linear or m.name in ALONE else "cell") for m in measures
    ]
    rules = Rules(combine, request.min_steps, request.min_area)
    passes = []
    for order, make in (("region", RegionFirst), ("cell", CellFirst)):
        place = np.flatnonzero([o == order for o in orders])
        if place.size:
            chosen = tuple(measures[i] for i in place)
            passes.append(Pass(order, chosen, place, make(index, folding, chosen, rules)))
    return tuple(passes)
