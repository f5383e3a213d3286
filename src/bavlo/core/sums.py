"""Weighted sums of rows of values, by sparse matrices, and means that lie within what went in."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.batches import batches

if TYPE_CHECKING:
    from scipy import sparse


@dataclass(frozen=True, eq=False)
class WeightedSums:
    """A sparse (R, C) matrix of weights that adds up rows of values.

    Parameters
    ----------
    weight : (N,) float64
    index : (N,) int
        Column of each weight.
    indptr : (R + 1,) int
        Where the weights of each row begin.
    shape
        R and C.

    Examples
    --------
    >>> sums = WeightedSums(np.array([0.5, 2.0]), np.array([0, 1]), np.array([0, 2, 2]), (2, 2))
    >>> sums @ np.array([4.0, 1.0])
    array([4., 0.])
    """

    weight: np.ndarray
    index: np.ndarray
    indptr: np.ndarray
    shape: tuple[int, int]

    @classmethod
    def of_entries(
        cls, weight: np.ndarray, row: np.ndarray, column: np.ndarray, shape: tuple[int, int]
    ) -> WeightedSums:
        """From entries (N,) in any order; those of one place are added."""
        from scipy import sparse

        matrix = sparse.csr_array((weight, (row, column)), shape=shape)
        matrix.sum_duplicates()
        return cls(matrix.data, matrix.indices, matrix.indptr, shape)

    @cached_property
    def by_scipy(self) -> sparse.csr_array:
        """The same as SciPy has it."""
        from scipy import sparse

        return sparse.csr_array((self.weight, self.index, self.indptr), shape=self.shape)

    def __matmul__(self, values: np.ndarray) -> np.ndarray:
        """(R,) or (R, T) sums over columns of values (C,) or (C, T), each times its weight."""
        return np.asarray(self.by_scipy @ values)

    def mean(self, values: np.ndarray, weight: np.ndarray) -> np.ndarray:
        """(R, T) weighted means over columns of values (C, T), NaN where there is no data.

        Parameters
        ----------
        weight : (R, T) or (R, 1) float64
            Of the values that there are; there is no mean where it is 0.
        """
        missing = np.isnan(values)
        total = self @ np.where(missing, 0.0, values) if missing.any() else self @ values
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.where(weight > 0, total / weight, np.nan)
        weighs = self.weight > 0
        index, indptr = self.index, self.indptr
        if not weighs.all():
            index = index[weighs]
            indptr = np.concatenate([[0], np.cumsum(weighs)])[indptr]
        return within(mean, *range_of_rows(index, indptr, values))

    def of_rows(self) -> np.ndarray:
        """(R,) sums of the weights of each row."""
        return self @ np.ones(self.shape[1])


def range_of_rows(
    index: np.ndarray, indptr: np.ndarray, values: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest value of each row of a sparse matrix, whatever the weights are.

    Parameters
    ----------
    index, indptr
        Columns of the matrix and where those of each row begin; entries without weight left out.
    values : (C, T) float64
        NaN where there is no data.

    Returns
    -------
    low, high : (R, T) float64
        NaN where no column has data.
    """
    rows, steps = indptr.size - 1, values.shape[1]
    low, high = np.full((rows, steps), np.nan), np.full((rows, steps), np.nan)
    filled = np.flatnonzero(np.diff(indptr))
    if filled.size and steps:
        for some in batches(steps, index.size):
            chosen = values[index, some]
            low[filled, some] = np.fmin.reduceat(chosen, indptr[filled], axis=0)
            high[filled, some] = np.fmax.reduceat(chosen, indptr[filled], axis=0)
    return low, high


def within(mean: np.ndarray, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """Means without what rounding took out of the range of their values.

    So the mean of equal values is exactly their value, as thresholds and ranks need it.

    Examples
    --------
    >>> within(np.array([25.000000000000004, 3.0]), np.array([25.0, 1.0]), np.array([25.0, 4.0]))
    array([25.,  3.])
    """
    return np.asarray(np.clip(mean, low, high))


def mean_of(values: np.ndarray) -> np.ndarray:
    """(K,) means over the first axis of (N, K), leaving out NaN; NaN where there is nothing."""
    count = np.sum(~np.isnan(values), axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.nansum(values, axis=0) / count
    low, high = (choose.reduce(values, axis=0, initial=np.nan) for choose in (np.fmin, np.fmax))
    return within(mean, low, high)
