"""The lowest and the highest of many values, by one way through memory instead of two."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import at_hand, compiled
from bavlo.core.reduce.step_kernels import find_range, floats_in_order


def ends_without_gaps(values: np.ndarray) -> tuple[float, float] | None:
    """Lowest and highest of float32 numbers (N,) by a compiled loop, in half of the time.

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
