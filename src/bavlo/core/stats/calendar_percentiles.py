"""Percentiles of the base in time, as thresholds: by calendar day, of wet days, of all days."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo import compiled
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.stats.normals import LEAST_SHARE, Base, percentile_8
from bavlo.core.time.axis import TimeAxis, to_dates

WINDOW = 5  # days around a calendar day
YEAR = 365  # calendar days; 29 February lies between two of them
LEAP = -1
MOST_DEPTH = 32  # values from the nearer end, up to which the compiled loop is sooner than sorting


@dataclass(frozen=True, eq=False)
class CalendarDays:
    """Which calendar day each step of a record is.

    Parameters
    ----------
    day : (T,) int64
        From 0 for 1 January; LEAP for 29 February (and for a year's 366th day of other calendars
        there is none). In calendars of 360 days, days are numbered through.
    year : (T,) int64
    length
        Calendar days of a year, leap days left out.
    """

    day: np.ndarray
    year: np.ndarray
    length: int

    @property
    def before_leap(self) -> int:
        """The calendar day before 29 February."""
        return 58


def calendar_days(time: TimeAxis) -> CalendarDays:
    """The calendar days of daily steps, told by the middle of each."""
    dates = to_dates(time.start + time.duration // 2, time.calendar)
    if time.calendar == "360_day":
        day = np.array([30 * (d.month - 1) + d.day - 1 for d in dates], np.int64)
        return CalendarDays(day, np.array([d.year for d in dates], np.int64), 360)
    before = np.cumsum([0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30])
    day = np.array(
        [LEAP if (d.month, d.day) == (2, 29) else before[d.month - 1] + d.day - 1 for d in dates],
        np.int64,
    )
    return CalendarDays(day, np.array([d.year for d in dates], np.int64), YEAR)


def by_calendar_day(
    values: np.ndarray, days: CalendarDays, base: Base, percents: tuple[float, ...]
) -> np.ndarray:
    """Percentiles of the values within two days of each calendar day, over the base years.

    Parameters
    ----------
    values : (T, K) float
        NaN where there is no data.
    percents
        From 0 to 100.

    Returns
    -------
    thresholds : (percents, length + 1, K) float64
        The last row is that of 29 February, the mean of its neighbours. NaN under 80 % of the
        window's values. Hyndman and Fan (1996) type 8. The year is taken as a circle: the window
        of 1 January holds 30 and 31 December of the same years (Zhang et al. 2005, with days
        before the base replaced by those of its years).
    """
    out = np.empty((len(percents), days.length + 1, values.shape[1]))
    by_sorting = [
        n
        for n, percent in enumerate(percents)
        if not _limits_by_kernel(values, days, base, percent, out[n])
    ]
    if not by_sorting:
        fill_leap(out, days)
        return out
    table = base_values(values, days, base).table
    whole = not np.isnan(table).any()
    if whole:
        table.sort(axis=2)
    for n in by_sorting:
        percent = percents[n]
        low, share = position(WINDOW * len(base), percent)
        for day in range(days.length):
            if not whole:
                out[n, day] = _percentiles(window_of(table, day), (percent,))[0]
                continue
            # Only the highest or lowest of each day can be among those that the percentile is
            # between: half of the time of sorting them all.
            from_top = WINDOW * len(base) - low
            if from_top < len(base):
                top = np.sort(window_of(table[:, :, -from_top:], day), axis=1)
                at = top.shape[1] - from_top
            elif low + 2 < len(base):
                top, at = np.sort(window_of(table[:, :, : low + 2], day), axis=1), low
            else:
                top, at = np.sort(window_of(table, day), axis=1), low
            out[n, day] = _mixed(top, at, share)
    fill_leap(out, days)
    return out


def _limits_by_kernel(
    values: np.ndarray, days: CalendarDays, base: Base, percent: float, out: np.ndarray
) -> bool:
    """Fill in one percentile (length + 1, K) but for 29 February by the compiled loop.

    Returns
    -------
    done
        False where the loop is not there, or sorting is sooner: near the median.
    """
    most = WINDOW * len(base)
    least = max(LEAST_SHARE * most - ENOUGH, 1.0)
    low, share = places_of(most, percent)
    number = np.arange(most + 1)
    judged = number >= least
    from_top = int((number - low)[judged].max())
    from_bottom = int(low[judged].max()) + 2
    depth = min(from_top, from_bottom)
    if depth > MOST_DEPTH or not compiled.in_use():
        return False
    from bavlo.core.stats.calendar_kernels import AT_ONCE, limits_of_calendar_days

    room = np.empty((days.length + 2, depth, AT_ONCE), values.dtype)
    given = np.ascontiguousarray(values), _steps_of(days, base), low, share, least
    counts = np.empty((days.length + 1, AT_ONCE), np.int64)
    limits_of_calendar_days(*given, depth, from_top <= from_bottom, WINDOW, room, counts, out)
    return True


def _mixed(ordered: np.ndarray, low: int, share: float) -> np.ndarray:
    """Between two columns of sorted rows."""
    first = ordered[:, low].astype(np.float64)
    if share == 0 or low + 1 >= ordered.shape[1]:
        return first
    # In this form equal neighbours give exactly their value.
    return np.asarray(first + share * (ordered[:, low + 1].astype(np.float64) - first))


def fill_leap(out: np.ndarray, days: CalendarDays) -> None:
    """Fill in the last row of (…, length + 1, K), that of 29 February, from its neighbours."""
    at = days.before_leap
    out[:, -1] = (out[:, at] + out[:, at + 1]) / 2


@dataclass(frozen=True, eq=False)
class BaseValues:
    """The values of a base by calendar day; those of 29 February left out.

    Parameters
    ----------
    table : (length, K, years) float
        NaN where there are none.
    step_of : (length, years) int64
        The step of each, -1 where there is none.
    days
        Calendar days of all steps.
    """

    table: np.ndarray
    step_of: np.ndarray
    days: CalendarDays

    @property
    def most(self) -> int:
        """Values around a calendar day."""
        return WINDOW * int(self.table.shape[2])

    @property
    def least(self) -> float:
        """With fewer values a sample has no percentile."""
        return LEAST_SHARE * self.most - ENOUGH


def _steps_of(days: CalendarDays, base: Base) -> np.ndarray:
    """(length, years) int64 the steps of the base by calendar day, -1 where there is none."""
    step_of = np.full((days.length, len(base)), -1)
    inside = (days.year >= base.first) & (days.year <= base.last) & (days.day != LEAP)
    step_of[days.day[inside], days.year[inside] - base.first] = np.flatnonzero(inside)
    return step_of


def base_values(values: np.ndarray, days: CalendarDays, base: Base) -> BaseValues:
    """The values (T, K) of the base years."""
    step_of = _steps_of(days, base)
    table = np.empty((days.length, values.shape[1], len(base)), values.dtype)
    for day, steps in enumerate(step_of):
        table[day] = values[steps].T
        table[day][:, steps < 0] = np.nan
    return BaseValues(table, step_of, days)


def counts_above(percent: float) -> bool:
    """Whether days above a percentile are those that count, and not those below it."""
    return percent > 50


def window_of(table: np.ndarray, day: int) -> np.ndarray:
    """(K, 5 × years) values around a calendar day."""
    half = WINDOW // 2
    around = [(day + shift) % len(table) for shift in range(-half, half + 1)]
    return np.concatenate([table[d] for d in around], axis=1)


def _percentiles(sample: np.ndarray, percents: tuple[float, ...]) -> list[np.ndarray]:
    """(K,) each, of (K, N) samples that may have NaN; NaN where too little is there."""
    number = sample.shape[1]
    ordered = np.sort(sample, axis=1)  # NaN last
    if not np.isnan(ordered[:, -1]).any():
        return [_mixed(ordered, *position(number, percent)) for percent in percents]
    count = number - np.isnan(sample).sum(axis=1)
    enough = count >= LEAST_SHARE * number - ENOUGH
    ordered[~enough] = 0
    return [
        np.where(enough, percentile_8(np.where(enough, ordered.T, 0.0), percent), np.nan)
        for percent in percents
    ]


def position(number: int, percent: float) -> tuple[int, float]:
    """Where a percentile of type 8 lies among `number` sorted values: place and share beyond it."""
    at = float(np.clip(percent / 100 * (number + 1 / 3) + 1 / 3, 1, number)) - 1
    low = int(np.floor(at))
    return low, at - low


def of_days(
    values: np.ndarray, days: CalendarDays, base: Base, percents: tuple[float, ...], least: float
) -> np.ndarray:
    """Percentiles of all days of the base whose value is at least `least`.

    Parameters
    ----------
    values : (T, K) float64
    least
        The wet-day limit in the unit of the values; -inf for all days.

    Returns
    -------
    thresholds : (percents, K) float64
        NaN where there is no such day.
    """
    inside = (days.year >= base.first) & (days.year <= base.last)
    sample = values[inside].astype(np.float64)
    sample[~(sample >= least)] = np.nan
    valid = ~np.isnan(sample).all(axis=0)
    out = np.full((len(percents), values.shape[1]), np.nan)
    if valid.any():
        for n, percent in enumerate(percents):
            out[n, valid] = percentile_8(sample[:, valid], percent)
    return out


def at_steps(thresholds: np.ndarray, days: CalendarDays) -> np.ndarray:
    """(T, K) thresholds of the steps from those of calendar days (length + 1, K)."""
    return np.asarray(thresholds[days.day])  # LEAP is -1, the last row


def places_of(most: int, percent: float) -> tuple[np.ndarray, np.ndarray]:
    """Where the percentile of each number of values, up to the most, lies, as `position`."""
    each = [position(max(n, 1), percent) for n in range(most + 1)]
    return np.array([low for low, _ in each]), np.array([share for _, share in each])


def positions_of(number: np.ndarray, percent: float) -> tuple[np.ndarray, np.ndarray]:
    """Where a percentile of type 8 lies among some numbers of sorted values, as `position`."""
    at = percent / 100 * (number + 1 / 3) + 1 / 3
    at = np.minimum(np.maximum(at, 1), number) - 1
    low = np.floor(at).astype(np.int64)
    return low, at - low
