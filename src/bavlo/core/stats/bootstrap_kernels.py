"""Kernels of the bootstrap of calendar days: see `bavlo.compiled`.

Each says which function of arrays it stands for; tests hold both
against each other. Of the values around a day only those around a percentile are put in order: the
band, from the place `first` to the place `last` of all of them ascending.
"""

from __future__ import annotations

import numpy as np

from bavlo.compiled import helper, kernel

SPAN = 5  # days around a calendar day
SURE = 1 - 1e-15  # a share that leaves no room for rounding beyond the value after

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one


@helper
def insert(line: np.ndarray, count: int, value: float) -> None:
    """Put one more value into a line of so many that ascend."""
    to = count
    while to > 0 and line[to - 1] > value:
        line[to] = line[to - 1]
        to -= 1
    line[to] = value


@helper
def order_days(table: np.ndarray, cell: int, ordered: np.ndarray, number: np.ndarray) -> None:
    """The values of each day (length, years) ascending, and how many (length,) there are."""
    for day in range(table.shape[0]):
        values, count = table[day, cell], 0
        for year in range(values.size):
            value = np.float64(values[year])
            if value == value:
                insert(ordered[day], count, value)
                count += 1
        number[day] = count


@helper
def look_around(
    table: np.ndarray, cell: int, day: int, number: np.ndarray, days: np.ndarray, valid: np.ndarray
) -> int:
    """Say which days (5,) are around a calendar day, and how many values each year has there.

    Returns
    -------
    total
        How many values there are.
    """
    total = 0
    valid[:] = 0
    for n in range(SPAN):
        around = (day + n - SPAN // 2) % table.shape[0]
        days[n] = around
        total += number[around]
        values = table[around, cell]
        for year in range(valid.size):
            valid[year] += values[year] == values[year]
    return total


@helper
def between(line: np.ndarray, at: int, share: float) -> float:
    """A percentile that lies between two values of a sorted line."""
    exact = line[at]
    if share != 0.0:
        exact = exact + share * (line[at + 1] - exact)
    return float(exact)


@helper
def is_beyond(value: float, limit: float, above: bool) -> bool:
    """Whether a value is beyond a limit."""
    return value > limit if above else value < limit


@helper
def fill_band(
    ordered: np.ndarray, number: np.ndarray, days: np.ndarray, total: int,
    first: int, last: int, cursor: np.ndarray, band: np.ndarray,
) -> None:  # fmt: skip
    """Merge the sorted days around, from the nearer end; infinite where there is no more.

    Parameters
    ----------
    total
        How many values they have.
    cursor : (5,) int64
        Room for where each day is.
    """
    for at in range(max(first, total), last + 1):
        band[at - first] = np.inf
    if total - first < last + 1:
        for n in range(SPAN):
            cursor[n] = number[days[n]] - 1
        for at in range(total - 1, first - 1, -1):
            value = take_highest(ordered, days, cursor)
            if at <= last:
                band[at - first] = value
    else:
        cursor[:] = 0
        for at in range(min(last + 1, total)):
            value = take_lowest(ordered, number, days, cursor)
            if at >= first:
                band[at - first] = value


@helper
def take_highest(ordered: np.ndarray, days: np.ndarray, cursor: np.ndarray) -> float:
    """The highest value of the days that is left, whose cursor moves down."""
    best, chosen = -np.inf, -1
    for n in range(SPAN):
        if cursor[n] >= 0:
            value = ordered[days[n], cursor[n]]
            if chosen < 0 or value > best:
                best, chosen = value, n
    cursor[chosen] -= 1
    return float(best)


@helper
def take_lowest(
    ordered: np.ndarray, number: np.ndarray, days: np.ndarray, cursor: np.ndarray
) -> float:
    """The lowest value of the days that is left, whose cursor moves up."""
    best, chosen = np.inf, -1
    for n in range(SPAN):
        if cursor[n] < number[days[n]]:
            value = ordered[days[n], cursor[n]]
            if chosen < 0 or value < best:
                best, chosen = value, n
    cursor[chosen] += 1
    return float(best)


@helper
def count_below(line: np.ndarray, value: float, strictly: bool) -> int:
    """How many of a line's values are before a value, or not after it."""
    count = 0
    if strictly:
        for at in range(line.size):
            count += line[at] < value
    else:
        for at in range(line.size):
            count += line[at] <= value
    return count


@helper
def order_year(
    table: np.ndarray, cell: int, days: np.ndarray, year: int, inner: np.ndarray
) -> None:
    """Fill in a year's values (5,): ascending, infinite after the last one."""
    count = 0
    for n in range(SPAN):
        value = np.float64(table[days[n], cell, year])
        if value == value:
            insert(inner, count, value)
            count += 1
    inner[count:] = np.inf


@helper
def find_places(
    line: np.ndarray, first: int, last: int, inner: np.ndarray, place: np.ndarray
) -> None:
    """Where a year's own values stand among all, less their number; equal ones side by side.

    Parameters
    ----------
    line
        The sorted values of all years, from the place `first` to `last`.
    inner, place : (5,)
        The year's values ascending, and what is filled.
    """
    for s in range(inner.size):
        before, after = first, last + 1
        while before < after:
            middle = (before + after) // 2
            if line[middle - first] < inner[s]:
                before = middle + 1
            else:
                after = middle
        place[s] = before - s
        for earlier in range(s):
            if inner[earlier] == inner[s]:
                place[s] += 1


@helper
def fill_others(
    line: np.ndarray, first: int, last: int, place: np.ndarray, rest: int, others: np.ndarray,
    begin: int, end: int,
) -> None:  # fmt: skip
    """The sorted values of all years but one, from the place `begin` to the place `end`.

    Parameters
    ----------
    line, first, place
        As for `find_places`.
    last
        The last place of `line`.
    rest
        How many values the other years have.
    """
    for at in range(begin, end + 1):
        if at >= rest:
            others[at - begin] = np.inf
            continue
        among = at
        for s in range(place.size):
            if place[s] <= at:
                among += 1
        others[at - begin] = np.float64(line[min(among, last) - first])


@helper
def with_stand_in(
    others: np.ndarray, begin: int, inner: np.ndarray, low: int, share: float, guess: int
) -> float:
    """A percentile of the other years' values and those of a year that stands in once more.

    The k-th lowest of two sorted lines together: j of the second one's values are before it.

    Parameters
    ----------
    others, begin
        As of `fill_others`.
    inner : (5,)
        Of the year that stands in, ascending.
    guess
        About how many of these are before the percentile.
    """
    span, j = inner.size, guess
    exact = following = np.inf
    for which in range(2):
        k = low + which
        while j > 0 and (k - j < 0 or inner[j - 1] > others[k - j - begin]):
            j -= 1
        while j < span and k - j - 1 >= 0 and inner[j] < others[k - j - 1 - begin]:
            j += 1
        best = others[k - j - begin]
        if j < span:
            best = min(best, np.float64(inner[j]))
        if which:
            following = best
            break
        exact = best
        if share == 0.0:
            break
    if share != 0.0:
        exact = exact + share * (following - exact)
    return exact


@helper
def outermost(
    rest: int, valid: np.ndarray, own: int, least: float, low: np.ndarray, span: int
) -> tuple[int, int]:
    """First and last place among the other years' values that any stand-in may need."""
    begin, end = low[low.size - 1] + span, -1
    for year in range(valid.size):
        number = rest + valid[year]
        if year != own and number >= least:
            begin = min(begin, low[number] - span)
            end = max(end, low[number] + 1)
    return max(begin, 0), end


@kernel
def stand_in_limits(
    every: np.ndarray,
    inner: np.ndarray,
    valid: np.ndarray,
    count: np.ndarray,
    column: np.ndarray,
    year: np.ndarray,
    least: float,
    low: np.ndarray,
    share: np.ndarray,
    others: np.ndarray,
    place: np.ndarray,
    limit: np.ndarray,
) -> None:
    """`_Ordered.limits` of `bavlo.core.stats.bootstrap`.

    Parameters
    ----------
    least
        With fewer values a sample has no percentile.
    low, share : (number + 1,)
        Where the percentile of so many values lies.
    others, place : (values + 2 × span + 4,) float64 and (span,) int64
        Room.
    limit : (N, years) float64
        Filled; NaN for the year itself and where too little is there.
    """
    span, years = inner.shape[1], inner.shape[2]
    last = every.shape[1] - 1
    for n in range(column.size):
        cell, own = column[n], year[n]
        rest = count[cell] - valid[cell, own]
        find_places(every[cell], 0, last, inner[cell, :, own], place)
        begin, end = outermost(rest, valid[cell], own, least, low, span)
        fill_others(every[cell], 0, last, place, rest, others, begin, end)
        for y in range(years):
            number = rest + valid[cell, y]
            limit[n, y] = np.nan
            if y != own and number >= least:
                values = inner[cell, :, y]
                limit[n, y] = with_stand_in(others, begin, values, low[number], share[number], 0)


def rooms_of(table: np.ndarray) -> tuple[np.ndarray, ...]:
    """What `of_calendar_days` needs of room for values (length, K, years)."""
    length, _, years = table.shape
    return (
        np.empty((length, years)),
        np.empty((years, SPAN)),
        np.empty((2, SPAN * years + 4 * SPAN + 8)),
        np.empty(length, np.int64),
        np.empty((3, years), np.int64),
        np.empty((2, SPAN), np.int64),
    )


@kernel
def of_calendar_days(  # noqa: C901 - what it calls more would take long to call
    table: np.ndarray,
    step_of: np.ndarray,
    low: np.ndarray,
    share: np.ndarray,
    least: float,
    above: np.ndarray,
    ordered: np.ndarray,
    inner: np.ndarray,
    lines: np.ndarray,
    number: np.ndarray,
    of_years: np.ndarray,
    of_days: np.ndarray,
    limit: np.ndarray,
    beyond: np.ndarray,
) -> None:
    """Percentiles of calendar days, and how far days are beyond them without judging themselves.

    `percentiles_and_exceedance`, but for 29 February.

    Parameters
    ----------
    table : (length, K, years) float
        Values of the base, NaN where there are none.
    step_of : (length, years) int64
        The step of each, -1 for none.
    low, share : (Q, 5 × years + 6)
        Where each percentile of so many values lies.
    least
        With fewer values a sample has no percentile.
    above : (Q,) bool
        Whether days above the percentile count, else those below.
    ordered, inner : (length, years) and (years, 5) float64
        Room for the sorted values of each day, and of each year around a day.
    lines : (2, 5 × years + 28) float64
        Room for sorted values.
    number, of_years, of_days : (length,), (3, years) and (2, 5) int64
        Room for how many values there are, and where.
    limit : (Q, length + 1, K) float64
        Filled but for the last day.
    beyond : (Q, T, K) float64
        Filled at the steps of `step_of`.
    """
    length, cells, years = table.shape
    most = SPAN * years
    band, others = lines[0], lines[1]
    valid, before, is_ordered = of_years[0], of_years[1], of_years[2]
    days, place = of_days[0], of_days[1]
    for cell in range(cells):
        order_days(table, cell, ordered, number)
        for day in range(length):
            total = look_around(table, cell, day, number, days, valid)
            is_ordered[:] = 0
            for q in range(low.shape[0]):
                # Places of the sorted values that any sample's percentile can lie between.
                first = low[q, max(total - SPAN, 0)] - SPAN
                last = low[q, total + SPAN] + 1 + SPAN
                # Beyond these a value is under all stand-ins, or under none.
                has_lowest, has_highest = first >= 0, last <= most - 1
                first, last = max(first, 0), min(last, most - 1)
                fill_band(ordered, number, days, total, first, last, place, band)
                lowest = band[0] if has_lowest else -np.inf
                highest = band[last - first] if has_highest else np.inf
                limit[q, day, cell] = np.nan
                if total >= least:
                    limit[q, day, cell] = between(band, low[q, total] - first, share[q, total])
                for own in range(years):
                    step = step_of[day, own]
                    if step < 0:
                        continue
                    value = np.float64(table[day, cell, own])
                    if value != value:
                        beyond[q, step, cell] = np.nan
                        continue
                    if total - SPAN >= least and not lowest <= value <= highest:
                        outer = highest if above[q] else lowest
                        beyond[q, step, cell] = 1.0 if is_beyond(value, outer, above[q]) else 0.0
                        continue
                    # How many of each year's values, and of all but its own, are before it. Here,
                    # since calling a function for it would take a tenth of all the time.
                    before[:] = 0
                    if above[q]:
                        for n in range(SPAN):
                            values = table[days[n], cell]
                            for year in range(years):
                                before[year] += values[year] < value
                    else:
                        for n in range(SPAN):
                            values = table[days[n], cell]
                            for year in range(years):
                                before[year] += values[year] <= value
                    before_all = first - before[own]
                    before_all += count_below(band[: last + 1 - first], value, above[q])
                    rest = total - valid[own]
                    begin = end = -1
                    judged, met = 0, 0
                    for year in range(years):
                        count = rest + valid[year]
                        if year == own or count < least:
                            continue
                        # A percentile is not below the value before it, nor above that after it.
                        at = before_all + before[year] - low[q, count]
                        if share[q, count] < SURE and at != 1:
                            judged += 1
                            met += above[q] == (at > 1)
                            continue
                        for each in (own, year):
                            if is_ordered[each] == 0:
                                is_ordered[each] = 1
                                order_year(table, cell, days, each, inner[each])
                        if begin < 0:
                            find_places(band, first, last, inner[own], place)
                            begin, end = outermost(rest, valid, own, least, low[q], SPAN)
                            fill_others(band, first, last, place, rest, others, begin, end)
                        guess = SPAN * low[q, count] // max(total, 1)
                        exact = with_stand_in(
                            others, begin, inner[year], low[q, count], share[q, count], guess
                        )
                        if exact == exact:
                            judged += 1
                            met += is_beyond(value, exact, above[q])
                    beyond[q, step, cell] = met / judged if judged else np.nan
