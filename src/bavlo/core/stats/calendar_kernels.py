"""Kernels of percentiles of calendar days: plain loops that numba compiles.

See `bavlo.core.compiled`. Each says which function of arrays it stands for; tests hold both
against each other.
"""

from __future__ import annotations

import numpy as np

SURE = 1 - 1e-15  # a share that leaves no room for rounding beyond the value after

# ruff: noqa: PLR0913, C901 - a kernel takes its arrays one by one, and is one loop


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
    limit: np.ndarray,
) -> None:
    """`_Ordered.limits` of `bavlo.core.stats.bootstrap`.

    Parameters
    ----------
    least
        With fewer values a sample has no percentile.
    low, share : (number + 1,)
        Where the percentile of so many values lies.
    limit : (N, years) float64
        Filled; NaN for the year itself and where too little is there.
    """
    span, years = inner.shape[1], inner.shape[2]
    last = every.shape[1] - 1
    # The other years' values that may be the ones: of any stand-in, from `begin` on.
    others = np.empty(every.shape[1] + 2 * span + 4)
    place = np.empty(span, np.int64)
    for n in range(column.size):
        cell, own = column[n], year[n]
        # Where the year's own values stand among all, less their number; equal ones side by side.
        for s in range(span):
            left_out = inner[cell, s, own]
            before, after = 0, every.shape[1]
            while before < after:
                middle = (before + after) // 2
                if every[cell, middle] < left_out:
                    before = middle + 1
                else:
                    after = middle
            place[s] = before - s
            for earlier in range(s):
                if inner[cell, earlier, own] == left_out:
                    place[s] += 1
        rest = count[cell] - valid[cell, own]
        begin, end = every.shape[1], -1
        for y in range(years):
            number = rest + valid[cell, y]
            if y != own and number >= least:
                begin = min(begin, low[number] - span)
                end = max(end, low[number] + 1)
        begin = max(begin, 0)
        for at in range(begin, end + 1):
            if at >= rest:
                others[at] = np.inf
                continue
            among = at
            for s in range(span):
                if place[s] <= at:
                    among += 1
            others[at] = np.float64(every[cell, min(among, last)])
        for y in range(years):
            number = rest + valid[cell, y]
            if y == own or number < least:
                limit[n, y] = np.nan
                continue
            exact = following = np.inf
            for step in range(2):
                k = low[number] + 1 + step
                best = np.inf
                for j in range(span + 1):
                    at = k - j - 1
                    if at < -1:
                        break
                    value = -np.inf if at < 0 else others[at]
                    if j:
                        value = max(value, np.float64(inner[cell, j - 1, y]))
                    best = min(best, value)
                if step:
                    following = best
                else:
                    exact = best
                if share[number] == 0.0:
                    break
            if share[number] != 0.0:
                exact = exact + share[number] * (following - exact)
            limit[n, y] = exact


