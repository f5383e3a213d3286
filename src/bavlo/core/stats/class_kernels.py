"""Kernels that add up areas of class codes: see `bavlo.compiled`."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import helper, kernel
from bavlo.core.stats.part_runs import IN_TURN

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one


@helper
def move_sum(
    sums: np.ndarray, share: float, factor: float, factor_km: float, total: np.ndarray
) -> None:
    """Add the sums of a code in a run to those of its region, and begin anew."""
    width = (sums[0] + sums[1]) + (sums[2] + sums[3])
    total[0] += share * (factor * width)
    total[1] += share * (factor_km * width)
    sums[0] = sums[1] = sums[2] = sums[3] = 0.0


@kernel
def note_codes(values: np.ndarray, low: int, place: np.ndarray, held: np.ndarray) -> bool:
    """Note which class codes runs hold, counted from the lowest; whether all are whole numbers.

    Parameters
    ----------
    values : (C,) float64
        NaN where there is no data.
    place : (2, N) int64
        First cell of each run and the one after its last.
    held : (K,) bool
        Made true.
    """
    whole = True
    for run in range(place.shape[1]):
        own = values[place[0, run] : place[1, run]]
        for x in range(own.size):
            if own[x] == own[x]:
                code = int(own[x])
                held[code - low] = True
                whole &= code == own[x]
    return whole


@kernel
def add_codes(
    values: np.ndarray,
    low: int,
    number_of: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    place: np.ndarray,
    region: np.ndarray,
    fraction: np.ndarray,
    total: np.ndarray,
    sums: np.ndarray,
) -> None:
    """Areas of class codes times the covered share of their cells, run by run.

    Neighbours often share a code, and a sum waits for the one before it: so each code has as many
    sums as `IN_TURN`, to which the cells of a run are added in turn.

    Parameters
    ----------
    values : (C,) float64
        Codes, NaN where there is no data.
    low
        The lowest of all.
    number_of : (K,) int32
        The place of each code, counted from the lowest, among the L codes that are there.
    rows : (2, n) float64
        One factor of both sorts of areas.
    columns : (m, nx) float64
        The other factor: one for all rows, or of each row.
    place : (2, N) int64
        First cell of each run and the one after its last, of one row.
    region, fraction : (N,)
        Whose run it is, and the share of each cell that is covered.
    total : (R, L, 2) float64
        Added to.
    sums : (L, IN_TURN) float64
        Room of zeros, which are left as such.
    """
    width = columns.shape[1]
    for run in range(region.size):
        first, last = place[0, run], place[1, run]
        row = first // width
        line = columns[row if columns.shape[0] > 1 else 0]
        own, each = values[first:last], line[first - row * width :]
        for x in range(own.size):
            if own[x] == own[x]:
                sums[number_of[int(own[x]) - low], x % IN_TURN] += each[x]
        of_region, share = total[region[run]], fraction[run]
        if own.size > sums.shape[0]:
            for n in range(sums.shape[0]):
                move_sum(sums[n], share, rows[0, row], rows[1, row], of_region[n])
        else:
            for x in range(own.size):
                if own[x] == own[x]:
                    n = number_of[int(own[x]) - low]
                    move_sum(sums[n], share, rows[0, row], rows[1, row], of_region[n])
