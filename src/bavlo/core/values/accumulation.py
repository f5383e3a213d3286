"""Values that accumulate from a beginning and start again: how they are known, and when."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from bavlo.core.time.axis import DAY, HOUR, TimeAxis, to_dates, to_instant
from bavlo.core.time.periods import PeriodRule, periods_between

ROUNDING = 1e-6  # share of its highest value by which an accumulation may fall
# The same of values of both signs, or below 0, where dew may fall between hours of evaporation.
MAY_RETURN = 0.1
NEVER_FALLS = 0.95  # share of cells that must not fall but at resets
TOGETHER = 0.5  # share of cells with rain that fall where an accumulation starts again
EXPECTED = 0.8  # share of the resets that a rule expects at which values do fall
LEAST_RESETS = 3
# Where values never start again, as many steps and cells must only ever grow, in as many steps.
LEAST_STEPS, LEAST_CELLS, LEAST_GROWTH = 12, 20, 4

DAILY, MONTHLY, YEARLY, REGULAR = "day", "month", "year", "interval"


@dataclass(frozen=True)
class ResetRule:
    """When accumulations begin anew.

    Parameters
    ----------
    every
        DAILY at the given times of the day, MONTHLY or YEARLY at a date, REGULAR after a fixed
        time, as runs of a model do.
    marks
        Microseconds of the day; day of the month and microseconds; month, day and microseconds; an
        instant and a length.
    """

    every: str
    marks: tuple[int, ...]

    def __str__(self) -> str:
        if self.every == DAILY:
            times = " and ".join(
                f"{m // HOUR:02d}:{m % HOUR // 60_000_000:02d}" for m in self.marks
            )
            return f"each day at {times}"
        if self.every == MONTHLY:
            return f"on day {self.marks[0]} of each month"
        if self.every == YEARLY:
            return f"each year on {self.marks[0]:02d}-{self.marks[1]:02d}"
        return f"every {self.marks[1] / HOUR:g} hours"

    def instants(self, first: int, last: int, calendar: str) -> np.ndarray:
        """(K,) ascending instants, from the last one at or before `first` to beyond `last`."""
        if self.every == DAILY:
            days = np.arange(first // DAY - 1, last // DAY + 2) * DAY
            return np.sort((days[:, None] + np.array(self.marks)).ravel())
        if self.every == REGULAR:
            origin, length = self.marks
            return origin + length * np.arange(
                (first - origin) // length, (last - origin) // length + 2
            )
        rule = PeriodRule("month" if self.every == MONTHLY else "year")
        around = periods_between(rule, calendar, first - 366 * DAY, last + 366 * DAY)
        if self.every == MONTHLY:
            return np.asarray(around.start + (self.marks[0] - 1) * DAY + self.marks[1])
        month, day, time = self.marks
        years = [int(date.year) for date in to_dates(around.start, calendar)]
        return np.array([to_instant(calendar, year, month, day) + time for year in years])


@dataclass(frozen=True)
class Accumulation:
    """What a sample tells of values that accumulate.

    Parameters
    ----------
    rule
        When they begin anew; None where they never do in the sample.
    resets
        How often they did.
    irregular
        They begin anew, but not by one rule.
    downward
        They grow downward, as evaporation may be counted.
    """

    rule: ResetRule | None
    resets: int
    irregular: bool = False
    downward: bool = False


def find_accumulation(values: np.ndarray, time: TimeAxis, quantum: float) -> Accumulation | None:
    """Whether values accumulate and start again; None where they do not.

    Values accumulate where at least 95 % of the cells with rain never fall but at steps at which
    most cells fall together; of what is counted downward, as evaporation is, where they never rise.

    Parameters
    ----------
    values : (T, C) float64
        Of some consecutive steps and cells, NaN where there is no data.
    time
        Those steps, which end where values are accumulated to.
    quantum
        By how much values may fall since they are rounded; 0 where they are not packed.
    """
    if len(time) < LEAST_RESETS:
        return None
    filled, may_fall = upward(values, quantum)
    rounding = np.maximum(filled.max(axis=0) * ROUNDING, quantum * 1.01)
    change = np.diff(filled, axis=0)
    known = ~np.isnan(values)
    known = known[1:] & known[:-1]
    fell, grew = (change < -may_fall) & known, (change > rounding) & known
    wet = (filled[:-1] > may_fall) & known
    raining = grew.sum(axis=0) > 0
    if not raining.any():
        return None
    fell, wet = fell[:, raining], wet[:, raining]
    starts_again = fell.sum(axis=1) > TOGETHER * np.maximum(wet.sum(axis=1), 1)
    if (fell & ~starts_again[:, None]).any(axis=0).mean() > 1 - NEVER_FALLS:
        return None
    positions = np.flatnonzero(starts_again)
    if positions.size < LEAST_RESETS:
        growth = grew[:, raining].sum(axis=0)
        grows = raining.sum() >= LEAST_CELLS and np.median(growth) >= LEAST_GROWTH
        if not grows or len(time) < LEAST_STEPS or (np.diff(positions) < 2).any():
            return None
    elif np.median(np.diff(positions)) < (2 if _is_shorter_than_a_day(time) else 3):
        return None
    rule = common_rule(time, positions, wet.sum(axis=1) > 0)
    downward = bool((filled != np.nan_to_num(values)).any())
    return Accumulation(rule, positions.size, positions.size > 0 and rule is None, downward)


def upward(values: np.ndarray, quantum: float) -> tuple[np.ndarray, np.ndarray]:
    """Values as they would be if they were counted upward, and by how much they may fall.

    Parameters
    ----------
    values : (T, C) float64
        NaN where there is no data.
    quantum
        By how much values may fall since they are rounded.

    Returns
    -------
    values : (T, C) float64
        Turned round where most of them is below 0; 0 where there is no data.
    may_fall : (C,) float64
        By rounding and, where some are below 0, by what goes the other way for a while.
    """
    filled = np.nan_to_num(values)
    lowest, highest = filled.min(initial=0.0), filled.max(initial=0.0)
    if -filled.min(axis=0, initial=0.0).sum() > filled.max(axis=0, initial=0.0).sum():
        filled, lowest, highest = -filled, -highest, -lowest
        share = MAY_RETURN
    else:
        share = MAY_RETURN if -lowest > max(ROUNDING * highest, quantum) else ROUNDING
    return filled, np.maximum(filled.max(axis=0, initial=0.0) * share, quantum * 1.01)


def falls_twice(values: np.ndarray, quantum: float) -> bool:
    """Whether more cells than may fall at two steps in a row, which no accumulation does.

    Parameters
    ----------
    values : (T, C) float64
        Of some consecutive steps and cells, NaN where there is no data.
    quantum
        By how much values may fall since they are rounded.
    """
    filled, may_fall = upward(values, quantum)
    fell = np.asarray(np.diff(filled, axis=0) < -may_fall)
    raining = filled.max(axis=0, initial=0.0) > may_fall
    twice = np.any(fell[1:] & fell[:-1], axis=0)[raining]
    return bool(twice.size) and float(twice.mean()) > 1 - NEVER_FALLS


def _is_shorter_than_a_day(time: TimeAxis) -> bool:
    return not isinstance(time.length, str) and time.length < DAY


def common_rule(time: TimeAxis, resets: np.ndarray, wet: np.ndarray) -> ResetRule | None:
    """The rule by which accumulations begin anew.

    Parameters
    ----------
    resets : (K,) int
        Steps before which they did: values fall from that step to the next.
    wet : (T - 1,) bool
        Steps after which a new beginning would show.
    """
    adjoins = time.start[1:] == time.end[:-1]
    ends = time.end[:-1]
    seen = np.zeros(ends.size, bool)
    seen[resets] = True
    seen &= adjoins
    if not seen.any():
        return None
    for rule in _rules(ends[seen], time):
        at = rule.instants(int(time.start[0]), int(time.end[-1]), time.calendar)
        expected = np.isin(ends, at) & adjoins
        would_show = expected & wet
        if (seen & ~expected).any() or not would_show.any():
            continue
        if seen[would_show].mean() >= EXPECTED:
            return rule
    return None


def _rules(instants: np.ndarray, time: TimeAxis) -> Iterator[ResetRule]:
    """Rules that some new beginnings may follow, the most frequent first."""
    times, dates = np.unique(instants % DAY), to_dates(instants, time.calendar)
    yield ResetRule(DAILY, tuple(int(t) for t in times))
    if times.size == 1:
        if len({date.day for date in dates}) == 1:
            yield ResetRule(MONTHLY, (dates[0].day, int(times[0])))
        if len({(date.month, date.day) for date in dates}) == 1:
            yield ResetRule(YEARLY, (dates[0].month, dates[0].day, int(times[0])))
    if instants.size > 1:
        length = int(np.gcd.reduce(np.diff(instants)))
        yield ResetRule(REGULAR, (int(instants[0]), length))


@dataclass(frozen=True, eq=False)
class Differences:
    """Steps that are differences of accumulated values.

    Parameters
    ----------
    time
        What each difference covers.
    later, earlier : (T,) int64
        Steps whose values are subtracted; `earlier` is -1 where the later value stands by itself.
    left_out
        Steps that make none, since nothing tells what they begin with.
    """

    time: TimeAxis
    later: np.ndarray
    earlier: np.ndarray
    left_out: int


def differences(time: TimeAxis, beginnings: np.ndarray, how: str) -> Differences:
    """Which steps are subtracted from which.

    The first step after a beginning is the value itself, and so covers all since then; a missing
    step lengthens the next difference. A first step of the record whose beginning is earlier than
    the step itself is left out.

    Parameters
    ----------
    time
        Steps that end where values are accumulated to.
    beginnings : (T,) int64
        When the accumulation of each step began; the earliest instant where it is not known.
    how
        In words, for the resulting axis.
    """
    previous = np.append(np.iinfo(np.int64).min, time.end[:-1])
    anew = beginnings >= previous
    start = np.where(anew, beginnings, previous)
    earlier = np.where(anew, -1, np.arange(len(time)) - 1)
    keep = np.ones(len(time), bool)
    keep[0] = bool(anew[0]) and bool(beginnings[0] >= time.start[0])
    chosen = np.flatnonzero(keep)
    axis = TimeAxis(start[chosen], time.end[chosen], time.calendar, time.length, how)
    return Differences(axis, chosen, earlier[chosen], int((~keep).sum()))
