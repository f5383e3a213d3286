"""Whole numbers as they are stored, added up over steps before they become values.

Of packed numbers a sum is exact before it is scaled, and costs a quarter of what decoding every
step costs.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np

from bavlo.core.reduce.totals import Totals
from bavlo.grids.cf import Packing
from bavlo.grids.source import CellSelection, CellSubset

FEW_STEPS = 2**15  # of which 16-bit numbers add up to less than 2**31

Part = tuple[CellSubset, slice, np.ndarray]  # wanted cells, steps, and stored numbers (t, size)


@runtime_checkable
class HasPacked(Protocol):
    """A file or a grid that may be had as it is stored."""

    @property
    def whole_numbers(self) -> bool:
        """Whether all that is stored are whole numbers of at most 32 bits."""

    def read_packed(self, first: int, last: int, cells: CellSelection) -> PackedBlock | None:
        """The stored numbers of the steps `first` to `last` (excluded), where they are whole."""


@dataclass(frozen=True, eq=False)
class PackedBlock:
    """The stored whole numbers of some steps.

    Parameters
    ----------
    parts
        Rectangles of cells, of one or more steps each.
    shape
        T steps and C wanted cells.
    """

    parts: Sequence[Part]
    packing: Packing
    shape: tuple[int, int]

    def decode(self, first: int, last: int) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data."""
        block = np.empty((last - first, self.shape[1]))
        for subset, steps, stored in self.parts:
            low, high = max(steps.start, first), min(steps.stop, last)
            if low < high:
                rows = stored[low - steps.start : high - steps.start]
                subset.decode(rows, self.packing.decode, block[low - first : high - first])
        return block

    def totals(self, starts: np.ndarray) -> Totals | None:
        """Sums over runs of steps; None where not all steps miss the same cells.

        Parameters
        ----------
        starts : (P,) int
            The first step of each run, from 0 on; each ends where the next begins.
        """
        edges = np.append(starts, self.shape[0])
        sums: dict[int, _Sums] = {}
        for subset, steps, stored in self.parts:
            number = self.packing.as_stored(stored)
            if id(subset) not in sums:
                sums[id(subset)] = _Sums(subset, number.dtype, edges)
            sums[id(subset)].add(steps, number, self.packing.absent(number))
        if not all(each.alike for each in sums.values()):
            return None
        value = np.empty((len(starts), self.shape[1]))
        for each in sums.values():
            value[:, each.subset.position] = each.scaled(self.packing)
        ranges = [each.value_range(self.packing) for each in sums.values()]
        low, high = (np.array(side) for side in zip(*ranges, strict=True))
        return Totals(value, (float(low.min()), float(high.max())))


class _Sums:
    """The sums of one rectangle (size,) of cells, wanted and others."""

    def __init__(self, subset: CellSubset, dtype: np.dtype, edges: np.ndarray) -> None:
        self.subset = subset
        self.edges = edges
        self.dtype = dtype.newbyteorder("=")
        small = dtype.itemsize <= 2 and edges[-1] <= FEW_STEPS
        self.kind = np.int32 if small else np.int64
        self.total: np.ndarray | None = None

    def add(self, steps: slice, stored: np.ndarray, absent: np.ndarray | None) -> None:
        """Take in some steps (t, size), and where they have no data."""
        size = stored.shape[1]
        if self.total is None:
            limits = np.iinfo(self.dtype)
            self.total = np.zeros((len(self.edges) - 1, size), self.kind)
            self.low = np.full(size, limits.max, self.dtype)
            self.high = np.full(size, limits.min, self.dtype)
            self.some, self.every = np.zeros(size, bool), np.ones(size, bool)
        if absent is None:
            self.every[:] = False
        first = int(np.searchsorted(self.edges, steps.start, side="right")) - 1
        for p in range(first, len(self.total)):
            low = max(int(self.edges[p]), steps.start) - steps.start
            high = min(int(self.edges[p + 1]), steps.stop) - steps.start
            if low >= high:
                break
            np.add(self.total[p], _over(np.add, stored[low:high]), out=self.total[p])
        np.minimum(self.low, _over(np.minimum, stored), out=self.low)
        np.maximum(self.high, _over(np.maximum, stored), out=self.high)
        if absent is not None:
            self.some |= _over(np.logical_or, absent)
            self.every &= _over(np.logical_and, absent)

    @property
    def alike(self) -> bool:
        """Whether every wanted cell has data on all steps or on none."""
        return not ((self.some != self.every) & self.subset.wanted).any()

    def scaled(self, packing: Packing) -> np.ndarray:
        """(P, n) sums of the wanted cells as values."""
        assert self.total is not None
        total = self.subset.taken(self.total).astype(np.float64)
        if packing.scale is not None:
            total *= packing.scale
        if packing.offset is not None:
            total += packing.offset * np.diff(self.edges)[:, None]
        total[:, self.subset.taken(self.some[None])[0]] = np.nan
        return total

    def value_range(self, packing: Packing) -> tuple[float, float]:
        """Lowest and highest value; (inf, -inf) where there is none."""
        present = self.subset.wanted & ~self.some
        if not present.any():
            return np.inf, -np.inf
        pair = packing.decode(np.array([self.low[present].min(), self.high[present].max()]))
        return float(pair.min()), float(pair.max())


def _over(how: np.ufunc, rows: np.ndarray) -> np.ndarray:
    """Rows (t, size) put together; one alone is not copied."""
    if len(rows) == 1:
        return np.asarray(rows[0])
    return np.asarray(how.reduce(rows, axis=0, dtype=np.int64 if how is np.add else None))