def of_calendar_days(
    table: np.ndarray,
    step_of: np.ndarray,
    low: np.ndarray,
    share: np.ndarray,
    least: float,
    above: np.ndarray,
    limit: np.ndarray,
    beyond: np.ndarray,
) -> None:
    """Percentiles of calendar days, and how far days are beyond them without judging themselves.

    `percentiles_and_exceedance`, but for 29 February. Only the values around a
    percentile are put in order: those of five sorted days, from the nearer end.

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
    limit : (Q, length + 1, K) float64
        Filled but for the last day.
    beyond : (Q, T, K) float64
        Filled at the steps of `step_of`.
    """
    length, cells, years = table.shape
    span = 5
    most = span * years
    ordered, number = np.empty((length, years)), np.zeros(length, np.int64)
    inner, valid = np.empty((years, span)), np.empty(years, np.int64)
    before_of, is_ordered = np.empty(years, np.int64), np.empty(years, np.bool_)
    band, others = np.empty(most + 4 * span + 8), np.empty(most + 4 * span + 8)
    around, at_list = np.empty(span, np.int64), np.empty(span, np.int64)
    place = np.empty(span, np.int64)
    for cell in range(cells):
        for day in range(length):
            count = 0
            for year in range(years):
                value = np.float64(table[day, cell, year])
                if value != value:
                    continue
                to = count
                while to > 0 and ordered[day, to - 1] > value:
                    ordered[day, to] = ordered[day, to - 1]
                    to -= 1
                ordered[day, to] = value
                count += 1
            number[day] = count
        for day in range(length):
            total = 0
            for n in range(span):
                around[n] = (day + n - span // 2) % length
                total += number[around[n]]
            is_ordered[:] = False
            valid[:] = 0
            for n in range(span):
                values = table[around[n], cell]
                for year in range(years):
                    valid[year] += values[year] == values[year]
            for q in range(low.shape[0]):
                # Places of the sorted values that any sample's percentile can lie between.
                first = max(low[q, max(total - span, 0)] - span, 0)
                last = min(low[q, total + span] + 1 + span, most - 1)
                for at in range(max(first, total), last + 1):
                    band[at - first] = np.inf
                if total - first < last + 1:
                    for n in range(span):
                        at_list[n] = number[around[n]] - 1
                    for at in range(total - 1, first - 1, -1):
                        best, chosen = -np.inf, -1
                        for n in range(span):
                            if at_list[n] >= 0:
                                value = ordered[around[n], at_list[n]]
                                if chosen < 0 or value > best:
                                    best, chosen = value, n
                        at_list[chosen] -= 1
                        if at <= last:
                            band[at - first] = best
                else:
                    for n in range(span):
                        at_list[n] = 0
                    for at in range(min(last + 1, total)):
                        best, chosen = np.inf, -1
                        for n in range(span):
                            if at_list[n] < number[around[n]]:
                                value = ordered[around[n], at_list[n]]
                                if chosen < 0 or value < best:
                                    best, chosen = value, n
                        at_list[chosen] += 1
                        if at >= first:
                            band[at - first] = best
                if total < least:
                    limit[q, day, cell] = np.nan
                else:
                    at = low[q, total]
                    exact = band[at - first]
                    if share[q, total] != 0.0:
                        exact = exact + share[q, total] * (band[at + 1 - first] - exact)
                    limit[q, day, cell] = exact
                # Beyond these a value is under all stand-ins, or under none.
                lowest = band[0] if low[q, max(total - span, 0)] - span >= 0 else -np.inf
                highest = np.inf
                if low[q, total + span] + 1 + span <= most - 1:
                    highest = band[last - first]
                for own in range(years):
                    step = step_of[day, own]
                    if step < 0:
                        continue
                    value = np.float64(table[day, cell, own])
                    if value != value:
                        beyond[q, step, cell] = np.nan
                        continue
                    if total - span >= least and not lowest <= value <= highest:
                        is_beyond = value > highest if above[q] else value < lowest
                        beyond[q, step, cell] = 1.0 if is_beyond else 0.0
                        continue
                    # How many of all but its own year's, and of each year's, are before it.
                    before_all = first
                    before_of[:] = 0
                    if above[q]:
                        for at in range(last + 1 - first):
                            before_all += band[at] < value
                        for n in range(span):
                            values = table[around[n], cell]
                            for year in range(years):
                                before_of[year] += values[year] < value
                    else:
                        for at in range(last + 1 - first):
                            before_all += band[at] <= value
                        for n in range(span):
                            values = table[around[n], cell]
                            for year in range(years):
                                before_of[year] += values[year] <= value
                    before_all -= before_of[own]
                    rest = total - valid[own]
                    has_others = False
                    judged, met = 0, 0
                    for year in range(years):
                        count = rest + valid[year]
                        if year == own or count < least:
                            continue
                        # A percentile is not below the value before it, nor above that after it.
                        at = before_all + before_of[year] - low[q, count]
                        if share[q, count] < SURE and at != 1:
                            judged += 1
                            met += above[q] == (at > 1)
                            continue
                        for each in (own, year):
                            if is_ordered[each]:
                                continue
                            is_ordered[each] = True
                            k = 0
                            for n in range(span):
                                moved = np.float64(table[around[n], cell, each])
                                if moved != moved:
                                    continue
                                to = k
                                while to > 0 and inner[each, to - 1] > moved:
                                    inner[each, to] = inner[each, to - 1]
                                    to -= 1
                                inner[each, to] = moved
                                k += 1
                            inner[each, k:] = np.inf
                        if not has_others:
                            has_others = True
                            # Where the year's own values stand among all, less their number.
                            for s in range(span):
                                left_out = inner[own, s]
                                before, after = first, last + 1
                                while before < after:
                                    middle = (before + after) // 2
                                    if band[middle - first] < left_out:
                                        before = middle + 1
                                    else:
                                        after = middle
                                place[s] = before - s
                                for earlier in range(s):
                                    if inner[own, earlier] == left_out:
                                        place[s] += 1
                            begin, end = most, -1
                            for other in range(years):
                                number_of = rest + valid[other]
                                if other != own and number_of >= least:
                                    begin = min(begin, low[q, number_of] - span)
                                    end = max(end, low[q, number_of] + 1)
                            begin = max(begin, 0)
                            for at in range(begin, end + 1):
                                if at >= rest:
                                    others[at - begin] = np.inf
                                    continue
                                among = at
                                for s in range(span):
                                    if place[s] <= at:
                                        among += 1
                                others[at - begin] = band[min(among, most - 1) - first]
                        # The k-th of the others and a stand-in's: j of its values are before it.
                        j = span * low[q, count] // max(total, 1)
                        exact = following = np.inf
                        for which in range(2):
                            k = low[q, count] + which
                            while j > 0 and (
                                k - j < 0 or inner[year, j - 1] > others[k - j - begin]
                            ):
                                j -= 1
                            while (
                                j < span
                                and k - j - 1 >= 0
                                and inner[year, j] < others[k - j - 1 - begin]
                            ):
                                j += 1
                            best = others[k - j - begin]
                            if j < span:
                                best = min(best, inner[year, j])
                            if which:
                                following = best
                                break
                            exact = best
                            if share[q, count] == 0.0:
                                break
                        if share[q, count] != 0.0:
                            exact = exact + share[q, count] * (following - exact)
                        if exact != exact:
                            continue
                        judged += 1
                        if above[q]:
                            met += value > exact
                        else:
                            met += value < exact
                    beyond[q, step, cell] = met / judged if judged else np.nan


AT_ONCE = 256  # cells whose values are put in order side by side


def limits_of_calendar_days(
    values: np.ndarray,
    step_of: np.ndarray,
    low: np.ndarray,
    share: np.ndarray,
    least: float,
    depth: int,
    upper: bool,
    room: np.ndarray,
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
    room : (length + 2, at least depth, AT_ONCE)
        For the sorted values of each day and what is made of them, of the type of the values.
    limit : (length + 1, K) float64
        Filled but for the last day.
    """
    length, years = step_of.shape
    cells = values.shape[1]
    span = 5
    of_day = min(depth, years)
    merged, moving = room[length], room[length + 1, 0]
    number = np.zeros((length, AT_ONCE), np.int64)
    for begin in range(0, cells, AT_ONCE):
        width = min(AT_ONCE, cells - begin)
        number[:] = 0
        for day in range(length):
            kept = room[day]
            kept[:] = -np.inf
            for year in range(years):
                step = step_of[day, year]
                if step < 0:
                    continue
                for cell in range(width):
                    value = values[step, begin + cell]
                    is_there = value == value
                    number[day, cell] += is_there
                    moving[cell] = (value if upper else -value) if is_there else -np.inf
                for to in range(min(year + 1, of_day)):
                    for cell in range(width):
                        one, other = kept[to, cell], moving[cell]
                        kept[to, cell] = one if one > other else other
                        moving[cell] = other if one > other else one
        for day in range(length):
            merged[:] = -np.inf
            for n in range(span):
                kept = room[(day + n - span // 2) % length]
                for place in range(of_day):
                    moving[:] = kept[place]
                    for to in range(place, depth):  # as many of its own stand before it
                        for cell in range(width):
                            one, other = merged[to, cell], moving[cell]
                            merged[to, cell] = one if one > other else other
                            moving[cell] = other if one > other else one
            for cell in range(width):
                total = 0
                for n in range(span):
                    total += number[(day + n - span // 2) % length, cell]
                if total < least:
                    limit[day, begin + cell] = np.nan
                    continue
                at = low[total]
                exact = following = np.float64(merged[total - 1 - at if upper else at, cell])
                if share[total] != 0.0:
                    following = np.float64(merged[total - 2 - at if upper else at + 1, cell])
                if not upper:
                    exact, following = -exact, -following
                if share[total] != 0.0:
                    exact = exact + share[total] * (following - exact)
                limit[day, begin + cell] = exact
