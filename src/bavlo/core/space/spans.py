"""The overlay of grids without time: spans of cells along rows that a region covers alike."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.space.overlay import (
    LEAST_COVER,
    Overlay,
    share_outside,
)
from bavlo.core.space.row_areas import RowAreas, of_each_span

BYTES_OF_SPAN = 24


@dataclass(frozen=True, eq=False)
class Spans:
    """Shared areas of R regions and spans of cells, each of which a region covers alike.

    Parameters
    ----------
    shape
        Rows and columns of the whole grid.
    region : (N,) int32
        Whose span it is.
    start : (N,) int64
        Flat number of its first cell, ascending.
    length : (N,) int32
        Cells, all of one row.
    fraction : (N,) float64
        Share of each cell that the region covers, 0 to 1.
    inside : (R,) float64
        Area of each region that lies on the grid, km².
    region_weight : (R,) float64
        The whole area of each region in the same unit, also where it lies outside the grid.
    """

    shape: tuple[int, int]
    region: np.ndarray
    start: np.ndarray
    length: np.ndarray
    fraction: np.ndarray
    inside: np.ndarray
    region_weight: np.ndarray

    @property
    def regions(self) -> int:
        """How many regions there are."""
        return self.region_weight.size

    @property
    def is_sound(self) -> bool:
        """Whether the lengths of its arrays agree, as those of what was kept should."""
        return (
            self.region.size == self.start.size == self.length.size == self.fraction.size
            and self.inside.size == self.region_weight.size > self.region.max(initial=-1)
        )

    @property
    def nbytes(self) -> int:
        """What it takes in memory."""
        return BYTES_OF_SPAN * self.start.size

    @cached_property
    def entries(self) -> np.ndarray:
        """(R,) how many cells each region touches."""
        counts = np.bincount(self.region, self.length, self.regions)  # whole, so exact
        return counts.astype(np.int64)

    def outside(self) -> np.ndarray:
        """(R,) share of each region's area that lies outside the grid; 0 where only rounding is."""
        return share_outside(self.inside, self.region_weight)

    @property
    def rows(self) -> tuple[int, int]:
        """The rows that it touches, the last excluded."""
        if not self.start.size:
            return 0, 0
        return int(self.start[0]) // self.shape[1], int(self.start[-1]) // self.shape[1] + 1

    def of_rows(self, first: int, last: int) -> Spans:
        """Those of the rows `first` to `last` (excluded), numbered from the first of them."""
        width = self.shape[1]
        low, high = np.searchsorted(self.start, [first * width, last * width])
        some = slice(int(low), int(high))
        return Spans(
            (last - first, width),
            self.region[some],
            self.start[some] - first * width,
            self.length[some],
            self.fraction[some],
            self.inside,
            self.region_weight,
        )

    def cells(self, area: np.ndarray) -> Overlay:
        """The same as lists of cells.

        Parameters
        ----------
        area : (ny, nx) float64
            Of all cells, by which values are weighted.
        """
        order = np.argsort(self.region, kind="stable")
        number = listed(self.start[order], self.length[order])
        fraction = np.repeat(self.fraction[order], self.length[order])
        return Overlay(
            self.shape,
            np.arange(area.size),
            np.concatenate([[0], np.cumsum(self.entries)]),
            number,
            fraction,
            fraction * area.ravel()[number],
            self.region_weight,
        )

    def summed(self, values: np.ndarray) -> np.ndarray:
        """(R,) sums over the cells of each region, each value (ny, nx) times its share."""
        each = of_each_span(np.add, values.ravel(), self.start, self.length)
        return np.bincount(self.region, self.fraction * each, self.regions)

    def chosen(self, how: np.ufunc, values: np.ndarray) -> np.ndarray:
        """(R,) lowest (np.fmin) or highest (np.fmax) value of cells that are covered enough.

        NaN where there is none.
        """
        each = of_each_span(how, values.ravel(), self.start, self.length)
        enough = self.fraction >= LEAST_COVER
        out = np.full(self.regions, np.nan)
        how.at(out, self.region[enough], each[enough])
        return out

    def of_region(self, region: int, areas: RowAreas) -> Overlay:
        """The overlay of one region and the cells that it touches."""
        own = self.region == region
        cells = listed(self.start[own], self.length[own])
        fraction = np.repeat(self.fraction[own], self.length[own])
        area, width = np.zeros(cells.size), self.shape[1]
        for rows in batches(self.rows[1], width, self.rows[0]):
            some = slice(*np.searchsorted(cells, [rows.start * width, rows.stop * width]).tolist())
            if some.start < some.stop:
                each = areas.weights(rows.start, rows.stop).ravel()
                area[some] = each[cells[some] - rows.start * width]
        index = np.arange(cells.size, dtype=np.int32)
        ends, whole = np.array([0, cells.size]), self.region_weight[[region]]
        return Overlay(self.shape, cells, ends, index, fraction, area * fraction, whole)


def listed(start: np.ndarray, length: np.ndarray) -> np.ndarray:
    """The numbers of all cells of spans, one span after the other.

    Parameters
    ----------
    start, length : (N,) int
        First number of each span and how many there are, at least 1.

    Examples
    --------
    >>> listed(np.array([3, 9]), np.array([2, 3]))
    array([ 3,  4,  9, 10, 11])
    """
    steps = np.ones(int(length.sum()), np.int64)
    if start.size:
        ends = np.cumsum(length)
        steps[0] = start[0]
        steps[ends[:-1]] = start[1:] - (start[:-1] + length[:-1] - 1)
    return np.cumsum(steps)
