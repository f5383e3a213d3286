"""A job: everything that is settled before the first value is read."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import shapely

from bavlo.core.combine import MEAN, TOTAL, DegreeDays
from bavlo.core.errors import InputError, RequestError
from bavlo.core.layout import CurvilinearLayout, GridLayout
from bavlo.core.measures import Measure, OverlayIndex, parse_measure
from bavlo.core.overlay import Overlay
from bavlo.core.partials import Rules, StepFolding
from bavlo.core.periods import (
    Fold,
    PeriodAxis,
    PeriodRule,
    fold,
    periods_between,
    refuse_finer_than_steps,
    same_span,
    static_period,
    step_periods,
)
from bavlo.core.points import point_overlay
from bavlo.core.projection import edges_on_grid, overlay_on_grid
from bavlo.core.reductions import CellFirst, RegionFirst
from bavlo.core.regions import Regions
from bavlo.core.timeaxis import DAY, STATIC, TimeAxis, iso_day
from bavlo.core.units import (
    AMOUNT,
    CLASS,
    COUNT,
    RATE,
    STATE,
    Quantity,
    as_amount,
    convert,
    quantity,
    read_unit,
    step_amounts,
)
from bavlo.core.zones import Zones, brought_onto, zone_overlay
from bavlo.formats.grids import open_grid
from bavlo.formats.grids.source import CellSelection, GridSource, where, whole
from bavlo.formats.overlaycache import cached
from bavlo.formats.regions import RegionFile, read_regions
from bavlo.study.grids import open_one, tell
from bavlo.study.listener import Listener
from bavlo.study.request import SHARES, Request, expand

ALONE = ("majority", SHARES)  # class codes, measured step by step
WMO_MISSING = (10.0, 4.0)  # days of a month, and in a row (WMO-No. 1203, §4.4.1)


@dataclass(frozen=True, eq=False)
class Pass:
    """Measures that share an order, and where they stand among all measures."""

    order: str
    measures: tuple[Measure, ...]
    place: np.ndarray
    reduction: RegionFirst | CellFirst


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
    lead
        Periods at the beginning that windows and running values need and that are not reported.
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
    lead: int
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
    source, what = open_source(request, listener)
    time = source.time or STATIC
    regions = regions_of(request, listener)
    shared = overlay_of(regions.regions, source.layout, request.at_points)
    check_overlap(source, regions, shared, listener)

    measures = tuple(parse_measure(name) for name in request.measures)
    combine = choose_combine(request, what, source)
    check_measures(measures, what, combine, source)
    check_moving(request, measures)
    check_complete(request, time)
    periods, left_out, lead = choose_periods(
        request, time, where(source), is_static=source.time is None
    )
    check_unit(request, what, combine)
    folded = fold(time, periods, may_share=combine in (TOTAL, MEAN))
    _refuse_mixed_classes(measures, folded, request)
    folding = folding_of(time, what, periods, folded, request.combine.degree_days)
    extra, is_count = further_weights(request, source, shared, listener)
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
        lead,
        folding,
        measures,
        _passes(request, measures, index, folding, combine, what),
    )


def overlay_of(regions: Regions | Zones, layout: GridLayout, at_points: str) -> Overlay:
    """Shared areas of polygons, points or zones and the cells of a grid."""
    if isinstance(regions, Zones):
        return zone_overlay(regions, layout)
    if regions.are_points:
        return point_overlay(regions, layout, at_points)
    return cached(regions, layout, lambda: overlay_on_grid(regions, layout))


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
        if measure.name == "cv" and what.kind == STATE and is_temperature(what.unit):
            raise RequestError(
                "--measure",
                "the zero of a temperature is a convention, so its cv means nothing",
                "use std",
            )


def is_temperature(unit: str) -> bool:
    """Whether a unit is one of temperature."""
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


def further_weights(
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


def open_source(request: Request, listener: Listener) -> tuple[GridSource, Quantity]:
    """The grid of a request, and what kind of number it holds."""
    source = open_one(request, listener)
    what = quantity(source.variable, where(source))
    if request.combine.how == TOTAL:
        what = as_amount(what)
    if request.combine.degree_days is not None:
        what = _degree_days(what, request.combine.degree_days)
    tell(source, request, listener)
    return source, what


def _degree_days(what: Quantity, asked: DegreeDays) -> Quantity:
    """Temperatures whose degrees above or below a threshold are added up."""
    if what.kind != STATE or not is_temperature(what.unit):
        raise RequestError(
            "--combine", f"degree days are of temperatures, not {what.unit or 'no unit'}"
        )
    return replace(what, total_unit=asked.total_unit)


def regions_of(request: Request, listener: Listener) -> RegionFile:
    """The regions of a request, with what was repaired told."""
    if request.regions is None:
        raise RequestError("--regions", "no regions were given", "name a file of regions")
    found = read_regions(request.regions, request.region_reading)
    for text in found.notes:
        listener.warn(text)
    for text in found.repairs:
        listener.warn(f"{found.path.name}: {text}")
    listener.note(f"{found.path.name}: {len(found.regions)} regions, named by '{found.label}'")
    return found


def check_overlap(
    source: GridSource, region_file: RegionFile, shared: Overlay, listener: Listener
) -> None:
    """Refuse regions none of which lies on the grid; warn of those that do not or only partly."""
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


def choose_combine(request: Request, what: Quantity, source: GridSource) -> str:
    """How steps become a period: as asked for, else as suits the quantity."""
    if source.time is None:  # one step, so that every way to combine gives the step itself
        return MEAN
    if request.combine.degree_days is not None:
        return TOTAL
    combine = request.combine.how or (TOTAL if what.kind in (AMOUNT, RATE) else MEAN)
    if combine == TOTAL and what.kind not in (AMOUNT, RATE):
        of = f"a state in {what.unit}" if what.unit else "a variable without unit"
        raise RequestError("--combine", f"{of} has no total over time", "use mean, min or max")
    return combine


def choose_periods(
    request: Request, time: TimeAxis, files: str, *, is_static: bool
) -> tuple[PeriodAxis, list[str], int]:
    """The periods, the labels of those that --during cuts, and how many only lead up to them."""
    if is_static:
        if request.during is not None:
            raise RequestError("--during", f"{files} has no time axis", "leave it out")
        if request.every is not None:
            raise RequestError("--every", f"{files} has no time axis", "leave it out")
        return static_period(time), [], 0
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
    rule = request.rule
    if request.combine.running:
        refuse_finer_than_steps(time, periods_of(rule, time), request.every or "month")
        request = replace(request, rule=PeriodRule("step"), every="step")
    if request.rule.kind == "all":
        first, last = max(first, wanted[0]), min(last, wanted[1])
    if request.rule.kind == "step":
        periods = step_periods(time)
    else:
        periods = periods_between(request.rule, time.calendar, first, last)
    if request.same_span:
        periods = same_span(periods, last)
    refuse_finer_than_steps(time, periods, request.every or "month")
    if request.during is None:
        return periods, [], 0
    inside = (periods.start >= wanted[0]) & (periods.end <= wanted[1])
    overlaps = (periods.start < wanted[1]) & (periods.end > wanted[0])
    left_out = [periods.labels[i] for i in np.flatnonzero(overlaps & ~inside)]
    if not inside.any():
        raise RequestError(
            "--during",
            f"{request.during} holds no whole period of --every {request.every or 'month'}",
            "widen it or use a shorter period",
        )
    kept = np.flatnonzero(inside)
    first = int(kept[0])
    needed = max(first - request.windows[0] + 1, 0)
    if request.combine.running:
        around = periods_of(rule, time)
        holds = int(np.searchsorted(around.start, periods.start[first], side="right")) - 1
        needed = int(np.searchsorted(periods.start, around.start[holds]))
    needed = min(needed, first)
    return periods.take(np.arange(needed, kept[-1] + 1)), left_out, first - needed


def periods_of(rule: PeriodRule, time: TimeAxis) -> PeriodAxis:
    """All periods of the data."""
    first, last = int(time.start[0]), int(time.end[-1])
    if rule.kind == "step":
        return step_periods(time)
    return periods_between(rule, time.calendar, first, last)


def folding_of(
    time: TimeAxis,
    what: Quantity,
    periods: PeriodAxis,
    folded: Fold,
    degree_days: DegreeDays | None,
) -> StepFolding:
    """What each step weighs in its period."""
    days = time.duration / DAY
    length = (periods.end - periods.start) / DAY
    begins = time.start / DAY, periods.start / DAY
    if degree_days is not None:
        return StepFolding(folded, days, days, days, length, *begins)
    # The mean of amounts is the mean amount of a step; of all else the mean over time.
    weight = np.ones(len(time)) if what.kind == AMOUNT else days
    return StepFolding(folded, step_amounts(what, time), weight, days, length, *begins)


def _passes(
    request: Request,
    measures: tuple[Measure, ...],
    index: OverlayIndex,
    folding: StepFolding,
    combine: str,
    what: Quantity,
) -> tuple[Pass, ...]:
    orders = [
        request.order or ("region" if m.linear or m.name in ALONE else "cell") for m in measures
    ]
    rules = rules_of(request, combine, what)
    passes = []
    for order, make in (("region", RegionFirst), ("cell", CellFirst)):
        place = np.flatnonzero([o == order for o in orders])
        if place.size:
            chosen = tuple(measures[i] for i in place)
            passes.append(Pass(order, chosen, place, make(index, folding, chosen, rules)))
    return tuple(passes)


def rules_of(request: Request, combine: str, what: Quantity) -> Rules:
    """When a number is a number."""
    wmo = request.complete == "wmo" and combine == MEAN
    return Rules(
        combine,
        request.min_steps,
        request.min_area,
        _degrees(request.combine.degree_days, what),
        WMO_MISSING if wmo else None,
    )


def _degrees(asked: DegreeDays | None, what: Quantity) -> Callable[[np.ndarray], np.ndarray] | None:
    """From temperatures to degrees above or below the threshold."""
    if asked is None:
        return None

    def degrees(values: np.ndarray) -> np.ndarray:
        known = convert(values, what.unit, asked.unit, difference=False)
        away = known - asked.threshold if asked.above else asked.threshold - known
        return np.maximum(away, 0.0)  # NaN stays

    return degrees


def check_complete(request: Request, time: TimeAxis) -> None:
    """The rule of WMO-No. 1203 is about months that are made of days."""
    if request.complete is None:
        return
    if request.rule.kind != "month" or not time.at_most_daily:
        raise RequestError(
            "--complete",
            "the WMO rule is about months made of days",
            "use --every month on daily grids, or --min-steps",
        )
    if request.min_steps != 1.0:
        raise RequestError("--complete", "and --min-steps are two rules for one thing", "use one")


def check_moving(request: Request, measures: tuple[Measure, ...]) -> None:
    """Windows and running values are made of the regions' own values, which only suits some."""
    if request.windows == (1,) and not request.combine.running:
        return
    if len(request.windows) > 1 and request.command == "series":
        raise RequestError("--window", "a series has one window", "give one number")
    if request.combine.running and request.windows != (1,):
        raise RequestError("--combine running", "and --window do not go together", "use one")
    option = "--combine running" if request.combine.running else "--window"
    odd = [m.name for m in measures if not m.linear]
    if odd and request.order != "region":
        raise RequestError(
            option,
            f"{odd[0]} of a longer time is not made of those of its parts",
            "use --order region, which moves over the region's own values",
        )
