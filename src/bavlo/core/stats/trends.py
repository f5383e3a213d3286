"""Trends: Theil-Sen slopes with Mann-Kendall significance, or least squares."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.stats.ranks import TIED, ranks_of

SEN, HAMED_RAO, PREWHITEN, OLS = "sen", "hamed-rao", "prewhiten", "ols"
METHODS = (SEN, HAMED_RAO, PREWHITEN, OLS)

LEAST_VALUES = 10
LEAST_PRESENT = 0.7  # of the years between the first and the last with a value
DECADE = 10.0  # years
SIGNIFICANT_LAG = 1.959963984540054  # of the normal distribution, 5 % on two sides


@dataclass(frozen=True, eq=False)
class Trends:
    """Trends of K series, each array (K,) float64, NaN where there is none.

    Parameters
    ----------
    slope, lower, upper
        Per decade, with the confidence interval.
    intercept
        Value of the line in the year 0.
    p_value
        Two-sided, of no trend.
    n
        Years with a value.
    first, last
        The first and last of them.
    """

    slope: np.ndarray
    lower: np.ndarray
    upper: np.ndarray
    intercept: np.ndarray
    p_value: np.ndarray
    n: np.ndarray
    first: np.ndarray
    last: np.ndarray


def trends(
    values: np.ndarray,
    years: np.ndarray,
    method: str = SEN,
    confidence: float = 0.95,
) -> Trends:
    """Trends of K series over Y years.

    Parameters
    ----------
    values : (Y, K) float64
        NaN where there is none.
    years : (Y,) int
        Each the one after the one before, so that lags are years.
    method
        SEN: the median of the slopes between all pairs of years (Sen 1968), significance by
        Mann-Kendall with ties and continuity correction (Kendall 1975). HAMED_RAO: the same, the
        variance of S times the factor of Hamed and Rao (1998), never below 1. PREWHITEN: the same
        after trend-free prewhitening (Yue et al. 2002). OLS: least squares, the error by the
        effective number of values of an AR(1) process (Santer et al. 2000).
    confidence
        Of the interval.

    Notes
    -----
    No trend under 10 values, or where under 70 % of the years between the first and the last have
    one.
    """
    known = ~np.isnan(values)
    n = known.sum(axis=0)
    at = np.where(known, np.asarray(years, np.float64)[:, None], np.nan)
    first, last = np.fmin.reduce(at, axis=0), np.fmax.reduce(at, axis=0)
    with np.errstate(invalid="ignore"):
        enough = (n >= LEAST_VALUES) & (n >= LEAST_PRESENT * (last - first + 1))
    out = {name: np.full(values.shape[1], np.nan) for name in _MADE}
    for some in _blocks(np.flatnonzero(enough), len(years)):
        block = np.ascontiguousarray(values[:, some])
        if method == OLS:
            made = _least_squares(block, years, confidence)
        else:
            made = _theil_sen(block, years, method, confidence)
        for name, array in zip(_MADE, made, strict=True):
            out[name][some] = array
    return Trends(n=n.astype(np.float64), first=first, last=last, **out)


_MADE = ("slope", "lower", "upper", "intercept", "p_value")


def _blocks(places: np.ndarray, years: int) -> Iterator[np.ndarray]:
    """Some series at a time, so that their pairs of years fit in memory."""
    for some in batches(places.size, years * (years - 1) // 2):
        yield places[some]


def _theil_sen(
    values: np.ndarray, years: np.ndarray, method: str, confidence: float
) -> tuple[np.ndarray, ...]:
    """Slope, interval, intercept and p value of (Y, K) series."""
    from scipy import special

    slopes = pair_slopes(values, years)
    slope = _at_rank(slopes, (np.sum(~np.isnan(slopes), axis=0) - 1) / 2)
    tested = values
    if method == PREWHITEN:
        tested = prewhitened(values, years, slope)
        slopes = pair_slopes(tested, years)
    s, variance = mann_kendall(tested)
    if method == HAMED_RAO:
        variance = variance * hamed_rao(values, years, slope)
    with np.errstate(invalid="ignore", divide="ignore"):
        z = np.where(variance > 0, (s - np.sign(s)) / np.sqrt(variance), 0.0)
    p_value = 2 * special.ndtr(-np.abs(z))  # of the normal distribution
    count = np.sum(~np.isnan(slopes), axis=0)
    reach = special.ndtri((1 + confidence) / 2) * np.sqrt(variance)
    # The (count - reach)/2 th and the (count + reach)/2 + 1 th slope (Gilbert 1987, §16.5).
    lower = _at_rank(slopes, (count - reach) / 2 - 1)
    upper = _at_rank(slopes, (count + reach) / 2)
    middle = np.asarray(years, np.float64)[:, None]
    intercept = np.nanmedian(values - slope * middle, axis=0)
    return slope * DECADE, lower * DECADE, upper * DECADE, intercept, p_value


def pair_slopes(values: np.ndarray, years: np.ndarray) -> np.ndarray:
    """(Y·(Y-1)/2, K) slopes per year between all pairs of years, ascending, NaN last."""
    early, late = np.triu_indices(len(years), 1)
    apart = (np.asarray(years)[late] - np.asarray(years)[early])[:, None]
    return np.asarray(np.sort((values[late] - values[early]) / apart, axis=0))


def _at_rank(ordered: np.ndarray, rank: np.ndarray) -> np.ndarray:
    """(K,) values at a rank from 0 on of (N, K) sorted ones, interpolated; NaN last ones left."""
    count = np.sum(~np.isnan(ordered), axis=0)
    rank = np.clip(rank, 0, np.maximum(count - 1, 0))
    low = np.floor(rank).astype(int)
    high = np.minimum(low + 1, np.maximum(count - 1, 0))
    each = np.arange(ordered.shape[1])
    share = rank - low
    return np.asarray(ordered[low, each] * (1 - share) + ordered[high, each] * share)


def mann_kendall(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """S of Mann and Kendall and its variance with ties, (K,) each, of (Y, K) series with NaN.

    S = Σ sign(x_j - x_i) over i < j; its variance is [n(n-1)(2n+5) - Σ t(t-1)(2t+5)]/18 with t the
    sizes of groups of ties (Kendall 1975).
    """
    near = TIED * np.nanmax(np.abs(values), axis=0, initial=0)
    s, ties = np.zeros(values.shape[1]), np.zeros(values.shape[1])
    for i in range(len(values)):
        with np.errstate(invalid="ignore"):
            gap = values - values[i]
            sign = np.where(np.abs(gap) <= near, 0.0, np.sign(gap))
        s += np.nansum(sign[i + 1 :], axis=0)
        known = ~np.isnan(values[i])
        alike = np.sum((sign == 0) & ~np.isnan(gap), axis=0)  # itself too
        ties += np.where(known, (alike - 1) * (2 * alike + 5), 0)
    n = np.sum(~np.isnan(values), axis=0)
    return s, (n * (n - 1) * (2 * n + 5) - ties) / 18


def hamed_rao(values: np.ndarray, years: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """(K,) factor of the variance of S for autocorrelated values, never below 1.

    1 + 2/(n(n-1)(n-2)) Σ_k (n-k)(n-k-1)(n-k-2) ρ(k), with ρ(k) the autocorrelation of the ranks of
    the detrended values at a lag of k years, over the pairs that exist, where it is significant at
    5 % (Hamed and Rao 1998, eq. 17).
    """
    detrended = values - slope * np.asarray(years, np.float64)[:, None]
    ranks = ranks_of(detrended)
    n = np.sum(~np.isnan(values), axis=0).astype(np.float64)
    total = np.zeros(values.shape[1])
    for lag in range(1, len(years)):
        rho = lagged(ranks, lag)
        counts = np.abs(rho) > SIGNIFICANT_LAG / np.sqrt(n)
        total += np.where(counts, (n - lag) * (n - lag - 1) * (n - lag - 2) * rho, 0.0) * (lag < n)
    factor = 1 + 2 / (n * (n - 1) * (n - 2)) * total
    return np.asarray(np.maximum(factor, 1.0))


def lagged(values: np.ndarray, lag: int) -> np.ndarray:
    """(K,) autocorrelation of (Y, K) series at a lag, over the pairs in which both have a value.

    Of series without gaps Σ x(t)·x(t + lag) / Σ x(t)², x being the values minus their mean; where
    pairs lack, the mean over those that exist stands for them.
    """
    away = values - np.nanmean(values, axis=0)
    products = away[lag:] * away[:-lag]
    pairs = np.sum(~np.isnan(products), axis=0)
    present = np.sum(~np.isnan(away), axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        found = (np.nansum(products, axis=0) / pairs) / np.nanmean(away * away, axis=0)
        found = found * (1 - lag / np.maximum(present, lag + 1))
    return np.where((pairs > 0) & np.isfinite(found), np.clip(found, -1, 1), 0.0)


def prewhitened(values: np.ndarray, years: np.ndarray, slope: np.ndarray) -> np.ndarray:
    """(Y, K) series without their autocorrelation and with their trend (Yue et al. 2002).

    The line is taken off, the first autocoefficient of what is left removed where it is significant
    at 5 %, and the line put on again; a value whose year before has none is lost then.
    """
    line = slope * np.asarray(years, np.float64)[:, None]
    left = values - line
    first = lagged(left, 1)
    n = np.sum(~np.isnan(values), axis=0)
    first = np.where(np.abs(first) > SIGNIFICANT_LAG / np.sqrt(n), first, 0.0)
    before = np.concatenate([np.full_like(left[:1], np.nan), left[:-1]])
    return np.where(first == 0, values, left - first * before + line)


def _least_squares(
    values: np.ndarray, years: np.ndarray, confidence: float
) -> tuple[np.ndarray, ...]:
    """Slope, interval, intercept and p value of (Y, K) series by least squares."""
    from scipy import special

    known = ~np.isnan(values)
    n = known.sum(axis=0).astype(np.float64)
    x = np.where(known, np.asarray(years, np.float64)[:, None], np.nan)
    away = x - np.nanmean(x, axis=0)
    mean = np.nanmean(values, axis=0)
    squares = np.nansum(away * away, axis=0)
    slope = np.nansum(away * (values - mean), axis=0) / squares
    intercept = mean - slope * np.nanmean(x, axis=0)
    left = values - (intercept + slope * x)
    r1 = np.clip(lagged(left, 1), 0.0, 0.99)
    effective = np.maximum(n * (1 - r1) / (1 + r1), 2 + 1e-9)
    with np.errstate(invalid="ignore", divide="ignore"):
        error = np.sqrt(np.nansum(left * left, axis=0) / (effective - 2) / squares)
        ratio = np.where(error > 0, np.abs(slope) / error, np.where(slope == 0, 0.0, np.inf))
    reach = special.stdtrit(effective - 2, (1 + confidence) / 2) * error  # of Student's t
    p_value = 2 * special.stdtr(effective - 2, -ratio)
    return (
        slope * DECADE,
        (slope - reach) * DECADE,
        (slope + reach) * DECADE,
        intercept,
        p_value,
    )


def adjusted(p_values: np.ndarray) -> np.ndarray:
    """(R, …) p values adjusted for R tests of one question each (Benjamini and Hochberg 1995).

    Along the first axis, leaving out NaN: the least of p·m/rank from each rank on, at most 1.
    """
    shape = p_values.shape
    flat = p_values.reshape(shape[0], -1)
    order = np.argsort(flat, axis=0)  # NaN last
    ordered = np.take_along_axis(flat, order, axis=0)
    tests = np.sum(~np.isnan(flat), axis=0)
    scaled = ordered * tests / np.arange(1, shape[0] + 1)[:, None]
    least = np.fmin.accumulate(scaled[::-1], axis=0)[::-1]
    out = np.full_like(flat, np.nan)
    np.put_along_axis(out, order, np.minimum(least, 1.0), axis=0)
    return np.where(np.isnan(flat), np.nan, out).reshape(shape)
