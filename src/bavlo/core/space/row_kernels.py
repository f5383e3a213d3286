"""Kernels that bring rows as they are stored onto new ones: plain loops that numba compiles.

See `bavlo.compiled`. They add in the order of SciPy's product of a matrix by columns and rows.
"""

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one

from __future__ import annotations

import numpy as np


def add_rows(
    numbers: np.ndarray,
    missing: np.ndarray,
    entries: np.ndarray,
    share: np.ndarray,
    total: np.ndarray,
) -> None:
    """Add shares of a few rows to the new ones.

    Parameters
    ----------
    numbers : (n, nx)
        As they are stored.
    missing : (n, nx) uint8
        1 where there is no data.
    entries : (2, N) int64
        Which of the rows goes into which new one, in order of the rows.
    share : (N,) float64
        And the share of it.
    total : (ny', nx) float64
        Added to.
    """
    for n in range(share.size):
        row, new = entries[0, n], entries[1, n]
        add_line(numbers[row], missing[row], share[n], total[new])


def add_codes(
    numbers: np.ndarray,
    missing: np.ndarray,
    low: int,
    number_of: np.ndarray,
    entries: np.ndarray,
    share: np.ndarray,
    total: np.ndarray,
) -> None:
    """Add shares of a few rows of class codes to the new ones, for each code.

    Parameters
    ----------
    numbers : (n, nx) int
        As they are stored.
    low
        The lowest code.
    number_of : (K,) int64
        The place of each code, counted from the lowest, among those that are there.
    total : (L, ny', nx) float64
        Added to.
    """
    for n in range(share.size):
        row, new, own = entries[0, n], entries[1, n], share[n]
        for x in range(numbers.shape[1]):
            if missing[row, x] == 0:
                code = number_of[np.uint64(np.int64(numbers[row, x]) - low)]
                total[np.uint64(code), new, x] += own


def note_codes(
    numbers: np.ndarray, missing: np.ndarray, low: int, place: np.ndarray, held: np.ndarray
) -> None:
    """Which class codes runs hold.

    Parameters
    ----------
    numbers : (C,)
        Whole numbers as they are stored.
    missing : (C,) uint8
        1 where there is no data.
    low
        The lowest code.
    place : (2, N) int64
        First cell of each run and the one after its last.
    held : (2 × K,) uint8
        1 is put in for each code, counted from the lowest: at even places for cells with data.
    """
    for run in range(place.shape[1]):
        first, last = place[0, run], place[1, run]
        own, gone = numbers[first:last], missing[first:last]
        for x in range(own.size):
            # Without a branch, and by an index that may not be negative: thrice as fast.
            offset = 0 if gone[x] else np.int64(own[x]) - low
            held[np.uint64(2 * offset + gone[x])] = 1


def add_line(numbers: np.ndarray, missing: np.ndarray, share: float, total: np.ndarray) -> None:
    """Add a share of a row; a loop by itself, which goes many cells at a time."""
    for x in range(numbers.size):
        value = 0.0 if missing[x] else np.float64(numbers[x])
        total[x] += share * value
