"""Values over the last periods, or from the beginning of a longer period up to each step."""

from __future__ import annotations

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.values.combine import MEAN, MIN, TOTAL


def windowed(
    values: np.ndarray,
    start: np.ndarray,
    end: np.ndarray,
    count: int,
    combine: str,
) -> tuple[np.ndarray, np.ndarray]:
    """Totals, means, lowest or highest values of the last periods.

    Parameters
    ----------
    values : (P, K) float64
        In order of time.
    start, end : (P,) int64
        Bounds of the periods; a window holds only periods that adjoin.
    count
        Periods in a window.
    combine
        total, mean (by length of the periods), min or max.

    Returns
    -------
    values : (P, K) float64
        NaN where a period of the window is missing.
    first : (P,) int64
        Position of the first period of each window; -1 where there are too few.
    """
    if count == 1:
        return values, np.arange(len(values))
    out = np.full_like(values, np.nan)
    first = np.full(len(values), -1)
    if len(values) < count:
        return out, first
    view = np.lib.stride_tricks.sliding_window_view(values, count, axis=0)
    joined = np.concatenate([[0], np.cumsum(start[1:] != end[:-1])])
    adjoin = joined[count - 1 :] == joined[: len(joined) - count + 1]
    if combine == TOTAL:
        found = view.sum(axis=-1)
    elif combine == MEAN:
        length = np.lib.stride_tricks.sliding_window_view((end - start).astype(float), count)
        found = (view * length[:, None]).sum(axis=-1) / length.sum(axis=-1)[:, None]
    else:
        found = view.min(axis=-1) if combine == MIN else view.max(axis=-1)
    out[count - 1 :] = np.where(adjoin[:, None], found, np.nan)
    first[count - 1 :] = np.where(adjoin, np.arange(len(values) - count + 1), -1)
    return out, first


def over_windows(values: np.ndarray, first: np.ndarray) -> np.ndarray:
    """(…, P) sums of values (…, P) from the first period of each window (P,) to its last.

    Examples
    --------
    >>> over_windows(np.array([31.0, 28, 31]), np.array([0, 0, 1]))
    array([31., 59., 59.])
    """
    total = np.cumsum(values, axis=-1)
    total = np.concatenate([np.zeros_like(total[..., :1]), total], axis=-1)
    return np.asarray(total[..., 1:] - total[..., first])


def running(
    values: np.ndarray,
    steps: PeriodAxis,
    around: PeriodAxis,
    combine: str,
    min_steps: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Totals or means from the beginning of a period up to each of its steps.

    Parameters
    ----------
    values : (T, K) float64
        Of the steps, NaN where there is none.
    steps, around
        The steps, and the longer periods that they lie in.
    combine
        total, mean (by length of the steps), min or max.
    min_steps
        Share of the time so far that must have data.

    Returns
    -------
    values : (T, K) float64
        NaN where too much is missing so far, or a step lies in none of the periods.
    first : (T,) int64
        Beginning of the period that each step lies in; of the step itself where in none.
    """
    out = np.full_like(values, np.nan)
    position = np.searchsorted(around.start, steps.start, side="right") - 1
    inside = (position >= 0) & (steps.end <= around.end[np.maximum(position, 0)])
    length = (steps.end - steps.start).astype(np.float64)
    for p in np.unique(position[inside]):
        at = np.flatnonzero(inside & (position == p))
        part, days = values[at], length[at][:, None]
        valid = ~np.isnan(part)
        if combine in (TOTAL, MEAN):
            weight = days if combine == MEAN else 1.0
            found = np.cumsum(np.where(valid, part * weight, 0.0), axis=0)
        else:
            found = (np.fmin if combine == MIN else np.fmax).accumulate(part, axis=0)
        covered = np.cumsum(valid * days, axis=0)
        so_far = (steps.end[at] - around.start[p])[:, None]
        with np.errstate(invalid="ignore", divide="ignore"):
            found = found / covered if combine == MEAN else found
        enough = (covered >= (min_steps - ENOUGH) * so_far) & (covered > 0)
        out[at] = np.where(enough, found, np.nan)
    return out, np.where(inside, around.start[np.maximum(position, 0)], steps.start)
