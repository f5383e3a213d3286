"""The median and the distinct ones of a few numbers.

NumPy's own `median` and `unique` load its masked arrays first, which is 6 % of a small job.
"""

from __future__ import annotations

import numpy as np


def median(values: np.ndarray) -> float:
    """The middle value, or the mean of the two in the middle; NaN where there is none.

    Examples
    --------
    >>> median(np.array([3, 1, 2, 10]))
    2.5
    """
    ordered = np.sort(values, axis=None)
    if not ordered.size:
        return float("nan")
    return float((ordered[(ordered.size - 1) // 2] + ordered[ordered.size // 2]) / 2)


def distinct(values: np.ndarray) -> np.ndarray:
    """(N,) the values that occur, ascending; none of them NaN.

    Examples
    --------
    >>> distinct(np.array([3, 1, 3])).tolist()
    [1, 3]
    """
    ordered = np.sort(values, axis=None)
    return np.asarray(ordered[np.append(True, ordered[1:] != ordered[:-1])[: ordered.size]])
