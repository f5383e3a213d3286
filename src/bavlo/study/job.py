"""A job: everything that is settled before the first value is read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.errors import InputError, RequestError
from bavlo.core.measures import Measure, OverlayIndex, parse_measure
from bavlo.core.overlay import Overlay
from bavlo.core.periods import (
    Fold,
    PeriodAxis,
    fold,
    periods_between,
    refuse_finer_than_steps,
    step_periods,
)
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
from bavlo.core.timeaxis import DAY, TimeAxis, iso_day
from bavlo.core.units import AMOUNT, STATE, Quantity, convert, quantity, step_amounts
from bavlo.formats.grids import open_grid
from bavlo.formats.grids.source import CellSelection, GridSource, where
from bavlo.formats.regions import RegionFile, read_regions
from bavlo.study.listener import Listener
from bavlo.study.request import Request


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
    overlay, cells
        Shared areas, and the cells that are read.
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
    assert source.time is not None
    regions = _regions(request, listener)
    shared = overlay_on_grid(regions.regions, source.layout)
    _check_overlap(source, regions, shared, listener)

    combine = _combine(request, what)
    periods, left_out = _periods(request, source.time, where(source))
    check_unit(request, what, combine)
    folded = fold(source.time, periods, may_share=combine in (TOTAL, MEAN))
    folding = _folding(source.time, what, periods, folded)
    measures = tuple(parse_measure(name) for name in request.measures)
    return Job(
        request,
        source,
        source.time,
        what,
        regions,
        shared,
        CellSelection(shared.shape, shared.cells),
        combine,
        periods,
        tuple(left_out),
        folding,
        measures,
        _passes(request, measures, OverlayIndex(shared), folding, combine),
    )


def _open(request: Request, listener: Listener) -> tuple[GridSource, Quantity]:
    if len(request.grids) > 1:
        names = ", ".join(str(g.name or g.paths[0]) for g in request.grids)
        raise RequestError("", f"several grids were given: {names}", "give one grid at a time")
    argument = request.grids[0]
    source = open_grid(argument.paths, request.reading)
    if source.time is None:
        raise InputError(where(source), "has no time axis", "a series needs one")
    for text in source.notes:
        listener.note(text)
    what = quantity(source.variable, where(source))
    if not source.variable.unit:
        listener.warn(f"{where(source)}: {source.variable.name} has no unit; taken as a state")
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


def _regions(request: Request, listener: Listener) -> RegionFile:
    if request.regions is None:
        raise RequestError("--regions", "no regions were given", "name a file of regions")
    found = read_regions(
        request.regions, layer=request.layer, label=request.label, only=request.only
    )
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
    edges = edges_on_grid(region_file.regions, source.layout)
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


def _combine(request: Request, what: Quantity) -> str:
    combine = request.combine or (MEAN if what.kind == STATE else TOTAL)
    if combine == TOTAL and what.kind == STATE:
        of = f"a state in {what.unit}" if what.unit else "a variable without unit"
        raise RequestError("--combine", f"{of} has no total over time", "use mean, min or max")
    return combine


def _periods(request: Request, time: TimeAxis, files: str) -> tuple[PeriodAxis, list[str]]:
    """The reported periods, and the labels of those that --during cuts."""
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
    refuse_finer_than_steps(time, periods, request.every)
    if request.during is None:
        return periods, []
    inside = (periods.start >= wanted[0]) & (periods.end <= wanted[1])
    overlaps = (periods.start < wanted[1]) & (periods.end > wanted[0])
    left_out = [periods.labels[i] for i in np.flatnonzero(overlaps & ~inside)]
    kept = periods.take(np.flatnonzero(inside))
    if not len(kept):
        raise RequestError(
            "--during",
            f"{request.during} holds no whole period of --every {request.every}",
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
    orders = [request.order or ("region" if m.linear else "cell") for m in measures]
    rules = Rules(combine, request.min_steps, request.min_area)
    passes = []
    for order, make in (("region", RegionFirst), ("cell", CellFirst)):
        place = np.flatnonzero([o == order for o in orders])
        if place.size:
            chosen = tuple(measures[i] for i in place)
            passes.append(Pass(order, chosen, place, make(index, folding, chosen, rules)))
    return tuple(passes)
