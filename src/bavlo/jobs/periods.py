"""The periods of a request, and how steps become their values."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.reduce.period_state import Rules, StepWeights
from bavlo.core.time.assignment import Assignment, assign_steps
from bavlo.core.time.axis import DAY, PERIOD, STATIC, TimeAxis, iso_day
from bavlo.core.time.periods import (
    PeriodAxis,
    PeriodRule,
    periods_between,
    same_span,
    static_period,
    step_periods,
)
from bavlo.core.values.combine import MEAN, TOTAL, DegreeDays, Degrees
from bavlo.core.values.kinds import AMOUNT, RATE, Quantity, check_told, step_amounts
from bavlo.errors import RequestError, setting
from bavlo.grids.source import GridSource, where
from bavlo.jobs.rules import check_length
from bavlo.request.parse import WMO
from bavlo.request.request import Request, TimeRequest

WMO_MISSING = (10.0, 4.0)  # days of a month, and in a row (WMO-No. 1203, §4.4.1)


FAR_YEARS = 200
FAR = FAR_YEARS * 365 * DAY + FAR_YEARS // 4 * DAY  # between two steps of one record


@dataclass(frozen=True, eq=False)
class Periods:
    """The periods that a request is about.

    Parameters
    ----------
    axis
        Those that are computed.
    left_out
        Labels of those that `during` cuts.
    lead
        How many at the beginning are only there for windows and running values.
    """

    axis: PeriodAxis
    left_out: tuple[str, ...] = ()
    lead: int = 0


def choose_combine(request: TimeRequest, what: Quantity, source: GridSource) -> str:
    """How steps become a period: as asked for, else as suits the quantity."""
    # One step or one step a period: every way to combine gives the step itself.
    if source.time is None or source.time.length == PERIOD:
        return TOTAL if what.kind == AMOUNT else MEAN
    if request.combine.degree_days is not None:
        return TOTAL
    if request.rule.kind != "step":
        check_told(what, source.variable, where(source))
    combine = request.combine.how or (TOTAL if what.kind in (AMOUNT, RATE) else MEAN)
    if combine == TOTAL and what.kind not in (AMOUNT, RATE):
        of = f"a state in {what.unit}" if what.unit else "a variable without unit"
        raise RequestError("combine", f"{of} has no total over time", "use mean, min or max")
    return combine


def _check_together(time: TimeAxis, files: str) -> None:
    """Refuse steps of which some lie centuries from the others, which no period should fill."""
    apart = np.diff(time.start)
    far = np.flatnonzero(apart > FAR)
    if far.size:
        before, after = (iso_day(int(time.start[n]), time.calendar) for n in (far[0], far[0] + 1))
        years = int(apart[far[0]] // (FAR // FAR_YEARS))
        raise RequestError(
            "during",
            f"{files}: no step lies between {before} and {after}, {years} years later",
            "check its dates, or say which range is meant",
        )


def choose_periods(request: TimeRequest, time: TimeAxis | None, files: str) -> Periods:
    """The periods of a request on the steps of a grid.

    Parameters
    ----------
    time
        None for a grid without time.
    files
        The files of the grid, for messages.

    Raises
    ------
    RequestError
        Where periods are asked of a grid without time, are shorter than its steps, or none is
        within `during`.
    """
    if time is None:
        for field, value in (("during", request.during), ("every", request.every or None)):
            if value is not None:
                raise RequestError(field, f"{files} has no time axis", "leave it out")
        return Periods(static_period(STATIC))
    wanted = _wanted(request, time, files)
    if request.during is None:
        _check_together(time, files)
    longer = None
    if request.combine.running:
        longer = periods_of(request.rule, time)
        check_length(time, longer, request.every_text)
        request = replace(request, every=("step",))
    periods = _all_periods(request, time, wanted)
    check_length(time, periods, request.every_text)
    if request.during is None:
        return Periods(periods)
    inside = (periods.start >= wanted[0]) & (periods.end <= wanted[1])
    overlaps = (periods.start < wanted[1]) & (periods.end > wanted[0])
    if not inside.any():
        raise RequestError(
            "during",
            f"{request.during} holds no whole period of {setting('every', request.every_text)}",
            "widen it or use a shorter period",
        )
    kept = np.flatnonzero(inside)
    first = int(kept[0])
    needed = max(first - request.window[0] + 1, 0)
    if longer is not None:
        holds = int(np.searchsorted(longer.start, periods.start[first], side="right")) - 1
        needed = int(np.searchsorted(periods.start, longer.start[holds]))
    needed = min(needed, first)
    left_out = tuple(periods.labels[i] for i in np.flatnonzero(overlaps & ~inside))
    return Periods(periods.take(np.arange(needed, kept[-1] + 1)), left_out, first - needed)


def _wanted(request: TimeRequest, time: TimeAxis, files: str) -> tuple[int, int]:
    """First instant of what is reported, and the first after it."""
    first, last = int(time.start[0]), int(time.end[-1])
    if request.during is None:
        return first, last
    wanted = request.during.instants(time.calendar)
    if wanted[1] <= first or wanted[0] >= last:
        raise RequestError(
            "during",
            f"{request.during} is outside the data",
            f"{files} has {iso_day(first, time.calendar)}..{iso_day(last - 1, time.calendar)}",
        )
    return wanted


def _all_periods(request: TimeRequest, time: TimeAxis, wanted: tuple[int, int]) -> PeriodAxis:
    """All periods of the data; of the kind `all` the one within what is wanted."""
    rule = request.rule
    first, last = int(time.start[0]), int(time.end[-1])
    if rule.kind == "step":
        return step_periods(time)
    if rule.kind == "all":
        first, last = max(first, wanted[0]), min(last, wanted[1])
    periods = periods_between(rule, time.calendar, first, last)
    return same_span(periods, last) if request.same_span else periods


def periods_of(rule: PeriodRule, time: TimeAxis) -> PeriodAxis:
    """All periods of the data."""
    if rule.kind == "step":
        return step_periods(time)
    return periods_between(rule, time.calendar, int(time.start[0]), int(time.end[-1]))


def reported_periods(request: TimeRequest, periods: PeriodAxis) -> np.ndarray:
    """Positions of the periods that lie within `during`."""
    if request.during is None:
        return np.arange(len(periods))
    first, last = request.during.instants(periods.calendar)
    inside = np.flatnonzero((periods.start >= first) & (periods.end <= last))
    if not inside.size:
        raise RequestError(
            "during",
            f"{request.during} holds no whole period of the data",
            f"the data have {periods.labels[0]}..{periods.labels[-1]}",
        )
    return inside


def assign(source: GridSource, periods: PeriodAxis, combine: str) -> Assignment:
    """Which steps belong to which periods."""
    return assign_steps(source.time or STATIC, periods, may_share=combine in (TOTAL, MEAN))


def step_weights_of(
    time: TimeAxis,
    what: Quantity,
    periods: PeriodAxis,
    assignment: Assignment,
    degree_days: DegreeDays | None,
) -> StepWeights:
    """What each step weighs in its period."""
    days = time.duration / DAY
    length = (periods.end - periods.start) / DAY
    begins = time.start / DAY, periods.start / DAY
    if degree_days is not None:
        return StepWeights(assignment, days, days, days, length, *begins)
    # The mean of amounts is the mean amount of a step; of all else the mean over time.
    weight = np.ones(len(time)) if what.kind == AMOUNT else days
    return StepWeights(assignment, step_amounts(what, time), weight, days, length, *begins)


def rules_of(request: Request, combine: str, what: Quantity, *, any_area: bool = False) -> Rules:
    """How steps are combined, and how much must have data.

    Parameters
    ----------
    any_area
        Steps count with any share of the area, since whether it is enough is judged at the end.
    """
    asked = request.time.combine.degree_days
    wmo = request.time.min_steps == WMO and combine == MEAN
    return Rules(
        combine,
        request.time.least_share,
        0.0 if any_area else request.measuring.least_area,
        None if asked is None else Degrees(asked, what.unit),
        WMO_MISSING if wmo else None,
        request.measuring.place,
    )
