"""What is refused before the first value is read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from bavlo.core.stats.measures import SHARES, Measure
from bavlo.core.time.assignment import Assignment
from bavlo.core.time.axis import DAY, TimeAxis
from bavlo.core.time.periods import PeriodAxis, PeriodRule, periods_between
from bavlo.core.values.combine import TOTAL
from bavlo.core.values.kinds import CLASS, NOT_TOLD, Quantity, codes_text, total_unit_of
from bavlo.core.values.units import convert, known_unit
from bavlo.errors import RequestError
from bavlo.grids.source import GridSource, ReadOptions, where
from bavlo.request.parse import WMO
from bavlo.request.request import Request, TimeRequest


def check_measures(
    measures: tuple[Measure, ...], what: Quantity, combine: str, source: GridSource
) -> None:
    """Refuse measures that make no sense for what the grid holds."""
    held = f"{source.variable.name} ({what.kind}{f', {what.unit}' if what.unit else ''})"
    for measure in measures:
        if what.kind == NOT_TOLD and not what.unit and not measure.of_classes:
            raise RequestError(where(source), *codes_text(source.variable))
        if what.kind == CLASS and not measure.of_classes:
            raise RequestError(
                "measure",
                f"{measure.name} of class codes means nothing, and {held} holds codes",
                "use majority or shares",
            )
        refusal = measure.refusal(what, held, combine)
        if refusal is not None:
            raise RequestError("measure", *refusal)


def check_classes(measures: tuple[Measure, ...], assignment: Assignment) -> None:
    """Class codes are never combined over time, and shares have a table of their own."""
    if not any(m.of_classes and not m.linear for m in measures):
        return
    if np.bincount(assignment.period).max(initial=0) > 1:
        raise RequestError("every", "class codes are not combined over time", "use ‹every step›")
    if len(measures) > 1 and any(m.name == SHARES for m in measures):
        raise RequestError("measure", "shares make a table of their own", "ask for them alone")


def check_unit(unit: str | None, what: Quantity, combine: str) -> None:
    """Refuse an output unit that the values cannot be converted to, before any work is done."""
    if unit is not None:
        known_unit(unit, "unit")
        convert(np.zeros(1), total_unit_of(what, combine), unit, difference=False)


def check_complete(request: TimeRequest, time: TimeAxis) -> None:
    """The rule of WMO-No. 1203 is about months that are made of days."""
    if request.min_steps != WMO:
        return
    if request.rule.kind != "month" or not time.at_most_daily:
        raise RequestError(
            "min_steps",
            "the WMO rule is about months made of days",
            "use ‹every month› on daily grids, or a share",
        )


def check_place(request: Request, measures: Sequence[Measure]) -> None:
    """Only the lowest and highest cell of a period's values has a place."""
    asked = request.measuring
    if not asked.place:
        return
    odd = [m.name for m in measures if m.name not in ("min", "max")]
    if odd:
        raise RequestError("place", f"is of min and max, not of {odd[0]}", "choose ‹measure max›")
    if asked.order == "region":
        raise RequestError(
            "place", "is not of values that are measured step by step", "use ‹order cell›"
        )
    if max(request.time.window) > 1 or request.time.combine.running:
        raise RequestError("place", "is not of windows and running values", "leave one out")


def check_moving(request: Request, measures: tuple[Measure, ...]) -> None:
    """Windows and running values are made of the regions' own values, which only suits some."""
    window, running = request.time.window, request.time.combine.running
    if window == (1,) and not running:
        return
    if len(window) > 1 and request.command == "series":
        raise RequestError("window", "a series has one window", "give one number")
    if running and window != (1,):
        raise RequestError("combine", "running and ‹window› do not go together", "use one")
    odd = [m.name for m in measures if not m.linear]
    if odd and request.measuring.order != "region":
        raise RequestError(
            "combine" if running else "window",
            f"{odd[0]} of a longer time is not made of those of its parts",
            "use ‹order region›, which moves over the region's own values",
        )


def check_percent(product: str, combine: str, what: Quantity) -> None:
    """Percent of normal is for totals: the zero of most other numbers is a convention."""
    from bavlo.core.stats.normals import PERCENT

    if product == PERCENT and combine != TOTAL:
        of = f"{combine}s of a {what.kind}" + (f" in {what.unit}" if what.unit else "")
        raise RequestError("product", f"{of} have no percent of normal", "use anomaly or score")


def check_length(time: TimeAxis, periods: PeriodAxis, every: str) -> None:
    """A period shorter than the steps is an error: days are never made from monthly totals."""
    if len(periods) and len(time):
        period = np.median(periods.end - periods.start)
        step = np.median(time.duration)
        if period < 0.9 * step:
            raise RequestError(
                "every",
                f"{every} is shorter than the steps of the grid ({time.step_name})",
                f"use ‹every {_kind_as_long_as(time, step)}› or longer",
            )


def _kind_as_long_as(time: TimeAxis, step: float) -> str:
    """The shortest kind of period with a name that is no shorter than a step."""
    first = int(time.start[0])
    for kind in ("day", "pentad", "dekad", "month", "season", "year"):
        axis = periods_between(PeriodRule(kind), time.calendar, first, first + 800 * DAY)
        if np.median(axis.end - axis.start) >= 0.9 * step:
            return kind
    return "all"


# What shows that an option of reading changed something of a grid, and why it did not.
USES: dict[str, tuple[Callable[[GridSource], bool], str]] = {
    "dates": (
        lambda source: any(
            file.is_raster or (file.times is not None and file.times.from_name)
            for file in source.files
        ),
        "has a time axis of its own or is no raster, so no date is read from its name",
    ),
    "level": (
        lambda source: bool(source.variable.level),
        "has no further dimension of more than one value",
    ),
    "input_crs": (
        lambda source: any(file.is_raster for file in source.files),
        "is no raster, and tells its reference system itself",
    ),
    **{
        name: (lambda source: source.time is not None, "has no time axis")
        for name in ("stamp", "day_start", "utc_offset")
    },
}


def check_of_use(request: Request, sources: Mapping[str, GridSource]) -> None:
    """Refuse what is said of how grids are read where it changes nothing of any of them.

    Raises
    ------
    RequestError
    """
    usual = ReadOptions()
    for field, (is_used, why) in USES.items():
        named = [name for own, name, _ in request.grids.by_grid if own == field]
        of_all = getattr(request.grids.reading, field) != getattr(usual, field)
        for names in ([name] for name in named):
            _check_of_any(field, why, is_used, {n: sources[n] for n in names if n in sources})
        if of_all:
            _check_of_any(field, why, is_used, sources)


def _check_of_any(
    field: str, why: str, is_used: Callable[[GridSource], bool], sources: Mapping[str, GridSource]
) -> None:
    if sources and not any(is_used(source) for source in sources.values()):
        first = next(iter(sources.values()))
        raise RequestError(field, f"changes nothing: {where(first)} {why}", "leave it out")
