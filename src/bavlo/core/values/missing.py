"""Marks of no data: numbers that stand for missing values, which files do not always declare."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from bavlo.core.values.kinds import AMOUNT, COUNT, RATE, STATE, Quantity
from bavlo.core.values.units import convert, is_temperature
from bavlo.errors import setting

USUAL = (-9999.0, -9999.9, -8888.0, -999.0, -999.9, -99.9, 1e20, -3.4e38, 3.4e38)
NEAR_THE_END = 10  # numbers next to the ends of an integer type that are marks as well
BEYOND_ALL = 1e30  # no climate variable is as large in any unit
NOISE = 1e-6  # share of the highest value by which rain may fall below 0


@dataclass(frozen=True)
class Mark:
    """A mark of no data that a file holds and does not declare.

    Parameters
    ----------
    stored, value
        As it is stored, and as it reads after the file's own packing.
    count
        How often it was met.
    is_certain
        The variable cannot have it as a value.
    """

    stored: float
    value: float
    count: int
    is_certain: bool


def usual_marks(dtype: np.dtype) -> np.ndarray:
    """(M,) numbers of a stored type that are used as marks, ascending and in that type."""
    found = [number for number in USUAL if _fits(number, dtype)]
    if dtype.kind in "iu":
        limits = np.iinfo(dtype)
        near = range(NEAR_THE_END + 1)
        found += [limits.max - n for n in near]
        found += [limits.min + n for n in near if limits.min < 0]
    else:
        found += [np.inf, -np.inf]
        ends = (np.finfo(np.float32), np.finfo(dtype))
        found += [float(end.min) for end in ends] + [float(end.max) for end in ends]
        found += [float(np.iinfo(np.int16).min), float(np.iinfo(np.int32).min)]
    return np.unique(np.array(found, dtype.newbyteorder("=")))


def _fits(number: float, dtype: np.dtype) -> bool:
    if np.isinf(number) and dtype.kind != "f":
        return False
    if dtype.kind == "f":
        return np.isinf(number) or abs(number) <= float(np.finfo(dtype).max)
    limits = np.iinfo(dtype)
    return number == int(number) and limits.min <= number <= limits.max


def stored_as(
    number: float, dtype: np.dtype, scale: float | None, offset: float | None
) -> list[float]:
    """How a number that a user names may be stored: as it is, and packed.

    Parameters
    ----------
    scale, offset
        value = stored × scale + offset; None where values are stored as they are.
    """
    found = [number] if _fits(number, dtype) else []
    if scale is not None or offset is not None:
        packed = (number - (offset or 0.0)) / (scale or 1.0)
        if dtype.kind in "iu":
            nearest = float(np.rint(packed))
            if abs(packed - nearest) <= 1e-3 and _fits(nearest, dtype):
                found.append(nearest)
        elif _fits(packed, dtype):
            found.append(packed)
    return list(dict.fromkeys(found))


def impossible(what: Quantity, values: np.ndarray, *, below_zero: bool = False) -> np.ndarray:
    """Which values a variable cannot have: rain below 0, below absolute zero, beyond 1e30.

    Parameters
    ----------
    values
        Of any shape, in the unit of the variable.
    below_zero
        It has values below 0 that are no marks, as anomalies of rain do.
    """
    odd: np.ndarray = np.abs(values) > BEYOND_ALL
    if what.kind in (AMOUNT, RATE, COUNT) and not below_zero:
        odd = odd | (values < 0)
    if what.kind == STATE and what.unit and is_temperature(what.unit):
        odd = odd | (convert(values.astype(np.float64), what.unit, "K", difference=False) < 0)
    return odd


@dataclass(frozen=True)
class Sampled:
    """What a sample of values tells of marks.

    Parameters
    ----------
    counts : (M,) int64
        How often each usual mark was met.
    low, high
        Range of all other values; (inf, -inf) where there are none.
    looked_at
        How many values there were, missing ones included.
    """

    counts: np.ndarray
    low: float
    high: float
    looked_at: int


def has_negative(low: float, high: float) -> bool:
    """Whether values of a range are below 0 by more than noise."""
    return low < -NOISE * max(1.0, high)


def count_marks(sample: Iterable[np.ndarray], values: np.ndarray) -> Sampled:
    """Count marks among values, and tell the range of all others.

    Parameters
    ----------
    sample
        Blocks of values of any shape, NaN where there is no data.
    values : (M,) float64
        The usual marks as they read.
    """
    counts = np.zeros(values.size, np.int64)
    low, high, looked_at = np.inf, -np.inf, 0
    order = np.argsort(values, kind="stable")
    ascending = values[order]
    for block in sample:
        looked_at += block.size
        lowest = float(np.fmin.reduce(block, axis=None, initial=np.inf))
        highest = float(np.fmax.reduce(block, axis=None, initial=-np.inf))
        first = np.searchsorted(ascending, lowest, side="left")
        last = np.searchsorted(ascending, highest, side="right")
        if first < last:  # a mark may be among the values; else none needs a second look
            flat = block[~np.isnan(block)]
            position = np.searchsorted(ascending, flat)
            marked = np.append(ascending, np.nan)[position] == flat
            counts[order] += np.bincount(position[marked], minlength=ascending.size)
            others = flat[~marked]
            lowest = float(others.min(initial=np.inf))
            highest = float(others.max(initial=-np.inf))
        low, high = min(low, lowest), max(high, highest)
    return Sampled(counts, low, high, looked_at)


def find_marks(
    what: Quantity, sampled: Sampled, stored: np.ndarray, values: np.ndarray
) -> list[Mark]:
    """The marks that were met, of those that a file does not declare.

    A mark that the variable cannot have is certain. Another is one where it is the lowest or the
    highest value and apart from all others by more than their whole range; numbers that look like
    marks and are nearer to 0 count as others, as 120 does beside 127.

    Parameters
    ----------
    stored, values : (M,) float
        The usual marks as they are stored, and as they read.
    """
    apart = above_a_gap(sampled, stored, values)
    certain = impossible(what, values, below_zero=has_negative(sampled.low, sampled.high))
    met = np.flatnonzero(sampled.counts)
    found = []
    for n in met:
        value = float(values[n])
        nearer = values[met][(np.abs(values[met]) < abs(value)) & ~certain[met]]
        low = float(nearer.min(initial=sampled.low))
        high = float(nearer.max(initial=sampled.high))
        if certain[n] or is_apart(value, low, high) or apart[n]:
            mark = Mark(float(stored[n]), value, int(sampled.counts[n]), bool(certain[n]))
            found.append(mark)
    return found


def above_a_gap(sampled: Sampled, stored: np.ndarray, values: np.ndarray) -> np.ndarray:
    """(M,) bool the marks at the end of an unsigned type that a gap parts from all other numbers.

    A byte of 255 beside others of up to 249 is more likely a mark than one of an image whose
    numbers go up to it.
    """
    out = np.zeros(stored.size, bool)
    met = np.flatnonzero(sampled.counts)
    if stored.dtype.kind != "u" or not met.size or sampled.low > sampled.high:
        return out
    step = abs(float(values[-1] - values[0])) / float(stored[-1] - stored[0])
    held = np.append(min(sampled.high, values[met[0]]), values[met])
    gaps = np.flatnonzero(np.abs(np.diff(held)) > 1.5 * step)
    if gaps.size:
        out[met[gaps[-1] :]] = True
    return out


def certain_text(mark: Mark, looked_at: int) -> str:
    """What to say of a mark that was taken for missing."""
    return (
        f"{mark.value:.6g} is taken for missing, which the file does not declare and this variable "
        f"cannot be ({mark.count:,} of {looked_at:,} values looked at); "
        f"{setting('missing', f'{mark.value:.6g}')} says so, {setting('missing', 'none')} undoes it"
    )


def perhaps_text(value: float) -> tuple[str, str]:
    """The question whether a number is a value, and how to answer it."""
    return (
        f"holds {value:.6g}, apart from all other values: the file does not declare it to be "
        "missing, and it could be a value",
        f"say ‹missing {value:.6g}› if it means no data, or ‹missing none› if it is a value",
    )


def is_apart(value: float, low: float, high: float) -> bool:
    """Whether a value lies outside a range by more than the whole range; so it does of none."""
    if low > high:
        return True
    return max(low - value, value - high) > high - low
