"""Kernels of the statistics: plain loops that numba compiles. See `bavlo.core.compiled`.

Each says which function of arrays it stands for; tests hold both against each other.
"""

from __future__ import annotations

import numpy as np

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
    """`_Ordered.limits` of calendar percentiles.

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
