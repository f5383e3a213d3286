"""Normals: the long-term value of a period of the year over the base years."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.stats.ranks import TIED
from bavlo.core.sums import mean_of, within
from bavlo.core.time.axis import to_instant, years_of
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.values.percents import percent_in
from bavlo.errors import RequestError, one_of

# What a grid of periods can be turned into.
VALUE = "value"
NORMAL = "normal"
ANOMALY = "anomaly"
PERCENT = "percent"
SCORE = "score"
TREND = "trend"
PRODUCTS = (VALUE, NORMAL, ANOMALY, PERCENT, SCORE, TREND)

LEAST_SHARE = 0.8  # of the base years, WMO-No. 1203 §4.4
LEAP_DAY = "02-29"
MINUS = " minus "  # between the names of two bases whose normals are subtracted
WHOLE_YEARS, MONTHS = "whole-years", "months"  # what normals may be made from instead of periods
STATISTICS = ("mean", "std", "min", "max", "pNN")


@dataclass(frozen=True)
class Base:
    """The years that normals are taken from, both ends included."""

    first: int
    last: int

    def __str__(self) -> str:
        return f"{self.first}..{self.last}"

    def __len__(self) -> int:
        return self.last - self.first + 1


@dataclass(frozen=True, eq=False)
class YearlyPeriods:
    """Periods that come back every year.

    Parameters
    ----------
    cycle
        The period of the year of each of the P periods.
    year : (P,) int
        The year that each belongs to: that of its last step.
    calendar
        A CF calendar.
    """

    cycle: tuple[str, ...]
    year: np.ndarray
    calendar: str

    @classmethod
    def of(cls, periods: PeriodAxis) -> YearlyPeriods:
        """The years and cycle of some periods."""
        return cls(periods.cycle, years_of(periods.end - 1, periods.calendar), periods.calendar)


@dataclass(frozen=True, eq=False)
class Normals:
    """Statistics of each period of the year over the base.

    Parameters
    ----------
    cycle
        Periods of the year, in order of the year.
    values
        By name of the statistic, (Y, K) float64, NaN where too few years have a value.
    years : (Y, K) float64
        Complete periods that went in.
    """

    cycle: tuple[str, ...]
    values: dict[str, np.ndarray]
    years: np.ndarray


def parse_statistic(name: str) -> str:
    """Check the name of a statistic."""
    text = name.strip().lower()
    if text in ("mean", "std", "min", "max") or percent_in(text, "statistic") is not None:
        return text
    raise RequestError("statistic", f"'{name}' is no statistic", one_of(name, STATISTICS))


def of_whole_years(values: np.ndarray, periods: YearlyPeriods) -> np.ndarray:
    """Values of the years of which all periods have one; NaN in all others.

    Parameters
    ----------
    values : (P, K) float64
        K series, NaN where a period is not complete.

    Returns
    -------
    values : (P, K) float64
    """
    kinds = set(periods.cycle) - {LEAP_DAY}
    counts = np.array([kind != LEAP_DAY for kind in periods.cycle])
    years, at = np.unique(periods.year, return_inverse=True)
    present = np.zeros((years.size, values.shape[1]))
    np.add.at(present, at, (~np.isnan(values)) & counts[:, None])
    return np.where(present[at] >= len(kinds), values, np.nan)


def normals(
    values: np.ndarray,
    periods: YearlyPeriods,
    base: Base,
    statistics: Sequence[str],
    smooth: int = 1,
) -> Normals:
    """Normals of series.

    Parameters
    ----------
    values : (P, K) float64
        K series, NaN where a period is not complete.
    periods
        The P periods.
    statistics
        mean, std (with n - 1), min, max, pNN (Hyndman-Fan type 8).
    smooth
        Days of a centred, circular running mean over daily normals.

    Notes
    -----
    WMO-No. 1203 (2017), §4.4: at least 80 % of the base years in which the period exists. Without
    smoothing the normal of 29 February is the mean of its neighbours.
    """
    kinds = tuple(dict.fromkeys(periods.cycle))
    daily = LEAP_DAY in kinds or len(kinds) > 100
    if daily:
        kinds = tuple(sorted(kinds))
    position = {name: n for n, name in enumerate(kinds)}
    which = np.array([position[name] for name in periods.cycle])
    inside = in_years(periods.year, base)
    shape = (len(kinds), values.shape[1])
    out = {name: np.full(shape, np.nan) for name in statistics}
    years = np.zeros(shape)
    for n, kind in enumerate(kinds):
        block = values[inside & (which == n)]
        years[n] = np.sum(~np.isnan(block), axis=0)
        enough = years[n] >= LEAST_SHARE * occurrences(kind, base, periods.calendar) - ENOUGH
        enough &= years[n] > 0
        if enough.any():
            for name in statistics:
                out[name][n, enough] = statistic(block[:, enough], name)
    if daily and smooth > 1:
        out = {name: _smoothed(a, kinds, smooth) for name, a in out.items()}
    elif daily and LEAP_DAY in kinds:
        n = position[LEAP_DAY]
        for array in out.values():
            array[n] = (array[n - 1] + array[(n + 1) % len(kinds)]) / 2
        years[n] = np.minimum(years[n - 1], years[(n + 1) % len(kinds)])
    return Normals(kinds, out, years)


def occurrences(kind: str, base: Base, calendar: str) -> int:
    """In how many of the base years a period of the year exists."""
    if kind != LEAP_DAY:
        return len(base)
    return sum(_has_leap_day(year, calendar) for year in range(base.first, base.last + 1))


def _has_leap_day(year: int, calendar: str) -> bool:
    try:
        to_instant(calendar, year, 2, 29)
    except ValueError:
        return False
    return True


def statistic(block: np.ndarray, name: str) -> np.ndarray:
    """(K,) a statistic over the years of a block (N, K), leaving out NaN."""
    if name == "mean":
        return mean_of(block)
    if name == "std":
        count = np.sum(~np.isnan(block), axis=0)
        away = block - mean_of(block)
        with np.errstate(invalid="ignore", divide="ignore"):
            spread = np.sqrt(np.nansum(away * away, axis=0) / (count - 1))
        largest = np.fmax.reduce(np.abs(block), axis=0, initial=0.0)
        # As ties of ranks: years of 365 and of 366 equal days differ by rounding alone.
        return np.where(count > 1, np.where(spread > TIED * largest, spread, 0.0), np.nan)
    if name in ("min", "max"):
        return np.asarray((np.fmin if name == "min" else np.fmax).reduce(block, axis=0))
    return percentile_8(block, float(name[1:]))


def percentile_8(block: np.ndarray, percent: float) -> np.ndarray:
    """(K,) percentile over the first axis of (N, K), Hyndman and Fan (1996) type 8.

    With n values it is at position p·(n + 1/3) + 1/3, between the values beside it.
    """
    ordered = np.sort(block, axis=0)  # NaN last
    count = np.sum(~np.isnan(block), axis=0)
    position = np.clip(percent / 100 * (count + 1 / 3) + 1 / 3, 1, np.maximum(count, 1)) - 1
    low = np.floor(position).astype(int)
    high = np.minimum(low + 1, np.maximum(count - 1, 0))
    series = np.arange(block.shape[1])
    share = position - low
    lower = ordered[low, series].astype(np.float64)
    upper = ordered[high, series].astype(np.float64)
    # In this form equal neighbours give exactly their value.
    return np.asarray(np.where(share == 0, lower, lower + share * (upper - lower)))


def _smoothed(values: np.ndarray, kinds: tuple[str, ...], days: int) -> np.ndarray:
    """A centred, circular running mean of (Y, K) over the days of the year.

    29 February counts for as little as it occurs.
    """
    weight = np.array([0.25 if kind == LEAP_DAY else 1.0 for kind in kinds])[:, None]
    valid = ~np.isnan(values)
    reach = days // 2
    total, weights = np.zeros_like(values), np.zeros_like(values)
    low, high = np.full_like(values, np.nan), np.full_like(values, np.nan)
    for shift in range(-reach, reach + 1):
        near = np.roll(values, shift, axis=0)
        low, high = np.fmin(low, near), np.fmax(high, near)
        total += np.roll(np.where(valid, values * weight, 0.0), shift, axis=0)
        weights += np.roll(valid * weight, shift, axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(valid.any(axis=0) & (weights > 0), total / weights, np.nan)
    return within(mean, low, high)


def in_years(year: np.ndarray, base: Base) -> np.ndarray:
    """Which periods belong to the base years."""
    return (year >= base.first) & (year <= base.last)


def default_base(year: np.ndarray) -> Base:
    """1991..2020 where at least 80 % of it is there, else it must be given."""
    usual = Base(1991, 2020)
    present = np.unique(year[(year >= usual.first) & (year <= usual.last)]).size
    if present < LEAST_SHARE * len(usual):
        raise RequestError(
            "base",
            f"of 1991..2020 only {present} years are in the data ({year.min()}..{year.max()})",
            "name the base years, as ‹base 2001..2020›",
        )
    return usual


def choose_base(asked: Base | None, year: np.ndarray) -> Base:
    """The base years: as asked for, else the usual ones.

    Parameters
    ----------
    year
        Years of the data.

    Raises
    ------
    RequestError
        Where the data have none of them.
    """
    base = asked or default_base(year)
    if not in_years(year, base).any():
        raise RequestError(
            "base", f"{base} is outside the data", f"the data have {year.min()}..{year.max()}"
        )
    return base


def parse_base(text: str) -> Base:
    """Read `base` in years."""
    parts = text.split("..")
    if len(parts) != 2 or not all(p.strip().isdigit() and len(p.strip()) == 4 for p in parts):
        raise RequestError("base", f"'{text}' is no run of years", "write it as 1991..2020")
    base = Base(int(parts[0]), int(parts[1]))
    if base.last < base.first:
        raise RequestError("base", f"'{text}' ends before it begins", "turn the years round")
    return base
