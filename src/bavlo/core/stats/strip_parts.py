"""What runs of cells of a few rows add up to: of decoded values, or of numbers as they are stored.

Both give the same bits. The compiled loops of the second go through the numbers as often as there
are sums, where NumPy's passes decode, look for what is missing, multiply and add.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from bavlo.core.compiled import compiled
from bavlo.core.reduce.step_kernels import floats_in_order
from bavlo.core.reduce.totals import DecodedStep, Seen
from bavlo.core.space.rows import PlainRows, Rows
from bavlo.core.space.runs import RunOverlay
from bavlo.core.stats.cell_sample import LEAST_COVER
from bavlo.core.stats.strip_kernels import (
    LONGEST,
    add_areas,
    add_squares,
    add_values,
    add_weighted,
    find_range,
)
from bavlo.records import dataclass


@dataclass(frozen=True, eq=False)
class PartRuns:
    """The runs of a few rows.

    Parameters
    ----------
    regions
        How many there are.
    region, fraction : (N,)
        Whose run it is, and the share of its cells that is covered.
    place : (2, N) int64
        Its first cell and the one after its last, counted from the first of these rows.
    """

    regions: int
    region: np.ndarray
    fraction: np.ndarray
    place: np.ndarray

    @classmethod
    def of(cls, overlay: RunOverlay, runs: slice, origin: int) -> PartRuns:
        """Those of an overlay; `origin` is the flat number of the first cell of these rows."""
        place = np.empty((2, runs.stop - runs.start), np.int64)
        np.subtract(overlay.start[runs], origin, out=place[0])
        np.add(place[0], overlay.length[runs], out=place[1])
        return cls(overlay.regions, overlay.region[runs], overlay.fraction[runs], place)

    @cached_property
    def pieces(self) -> PartRuns:
        """The same cut into pieces that all ways of adding up take one after the other."""
        length = self.place[1] - self.place[0]
        pieces = -(-length // LONGEST)
        whose = np.repeat(np.arange(pieces.size), pieces)
        number = np.arange(whose.size) - np.repeat(np.cumsum(pieces) - pieces, pieces)
        first = self.place[0][whose] + LONGEST * number
        place = np.stack([first, np.minimum(first + LONGEST, self.place[1][whose])])
        return PartRuns(self.regions, self.region[whose], self.fraction[whose], place)

    @cached_property
    def well_covered(self) -> PartRuns:
        """Those whose cells are covered enough to take part in the lowest and the highest."""
        enough = self.fraction >= LEAST_COVER
        if enough.all():
            return self
        place = self.place[:, enough]
        return PartRuns(self.regions, self.region[enough], self.fraction[enough], place)


class PartSums(Protocol):
    """Sums (R,) of the values of a few rows."""

    @property
    def seen(self) -> Seen:
        """What all of their cells hold."""

    def areas(self, area: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data.

        Parameters
        ----------
        area : (n, nx) float64
            Of all cells.
        """

    def values(self) -> np.ndarray:
        """Values."""

    def weighted(self, area: np.ndarray) -> np.ndarray:
        """Values times areas."""

    def squares(self, area: np.ndarray, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough; NaN for none."""


def part_sums(block: Rows, rows: slice, runs: PartRuns) -> PartSums:
    """Sums of some rows by the way that is open for them."""
    if isinstance(block, PlainRows) and compiled(add_values) is not None:
        plain = block.plain(rows)
        if plain is not None:
            return StoredPart(*plain, runs)
    return DecodedPart(block[rows], runs)


@dataclass(frozen=True, eq=False)
class DecodedPart:
    """Values (n, nx) float64, NaN where there is no data."""

    block: np.ndarray
    runs: PartRuns

    @cached_property
    def seen(self) -> Seen:
        """What all of their cells hold."""
        return DecodedStep(self.block.ravel()).seen

    def areas(self, area: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""
        gaps = area * self._missing
        return self._summed(area - gaps), self._summed(gaps), self._summed(~self._missing)

    def values(self) -> np.ndarray:
        """Sums of values."""
        return self._summed(self._filled)

    def weighted(self, area: np.ndarray) -> np.ndarray:
        """Values times areas."""
        return self._summed(self._filled * area)

    def squares(self, area: np.ndarray, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""
        away = self.block - shift
        if self.seen.missing is not None:
            away[self._missing] = 0.0
        away *= away
        away *= area
        return self._summed(away)

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough."""
        runs = self.runs.well_covered
        low, high = np.full(runs.regions, np.nan), np.full(runs.regions, np.nan)
        np.fmin.at(low, runs.region, _of_runs(np.fmin, self.block, runs.place))
        np.fmax.at(high, runs.region, _of_runs(np.fmax, self.block, runs.place))
        return low, high

    @cached_property
    def _missing(self) -> np.ndarray:
        missing = self.seen.missing
        shape = self.block.shape
        return np.zeros(shape, bool) if missing is None else missing.reshape(shape)

    @cached_property
    def _filled(self) -> np.ndarray:
        if self.seen.missing is None:
            return self.block
        return np.where(self._missing, 0.0, self.block)

    def _summed(self, values: np.ndarray) -> np.ndarray:
        runs = self.runs.pieces
        of_pieces = _of_runs(np.add, values, runs.place)
        return np.bincount(runs.region, runs.fraction * of_pieces, runs.regions)


@dataclass(frozen=True, eq=False)
class StoredPart:
    """Numbers (C,) as they are stored, added up by compiled loops."""

    numbers: np.ndarray
    seen: Seen
    runs: PartRuns

    def areas(self, area: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""
        known, gaps, number = (np.zeros(self.runs.regions) for _ in range(3))
        _loop(add_areas)(self._missing, area.ravel(), *self._by_region, known, gaps, number)
        return known, gaps, number

    def values(self) -> np.ndarray:
        """Sums of values."""
        total = np.zeros(self.runs.regions)
        _loop(add_values)(self.numbers, self._missing, *self._by_region, total)
        return total

    def weighted(self, area: np.ndarray) -> np.ndarray:
        """Values times areas."""
        total = np.zeros(self.runs.regions)
        _loop(add_weighted)(self.numbers, self._missing, area.ravel(), *self._by_region, total)
        return total

    def squares(self, area: np.ndarray, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""
        total, area = np.zeros(self.runs.regions), area.ravel()
        _loop(add_squares)(self.numbers, self._missing, area, shift, *self._by_region, total)
        return total

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough."""
        runs, dtype = self.runs.well_covered, self.numbers.dtype
        bits = self.numbers.view(f"i{dtype.itemsize}")
        limits = np.iinfo(bits.dtype)
        low, high = (np.full(runs.regions, n, bits.dtype) for n in (limits.max, limits.min))
        _loop(find_range)(bits, self._missing, runs.place, runs.region, low, high)
        none = low > high
        low, high = (floats_in_order(n, dtype).astype(np.float64) for n in (low, high))
        low[none] = high[none] = np.nan
        return low, high

    @property
    def _by_region(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        return self.runs.place, self.runs.region, self.runs.fraction

    @cached_property
    def _missing(self) -> np.ndarray:
        missing = self.seen.missing
        size = self.numbers.size
        return np.zeros(size, np.uint8) if missing is None else missing.view(np.uint8)


def warm_up(dtype: np.dtype) -> None:
    """Load and compile the loops for numbers of some type, where numba is there."""
    if compiled(add_values) is None:
        return
    region, place = np.zeros(1, np.int32), np.array([[0], [1]])
    area, runs = np.ones((1, 1)), PartRuns(1, region, np.ones(1), place)
    part = StoredPart(np.zeros(1, dtype), Seen(0.0, 0.0, None), runs)
    part.areas(area)
    part.values()
    part.weighted(area)
    part.squares(area, 0.0)
    part.extremes()


def _loop(kernel: Callable[..., Any]) -> Callable[..., Any]:
    loop = compiled(kernel)
    assert loop is not None
    return loop


def _of_runs(how: np.ufunc, values: np.ndarray, place: np.ndarray) -> np.ndarray:
    """(N,) values put together from each run's first to its last.

    Parameters
    ----------
    place : (2, N) int64
        Where each run begins and ends among the values, row by row.
    """
    if not place.size:
        return np.zeros(0)
    flat, edges = np.asarray(values.ravel(), np.float64), place.T.ravel()
    at_end = np.flatnonzero(edges == flat.size)
    if at_end.tolist() == [edges.size - 1]:  # the last run goes up to there anyway
        edges = edges[:-1]
    elif at_end.size:
        flat = np.append(flat, 0.0)
    return np.asarray(how.reduceat(flat, edges)[::2])
