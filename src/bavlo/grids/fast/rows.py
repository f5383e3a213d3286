"""Rows of a large grid as they are stored, decoded a few at a time where they are used.

A strip of decoded rows would go through memory twice, and is twice as large.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np

from bavlo.core.reduce.totals import Seen
from bavlo.grids.cf import Packing
from bavlo.grids.fast.stored import StoredStep, is_plain
from bavlo.grids.source import CellSubset


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

    def plain(self, rows: slice) -> tuple[np.ndarray, Seen] | None:
        """(C,) stored numbers of some of the rows, and what they are; None where they need work.

        Raises
        ------
        InputError
            Where a mark is met that the variable cannot have and that no sample held.
        """
        numbers, packing = self.packing.as_stored(self.stored[rows]).ravel(), self.packing
        if numbers.dtype.kind in "iu" and packing.scale is None and packing.offset is None:
            return (numbers, self._seen(numbers)) if numbers.dtype.isnative else None
        if not is_plain(packing, numbers.dtype):
            return None
        every = CellSubset(None, slice(0, numbers.size), numbers.size)
        return numbers, StoredStep([(every, numbers)], packing, numbers.size).seen

    def _seen(self, numbers: np.ndarray) -> Seen:
        """What whole numbers (C,) are."""
        ends = (numbers.min(), numbers.max()) if numbers.size else None
        missing = self.packing.absent(numbers, ends)
        if missing is not None:
            known = numbers[~missing]
            ends = (known.min(), known.max()) if known.size else None
        low, high = ends or (np.inf, -np.inf)
        return Seen(float(low), float(high), missing)

    def __getitem__(self, rows: slice) -> np.ndarray:
        """Values of some of the rows as float64, NaN for no data."""
        return self.packing.decode(self.stored[rows])
