"""Kernels that add up runs of cells of a raster as it is stored: plain loops that numba compiles.

See `bavlo.compiled`. They add in the order of NumPy's `add.reduceat`, which is that of its
pairwise summation: the first number of a run, plus the sum of the others in eight columns, as long
as these are at most `COLUMNS_UP_TO`. What is added up is put into a row of so many numbers first,
which stays near; a cell and a sum take 0.5 ns, where NumPy's passes take 2 to 8.
"""

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one

from __future__ import annotations

import numpy as np

COLUMNS_UP_TO = 128  # numbers; more of them NumPy halves
LONGEST = COLUMNS_UP_TO + 1
IN_TURN = 4  # sums of a class code


def add_weighted(
    numbers: np.ndarray,
    missing: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    place: np.ndarray,
    region: np.ndarray,
    fraction: np.ndarray,
    total: np.ndarray,
    row: np.ndarray,
) -> None:
    """Sums of values times the areas of their cells and the covered shares of these.

    Parameters
    ----------
    numbers : (C,)
        As they are stored.
    missing : (C,) uint8
        1 where there is no data.
    rows : (n,) float64
        One factor of the areas of a row's cells.
    columns : (m, nx) float64
        The other factor: one for all rows, or of each row.
    place : (2, N) int64
        First cell of each run and the one after its last, of one row.
    region, fraction : (N,)
        Whose run it is, and the share of each cell that is covered.
    total : (R,) float64
        Added to, piece by piece of at most `LONGEST` cells.
    row : (LONGEST,) float64
        Room for such a piece.
    """
    for run in range(region.size):
        begin, factor, line = line_of(rows, columns, place[0, run])
        for first in range(place[0, run], place[1, run], LONGEST):
            last = min(first + LONGEST, place[1, run])
            own, gone, each = numbers[first:last], missing[first:last], line[first - begin :]
            for x in range(own.size):
                value = 0.0 if gone[x] else np.float64(own[x])
                row[x] = value * (factor * each[x])
            total[region[run]] += fraction[run] * in_order(row, own.size)


def add_squares(
    numbers: np.ndarray,
    missing: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    shift: float,
    place: np.ndarray,
    region: np.ndarray,
    fraction: np.ndarray,
    total: np.ndarray,
    row: np.ndarray,
) -> None:
    """The same of the squares of values less a shift, times the areas of their cells."""
    for run in range(region.size):
        begin, factor, line = line_of(rows, columns, place[0, run])
        for first in range(place[0, run], place[1, run], LONGEST):
            last = min(first + LONGEST, place[1, run])
            own, gone, each = numbers[first:last], missing[first:last], line[first - begin :]
            for x in range(own.size):
                away = 0.0 if gone[x] else np.float64(own[x]) - shift
                row[x] = away * away * (factor * each[x])
            total[region[run]] += fraction[run] * in_order(row, own.size)


def add_areas(
    missing: np.ndarray,
    rows: np.ndarray,
    columns: np.ndarray,
    place: np.ndarray,
    region: np.ndarray,
    fraction: np.ndarray,
    known: np.ndarray,
    gaps: np.ndarray,
    number: np.ndarray,
    row: np.ndarray,
) -> None:
    """The same of the areas of cells with and without data, and of how many have data."""
    for run in range(region.size):
        whose, share = region[run], fraction[run]
        begin, factor, line = line_of(rows, columns, place[0, run])
        for first in range(place[0, run], place[1, run], LONGEST):
            last = min(first + LONGEST, place[1, run])
            gone, each = missing[first:last], line[first - begin :]
            for x in range(gone.size):
                row[x] = 0.0 if gone[x] else factor * each[x]
            known[whose] += share * in_order(row, gone.size)
            count = 0
            for x in range(gone.size):
                row[x] = factor * each[x] if gone[x] else 0.0
                count += gone[x]
            gaps[whose] += share * in_order(row, gone.size)
            number[whose] += share * np.float64(gone.size - count)


