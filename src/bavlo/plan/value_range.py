"""The range of the values of a grid, as far as they were read."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import at_hand, compiled
from bavlo.core.reduce.step_kernels import find_range, floats_in_order
from bavlo.records import dataclass

IN_CACHE = 2**16  # values that are still near when they are looked at again


@dataclass(frozen=True)
class ValueRange:
    """Lowest and highest value; ∞ and -∞ where there is none."""

    low: float = np.inf
    high: float = -np.inf

    def wider(self, other: ValueRange) -> ValueRange:
        """The range that holds two."""
        return ValueRange(min(self.low, other.low), max(self.high, other.high))

    @classmethod
    def of(cls, block: np.ndarray) -> ValueRange:
        """Of an array of any shape, leaving out NaN."""
        flat = block.reshape(-1)
        known = _without_gaps(flat)
        if known is not None:
            return cls(*known)
        parts = [flat[n : n + IN_CACHE] for n in range(0, flat.size, IN_CACHE)]
        low = min((np.fmin.reduce(part, initial=np.inf) for part in parts), default=np.inf)
        high = max((np.fmax.reduce(part, initial=-np.inf) for part in parts), default=-np.inf)
        return cls(float(low), float(high))


def _without_gaps(values: np.ndarray) -> tuple[float, float] | None:
    """Lowest and highest of float32 numbers (N,) by a compiled loop.

    None without it, for other numbers, or where one is NaN.
    """
    find = at_hand(find_range)
    if find is None or not values.size or values.dtype != np.float32:
        return None
    found = np.empty(2, np.int64)
    find(values.view(np.int32), found)
    low, high = floats_in_order(found.astype(np.int32), values.dtype).tolist()
    return (low, high) if -np.inf <= low and high <= np.inf else None


def warm_up() -> None:
    """Load and compile what looks for the range of float32 numbers, where numba is there."""
    find = compiled(find_range)
    if find is not None:
        find(np.zeros(1, np.int32), np.empty(2, np.int64))
