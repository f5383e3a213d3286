"""What time stamps stand for: from stamps and bounds to the steps of a grid."""

from __future__ import annotations

import numpy as np

from bavlo.core.time.axis import DAY, GREGORIAN, HOUR, TimeAxis, day_of, name_of_length, to_dates
from bavlo.core.time.periods import PeriodRule, periods_between

GREGORIAN_REFORM = 1582
BOUNDS_IN_FILE = "bounds in the file"
STAMPS = ("start", "middle", "end")

# What a calendar step is called, by the rule that makes its periods, with a typical length in days.
CALENDAR_STEPS = {
    "pentad": 5.07,
    "pentad73": 5.0,
    "composite8": 8.0,
    "dekad": 10.14,
    "composite16": 16.0,
    "month": 30.44,
    "season": 91.3,
    "year": 365.2,
}
# Those that begin anew on each 1 January are not told by their length alone.
ANEW_EACH_YEAR = ("pentad73", "composite8", "composite16")
# Days of the month that stamps of a step may fall on: its first, a middle or its last ones.
STAMP_DAYS = {
    "pentad": ((1, 6, 11, 16, 21, 26), (5, 10, 15, 20, 25, 28, 29, 30, 31)),
    "dekad": ((1, 11, 21), (5, 6, 15, 16, 25, 26), (10, 20, 28, 29, 30, 31)),
}


def time_axis(
    stamps: np.ndarray,
    bounds: np.ndarray | None,
    calendar: str,
    stamp: str | None = None,
    day_start: int | None = None,
    *,
    accumulated: bool = False,
) -> TimeAxis:
    """The steps that time stamps, and bounds where a file has them, stand for.

    Parameters
    ----------
    stamps : (T,) int64
        Ascending instants.
    bounds : (T, 2) int64 or None
        First and last instant of each step.
    calendar
        CF calendar of both.
    stamp
        What a stamp marks: start, middle or end of its step; None to find out.
    day_start
        Hour at which the days of daily steps without bounds begin; None for midnight.
    accumulated
        Values are amounts up to their stamps, which then are the ends of steps shorter than a day.

    Notes
    -----
    Without bounds a stamp stands for the day, pentad, dekad, month or year that holds it, where
    the stamps are that far apart; shorter steps begin at their stamp.
    """
    if bounds is not None and stamp is None and (bounds[:, 1] > bounds[:, 0]).all():
        length = _nominal_length(bounds[:, 0], bounds[:, 1], calendar)
        return TimeAxis(bounds[:, 0], bounds[:, 1], calendar, length, BOUNDS_IN_FILE)

    length = _spacing(stamps, calendar)
    if accumulated and stamp is None and isinstance(length, int) and length < DAY:
        how = "each stamp taken for the end of its step, since amounts are those up to it"
        return TimeAxis(stamps - length, stamps, calendar, length, how)
    if stamp is not None:
        return _stamped(stamps, calendar, length, stamp)
    if length == DAY:
        start = day_of(stamps) + (day_start or 0) * HOUR
        how = "each stamp taken for the day that holds it"
        if day_start:
            how = f"each stamp taken for the day from {day_start:02d}:00 of its date"
        return TimeAxis(start, start + DAY, calendar, length, how)
    if isinstance(length, str):
        start, end = _holding(stamps, calendar, length)
        how = f"each stamp taken for the {name_of_length(length)} that holds it"
        if length in ANEW_EACH_YEAR:
            how += "; they begin anew on each 1 January"
        return TimeAxis(start, end, calendar, length, how)
    how = "each stamp taken for the start of its step"
    return TimeAxis(stamps, _before_the_next(stamps, length), calendar, length, how)


def _before_the_next(start: np.ndarray, length: int) -> np.ndarray:
    """Ends of steps of a length that never overlap the step after them."""
    return np.asarray(np.minimum(start + length, np.append(start[1:], np.iinfo(np.int64).max)))


def is_cycle_without_year(stamps: np.ndarray, calendar: str) -> bool:
    """Whether stamps are the cycle of one year in no real year, as climatologies are written.

    That is, all within twelve months that begin in the year 0 or 1 or, in the calendar of everyday
    life, before it was introduced in 1582.
    """
    if stamps.size < 2 or int(stamps.max() - stamps.min()) >= 366 * DAY:
        return False
    first = int(to_dates(stamps[:1], calendar)[0].year)
    return first <= 1 or (calendar in (*GREGORIAN, "julian") and first < GREGORIAN_REFORM)


def overlapping(time: TimeAxis) -> int | None:
    """The first step that begins before the one before it ends; None where there is none."""
    found = np.flatnonzero(time.start[1:] < time.end[:-1])
    return int(found[0]) + 1 if found.size else None


def _stamped(stamps: np.ndarray, calendar: str, length: int | str, stamp: str) -> TimeAxis:
    how = f"stamps mark the {stamp} of a step, as asked for"
    if isinstance(length, int):
        shift = {"start": 0, "middle": length // 2, "end": length}[stamp]
        start = stamps - shift
        return TimeAxis(start, _before_the_next(start, length), calendar, length, how)
    # A stamp at the very end of a month is the first instant of the next.
    inside = stamps - 1 if stamp == "end" else stamps
    start, end = _holding(inside, calendar, length)
    return TimeAxis(start, end, calendar, length, how)


def _holding(stamps: np.ndarray, calendar: str, length: str) -> tuple[np.ndarray, np.ndarray]:
    axis = periods_between(PeriodRule(length), calendar, int(stamps.min()), int(stamps.max()) + 1)
    position = np.searchsorted(axis.start, stamps, side="right") - 1
    return axis.start[position], axis.end[position]


def _spacing(stamps: np.ndarray, calendar: str) -> int | str:
    """Length of the steps between stamps: the usual distance, or the calendar unit it is near."""
    if stamps.size < 2:
        return DAY
    distances = np.diff(stamps)
    values, counts = np.unique(distances, return_counts=True)
    usual = int(values[np.argmax(counts)])
    typical = np.median(distances) / DAY
    for name, days in CALENDAR_STEPS.items():
        if abs(typical / days - 1) < 0.1 and _could_be(stamps, calendar, name):
            return name
    return usual


def _could_be(stamps: np.ndarray, calendar: str, name: str) -> bool:
    """Whether stamps that are about as far apart as calendar steps fall on days of such steps."""
    if name in ANEW_EACH_YEAR:
        start, end = _holding(stamps, calendar, name)
        day = day_of(stamps)
        if (start == day).all():
            return True
        # Ends of steps, of which one must be that of a year: else they may be any series of days.
        last = to_dates(stamps, calendar)
        return bool((end - DAY == day).all()) and any(
            date.month == 12 and date.day >= 30 for date in last
        )
    if name not in STAMP_DAYS:
        return True
    found = {date.day for date in to_dates(stamps, calendar)}
    return any(found <= set(days) for days in STAMP_DAYS[name])


def _nominal_length(start: np.ndarray, end: np.ndarray, calendar: str) -> int | str:
    lengths = np.unique(end - start)
    if lengths.size == 1 and lengths[0] <= DAY:
        return int(lengths[0])
    typical = np.median(end - start) / DAY
    for name, days in CALENDAR_STEPS.items():
        if abs(typical / days - 1) < 0.12:
            held_start, held_end = _holding(start, calendar, name)
            if (held_start == start).all() and (held_end == end).all():
                return name
    values, counts = np.unique(end - start, return_counts=True)
    return int(values[np.argmax(counts)])
