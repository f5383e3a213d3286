"""Anomalies: how a period stands against its normal and against all others like it."""

from __future__ import annotations

import numpy as np
from scipy import special

LEAST_NON_ZERO = 10  # values that a gamma distribution is fitted to
HIGHEST_SCORE = 3.0


def ranks(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rank of each value among those of its column, 1 the lowest; ties share the lower rank.

    Parameters
    ----------
    values : (N, K) float64
        NaN is not ranked.

    Returns
    -------
    rank : (N, K) float64
        NaN where there is no value.
    of : (K,) float64
        How many are ranked.

    Examples
    --------
    >>> ranks(np.array([[3.0], [1.0], [3.0], [np.nan]]))[0].ravel()
    array([ 2.,  1.,  2., nan])
    """
    ordered = np.sort(values, axis=0)
    rank = np.empty_like(values)
    for k in range(values.shape[1]):
        rank[:, k] = np.searchsorted(ordered[:, k], values[:, k], side="left") + 1
    return np.where(np.isnan(values), np.nan, rank), np.sum(~np.isnan(values), axis=0).astype(float)


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


def spi(values: np.ndarray, in_base: np.ndarray) -> np.ndarray:
    """Standardised precipitation index of one period of the year.

    Parameters
    ----------
    values : (N, K) float64
        Totals of that period in every year, NaN where not complete.
    in_base : (N,) bool
        The years that the distribution is fitted to.

    Returns
    -------
    score : (N, K) float64
        Φ⁻¹(q + (1 - q)·G(x)), G being the gamma distribution fitted to the non-zero base values
        and q the share of zeros; within ±3; NaN under 10 non-zero base values (McKee et al. 1993;
        WMO-No. 1090).
    """
    base = values[in_base]
    there = ~np.isnan(base)
    positive = np.where(there & (base > 0), base, np.nan)
    non_zero = np.sum(~np.isnan(positive), axis=0)
    count = there.sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        dry = 1 - non_zero / count
        shape, scale = gamma_fit(positive)
        chance = dry + (1 - dry) * special.gammainc(shape, np.maximum(values, 0) / scale)
        score = np.clip(special.ndtri(chance), -HIGHEST_SCORE, HIGHEST_SCORE)
    return np.where((non_zero >= LEAST_NON_ZERO) & ~np.isnan(values), score, np.nan)
