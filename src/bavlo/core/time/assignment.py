"""Which steps belong to which periods, and by how much of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.time.axis import DAY, PERIOD, TimeAxis, iso_days
from bavlo.core.time.periods import PeriodAxis, PeriodRule, periods_between
from bavlo.errors import RequestError


@dataclass(frozen=True, eq=False)
class Assignment:
    """Which steps belong to which periods.

    Parameters
    ----------
    step, period : (N,) int64
        Pairs, ascending by step and then period.
    share : (N,) float64
        Part of the step that belongs to the period, by time.
    expected : (P,) float64
        How many steps each period has when none is missing.
    """

    step: np.ndarray
    period: np.ndarray
    share: np.ndarray
    expected: np.ndarray

    @cached_property
    def step_ranges(self) -> tuple[np.ndarray, np.ndarray]:
        """First step of each period and the one after its last, (P,) int64 each.

        Of a period without steps the first is beyond all steps and the last is 0.
        """
        periods = np.arange(self.expected.size)
        low = np.searchsorted(self.period, periods, side="left")
        high = np.searchsorted(self.period, periods, side="right")
        step = np.append(self.step, np.iinfo(np.int64).max)
        known = high > low
        first = np.where(known, step[low], step[-1])
        return first, np.where(known, step[np.maximum(high - 1, 0)] + 1, 0)


def assign_steps(time: TimeAxis, periods: PeriodAxis, *, may_share: bool) -> Assignment:
    """Let steps fall into periods.

    A step of a day or less belongs whole to the period that holds its middle. A longer step that
    straddles a period's edge is shared out by time.

    Parameters
    ----------
    periods
        In order of time and without overlap.
    may_share
        Whether shares of a step make sense (totals and means, not lowest and highest values).
    """
    expected = expected_steps(time, periods)
    if time.at_most_daily:
        longer = time.duration > DAY
        step, position = _holding_middles(time, periods, ~longer)
        share = np.ones(step.size)
        if longer.any():  # differences of accumulated values over a missing step
            return Assignment(*_with_longer(time, periods, longer, step, position), expected)
        return Assignment(step, position, share, expected)
    step, position, share = _shared_out(time.start, time.end, periods)
    if not may_share and (share < 1).any():
        split = int(step[share < 1][0])
        when = iso_days(time.start[[split]], time.calendar)[0]
        raise RequestError(
            "combine",
            f"the step that begins {when} straddles the edge of a period",
            "a lowest or highest value cannot be shared out; use total or mean",
        )
    return Assignment(step, position, share, expected)


def _holding_middles(
    time: TimeAxis, periods: PeriodAxis, which: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Steps and the periods that hold their middles."""
    middle = time.start + time.duration // 2
    position = np.searchsorted(periods.start, middle, side="right") - 1
    inside = (position >= 0) & (middle < periods.end[np.maximum(position, 0)])
    step = np.flatnonzero(inside & which)
    return step, position[step]


def _with_longer(
    time: TimeAxis,
    periods: PeriodAxis,
    longer: np.ndarray,
    step: np.ndarray,
    period: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Steps, periods and shares with those of steps that are longer than a day.

    These are shared out among periods, but for those that are shorter than the step itself: days
    are never made of what fell on several.
    """
    which = np.flatnonzero(longer)
    nth, position, share = _shared_out(time.start[which], time.end[which], periods)
    length = (periods.end - periods.start)[position]
    keep = length >= time.duration[which[nth]]
    steps = np.concatenate([step, which[nth[keep]]])
    found = np.concatenate([period, position[keep]])
    shares = np.concatenate([np.ones(step.size), share[keep]])
    order = np.lexsort((found, steps))
    return steps[order], found[order], shares[order]


def expected_steps(time: TimeAxis, periods: PeriodAxis) -> np.ndarray:
    """(P,) how many steps each period has when none is missing; may be fractional."""
    if not isinstance(time.length, str):
        return np.asarray((periods.end - periods.start) / time.length)
    if not len(periods):
        return np.zeros(0)
    if time.length == PERIOD:
        _, position, share = _shared_out(time.start, time.end, periods)
        return np.bincount(position, weights=share, minlength=len(periods))
    ideal = periods_between(
        PeriodRule(time.length), time.calendar, int(periods.start[0]), int(periods.end[-1])
    )
    _, position, share = _shared_out(ideal.start, ideal.end, periods)
    return np.bincount(position, weights=share, minlength=len(periods))


def _shared_out(
    start: np.ndarray, end: np.ndarray, periods: PeriodAxis
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    first = np.searchsorted(periods.end, start, side="right")
    after = np.searchsorted(periods.start, end, side="left")
    count = np.maximum(after - first, 0)
    step = np.repeat(np.arange(start.size), count)
    nth = np.arange(step.size) - np.repeat(np.cumsum(count) - count, count)
    position = first[step] + nth
    shared = np.minimum(end[step], periods.end[position]) - np.maximum(
        start[step], periods.start[position]
    )
    share = shared / (end - start)[step]
    keep = share > 0
    return step[keep], position[keep], share[keep]
