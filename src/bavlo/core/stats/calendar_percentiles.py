"""Percentiles of the base in time, as thresholds: by calendar day, of wet days, of all days."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from bavlo.core.compiled import allow, compiled
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.stats.kernels import stand_in_limits
from bavlo.core.stats.normals import LEAST_SHARE, Base, percentile_8
from bavlo.core.time.axis import TimeAxis, to_dates
from bavlo.records import dataclass

WINDOW = 5  # days around a calendar day
YEAR = 365  # calendar days; 29 February lies between two of them
LEAP = -1
WORTH_COMPILING = 2**12  # limits, from which on the compiled way is asked for
PAIRS_AT_ONCE = 2**13  # of a cell and a year, each with all its stand-ins


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
    table = _table(values, days, base)
    out = np.empty((len(percents), days.length + 1, values.shape[1]))
    whole = not np.isnan(table).any()
    if whole:
        table.sort(axis=2)
    for n, percent in enumerate(percents):
        low, share = position(WINDOW * len(base), percent)
        for day in range(days.length):
            if not whole:
                out[n, day] = _percentiles(_window(table, day), (percent,))[0]
                continue
            # Only the highest or lowest of each day can be among those that the percentile is
            # between: half of the time of sorting them all.
            from_top = WINDOW * len(base) - low
            if from_top < len(base):
                top = np.sort(_window(table[:, :, -from_top:], day), axis=1)
                at = top.shape[1] - from_top
            elif low + 2 < len(base):
                top, at = np.sort(_window(table[:, :, : low + 2], day), axis=1), low
            else:
                top, at = np.sort(_window(table, day), axis=1), low
            out[n, day] = _mixed(top, at, share)
    _fill_leap(out, days)
    return out


def _mixed(ordered: np.ndarray, low: int, share: float) -> np.ndarray:
    """Between two columns of sorted rows."""
    first = ordered[:, low].astype(np.float64)
    if share == 0 or low + 1 >= ordered.shape[1]:
        return first
    # In this form equal neighbours give exactly their value.
    return np.asarray(first + share * (ordered[:, low + 1].astype(np.float64) - first))


def _fill_leap(out: np.ndarray, days: CalendarDays) -> None:
    at = days.before_leap
    out[:, -1] = (out[:, at] + out[:, at + 1]) / 2


def _table(values: np.ndarray, days: CalendarDays, base: Base) -> np.ndarray:
    """(length, K, years) values of the base, NaN where there are none."""
    step_of = np.full((days.length, len(base)), -1)
    inside = (days.year >= base.first) & (days.year <= base.last) & (days.day != LEAP)
    step_of[days.day[inside], days.year[inside] - base.first] = np.flatnonzero(inside)
    table = np.empty((days.length, values.shape[1], len(base)), values.dtype)
    for day, steps in enumerate(step_of):
        table[day] = values[steps].T
        table[day][:, steps < 0] = np.nan
    return table


def _window(table: np.ndarray, day: int) -> np.ndarray:
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
    low = min(int(np.floor(at)), max(number - 2, 0))
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


def exceedance_in_base(
    values: np.ndarray, days: CalendarDays, base: Base, percent: float, *, above: bool
) -> np.ndarray:
    """How far each day of the base is beyond its percentile, without judging itself.

    For each year of the base the percentiles are taken of the other years, one of which stands in
    for the year left out; the mean is taken over all stand-ins (Zhang et al. 2005).

    Parameters
    ----------
    values : (T, K) float
    above
        Whether days above the percentile count, else those below it.

    Returns
    -------
    share : (T, K) float64
        Mean of the 0s and 1s of the years - 1 stand-ins; NaN outside the base and where there is
        no data.
    """
    table = _table(values, days, base)
    years, columns = len(base), values.shape[1]
    out = np.full(values.shape, np.nan)
    if years < 2:
        return out
    step_of = np.full((days.length, years), -1)
    inside = (days.year >= base.first) & (days.year <= base.last) & (days.day != LEAP)
    step_of[days.day[inside], days.year[inside] - base.first] = np.flatnonzero(inside)
    half = WINDOW // 2
    window = np.empty((columns, WINDOW, years), values.dtype)
    beyond_share = np.empty((days.length, columns, years))
    for day in range(days.length):
        for n in range(WINDOW):
            window[:, n] = table[(day + n - half) % days.length]
        beyond_share[day] = _judged(window, table[day], percent, above=above)
        within = step_of[day] >= 0
        out[step_of[day][within]] = beyond_share[day][:, within].T
    leap = np.flatnonzero((days.day == LEAP) & (days.year >= base.first) & (days.year <= base.last))
    for step in leap.tolist():
        year = int(days.year[step]) - base.first
        out[step] = _judged_leap(table, values[step], year, days, percent, above=above)
    return np.where(np.isnan(values), np.nan, out)


def _judged(window: np.ndarray, day: np.ndarray, percent: float, *, above: bool) -> np.ndarray:
    """(K, years) share of stand-ins under which each year's day is beyond the percentile.

    Exchanging one year's values for another's moves a rank by at most their number, so that most
    days are beyond all of these percentiles or none; only the others are looked at, which is
    thirty times as fast as looking at all.
    """
    ordered = _Ordered.of(window)
    lowest, highest = ordered.range_of_limits(percent)
    out = np.where(day > highest if above else day < lowest, 1.0, 0.0)
    near = (day >= lowest) & (day <= highest)
    # Where a sample may have too little, it is not known without a look.
    near |= (ordered.count - window.shape[1] < ordered.least)[:, None]
    column, year = np.nonzero(near)
    for first in range(0, column.size, PAIRS_AT_ONCE):
        some = slice(first, first + PAIRS_AT_ONCE)
        limit = ordered.limits(column[some], year[some], percent)
        value = day[column[some], year[some]][:, None]
        out[column[some], year[some]] = _share_beyond(value, limit, above=above)
    return out


def _share_beyond(value: np.ndarray, limit: np.ndarray, *, above: bool) -> np.ndarray:
    """(N,) share of the limits (N, years) that each value (N, 1) is beyond; NaN without any."""
    judged = (~np.isnan(limit)).sum(axis=1)
    beyond = (value > limit if above else value < limit).sum(axis=1)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(judged > 0, beyond / judged, np.nan)


@dataclass(frozen=True, eq=False)
class _Ordered:
    """The values around a calendar day in order, those that are missing as infinite at the end.

    Parameters
    ----------
    every : (K, span × years) float
        Of all years, ascending.
    inner : (K, span, years) float
        Of each year, ascending along the span.
    valid : (K, years) int64
        How many each year has.
    """

    every: np.ndarray
    inner: np.ndarray
    valid: np.ndarray

    @classmethod
    def of(cls, window: np.ndarray) -> _Ordered:
        """Of values (K, span, years), NaN where there are none."""
        missing = np.isnan(window)
        filled = np.where(missing, np.inf, window).astype(window.dtype, copy=False)
        return cls(
            np.sort(filled.reshape(len(window), -1), axis=1),
            np.sort(filled, axis=1),
            (~missing).sum(axis=1),
        )

    @property
    def count(self) -> np.ndarray:
        """(K,) values that there are."""
        return np.asarray(self.valid.sum(axis=1))

    @property
    def least(self) -> float:
        """With fewer values a sample has no percentile."""
        return float(LEAST_SHARE * self.every.shape[1] - ENOUGH)

    def range_of_limits(self, percent: float) -> tuple[np.ndarray, np.ndarray]:
        """(K, 1) each: no limit of any stand-in is lower, or higher."""
        span = self.inner.shape[1]
        number, last = self.count, self.every.shape[1] - 1
        row = np.arange(len(self.every))
        gaps = span - self.valid.min(axis=1)  # a stand-in may have fewer values than a year has
        low = _positions(np.maximum(number - gaps, 1), percent)[0] - span
        high = _positions(number + gaps, percent)[0] + 1 + span
        lowest = np.where(low >= 0, self.every[row, np.maximum(low, 0)], -np.inf)
        highest = np.where(high <= last, self.every[row, np.minimum(high, last)], np.inf)
        return lowest[:, None], highest[:, None]

    def limits(self, column: np.ndarray, year: np.ndarray, percent: float) -> np.ndarray:
        """(N, years) percentiles without a year's values and with those of each stand-in.

        Parameters
        ----------
        column, year : (N,) int64
            Whose values are left out of which cell's.

        Returns
        -------
        limits
            NaN for the year itself and where too little is there.
        """
        _, span, years = self.inner.shape
        limit = np.full((column.size, years), np.nan)
        kernel = compiled(stand_in_limits) if years * column.size >= WORTH_COMPILING else None
        if kernel is not None:
            arrays = self.every, self.inner, self.valid, self.count, column, year
            kernel(*arrays, self.least, *_places(self.every.shape[1], percent), limit)
            return limit
        own = self.inner[column, :, year]
        # Where the year's own values stand among all; equal ones side by side.
        slot = (self.every[column][:, None, :] < own[:, :, None]).sum(axis=2)
        for n in range(1, span):
            slot[:, n] += (own[:, :n] == own[:, n][:, None]).sum(axis=1)
        place = slot - np.arange(span)
        rest = self.count[column] - self.valid[column, year]
        number = rest[:, None] + self.valid[column]
        for each in np.unique(number[number >= self.least]).tolist():
            low, share = position(each, percent)
            exact = self._kth(column, place, rest, low + 1)
            if share:
                following = self._kth(column, place, rest, low + 2)
                with np.errstate(invalid="ignore"):  # of infinite ones, of other numbers
                    exact = exact + share * (following - exact)
            limit = np.where(number == each, exact, limit)
        limit[np.arange(column.size), year] = np.nan
        return limit

    def _kth(self, column: np.ndarray, place: np.ndarray, rest: np.ndarray, k: int) -> np.ndarray:
        """(N, years) k-th lowest (from 1) of the other years' values and a stand-in's.

        The k-th lowest of two sorted rows A and Q together is the lowest over j of the larger of
        A[k - j] and Q[j], with -∞ before their beginnings and ∞ after their ends.

        Parameters
        ----------
        place : (N, span) int64
            Where the left-out values stand among all, less their own number.
        rest : (N,) int64
            How many values the other years have.
        """
        _, span, years = self.inner.shape
        last = self.every.shape[1] - 1
        best = np.full((column.size, years), np.inf)
        for j in range(span + 1):
            at = k - j - 1
            # Without the year's own values, so further on among all.
            if at < -1:
                break
            others = np.full(column.size, -np.inf)
            if at >= 0:
                among = np.minimum(at + (place <= at).sum(axis=1), last)
                others = np.where(at < rest, self.every[column, among].astype(np.float64), np.inf)
            both = np.broadcast_to(others[:, None], best.shape)
            if j:
                both = np.maximum(both, self.inner[column, j - 1])
            np.minimum(best, both, out=best)
        return best


def warm_up() -> None:
    """Load and compile what the bootstrap uses, where numba is there."""
    allow()
    if compiled(stand_in_limits) is not None:
        for kind in (np.float32, np.float64):
            window = np.zeros((1, WINDOW, 2), kind)
            count = WORTH_COMPILING // 2
            _Ordered.of(window).limits(np.zeros(count, int), np.zeros(count, int), 50.0)


@lru_cache(maxsize=64)
def _places(most: int, percent: float) -> tuple[np.ndarray, np.ndarray]:
    """Where the percentile of each number of values, up to the most, lies, as `position`."""
    each = [position(max(n, 1), percent) for n in range(most + 1)]
    return np.array([low for low, _ in each]), np.array([share for _, share in each])


def _positions(number: np.ndarray, percent: float) -> tuple[np.ndarray, np.ndarray]:
    """Where a percentile of type 8 lies among some numbers of sorted values, as `position`."""
    at = percent / 100 * (number + 1 / 3) + 1 / 3
    at = np.minimum(np.maximum(at, 1), number) - 1
    low = np.minimum(np.floor(at).astype(np.int64), np.maximum(number - 2, 0))
    return low, at - low


def _judged_leap(
    table: np.ndarray,
    values: np.ndarray,
    year: int,
    days: CalendarDays,
    percent: float,
    *,
    above: bool,
) -> np.ndarray:
    """(K,) the same for a 29 February, whose limit is the mean of its neighbours'."""
    column = np.arange(len(values))
    before, after = (
        _Ordered.of(_window(table, day).reshape(len(values), WINDOW, -1)).limits(
            column, np.full(len(values), year), percent
        )
        for day in (days.before_leap, days.before_leap + 1)
    )
    return _share_beyond(values[:, None], (before + after) / 2, above=above)
