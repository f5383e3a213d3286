"""Anomalies: how a period stands against its normal and against all others like it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.stats.ranks import TIED

LEAST_NON_ZERO = 10  # values that a gamma distribution is fitted to
HIGHEST_SCORE = 3.0


@dataclass(frozen=True, eq=False)
class Ranks:
    """How values stand among those of their column.

    Parameters
    ----------
    rank : (N, K) float64
        1 is the lowest; NaN where there is no value.
    tied : (N, K) float64
        How many others share the rank.
    of : (K,) float64
        How many are ranked.
    """

    rank: np.ndarray
    tied: np.ndarray
    of: np.ndarray


def ranks(values: np.ndarray) -> Ranks:
    """Rank of each value among those of its column, 1 the lowest; ties share the lower rank.

    Sorted neighbours closer than 1e-12 of the column's largest absolute value are ties.

    Parameters
    ----------
    values : (N, K) float64
        NaN is not ranked.

    Examples
    --------
    >>> found = ranks(np.array([[3.0], [1.0], [3.0], [np.nan]]))
    >>> found.rank.ravel(), found.tied.ravel()
    (array([ 2.,  1.,  2., nan]), array([ 1.,  0.,  1., nan]))
    """
    order = np.argsort(values, axis=0, kind="stable")  # NaN last
    ordered = np.take_along_axis(values, order, axis=0)
    known = ~np.isnan(ordered)
    largest = np.max(np.where(known, np.abs(ordered), 0.0), axis=0, initial=0.0)
    begins = np.ones(values.shape, bool)
    begins[1:] = ~(np.diff(ordered, axis=0) <= TIED * largest)
    number = np.arange(len(values))[:, None]
    first = np.maximum.accumulate(np.where(begins, number, 0), axis=0)
    ends = np.ones(values.shape, bool)
    ends[:-1] = begins[1:]
    last = np.minimum.accumulate(np.where(ends, number, len(values))[::-1], axis=0)[::-1]
    rank, tied = np.empty_like(values), np.empty_like(values)
    np.put_along_axis(rank, order, np.where(known, first + 1.0, np.nan), axis=0)
    np.put_along_axis(tied, order, np.where(known, last - first, np.nan), axis=0)
    return Ranks(rank, tied, known.sum(axis=0).astype(np.float64))


def gamma_fit(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Maximum-likelihood shape and scale of gamma distributions.

    Parameters
    ----------
    values : (N, K) float64
        Positive values; NaN is left out.

    Returns
    -------
    shape, scale : (K,) float64
        The solution of ln k - ψ(k) = ln(mean) - mean(ln x), scale = mean / k (Thom 1958 gives the
        first guess, Newton's method the rest); NaN where all values are equal.
    """
    from scipy import special

    count = np.sum(~np.isnan(values), axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.nansum(values, axis=0) / count
        spread = np.log(mean) - np.nansum(np.log(values), axis=0) / count
        shape = (1 + np.sqrt(1 + 4 * spread / 3)) / (4 * spread)
        for _ in range(30):
            error = np.log(shape) - special.digamma(shape) - spread
            slope = 1 / shape - special.polygamma(1, shape)
            step = error / slope
            shape = np.where(shape - step > 0, shape - step, shape / 2)
            if np.nanmax(np.abs(step / shape), initial=0.0) < 1e-14:
                break
        good = np.isfinite(shape) & (spread > 1e-14)
        return np.where(good, shape, np.nan), np.where(good, mean / shape, np.nan)


def zero_share(values: np.ndarray) -> np.ndarray:
    """(K,) share of zeros among the values (N, K) that there are; NaN where there are none."""
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.sum(values == 0, axis=0) / np.sum(~np.isnan(values), axis=0))


def spi(values: np.ndarray, base: np.ndarray) -> np.ndarray:
    """Standardised precipitation index of one period of the year.

    Parameters
    ----------
    values : (N, K) float64
        Totals of that period in every year, NaN where not complete.
    base : (B, K) float64
        Those of the base years, that the distribution is fitted to.

    Returns
    -------
    score : (N, K) float64
        Φ⁻¹(q + (1 - q)·G(x)), G being the gamma distribution fitted to the non-zero base values
        and q the share of zeros; within ±3; NaN under 10 non-zero base values (McKee et al. 1993;
        WMO-No. 1090).
    """
    from scipy import special

    valid = ~np.isnan(base)
    positive = np.where(valid & (base > 0), base, np.nan)
    non_zero = np.sum(~np.isnan(positive), axis=0)
    count = valid.sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        dry = 1 - non_zero / count
        shape, scale = gamma_fit(positive)
        chance = dry + (1 - dry) * special.gammainc(shape, np.maximum(values, 0) / scale)
        score = np.clip(special.ndtri(chance), -HIGHEST_SCORE, HIGHEST_SCORE)
    return np.where((non_zero >= LEAST_NON_ZERO) & ~np.isnan(values), score, np.nan)