def line_of(rows: np.ndarray, columns: np.ndarray, cell: int) -> tuple[int, float, np.ndarray]:
    """First cell of the row that a cell is in, and the factors of the areas of its cells."""
    row = cell // columns.shape[1]
    return row * columns.shape[1], rows[row], columns[row if columns.shape[0] > 1 else 0]


def find_range(
    bits: np.ndarray,
    missing: np.ndarray,
    place: np.ndarray,
    region: np.ndarray,
    low: np.ndarray,
    high: np.ndarray,
) -> None:
    """The lowest and the highest value of each region, as whole numbers in the order of the floats.

    Parameters
    ----------
    bits : (C,) int
        Floats, as whole numbers of as many bytes.
    low, high : (R,) int of that type
        Made lower and higher where a cell is.
    """
    kind = bits.dtype.type
    limits = np.iinfo(bits.dtype)
    shift, whole = kind(8 * bits.itemsize - 1), kind(limits.max)
    for run in range(region.size):
        first, last = place[0, run], place[1, run]
        own, gone = bits[first:last], missing[first:last]
        lowest, highest = kind(limits.max), kind(limits.min)
        for x in range(own.size):
            order = kind(own[x] ^ ((own[x] >> shift) & whole))
            lowest = min(lowest, kind(limits.max) if gone[x] else order)
            highest = max(highest, kind(limits.min) if gone[x] else order)
        low[region[run]] = min(low[region[run]], lowest)
        high[region[run]] = max(high[region[run]], highest)


def add_codes(
    numbers: np.ndarray,
    missing: np.ndarray,
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
    number_of : (K,) int64
        The place of each code, counted from the lowest, among those that are there; of which there
        must be one.
    rows : (2, n) float64
        One factor of both sorts of areas.
    columns : (m, nx) float64
        The other factor: one for all rows, or of each row.
    total : (R, L, 2) float64
        Added to.
    sums : (L, IN_TURN) float64
        Room of zeros, which are left as such.
    """
    for run in range(region.size):
        begin, factor, line = line_of(rows[0], columns, place[0, run])
        factor_km, share = rows[1][begin // columns.shape[1]], fraction[run]
        first, last = place[0, run], place[1, run]
        own, gone, each = numbers[first:last], missing[first:last], line[first - begin :]
        for x in range(own.size):
            # Indices that may not be negative need no look at that: a third of the time.
            offset = 0 if gone[x] else np.int64(own[x]) - low
            code, turn = np.uint64(number_of[np.uint64(offset)]), np.uint64(x & (IN_TURN - 1))
            sums[code, turn] += 0.0 if gone[x] else each[x]
        of_region = total[region[run]]
        if own.size > sums.shape[0]:
            for n in range(sums.shape[0]):
                move_sum(sums[n], share, factor, factor_km, of_region[n])
        else:
            for x in range(own.size):
                if gone[x] == 0:
                    n = number_of[np.int64(own[x]) - low]
                    move_sum(sums[n], share, factor, factor_km, of_region[n])


def move_sum(
    sums: np.ndarray, share: float, factor: float, factor_km: float, total: np.ndarray
) -> None:
    """Add the sums of a code in a run to those of its region, and begin anew."""
    width = (sums[0] + sums[1]) + (sums[2] + sums[3])
    total[0] += share * (factor * width)
    total[1] += share * (factor_km * width)
    sums[0] = sums[1] = sums[2] = sums[3] = 0.0


def in_order(row: np.ndarray, size: int) -> float:
    """The sum of the first numbers of a row in NumPy's order."""
    rest, columns = 0.0, (size - 1) // 8 * 8
    if columns > 0:
        a, b, c, d = row[1], row[2], row[3], row[4]
        e, f, g, h = row[5], row[6], row[7], row[8]
        for x in range(9, columns, 8):
            a, b, c, d = a + row[x], b + row[x + 1], c + row[x + 2], d + row[x + 3]
            e, f, g, h = e + row[x + 4], f + row[x + 5], g + row[x + 6], h + row[x + 7]
        rest = ((a + b) + (c + d)) + ((e + f) + (g + h))
    for x in range(columns + 1, size):
        rest += row[x]
    return float(row[0] + rest)
