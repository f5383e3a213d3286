"""Rows of a large grid as they are stored, decoded a few at a time where they are used.

A strip of decoded rows would go through memory twice, and is twice as large.
"""

from __future__ import annotations

from typing import Protocol, runtime_checkable

import numpy as np

from bavlo.grids.cf import Packing
from bavlo.records import dataclass


@runtime_checkable
class HasStoredRows(Protocol):
    """A file or a grid without time whose rows may be had as they are stored."""

    def read_rows(self, rows: slice) -> StoredRows | None:
        """Whole rows; None where they are not to be had like that."""


@dataclass(frozen=True, eq=False)
class StoredRows:
    """Stored numbers (n, nx) of whole rows, of which some at a time are values."""

    stored: np.ndarray
    packing: Packing

    def __len__(self) -> int:
        return len(self.stored)

    def __getitem__(self, rows: slice) -> np.ndarray:
        """Values of some of the rows as float64, NaN for no data."""
        return self.packing.decode(self.stored[rows])
