"""Measures of regions from sums that are added up strip by strip, for grids of very many cells.

What `CellSample` is for the cells of some steps, `StripSample` is for the sums of one step: a
measure is computed from either.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.row_areas import BothAreas, CellAreas, RowAreas
from bavlo.core.space.runs import RunOverlay
from bavlo.core.stats.cell_sample import majority_of
from bavlo.core.stats.class_sums import ClassSums, class_sums
from bavlo.core.stats.measures import CLASSES, EXTREMES, MEANS, NUMBERS, SQUARES, TOTALS, VOLUMES
from bavlo.core.stats.part_runs import PartRuns

RANGED = frozenset((MEANS, SQUARES, EXTREMES))  # what the range of the cells is needed for
ADDED_UP = (MEANS, TOTALS, NUMBERS, EXTREMES, SQUARES, VOLUMES, CLASSES)  # what strips give


@dataclass(frozen=True, eq=False)
class StripSums:
    """What some rows of a grid add to the measures of R regions.

    Parameters
    ----------
    valid, missing : (R,) float64
        km² of the cells with and without data.
    number : (R,) float64
        Covered shares of the cells with data.
    total, weighted, volume, squares : (R,) float64
        Covered share times value; area times value; the same with areas on the ellipsoid; area
        times the square of the value less `shift`. 0 where nobody asks.
    low, high : (R,) float64
        Of the cells of which at least LEAST_COVER is covered; NaN for none. Where nobody asks,
        only their range over all regions is right.
    shift
        What values are less before they are squared, so that little is lost by rounding.
    classes
        Of some rows each, in their order; none where nobody asks.
    """

    valid: np.ndarray
    missing: np.ndarray
    number: np.ndarray
    total: np.ndarray
    weighted: np.ndarray
    volume: np.ndarray
    squares: np.ndarray
    low: np.ndarray
    high: np.ndarray
    shift: float = 0.0
    classes: tuple[ClassSums, ...] = ()

    @classmethod
    def nothing(cls, regions: int, shift: float = 0.0) -> StripSums:
        """Those of no rows."""
        zeros, none = np.zeros(regions), np.full(regions, np.nan)
        return cls(zeros, zeros, zeros, zeros, zeros, zeros, zeros, none, none, shift)

    def is_narrower(self, lowest: float, highest: float) -> bool:
        """Whether such values lie beyond the range of all regions so far."""
        low, high = np.fmin.reduce(self.low), np.fmax.reduce(self.high)
        return not (lowest >= low and highest <= high)

    def __add__(self, other: StripSums) -> StripSums:
        return StripSums(
            self.valid + other.valid,
            self.missing + other.missing,
            self.number + other.number,
            self.total + other.total,
            self.weighted + other.weighted,
            self.volume + other.volume,
            self.squares + other.squares,
            np.fmin(self.low, other.low),
            np.fmax(self.high, other.high),
            self.shift,
            (*self.classes, *other.classes),
        )

    @property
    def settled(self) -> StripSums:
        """The same with the classes of all rows added up."""
        if not self.classes:
            return self
        return replace(self, classes=(ClassSums.together(self.classes),))


@dataclass(frozen=True, eq=False)
class PartSums:
    """What the values (n, nx) of a few rows, NaN where there is no data, add to R regions."""

    block: np.ndarray
    runs: PartRuns

    @cached_property
    def value_range(self) -> tuple[float, float]:
        """The lowest and the highest value; (inf, -inf) where there is none."""
        low = np.fmin.reduce(self.block, axis=None, initial=np.inf)
        return float(low), float(np.fmax.reduce(self.block, axis=None, initial=-np.inf))

    @cached_property
    def missing(self) -> np.ndarray | None:
        """(n, nx) where there is no data; None where there is everywhere."""
        missing = np.isnan(self.block)
        return missing if missing.any() else None

    def areas(self, area: CellAreas) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Areas of cells with and without data, and cells with data."""
        each, missing = area.each, self.missing
        assert missing is not None
        gaps = each * missing
        return self._summed(each - gaps), self._summed(gaps), self._summed(~missing)

    def weighted(self, area: CellAreas) -> np.ndarray:
        """Values times areas."""
        return self._summed(self._filled * area.each)

    def squares(self, area: CellAreas, shift: float) -> np.ndarray:
        """Squares of the values less a shift, times areas."""
        away = self.block - shift
        if self.missing is not None:
            away[self.missing] = 0.0
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
    def _filled(self) -> np.ndarray:
        return self.block if self.missing is None else np.where(self.missing, 0.0, self.block)

    def _summed(self, values: np.ndarray) -> np.ndarray:
        runs = self.runs
        of_runs = _of_runs(np.add, values, runs.place)
        return np.bincount(runs.region, runs.fraction * of_runs, runs.regions)


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


