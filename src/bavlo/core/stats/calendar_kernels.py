"""Kernels of percentiles of calendar days: see `bavlo.compiled`."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import helper, kernel

AT_ONCE = 256  # cells whose values are put in order side by side

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one


@helper
def exchange(line: np.ndarray, moving: np.ndarray, width: int) -> None:
    """Keep the higher ones of two lines of cells in the first, the lower ones in the second."""
    for cell in range(width):
        one, other = line[cell], moving[cell]
        line[cell] = one if one > other else other
        moving[cell] = other if one > other else one


@helper
def keep_highest(
    values: np.ndarray, steps: np.ndarray, begin: int, width: int, upper: bool,
    kept: np.ndarray, moving: np.ndarray, number: np.ndarray,
) -> None:  # fmt: skip
    """The outermost values of a day of some cells, the outermost first; and how many there are.

    Parameters
    ----------
    steps : (years,) int64
        Steps of the day, -1 for none.
    kept : (most, AT_ONCE)
        Filled: of so many values, with the other sign where the lowest are kept.
    """
    kept[:] = -np.inf
    number[:] = 0
    for year in range(steps.size):
        step = steps[year]
        if step < 0:
            continue
        for cell in range(width):
            value = values[step, begin + cell]
            is_there = value == value
            number[cell] += is_there
            moving[cell] = (value if upper else -value) if is_there else -np.inf
        for to in range(min(year + 1, len(kept))):
            exchange(kept[to], moving, width)


@kernel
def limits_of_calendar_days(
    values: np.ndarray,
    step_of: np.ndarray,
    low: np.ndarray,
    share: np.ndarray,
    least: float,
    depth: int,
    upper: bool,
    span: int,
    room: np.ndarray,
    counts: np.ndarray,
    limit: np.ndarray,
) -> None:
    """One percentile of calendar days: `by_calendar_day`, but for 29 February.

    Values go into sorted lists by exchanges of neighbours, which take no branch: many cells at a
    time, five times faster than sorting. Only the outermost are kept, that the percentile can lie
    between.

    Parameters
    ----------
    values : (T, K) float
    step_of : (length, years) int64
        Steps of the base, -1 for none.
    low, share : (5 × years + 1,)
        Where the percentile of so many values lies.
    least
        With fewer values a sample has no percentile.
    depth, upper
        How many values around a day are kept, and whether the highest or the lowest.
    span
        Days around a calendar day.
    room : (length + 2, at least depth, AT_ONCE)
        For the sorted values of each day and what is made of them, of the type of the values.
    counts : (length + 1, AT_ONCE) int64
        Room for how many values there are of each day, and around one.
    limit : (length + 1, K) float64
        Filled but for the last day.
    """
    length, years = step_of.shape
    of_day = min(depth, years)
    merged, moving = room[length], room[length + 1, 0]
    number, total = counts[:length], counts[length]
    for begin in range(0, values.shape[1], AT_ONCE):
        width = min(AT_ONCE, values.shape[1] - begin)
        for day in range(length):
            kept = room[day, :of_day]
            keep_highest(values, step_of[day], begin, width, upper, kept, moving, number[day])
        for day in range(length):
            merged[:] = -np.inf
            total[:] = 0
            for n in range(span):
                around = (day + n - span // 2) % length
                for cell in range(width):
                    total[cell] += number[around, cell]
                for place in range(of_day):
                    moving[:] = room[around, place]
                    for to in range(place, depth):  # as many of its own stand before it
                        exchange(merged[to], moving, width)
            for cell in range(width):
                limit[day, begin + cell] = np.nan
                count = total[cell]
                if count < least:
                    continue
                at, part = low[count], share[count]
                exact = np.float64(merged[count - 1 - at if upper else at, cell])
                exact = exact if upper else -exact
                if part != 0.0:
                    following = np.float64(merged[count - 2 - at if upper else at + 1, cell])
                    following = following if upper else -following
                    exact = exact + part * (following - exact)
                limit[day, begin + cell] = exact
