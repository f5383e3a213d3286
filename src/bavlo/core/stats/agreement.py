"""How well two records agree: bias, errors, correlations, and where several part."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.stats.ranks import TIED, ranks_of
from bavlo.core.sums import mean_of

LEAST_FOR_CORRELATION = 3  # pairs of values


@dataclass(frozen=True)
class Agreement:
    """One statistic of a pair of records.

    Parameters
    ----------
    name
        As in the column `statistic`.
    unit
        Of the statistic; empty for that of the values.
    meaning
        One line for the help.
    neutral
        The value of full agreement where it lies amidst the others; None where at their end.
    """

    name: str
    unit: str
    meaning: str
    neutral: float | None = None


AGREEMENTS = {
    each.name: each
    for each in (
        Agreement("bias", "", "mean of b - a", 0.0),
        Agreement("percent_bias", "%", "100 · Σ(b - a) / Σa, of totals", 0.0),
        Agreement("mae", "", "mean of |b - a|"),
        Agreement("rmse", "", "root of the mean of (b - a)²"),
        Agreement("correlation", "1", "Pearson's"),
        Agreement("rank_correlation", "1", "Spearman's"),
        Agreement("anomaly_correlation", "1", "Pearson's, of anomalies"),
        Agreement("same_sign", "1", "share of periods whose anomalies have one sign"),
    )
}


def own_anomalies(values: np.ndarray, cycle: np.ndarray, inside: np.ndarray) -> np.ndarray:
    """Values minus their own mean of that period of the year.

    Parameters
    ----------
    values : (P, K) float64
        NaN where there is none.
    cycle : (P,) int64
        Number of the period of the year of each.
    inside : (P,) bool
        Periods that the means are taken over.

    Returns
    -------
    anomalies : (P, K) float64
    """
    out = np.full_like(values, np.nan)
    for kind in np.unique(cycle):
        like = cycle == kind
        out[like] = values[like] - mean_of(values[like & inside])
    return out


def agreement(
    a: np.ndarray, b: np.ndarray, a_anomaly: np.ndarray, b_anomaly: np.ndarray
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Statistics of K pairs of records over P periods.

    Parameters
    ----------
    a, b : (P, K) float64
        NaN where there is no value; only periods in which both have one count.
    a_anomaly, b_anomaly : (P, K) float64
        The same minus their own means of each period of the year.

    Returns
    -------
    statistics
        By name in AGREEMENTS, (K,) float64; NaN where there are too few values or a record does not
        vary.
    n : (K,) int64
        Periods that count.
    """
    both = ~(np.isnan(a) | np.isnan(b))
    n = both.sum(axis=0)
    a, b = np.where(both, a, np.nan), np.where(both, b, np.nan)
    gap = b - a
    with np.errstate(invalid="ignore", divide="ignore"):
        count = np.where(n > 0, n, np.nan)
        total = np.where(both, a, 0.0).sum(axis=0)
        summed = np.where(both, gap, 0.0).sum(axis=0)
        anomalies = np.where(both, a_anomaly, np.nan), np.where(both, b_anomaly, np.nan)
        known = ~(np.isnan(anomalies[0]) | np.isnan(anomalies[1]))
        alike = (np.sign(anomalies[0]) == np.sign(anomalies[1])) & known
        out = {
            "bias": mean_of(gap),
            "percent_bias": np.where(total != 0, 100 * summed / total, np.nan),
            "mae": np.nansum(np.abs(gap), axis=0) / count,
            "rmse": np.sqrt(np.nansum(gap * gap, axis=0) / count),
            "correlation": pearson(a, b),
            "rank_correlation": pearson(ranks_of(a), ranks_of(b)),
            "anomaly_correlation": pearson(*anomalies),
            "same_sign": alike.sum(axis=0) / np.where(known.any(axis=0), known.sum(axis=0), np.nan),
        }
    return out, n


def pearson(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    """(K,) Pearson's correlation of records (P, K), over the periods in which both have a value."""
    both = ~(np.isnan(a) | np.isnan(b))
    n = both.sum(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        count = np.where(n >= LEAST_FOR_CORRELATION, n, np.nan)
        away = []
        varies = np.ones(a.shape[1], bool)
        for each in (a, b):
            filled = np.where(both, each, 0.0)
            centred = np.where(both, each - filled.sum(axis=0) / count, 0.0)
            varies &= np.abs(centred).max(axis=0, initial=0) > TIED * np.abs(filled).max(
                axis=0, initial=0
            )
            away.append(centred)
        top = (away[0] * away[1]).sum(axis=0)
        below = np.sqrt((away[0] ** 2).sum(axis=0) * (away[1] ** 2).sum(axis=0))
        return np.where(varies & (n >= LEAST_FOR_CORRELATION), np.clip(top / below, -1, 1), np.nan)


@dataclass(frozen=True, eq=False)
class Spread:
    """How far several records lie apart, each array (P, K).

    Parameters
    ----------
    lowest, highest, span : float64
        NaN where fewer than two have a value.
    lowest_of, highest_of, apart : int64
        Numbers of the records; `apart` is the one farthest from the median of the others, from
        three on. -1 where there is none.
    n : int64
        How many have a value.
    """

    lowest: np.ndarray
    highest: np.ndarray
    span: np.ndarray
    lowest_of: np.ndarray
    highest_of: np.ndarray
    apart: np.ndarray
    n: np.ndarray


def spread(records: Sequence[np.ndarray]) -> Spread:
    """How far S records (P, K) lie apart, period by period.

    Of equal values the record that was given first is named.
    """
    stacked = np.stack(records)
    known = ~np.isnan(stacked)
    n = known.sum(axis=0)
    enough = n >= 2
    low = np.where(known, stacked, np.inf).argmin(axis=0)
    high = np.where(known, stacked, -np.inf).argmax(axis=0)

    def taken(which: np.ndarray) -> np.ndarray:
        return np.where(enough, np.take_along_axis(stacked, which[None], axis=0)[0], np.nan)

    lowest, highest = taken(low), taken(high)
    away = np.full(stacked.shape, -np.inf)
    for s in range(len(records)):
        others = np.delete(stacked, s, axis=0)
        counts = known[s] & (n >= 3)
        middle = np.full(n.shape, np.nan)
        if counts.any():
            middle[counts] = np.nanmedian(others[:, counts], axis=0)
        away[s, counts] = np.abs(stacked[s] - middle)[counts]
    apart = np.where(n >= 3, away.argmax(axis=0), -1)
    return Spread(
        lowest,
        highest,
        highest - lowest,
        np.where(enough, low, -1),
        np.where(enough, high, -1),
        apart,
        n,
    )
