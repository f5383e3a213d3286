"""Kernels of percentiles of regions: plain loops that numba compiles.

See `bavlo.compiled`. Each says which function of arrays it stands for; tests hold both
against each other.
"""

from __future__ import annotations

import numpy as np

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one


RUN = 8  # as in `bavlo.core.stats.spatial`
WHOLE = 2**63 - 1  # the bits of a float64 but for its sign
INFINITE = {4: 0x7F80 << 48, 8: 0x7FF0 << 48}  # the bits of infinity, by the bytes of a float
NO_VALUE = 0x7FF8 << 48  # the rank of what has no value or no weight, above that of infinity


def ranks_of_cells(
    bits: np.ndarray,
    infinite: int,
    cells: np.ndarray,
    skipped: np.ndarray,
    low: int,
    key: np.ndarray,
) -> bool:
    """The ranks of the cells of regions of like size, each with its place in the lowest bits.

    Parameters
    ----------
    bits : (T, C) int64 or int32
        Of the values as float64 or float32; the latter are taken for the upper half of an int64.
    infinite
        The bits of infinity, as an int64.
    cells : (G, n) uint32
        The cells of each region; the first `skipped` of them have no weight.
    low
        The bits that a place takes, as ones.
    key : (T, G, n) int64
        Filled: in the order of the values, NO_VALUE for NaN and for what has no weight.

    Returns
    -------
    exact
        Whether values of the same rank are the same.
    """
    steps, regions, size = key.shape
    used, shift = np.int64(0), np.int64(64 - 8 * bits.itemsize)
    for t in range(steps):
        for g in range(regions):
            for j in range(size):
                key[t, g, j] = np.int64(bits[t, cells[g, j]]) << shift
            for j in range(size):
                own = key[t, g, j]
                used |= own
                magnitude = own & np.int64(WHOLE)
                sign = own >> np.int64(63)
                rank = ((magnitude ^ sign) - sign) & ~np.int64(low)  # -0.0 is 0.0
                # Without a branch, and without fetching, the loop goes eight cells at a time.
                nothing = (np.int64(infinite) - magnitude) >> np.int64(63)
                key[t, g, j] = (rank & ~nothing) | (np.int64(NO_VALUE) & nothing) | np.int64(j)
            for j in range(skipped[g]):
                key[t, g, j] = np.int64(NO_VALUE) | np.int64(j)
    return bool(used & np.int64(low) == 0)


def order_ties(
    row: np.ndarray, count: int, mask: np.int64, values: np.ndarray, cells: np.ndarray
) -> None:
    """Put different values of one rank into their order; there are next to none.

    Parameters
    ----------
    row : (n,) int64
        Sorted keys, of which the first `count` are ordered.
    mask
        The bits of a place.
    values, cells : (C,) and (n,)
        Of all cells; the cells of the region.
    """
    for j in range(1, count):
        moved, to = row[j], j
        value = values[cells[moved & mask]]
        while (
            to > 0
            and row[to - 1] & ~mask == moved & ~mask
            and values[cells[row[to - 1] & mask]] > value
        ):
            row[to] = row[to - 1]
            to -= 1
        row[to] = moved


def sum_by_runs(weight: np.ndarray, ends: np.ndarray) -> float:
    """The sum of weights, and the sum up to the end of each run of eight."""
    whole = 0.0
    for r in range(ends.size):
        b = r * RUN
        eight = ((weight[b] + weight[b + 1]) + (weight[b + 2] + weight[b + 3])) + (
            (weight[b + 4] + weight[b + 5]) + (weight[b + 6] + weight[b + 7])
        )
        whole = eight if r == 0 else eight + whole
        ends[r] = whole
    return whole


def find_between(
    weight: np.ndarray, ends: np.ndarray, target: float, run: int
) -> tuple[int, int, float, int]:
    """The two places whose midpoints a target lies between, the share of the second, and its run.

    Parameters
    ----------
    weight, ends
        As in `sum_by_runs`; cells of no weight stand last. Midpoints never fall, so that the first
        one that is not below the target ends the search.
    run
        A run whose predecessors all end below the target.
    """
    while run < ends.size - 1 and ends[run] - weight[run * RUN + RUN - 1] / 2 < target:
        run += 1
    up_to, below = ends[run - 1] if run > 0 else 0.0, 0
    while below < RUN:
        own = weight[run * RUN + below]
        if not (own > 0 and up_to + own / 2 < target):
            break
        up_to += own
        below += 1
    above = run * RUN + below
    first, second = max(above - 1, 0), min(above, weight.size - 1)
    if not weight[second] > 0:
        second = first
    share = 0.0
    if second > first:
        half = (weight[first] + weight[second]) / 2
        share = (target - up_to + weight[first] / 2) / half
        share = min(max(share, 0.0), 1.0)
    return first, second, share, run


def bits_of_rank(rank: np.int64) -> np.int64:
    """The bits of the value that has a rank, where no bits were left out of it."""
    sign = rank >> np.int64(63)
    return ((rank + sign) ^ sign) | (sign & ~np.int64(WHOLE))


def percentiles_of_ranked(
    block: np.ndarray,
    cells: np.ndarray,
    weights: np.ndarray,
    skipped: np.ndarray,
    low: int,
    key: np.ndarray,
    exact: bool,
    parts: np.ndarray,
    regions: np.ndarray,
    begin: int,
    weight: np.ndarray,
    ends: np.ndarray,
    bits: np.ndarray,
    out: np.ndarray,
) -> None:
    """What `weighted_percentiles` does once the keys of `ranks_of_cells` are sorted.

    Parameters
    ----------
    block : (T, C) float64 or float32
    weights : (G, n) float64
        Ascending.
    key : (T, G, n) int64
        Sorted along n; changed where values have the same rank and are not the same.
    exact
        That no values are so.
    parts : (Q,) float64
        Percents as parts of one, ascending.
    regions : (G,)
        Which they are of all R.
    weight, ends : (n,) and (n // RUN,) float64
        Room for the weights of a region, and for their sums.
    bits : (2,) int64
        Room for two values.
    out : (Q, all steps, R) float64
        Filled for these, from the step `begin` on.
    """
    steps, _, size = key.shape
    # The bits of a float32 are the upper half of those of its rank.
    numbers = bits.view(block.dtype)[8 // block.itemsize - 1 :: 8 // block.itemsize]
    mask = np.int64(low)
    for t in range(steps):
        values = block[t]
        for g, region in enumerate(regions):
            row = key[t, g]
            count = size - skipped[g]
            while count > 0 and row[count - 1] >= np.int64(NO_VALUE):
                count -= 1
            if not exact:
                order_ties(row, count, mask, values, cells[g])
            for j in range(count):
                weight[j] = weights[g, np.uint64(row[j] & mask)]
            weight[count:] = 0.0
            whole, run = sum_by_runs(weight, ends), 0
            for p in range(parts.size):
                out[p, begin + t, region] = np.nan
                if whole > 0:
                    target = whole * parts[p]
                    first, second, share, run = find_between(weight, ends, target, run)
                    if exact:  # the keys are near, the values are not: a tenth of the time
                        bits[0] = bits_of_rank(row[first] & ~mask)
                        bits[1] = bits_of_rank(row[second] & ~mask)
                    else:
                        numbers[0] = values[cells[g, row[first] & mask]]
                        numbers[1] = values[cells[g, row[second] & mask]]
                    low_value, high_value = np.float64(numbers[0]), np.float64(numbers[1])
                    out[p, begin + t, region] = low_value + share * (high_value - low_value)
