"""Sums of the rows of a grid for the rows of a new one, a few old rows after the other."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from scipy import sparse


@dataclass(frozen=True, eq=False)
class RowSums:
    """What some rows of a grid add to the rows of a new one, their columns still the old ones.

    Parameters
    ----------
    first
        The first of the new rows.
    weight : (n, nx) float64
        Share of the new row's height with data.
    total : (n, nx) float64 or None
        The same times the values, or the values' shares of what is counted.
    codes
        The weight of each class code instead.
    """

    first: int
    weight: np.ndarray
    total: np.ndarray | None = None
    codes: Mapping[float, np.ndarray] = field(default_factory=dict)


class AddedRows:
    """Sums over some rows, a few of which are added at a time.

    Parameters
    ----------
    shares, counted : (n', n) sparse
        Share of each new row that each old one covers, and of each old one that lies in the new;
        the latter None for class codes.
    """

    def __init__(
        self, shares: sparse.csc_array, counted: sparse.csc_array | None, width: int
    ) -> None:
        self.shares, self.counted = shares, counted
        self.weight = np.zeros((shares.shape[0], width))
        self.total = None if counted is None else np.zeros_like(self.weight)
        self.codes: dict[float, np.ndarray] = {}

    def add(self, part: slice, values: np.ndarray) -> None:
        """Add the values (n, nx) of a few rows, NaN where there is no data."""
        if self.counted is None:
            self._add_codes(part, values)
        else:
            self._add_values(part, values)

    def _add_values(self, part: slice, values: np.ndarray) -> None:
        valid = ~np.isnan(values)
        if valid.all():
            self._add_weight(part, None)
        else:
            self._add_weight(part, valid)
            values = np.where(valid, values, 0.0)
        assert self.counted is not None
        assert self.total is not None
        self.total += self.counted[:, part] @ values

    def _add_codes(self, part: slice, values: np.ndarray) -> None:
        valid = ~np.isnan(values)
        self._add_weight(part, None if valid.all() else valid)
        shares = self.shares[:, part]
        for code in np.unique(values[valid]).tolist():
            held = shares @ (values == code).astype(np.float64)
            self.codes[code] = self.codes[code] + held if code in self.codes else held

    def _add_weight(self, part: slice, valid: np.ndarray | None) -> None:
        """The weight of cells (n, nx) with data; None where all have, and columns are alike."""
        if valid is None:
            self.weight += self.shares[:, part].sum(axis=1)[:, None]
        else:
            self.weight += self.shares[:, part] @ valid.astype(np.float64)