@dataclass(frozen=True, eq=False)
class StripIndex:
    """Runs of cells and the areas of rows, arranged for adding up strip after strip.

    Parameters
    ----------
    wanted
        Those of ADDED_UP that the measures are made of.
    """

    overlay: RunOverlay
    areas: RowAreas
    wanted: frozenset[str] = field(default_factory=frozenset)

    def sums(self, first: int, block: np.ndarray, shift: float) -> StripSums:
        """The sums of a strip.

        Parameters
        ----------
        first
            Its first row.
        block : (n, nx) float64
            Values, NaN where there is no data.
        """
        total = StripSums.nothing(self.overlay.regions, shift)
        for rows, runs in self.overlay.parts(first, first + len(block)):
            origin = (first + rows.start) * self.overlay.shape[1]
            part = PartSums(block[rows], PartRuns.of(self.overlay, runs, origin))
            own = slice(first + rows.start, first + rows.stop)
            total = total + self._of_part(part, own, runs, total)
        return total.settled

    def _of_part(self, part: PartSums, rows: slice, runs: slice, so_far: StripSums) -> StripSums:
        """Of a few rows, whose values and areas stay near."""
        overlay, shift = self.overlay, so_far.shift
        out = StripSums.nothing(overlay.regions, shift)
        if part.missing is not None:
            valid, missing, number = part.areas(self._weights(rows))
            out = replace(out, valid=valid, missing=missing, number=number)
        else:
            fraction, length = overlay.fraction[runs], overlay.length[runs]
            area = self.areas.of_runs(overlay.start[runs], length)
            region, size = overlay.region[runs], overlay.regions
            out = replace(
                out,
                valid=np.bincount(region, fraction * area, size),
                number=np.bincount(region, fraction * length, size),
            )
        if TOTALS in self.wanted:
            alike = CellAreas.of_one(rows.stop - rows.start, overlay.shape[1])
            out = replace(out, total=part.weighted(alike))
        if not self.wanted.isdisjoint((MEANS, SQUARES)):
            out = replace(out, weighted=part.weighted(self._weights(rows)))
        if VOLUMES in self.wanted:
            square_km = self.areas.square_km(rows.start, rows.stop)
            out = replace(out, volume=part.weighted(square_km))
        if SQUARES in self.wanted:
            out = replace(out, squares=part.squares(self._weights(rows), shift))
        if not self.wanted.isdisjoint(RANGED) or so_far.is_narrower(*part.value_range):
            low, high = part.extremes()
            out = replace(out, low=low, high=high)
        if CLASSES in self.wanted:
            areas = self.areas.both(rows.start, rows.stop)
            out = replace(out, classes=(part.classes(areas),))
        return out

    def _weights(self, rows: slice) -> CellAreas:
        return self.areas.weights(rows.start, rows.stop)


