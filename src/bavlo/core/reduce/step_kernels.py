"""Kernels that add up the steps of a grid as they are stored: plain loops that numba compiles.

See `bavlo.compiled`. A step of float32 numbers goes through memory three times less often than
when NumPy takes its cells, decodes them, looks for what is missing and adds them up one by one.
"""

from __future__ import annotations

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one
from typing import Any

import numpy as np

NEAR = 2**12  # cells that are looked at one after the other while they are near


def look_at(
    numbers: np.ndarray,
    bits: np.ndarray,
    runs: np.ndarray,
    marks: np.ndarray,
    orders: np.ndarray,
    missing: np.ndarray,
    found: np.ndarray,
) -> None:
    """Where some cells of a step have no data, and the range of all others.

    Parameters
    ----------
    numbers : (N,) float
        As they are stored.
    bits : (N,) int
        The same, as whole numbers of as many bytes.
    runs : (3, K) int64
        Runs of cells: where each begins among the numbers and among the cells, and its length.
    marks : (M,) float
        Numbers that mean no data, as NaN does.
    orders : (L,) int
        Their `order_of_bits`, in front those of the infinite, beyond which only NaN is.
    missing : (C,) uint8
        Zeros; 1 afterwards where there is no data.
    found : (3,) int64
        The lowest and the highest number so far by their `order_of_bits`, low above high where
        there are none, and how many cells have no data; added to.
    """
    limits = np.iinfo(bits.dtype)
    low, high = found[0], found[1]
    for run in range(runs.shape[1]):
        away = runs[1, run] - runs[0, run]
        end = runs[0, run] + runs[2, run]
        for first in range(runs[0, run], end, NEAR):
            last = min(first + NEAR, end)
            own = bits[first:last]
            lowest, highest = widen(own, limits.max, limits.min)
            if may_be_missing(lowest, highest, orders):
                gone = missing[first + away : last + away]
                found[2] += note_missing(numbers[first:last], marks, gone)
                low, high = widen_without(own, gone, low, high)
            else:
                low, high = min(low, lowest), max(high, highest)
    found[0], found[1] = low, high


def find_range(bits: np.ndarray, found: np.ndarray) -> None:
    """The lowest and the highest of numbers, NaN among them.

    Parameters
    ----------
    bits : (N,) int
        Of floats, as whole numbers of as many bytes.
    found : (2,) int64
        Filled: `order_of_bits` of both.
    """
    limits = np.iinfo(bits.dtype)
    low, high = widen(bits, limits.max, limits.min)
    found[0], found[1] = low, high


def may_be_missing(low: int, high: int, orders: np.ndarray) -> bool:
    """Whether a number that means no data may lie in a range."""
    may_be = low < orders[0] or high > orders[1]
    for n in range(2, orders.size):
        may_be = may_be or low <= orders[n] <= high
    return bool(may_be)


def note_missing(numbers: np.ndarray, marks: np.ndarray, missing: np.ndarray) -> int:
    """Where a run of cells has no data; how many of them."""
    for x in range(numbers.size):
        missing[x] = numbers[x] != numbers[x]
    for mark in marks:
        for x in range(numbers.size):
            missing[x] |= numbers[x] == mark
    count = 0
    for x in range(numbers.size):
        count += missing[x]
    return count


def order_of_bits(bits: Any, shift: int, whole: int) -> Any:
    """A whole number in the order of the float that has these bits; of that number, the bits."""
    return bits ^ ((bits >> shift) & whole)


def floats_in_order(orders: np.ndarray, dtype: np.dtype) -> np.ndarray:
    """The floats that stand at some places in their order."""
    limits = np.iinfo(orders.dtype)
    return np.asarray(order_of_bits(orders, limits.bits - 1, limits.max).view(dtype))


def orders_of_marks(marks: np.ndarray) -> np.ndarray:
    """(L,) int what `look_at` asks for: of the infinite floats, and of some marks (M,)."""
    zero = np.array([0.0, -0.0], marks.dtype) if (marks == 0).any() else marks[:0]
    infinite = np.array([-np.inf, np.inf], marks.dtype)
    bits = np.concatenate([infinite, marks, zero]).view(f"i{marks.itemsize}")
    limits = np.iinfo(bits.dtype)
    return np.asarray(order_of_bits(bits, limits.bits - 1, limits.max))


def widen(bits: np.ndarray, low: int, high: int) -> tuple[int, int]:
    """A range that holds a run of cells too, all of which have data."""
    kind = bits.dtype.type
    shift, whole = kind(8 * bits.itemsize - 1), kind(np.iinfo(bits.dtype).max)
    lowest, highest = kind(low), kind(high)
    for x in range(bits.size):
        order = kind(order_of_bits(bits[x], shift, whole))
        lowest, highest = min(lowest, order), max(highest, order)
    return lowest, highest


def widen_without(bits: np.ndarray, missing: np.ndarray, low: int, high: int) -> tuple[int, int]:
    """The same of a run of which some have none."""
    kind = bits.dtype.type
    shift, whole = kind(8 * bits.itemsize - 1), kind(np.iinfo(bits.dtype).max)
    lowest, highest = kind(low), kind(high)
    for x in range(bits.size):
        if missing[x] == 0:
            order = kind(order_of_bits(bits[x], shift, whole))
            lowest, highest = min(lowest, order), max(highest, order)
    return lowest, highest


def add_to(numbers: np.ndarray, runs: np.ndarray, total: np.ndarray) -> None:
    """Add some cells of a step to their totals (C,) float64."""
    for run in range(runs.shape[1]):
        first, place, length = runs[0, run], runs[1, run], runs[2, run]
        add_run(numbers[first : first + length], total[place : place + length])


def add_run(numbers: np.ndarray, total: np.ndarray) -> None:
    """Add a run of cells to their totals; a loop by itself, which goes many cells at a time."""
    for x in range(numbers.size):
        total[x] += np.float64(numbers[x])
