"""What runs of cells of a few rows add up to: of decoded values, or of numbers as they are stored.

Both give the same bits. The compiled loops of the second go through the numbers as often as there
are sums, where NumPy's passes decode, look for what is missing, multiply and add.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from bavlo.compiled import Loop, compiled
from bavlo.core.reduce.step_kernels import floats_in_order
from bavlo.core.reduce.totals import DecodedStep, Seen
from bavlo.core.space.row_areas import BothAreas, CellAreas
from bavlo.core.space.rows import PlainRows, Rows
from bavlo.core.stats.class_sums import ClassSums, class_sums, stored_class_sums
from bavlo.core.stats.measures import CLASSES, SQUARES
from bavlo.core.stats.part_runs import PartRuns
from bavlo.core.stats.strip_kernels import (
    LONGEST,
    add_areas,
    add_squares,
    add_weighted,
    find_range,
)


class PartSums(Protocol):
    """Sums (R,) of the values of a few rows."""

    @property
    def seen(self) -> Seen:
        """What all of their cells hold."""

    def areas(self, area: CellAreas) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""

    def weighted(self, area: CellAreas) -> np.ndarray:
        """Values times areas."""

    def squares(self, area: CellAreas, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough; NaN for none."""

    def classes(self, areas: BothAreas) -> ClassSums:
        """Areas of class codes.

        Raises
        ------
        RequestError
            Where values are no whole numbers.
        """


def part_sums(block: Rows, rows: slice, runs: PartRuns) -> PartSums:
    """Sums of some rows: by compiled loops where these are ready, as stored where that can be."""
    if compiled(add_weighted) is None:
        return DecodedPart(block[rows], runs)
    plain = block.plain(rows) if isinstance(block, PlainRows) else None
    if plain is None:
        values = block[rows].ravel()
        plain = values, DecodedStep(values).seen
    return StoredPart(*plain, runs)


@dataclass(frozen=True, eq=False)
class DecodedPart:
    """Values (n, nx) float64, NaN where there is no data."""

    block: np.ndarray
    runs: PartRuns

    @cached_property
    def seen(self) -> Seen:
        """What all of their cells hold."""
        return DecodedStep(self.block.ravel()).seen

    def areas(self, area: CellAreas) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""
        each = area.each
        gaps = each * self._missing
        return self._summed(each - gaps), self._summed(gaps), self._summed(~self._missing)

    def weighted(self, area: CellAreas) -> np.ndarray:
        """Values times areas."""
        return self._summed(self._filled * area.each)

    def squares(self, area: CellAreas, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""
        away = self.block - shift
        if self.seen.missing is not None:
            away[self._missing] = 0.0
        away *= away
        away *= area.each
        return self._summed(away)

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough."""
        runs = self.runs.well_covered
        low, high = np.full(runs.regions, np.nan), np.full(runs.regions, np.nan)
        np.fmin.at(low, runs.region, _of_runs(np.fmin, self.block, runs.place))
        np.fmax.at(high, runs.region, _of_runs(np.fmax, self.block, runs.place))
        return low, high

    def classes(self, areas: BothAreas) -> ClassSums:
        """Areas of class codes."""
        return class_sums(self.block, self.runs, areas)

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
    """Numbers (C,) as they are stored, or values, added up by compiled loops."""

    numbers: np.ndarray
    seen: Seen
    runs: PartRuns

    def areas(self, area: CellAreas) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""
        known, gaps, number = (np.zeros(self.runs.regions) for _ in range(3))
        factors = area.rows, area.columns
        given = self._missing, *factors, *self._by_region
        _loop(add_areas)(*given, known, gaps, number, np.empty(LONGEST))
        return known, gaps, number

    def weighted(self, area: CellAreas) -> np.ndarray:
        """Values times areas."""
        total, factors = np.zeros(self.runs.regions), (area.rows, area.columns)
        given = self.numbers, self._missing, *factors, *self._by_region
        _loop(add_weighted)(*given, total, np.empty(LONGEST))
        return total

    def squares(self, area: CellAreas, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""
        total, factors = np.zeros(self.runs.regions), (area.rows, area.columns, shift)
        given = self.numbers, self._missing, *factors, *self._by_region
        _loop(add_squares)(*given, total, np.empty(LONGEST))
        return total

    def extremes(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest value of the cells that are covered enough."""
        runs, numbers = self.runs.well_covered, self.numbers
        if numbers.dtype.kind in "iu":
            numbers = numbers.astype(np.float64)
        dtype = numbers.dtype
        bits = numbers.view(f"i{dtype.itemsize}")
        limits = np.iinfo(bits.dtype)
        low, high = (np.full(runs.regions, n, bits.dtype) for n in (limits.max, limits.min))
        _loop(find_range)(bits, self._missing, runs.place, runs.region, low, high)
        none = low > high
        low, high = (floats_in_order(n, dtype).astype(np.float64) for n in (low, high))
        low[none] = high[none] = np.nan
        return low, high

    def classes(self, areas: BothAreas) -> ClassSums:
        """Areas of class codes."""
        found = None
        if self._are_whole:
            given = self.numbers, self._missing, self.seen, self.runs, areas
            found = stored_class_sums(*given)
        if found is None:
            values = np.where(self._missing, np.nan, self.numbers)
            found = class_sums(values, self.runs, areas)
        return found

    @property
    def _are_whole(self) -> bool:
        """Whether all numbers are whole ones."""
        if self.numbers.dtype.kind in "iu":
            return True
        return not ((np.rint(self.numbers) != self.numbers) & (self._missing == 0)).any()

    @property
    def _by_region(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        return self.runs.place, self.runs.region, self.runs.fraction

    @cached_property
    def _missing(self) -> np.ndarray:
        missing = self.seen.missing
        size = self.numbers.size
        return np.zeros(size, np.uint8) if missing is None else missing.view(np.uint8)


def warm_up(wanted: frozenset[str], dtype: np.dtype) -> None:
    """Call the loops that add up what is wanted of numbers of some type, where numba is there."""
    if compiled(add_weighted) is None:
        return
    region, place = np.zeros(1, np.int32), np.array([[0], [1]])
    area = CellAreas(np.ones(1), np.ones((1, 1)))
    runs = PartRuns(1, region, np.ones(1), place)
    part = StoredPart(np.zeros(1, dtype), Seen(0.0, 0.0, None), runs)
    part.areas(area)
    part.weighted(area)
    part.extremes()  # which tell the range of the values
    if SQUARES in wanted:
        part.squares(area, 0.0)
    if CLASSES in wanted:
        part.classes(BothAreas(np.ones((2, 1)), area.columns))


def _loop(kernel: Callable[..., Any]) -> Loop:
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
