"""Weighted sums of rows of values, by sparse matrices."""

from __future__ import annotations

import platform
import sys
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.records import dataclass

if TYPE_CHECKING:
    from scipy import sparse

# SciPy's sparse matrices take as long to load as NumPy itself, so small sums do without them. On
# these processors SciPy is compiled without fused multiplication and addition, and both ways add
# the same products in the same order: to the last bit it does not matter which is taken.
WITHOUT_FUSION = ("x86_64", "AMD64")
FEW = 2**23  # products that a run makes without SciPy

_made = 0  # products so far


def _worth_loading(products: int) -> bool:
    """Whether SciPy makes a run faster that has so many more products to make."""
    global _made
    _made += products
    is_loaded = "scipy.sparse" in sys.modules
    return is_loaded or _made > FEW or platform.machine() not in WITHOUT_FUSION


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
        order = np.lexsort((column, row))
        weight, row, column = weight[order], row[order], column[order]
        is_new = np.ones(row.size, bool)
        is_new[1:] = (np.diff(row) != 0) | (np.diff(column) != 0)
        if not is_new.all():
            weight = np.add.reduceat(weight, np.flatnonzero(is_new))
            row, column = row[is_new], column[is_new]
        indptr = np.concatenate([[0], np.cumsum(np.bincount(row, minlength=shape[0]))])
        return cls(weight, column, indptr, shape)

    @cached_property
    def by_scipy(self) -> sparse.csr_array:
        """The same as SciPy has it."""
        from scipy import sparse

        return sparse.csr_array((self.weight, self.index, self.indptr), shape=self.shape)

    def __matmul__(self, values: np.ndarray) -> np.ndarray:
        """(R,) or (R, T) sums over columns of values (C,) or (C, T), each times its weight."""
        products = self.weight.size * (values.shape[1] if values.ndim == 2 else 1)
        if _worth_loading(products):
            return np.asarray(self.by_scipy @ values)
        return self.without_scipy(values)

    def of_rows(self) -> np.ndarray:
        """(R,) sums of the weights of each row."""
        return self @ np.ones(self.shape[1])

    def without_scipy(self, values: np.ndarray) -> np.ndarray:
        """The same sums, in the same order, by NumPy alone; three times slower."""
        flat = values.reshape(self.shape[1], -1)
        if flat.shape[1] == 1:  # along which NumPy would add in pairs
            rows = np.repeat(np.arange(self.shape[0]), np.diff(self.indptr))
            of_rows = np.bincount(rows, self.weight * flat[self.index, 0], self.shape[0])
            return of_rows.reshape(self.shape[0], *values.shape[1:])
        sums = np.zeros((self.shape[0], flat.shape[1]))
        for n in np.flatnonzero(np.diff(self.indptr)):
            own = slice(self.indptr[n], self.indptr[n + 1])
            products = self.weight[own, None] * flat[self.index[own]]
            sums[n] += np.add.reduce(products, axis=0)
        return sums
