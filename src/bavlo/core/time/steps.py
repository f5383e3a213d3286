"""What time stamps stand for: from stamps and bounds to the steps of a grid."""

from __future__ import annotations

import numpy as np

from bavlo.core.time.axis import DAY, HOUR, TimeAxis, day_of, to_dates
from bavlo.core.time.periods import PeriodRule, periods_between

STAMPS = ("start", "middle", "end")

# What a calendar step is called, by the rule that makes its periods, with a typical length in days.
CALENDAR_STEPS = {"pentad": 5.07, "dekad": 10.14, "month": 30.44, "season": 91.3, "year": 365.2}


def time_axis(
    stamps: np.ndarray,
    bounds: np.ndarray | None,
    calendar: str,
    stamp: str | None = None,
    day_start: int | None = None,
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

    Notes
    -----
    Without bounds a stamp stands for the day, pentad, dekad, month or year that holds it, where
    the stamps are that far apart; shorter steps begin at their stamp.
    """
    if bounds is not None and stamp is None and (bounds[:, 1] > bounds[:, 0]).all():
        length = _nominal_length(bounds[:, 0], bounds[:, 1], calendar)
        return TimeAxis(bounds[:, 0], bounds[:, 1], calendar, length, "bounds in the file")

    length = _spacing(stamps, calendar)
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
        how = f"each stamp taken for the {length} that holds it"
        return TimeAxis(start, end, calendar, length, how)
    how = "each stamp taken for the start of its step"
    return TimeAxis(stamps, stamps + length, calendar, length, how)


def _stamped(stamps: np.ndarray, calendar: str, length: int | str, stamp: str) -> TimeAxis:
    how = f"stamps mark the {stamp} of a step, as asked for"
    if isinstance(length, int):
        shift = {"start": 0, "middle": length // 2, "end": length}[stamp]
        return TimeAxis(stamps - shift, stamps - shift + length, calendar, length, how)
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
    median = float(np.median(distances)) / DAY
    for name, days in CALENDAR_STEPS.items():
        if name == "pentad":
            near = _on_days(stamps, calendar, (1, 6, 11, 16, 21, 26))
        elif name == "dekad":
            near = _on_days(stamps, calendar, (1, 11, 21)) or _on_days(
                stamps, calendar, (5, 6, 15, 16, 25, 26)
            )
        else:
            near = True
        if near and abs(median / days - 1) < 0.1:
            return name
    return usual


def _on_days(stamps: np.ndarray, calendar: str, days: tuple[int, ...]) -> bool:
    found = {date.day for date in to_dates(stamps[: 4 * len(days)], calendar)}
    return found <= set(days)


def _nominal_length(start: np.ndarray, end: np.ndarray, calendar: str) -> int | str:
    lengths = np.unique(end - start)
    if lengths.size == 1 and not 27 * DAY < lengths[0] < 32 * DAY:
        return int(lengths[0])
    median = float(np.median(end - start)) / DAY
    for name, days in CALENDAR_STEPS.items():
        if abs(median / days - 1) < 0.12:
            held_start, held_end = _holding(start, calendar, name)
            if (held_start == start).all() and (held_end == end).all():
                return name
    values, counts = np.unique(end - start, return_counts=True)
    return int(values[np.argmax(counts)])
