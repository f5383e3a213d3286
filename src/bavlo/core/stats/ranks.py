"""Ranks of values in time."""

from __future__ import annotations

import numpy as np

TIED = 1e-12  # of the largest absolute value: what lies closer differs by rounding alone


def ranks_of(values: np.ndarray) -> np.ndarray:
    """Ranks of each record (P, K), ties sharing the mean of theirs; NaN stays NaN."""
    from scipy.stats import rankdata  # which takes as long to load as all else

    return np.asarray(rankdata(values, axis=0, nan_policy="omit"), np.float64)
