"""Time steps in the file's own calendar.

Instants are int64 microseconds since 1970-01-01 of the calendar in question, so that arithmetic is
exact; cftime turns them into dates and back.
"""

from __future__ import annotations

import warnings
from dataclasses import dataclass

import cftime
import numpy as np

# Of years before the first one, whose dates are told as the calendar has them.
warnings.filterwarnings("ignore", "this date/calendar/year zero convention")

EPOCH = "microseconds since 1970-01-01"
SECOND = 1_000_000
HOUR = 3600 * SECOND
DAY = 24 * HOUR
PERIOD = "period"  # the length of steps that are periods already
GREGORIAN = ("standard", "gregorian", "proleptic_gregorian")


@dataclass(frozen=True, eq=False)
class TimeAxis:
    """The steps of a grid, each with its bounds.

    Parameters
    ----------
    start, end : (T,) int64
        Bounds of each step in microseconds since 1970-01-01, the end excluded; ascending.
    calendar
        A CF calendar.
    length
        Nominal length: microseconds of a fixed step, or a calendar's: pentad, dekad, month,
        season or year, or composite8, composite16 or pentad73, which begin anew each year.
    how
        Where the bounds come from, in words.
    """

    start: np.ndarray
    end: np.ndarray
    calendar: str
    length: int | str
    how: str

    def __len__(self) -> int:
        return int(self.start.size)

    @property
    def duration(self) -> np.ndarray:
        """(T,) int64 microseconds."""
        return np.asarray(self.end - self.start)

    @property
    def is_gregorian(self) -> bool:
        """Whether its dates are those of everyday life."""
        return self.calendar in GREGORIAN

    @property
    def at_most_daily(self) -> bool:
        """Whether steps are a day or shorter, and so belong whole to one day."""
        return not isinstance(self.length, str) and self.length <= DAY

    @property
    def step_name(self) -> str:
        """What one step is called: day, month, 3 hours, …"""
        return name_of_length(self.length)

    @property
    def steps_name(self) -> str:
        """What several steps are called in a note: days, months, else steps."""
        name = self.step_name
        return "steps" if " " in name else name + "s"

    def gaps(self) -> np.ndarray:
        """(G,) positions of steps that do not begin where the step before them ends."""
        return np.flatnonzero(self.start[1:] > self.end[:-1]) + 1

    def take(self, steps: slice | np.ndarray) -> TimeAxis:
        """Some of the steps."""
        return TimeAxis(self.start[steps], self.end[steps], self.calendar, self.length, self.how)


def name_of_length(length: int | str) -> str:
    """What a step of a nominal length is called: day, month, 3 hours, …"""
    if isinstance(length, str):
        return {
            "composite8": "8-day composite",
            "composite16": "16-day composite",
            "pentad73": "5-day step of the year",
        }.get(length, length)
    for size, name in ((DAY, "day"), (HOUR, "hour"), (60 * SECOND, "minute")):
        if length % size == 0:
            number = length // size
            return name if number == 1 else f"{number} {name}s"
    return f"{length / SECOND:g} seconds"


def to_dates(instants: np.ndarray, calendar: str) -> np.ndarray:
    """Instants as cftime dates of the calendar."""
    instants = np.asarray(instants, np.int64)
    return np.asarray(cftime.num2date(instants, EPOCH, calendar=calendar))


def to_instant(calendar: str, year: int, month: int = 1, day: int = 1) -> int:
    """The instant at which a day of the calendar begins.

    Examples
    --------
    >>> to_instant("360_day", 1970, 2, 30) // DAY
    59
    """
    date = cftime.datetime(year, month, day, calendar=calendar)
    origin = cftime.datetime(1970, 1, 1, calendar=calendar)
    return DAY * (int(date.toordinal()) - int(origin.toordinal()))


def start_of_month(calendar: str, year: int, month: int) -> int:
    """First instant of a month; months beyond 12 are those of the following years."""
    extra, month = divmod(month - 1, 12)
    return to_instant(calendar, year + extra, month + 1)


def to_instants(dates: np.ndarray, calendar: str) -> np.ndarray:
    """cftime dates as instants, rounded to the second (times kept as float32 are no better)."""
    numbers = cftime.date2num(dates, EPOCH, calendar=calendar)
    return np.rint(np.asarray(numbers, np.float64) / SECOND).astype(np.int64) * SECOND


def iso_day(instant: int, calendar: str) -> str:
    """The day that holds an instant, as YYYY-MM-DD."""
    date = to_dates(np.array([instant]), calendar)[0]
    return f"{date.year:04d}-{date.month:02d}-{date.day:02d}"


def iso_days(instants: np.ndarray, calendar: str) -> list[str]:
    """The days that hold the instants, as YYYY-MM-DD."""
    return [f"{d.year:04d}-{d.month:02d}-{d.day:02d}" for d in to_dates(instants, calendar)]


def iso_minute(instant: int, calendar: str) -> str:
    """An instant as YYYY-MM-DDThh:mm."""
    date = to_dates(np.array([instant]), calendar)[0]
    return f"{date.year:04d}-{date.month:02d}-{date.day:02d}T{date.hour:02d}:{date.minute:02d}"


def steps_text(time: TimeAxis, steps: np.ndarray) -> tuple[list[str], list[str]]:
    """First and last day of some steps, both included; minutes, the end excluded, of shorter ones.

    A step of a day belongs to the day that holds its middle.
    """
    start, end = time.start[steps], time.end[steps]
    if isinstance(time.length, str) or time.length >= DAY:
        if time.length == DAY:
            start = end = start + time.duration[steps] // 2 + 1
        return iso_days(start, time.calendar), iso_days(end - 1, time.calendar)
    texts = ([iso_minute(int(t), time.calendar) for t in each] for each in (start, end))
    first, last = texts
    return first, last


def years_of(instants: np.ndarray, calendar: str) -> np.ndarray:
    """(N,) int the years that hold the instants."""
    return np.array([date.year for date in to_dates(instants, calendar)])


def day_of(instants: np.ndarray) -> np.ndarray:
    """The beginning of the day that holds each instant."""
    return np.asarray(instants, np.int64) // DAY * DAY


# The one step of a grid without time.
STATIC = TimeAxis(np.zeros(1, np.int64), np.full(1, DAY), "standard", DAY, "no time axis")
