"""Classes of the values on a map: their limits, and where they stand on a scale of colours."""

from __future__ import annotations

import math

import numpy as np

from bavlo.errors import RequestError

CLASSES = 6
STEPS = (1, 2, 2.5, 5, 10)  # round numbers for class limits


def class_limits(values: np.ndarray, how: str, *, neutral: float | None) -> np.ndarray:
    """Limits of classes, ascending.

    Parameters
    ----------
    values
        All values on the map.
    how
        quantile, equal, or limits with commas between them.
    neutral
        Equal classes lie as far below as above it, where there are values on both sides.
    """
    known = values[np.isfinite(values)]
    if not known.size:
        return np.array([0.0, 1.0])
    low, high = float(known.min()), float(known.max())
    if how not in ("quantile", "equal"):
        return _given(how, low, high)
    if low == high:
        return np.array([low, low + (abs(low) or 1.0)])
    if how == "quantile":
        limits = np.unique(np.quantile(known, np.linspace(0, 1, CLASSES + 1)))
        return _rounded(limits) if limits.size > 1 else np.array([low, high])
    middle = neutral or 0.0
    low, high = low - middle, high - middle
    if neutral is not None and low < 0 < high:
        high = max(abs(low), abs(high))
        low = -high
    elif neutral is not None:
        low, high = min(low, 0.0), max(high, 0.0)
    step = round_step((high - low) / (CLASSES + 2))
    return middle + np.arange(math.floor(low / step), math.ceil(high / step) + 1) * step


def _given(how: str, low: float, high: float) -> np.ndarray:
    try:
        inner = np.array([float(part) for part in how.split(",")])
    except ValueError:
        raise RequestError(
            "classes", f"'{how}' is not known", "use quantile, equal or limits such as 0,50,100"
        ) from None
    if (np.diff(inner) <= 0).any():
        raise RequestError("classes", f"'{how}' does not rise", "give the limits in order")
    # Values beyond the limits given have classes of their own.
    below = [low] if low < inner[0] else []
    above = [high] if high > inner[-1] else []
    return np.concatenate([below, inner, above])


def round_step(size: float) -> float:
    """The least round number of at least a size."""
    power = 10.0 ** math.floor(math.log10(size))
    return next(step for step in STEPS if step * power >= size * 0.999) * power


def _rounded(limits: np.ndarray) -> np.ndarray:
    """Limits with as few digits as keep all of them apart, the ends outwards."""
    for digits in range(-12, 13):
        rounded = np.round(limits, digits)
        unit = 10.0**-digits
        rounded[0] = math.floor(limits[0] / unit) * unit
        rounded[-1] = math.ceil(limits[-1] / unit) * unit
        narrowest = np.diff(limits).min()
        if unit <= narrowest / 2 and (np.diff(rounded) > 0).all():
            return rounded
    return limits


def scale_positions(limits: np.ndarray, *, neutral: float | None) -> np.ndarray:
    """Where each class stands on the colour scale, 0 to 1."""
    middles = (limits[1:] + limits[:-1]) / 2
    if neutral is not None:
        middles = middles - neutral
        reach = np.abs(middles).max() or 1.0
        return np.asarray(0.5 + middles / reach / 2)
    return np.linspace(0.06, 1, middles.size) if middles.size > 1 else np.array([0.55])


def class_of(values: np.ndarray, limits: np.ndarray) -> np.ndarray:
    """Number of the class of each value; where there is none, any."""
    return np.asarray(
        np.clip(np.searchsorted(limits, values, side="right") - 1, 0, limits.size - 2)
    )


def limit_digits(limits: np.ndarray) -> int:
    """Decimals that tell the limits apart."""
    for digits in range(8):
        if np.allclose(np.round(limits, digits), limits, rtol=0, atol=1e-6 * np.ptp(limits)):
            return digits
    narrowest = float(np.diff(limits).min())
    return max(0, 1 - math.floor(math.log10(narrowest)))