@dataclass(frozen=True, eq=False)
class StripSample:
    """The sums of a whole grid, of which measures are made: one step, R regions.

    Parameters
    ----------
    sums
        Of all strips together.
    outside, region_weight : (R,) float64
        As of the overlay.
    """

    sums: StripSums
    outside: np.ndarray
    region_weight: np.ndarray

    @classmethod
    def of(cls, strips: Sequence[StripSums], overlay: RunOverlay) -> StripSample:
        """From the sums of all strips, in order of their rows."""
        total = StripSums.nothing(overlay.regions)
        for each in strips:
            total = replace(total + each, shift=each.shift)
        weight = np.where(overlay.region_weight > 0, overlay.region_weight, np.inf)
        return cls(total.settled, overlay.outside(), weight)

    @property
    def never_valid(self) -> np.ndarray:
        """(R,) share of each region's area whose cells have no data."""
        return np.asarray(self.sums.missing / self.region_weight)

    @property
    def area_valid(self) -> np.ndarray:
        """(1, R) share of each region's area that has data; exactly 1 when all has."""
        valid = 1 - self.never_valid - self.outside
        valid = np.where(self.sums.valid > 0, np.clip(valid, 0.0, 1.0), 0.0)
        return np.asarray(np.where(np.abs(valid - 1) < 1e-12, 1.0, valid))[None]

    @property
    def valid_weight(self) -> np.ndarray:
        """(1, R) weight of the cells with data."""
        return self.sums.valid[None]

    @property
    def mean(self) -> np.ndarray:
        """(1, R) area-weighted mean, NaN where a region has no cell with data."""
        mean = self._each(self.sums.weighted)
        return np.where(self._is_constant(mean), self.sums.low, mean)

    def _is_constant(self, mean: np.ndarray) -> np.ndarray:
        """(1, R) where all cells have one value, but for slivers that make no difference."""
        low, high = self.sums.low, self.sums.high
        with np.errstate(invalid="ignore"):
            return np.asarray((low == high) & (np.abs(mean - low) <= ENOUGH * np.abs(low)))

    @property
    def variance(self) -> np.ndarray:
        """(1, R) area-weighted population variance."""
        sums = self.sums
        away = self.mean - sums.shift
        variance = np.maximum(self._each(sums.squares) - away * away, 0.0)
        return np.where(self._is_constant(self.mean), 0.0, variance)

    @property
    def number(self) -> np.ndarray:
        """(1, R) cells with data, each counted by its covered share."""
        return self.sums.number[None]

    @property
    def covered_total(self) -> np.ndarray:
        """(1, R) values times the covered share of their cell."""
        return self.sums.total[None]

    @property
    def volume(self) -> np.ndarray:
        """(1, R) values times their area on the ellipsoid, km²."""
        return self.sums.volume[None]

    def extreme(self, choose: np.ufunc) -> np.ndarray:
        """(1, R) lowest (np.fmin) or highest (np.fmax) value."""
        return (self.sums.low if choose is np.fmin else self.sums.high)[None]

    def majority(self) -> np.ndarray:
        """(1, R) the code with the largest weight, the lowest of those that are equal."""
        classes = self.classes
        each = zip(classes.codes.tolist(), classes.weight.T[:, None], strict=True)
        return majority_of(each, (1, len(classes.weight)))

    @property
    def classes(self) -> ClassSums:
        """Areas of class codes."""
        if not self.sums.classes:
            raise ValueError("the classes were not added up")
        return self.sums.classes[0]

    def percentile(self, percent: float) -> np.ndarray:
        """Sums tell no percentiles."""
        raise ValueError("percentiles are not made of sums")

    def _each(self, total: np.ndarray) -> np.ndarray:
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.sums.valid > 0, total / self.sums.valid, np.nan)[None]


def value_range(strips: Sequence[StripSums]) -> tuple[float, float]:
    """Lowest and highest value of all regions; (inf, -inf) where there is none."""

    def known(name: str) -> Iterator[np.ndarray]:
        return (getattr(each, name)[~np.isnan(getattr(each, name))] for each in strips)

    low = min((float(a.min()) for a in known("low") if a.size), default=np.inf)
    high = max((float(a.max()) for a in known("high") if a.size), default=-np.inf)
    return low, high
