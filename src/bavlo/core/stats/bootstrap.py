"""Days of the base against percentiles without their own year (Zhang et al. 2005)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from bavlo import compiled
from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.stats.calendar_percentiles import (
    LEAP,
    WINDOW,
    BaseValues,
    CalendarDays,
    base_values,
    by_calendar_day,
    counts_above,
    fill_leap,
    places_of,
    position,
    positions_of,
    window_of,
)
from bavlo.core.stats.normals import LEAST_SHARE, Base


def percentiles_and_exceedance(
    values: np.ndarray, days: CalendarDays, base: Base, percents: tuple[float, ...]
) -> tuple[np.ndarray, np.ndarray]:
    """Percentiles of calendar days, and how far each day of the base is beyond its own.

    No day judges itself: for each year of the base the percentiles are taken of the other years,
    one of which stands in for the year left out; the mean is taken over all stand-ins (Zhang et
    al. 2005).

    Parameters
    ----------
    values : (T, K) float
    percents
        Above 50 days above the percentile count, else those below it.

    Returns
    -------
    thresholds : (percents, length + 1, K) float64
        As `by_calendar_day`.
    share : (percents, T, K) float64
        Mean of the 0s and 1s of the years - 1 stand-ins; NaN outside the base and where there is
        no data.
    """
    of_base = base_values(values, days, base)
    found = _by_kernel(of_base, percents)
    if found is None:
        share = np.stack([_by_days(of_base, values.shape, percent) for percent in percents])
        share[:, np.isnan(values)] = np.nan
        found = by_calendar_day(values, days, base, percents), share
    for share_of_one, percent in zip(found[1], percents, strict=True):
        _judge_leap_days(share_of_one, of_base, values, base, percent)
    return found


def _by_kernel(
    of_base: BaseValues, percents: tuple[float, ...]
) -> tuple[np.ndarray, np.ndarray] | None:
    """What the compiled loop makes of the values of a base; None without it.

    Returns
    -------
    limit : (Q, length + 1, K) float64
        Percentiles, as `by_calendar_day`.
    beyond : (Q, T, K) float64
        How far days are beyond them, but for 29 February.
    """
    if not compiled.in_use():
        return None
    from bavlo.core.stats.bootstrap_kernels import of_calendar_days, rooms_of

    length, columns, _ = of_base.table.shape
    places = [places_of(of_base.most + WINDOW, percent) for percent in percents]
    low, share = (np.stack(each) for each in zip(*places, strict=True))
    limit = np.empty((len(percents), length + 1, columns))
    beyond = np.full((len(percents), of_base.days.day.size, columns), np.nan)
    above = np.array([counts_above(percent) for percent in percents])
    rooms: Sequence[Any] = (*rooms_of(of_base.table), limit, beyond)
    of_calendar_days(of_base.table, of_base.step_of, low, share, of_base.least, above, *rooms)
    fill_leap(limit, of_base.days)
    return limit, beyond


def _by_days(of_base: BaseValues, shape: tuple[int, ...], percent: float) -> np.ndarray:
    """(T, K) how far days are beyond the percentile of their calendar day; see above."""
    table, half = of_base.table, WINDOW // 2
    length, columns, years = table.shape
    out = np.full(shape, np.nan)
    if years < 2:
        return out
    window = np.empty((columns, WINDOW, years), table.dtype)
    for day in range(length):
        for n in range(WINDOW):
            window[:, n] = table[(day + n - half) % length]
        share = _judged(window, table[day], percent)
        within = of_base.step_of[day] >= 0
        out[of_base.step_of[day][within]] = share[:, within].T
    return out


def _judge_leap_days(
    out: np.ndarray, of_base: BaseValues, values: np.ndarray, base: Base, percent: float
) -> None:
    """Fill in each 29 February of the base, whose limit is the mean of its neighbours'."""
    days, column = of_base.days, np.arange(values.shape[1])
    leap = np.flatnonzero((days.day == LEAP) & (days.year >= base.first) & (days.year <= base.last))
    if len(base) < 2 or not leap.size:
        return
    around = [
        _Ordered.of(window_of(of_base.table, day).reshape(column.size, WINDOW, -1))
        for day in (days.before_leap, days.before_leap + 1)
    ]
    for step in leap.tolist():
        year = np.full(column.size, int(days.year[step]) - base.first)
        before, after = (each.limits(column, year, percent) for each in around)
        share = _share_beyond(values[step][:, None], (before + after) / 2, percent)
        out[step] = np.where(np.isnan(values[step]), np.nan, share)


def _judged(window: np.ndarray, day: np.ndarray, percent: float) -> np.ndarray:
    """(K, years) share of stand-ins under which each year's day is beyond the percentile.

    Exchanging one year's values for another's moves a rank by at most their number, so that most
    days are beyond all of these percentiles or none; only the others are looked at, which is
    thirty times as fast as looking at all.
    """
    ordered = _Ordered.of(window)
    lowest, highest = ordered.range_of_limits(percent)
    out = np.where(day > highest if counts_above(percent) else day < lowest, 1.0, 0.0)
    near = (day >= lowest) & (day <= highest)
    # Where a sample may have too little, it is not known without a look.
    near |= (ordered.count - window.shape[1] < ordered.least)[:, None]
    column, year = np.nonzero(near)
    for some in batches(column.size, window[0].size):
        limit = ordered.limits(column[some], year[some], percent)
        value = day[column[some], year[some]][:, None]
        out[column[some], year[some]] = _share_beyond(value, limit, percent)
    return out


def _share_beyond(value: np.ndarray, limit: np.ndarray, percent: float) -> np.ndarray:
    """(N,) share of the limits (N, years) that each value (N, 1) is beyond; NaN without any."""
    judged = (~np.isnan(limit)).sum(axis=1)
    beyond = (value > limit if counts_above(percent) else value < limit).sum(axis=1)
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
        low = positions_of(np.maximum(number - gaps, 1), percent)[0] - span
        high = positions_of(number + gaps, percent)[0] + 1 + span
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
        if compiled.in_use():
            from bavlo.core.stats.bootstrap_kernels import stand_in_limits

            arrays = self.every, self.inner, self.valid, self.count, column, year
            places = places_of(self.every.shape[1], percent)
            others = np.empty(self.every.shape[1] + 2 * span + 4)
            stand_in_limits(*arrays, self.least, *places, others, np.empty(span, np.int64), limit)
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
