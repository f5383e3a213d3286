"""Measures of regions from sums that are added up band by band, for grids without time.

A band is some whole rows of a grid. What `CellSample` is for the cells of some steps,
`SumsSample` is for the sums of all bands of one step: a measure is computed from either.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.spans import Spans
from bavlo.core.stats.band_ranks import BinWeights
from bavlo.core.stats.cell_sample import OverlayIndex, majority_of
from bavlo.core.stats.classes import ClassAreas
from bavlo.core.stats.measures import (
    CLASSES,
    EXTREMES,
    MEANS,
    NUMBERS,
    RANKS,
    SQUARES,
    TOTALS,
    VOLUMES,
)

BYTES_OF_BIN, WAITING = 32, 6.0  # of the weights between values of a sample; sums at once
Areas = tuple[np.ndarray, np.ndarray]
# What sums tell, and of ranks a second pass.
ADDED_UP = (MEANS, TOTALS, NUMBERS, EXTREMES, SQUARES, VOLUMES, CLASSES, RANKS)


@dataclass(frozen=True, eq=False)
class BandSums:
    """What some rows of a grid add to the measures of R regions.

    Parameters
    ----------
    valid, missing : (R,) float64
        km² of the cells with and without data.
    number : (R,) float64
        Covered shares of the cells with data.
    total, weighted, volume, squares : (R,) float64
        Covered share times value; area times value; the same with areas on the ellipsoid; area
        times the square of the value less the region's mean. 0 where nobody asks.
    low, high : (R,) float64
        Of the cells of which at least LEAST_COVER is covered; NaN for none.
    rows
        How many there are.
    classes
        Of some rows each, in their order; none where nobody asks.
    bins
        Between the values of a sample; None where nobody asks.
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
    rows: int = 0
    classes: tuple[ClassAreas, ...] = ()
    bins: BinWeights | None = None

    @classmethod
    def nothing(cls, regions: int) -> BandSums:
        """Those of no rows."""
        zeros, none = np.zeros(regions), np.full(regions, np.nan)
        return cls(zeros, zeros, zeros, zeros, zeros, zeros, zeros, none, none)

    @classmethod
    def of(cls, spans: Spans, values: np.ndarray, areas: Areas, wanted: frozenset[str]) -> BandSums:
        """Those of some rows.

        Parameters
        ----------
        values : (n, nx) float64
            NaN where there is no data.
        areas : two of (n, nx) float64
            By which values are weighted, and km² on the ellipsoid.
        wanted
            Those of ADDED_UP that the measures are made of.
        """
        zeros, weight, square_km = np.zeros(spans.regions), *areas
        low, high = (spans.chosen(how, values) for how in (np.fmin, np.fmax))
        classes: tuple[ClassAreas, ...] = ()
        if CLASSES in wanted:
            index = OverlayIndex(spans.cells(weight), square_km.ravel())
            classes = (ClassAreas.of(index, values.ravel()),)
        missing, gaps = zeros, np.isnan(values)
        if gaps.any():
            missing = spans.summed(weight * gaps)
            weight, values = np.where(gaps, 0.0, weight), np.where(gaps, 0.0, values)
        valid, weighted, squares = spans.summed(weight), zeros, zeros
        if not wanted.isdisjoint((MEANS, SQUARES)):
            weighted = spans.summed(values * weight)
        if SQUARES in wanted:
            # About a number near all means, so that little is lost by rounding.
            near = float(values.sum() / max(gaps.size - gaps.sum(), 1))
            away = _ratio(weighted, valid) - near
            squares = spans.summed((values - near) ** 2 * weight) - valid * away**2
        return cls(
            valid,
            missing,
            spans.summed((~gaps).astype(np.float64)),
            spans.summed(values) if TOTALS in wanted else zeros,
            weighted,
            spans.summed(values * square_km) if VOLUMES in wanted else zeros,
            squares,
            low,
            high,
            len(values),
            classes,
        )

    def __add__(self, other: BandSums) -> BandSums:
        """The sums of both; squares by the formula of Chan, Golub and LeVeque (1979)."""
        valid = self.valid + other.valid
        apart = _ratio(self.weighted, self.valid) - _ratio(other.weighted, other.valid)
        between = apart**2 * self.valid * _ratio(other.valid, valid)
        return BandSums(
            valid,
            self.missing + other.missing,
            self.number + other.number,
            self.total + other.total,
            self.weighted + other.weighted,
            self.volume + other.volume,
            self.squares + other.squares + between,
            np.fmin(self.low, other.low),
            np.fmax(self.high, other.high),
            self.rows + other.rows,
            (*self.classes, *other.classes),
            self.bins + other.bins if self.bins and other.bins else self.bins or other.bins,
        )

    @property
    def settled(self) -> BandSums:
        """The same with the classes of all rows added up."""
        if not self.classes:
            return self
        return replace(self, classes=(ClassAreas.added(self.classes),))


@dataclass(frozen=True, eq=False)
class BandIndex:
    """Spans of cells and the areas of rows, for adding up band after band.

    Parameters
    ----------
    wanted
        Those of ADDED_UP that the measures are made of.
    percents
        Percentiles that are asked for.
    edges
        Values of a sample between which weights are added up for them.
    """

    overlay: Spans
    areas: RowAreas
    wanted: frozenset[str] = field(default_factory=frozenset)
    percents: tuple[float, ...] = ()
    edges: np.ndarray = field(default_factory=lambda: np.zeros(0))

    @property
    def nbytes(self) -> float:
        """What sums take in memory, some of which wait to be merged."""
        bins = self.overlay.regions * (self.edges.size + 1) * bool(self.percents)
        return BYTES_OF_BIN * WAITING * bins

    def of_region(self, region: int) -> Overlay:
        """The overlay of one region and the cells that it touches."""
        return self.overlay.of_region(region, self.areas)

    def sums(self, first: int, block: np.ndarray) -> BandSums:
        """The sums of a band, of which some rows are added up after the other.

        Parameters
        ----------
        first
            Its first row.
        block : (n, nx) float64
            Values, NaN where there is no data.
        """
        total, bins = BandSums.nothing(self.overlay.regions), None
        if self.percents:
            bins = BinWeights.nothing(self.overlay.regions, self.edges)
        for some in batches(len(block), 2 * block.shape[1]):
            rows = first + some.start, first + some.stop
            spans = self.overlay.of_rows(*rows)
            areas = self.areas.weights(*rows), self.areas.square_km(*rows)
            total = total + BandSums.of(spans, block[some], areas, self.wanted)
            if bins is not None:
                bins.take_in(spans, block[some], areas[0], self.edges)
        return replace(total.settled, bins=bins)

    def sample(self, sums: BandSums) -> SumsSample:
        """What measures are computed from, once all bands are in."""
        weight = np.where(self.overlay.region_weight > 0, self.overlay.region_weight, np.inf)
        return SumsSample(sums.settled, self.overlay.outside(), weight)


@dataclass(frozen=True, eq=False)
class SumsSample:
    """The sums of a whole grid, of which measures are made: one step, R regions.

    Parameters
    ----------
    sums
        Of all bands together.
    outside, region_weight : (R,) float64
        As of the overlay.
    percentiles : (R,) of each
        From a second pass.
    """

    sums: BandSums
    outside: np.ndarray
    region_weight: np.ndarray
    percentiles: Mapping[float, np.ndarray] = field(default_factory=dict)

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
        """(1, R) area-weighted mean, NaN where a region has no cell with data.

        Within the lowest and the highest value, but for slivers of cells that these leave out.
        """
        mean = self._each(self.sums.weighted)
        near = np.clip(mean, self.sums.low, self.sums.high)
        with np.errstate(invalid="ignore"):
            return np.where(np.abs(near - mean) <= ENOUGH * np.abs(near), near, mean)

    @property
    def variance(self) -> np.ndarray:
        """(1, R) area-weighted population variance."""
        variance = np.maximum(self._each(self.sums.squares), 0.0)
        is_constant = (self.sums.low == self.sums.high) & (self.mean == self.sums.low)
        return np.where(is_constant, 0.0, variance)

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
    def classes(self) -> ClassAreas:
        """Areas of class codes.

        Raises
        ------
        ValueError
            Where they were not added up.
        """
        if not self.sums.classes:
            raise ValueError("the classes were not added up")
        return self.sums.classes[0]

    def percentile(self, percent: float) -> np.ndarray:
        """(1, R) weighted percentile."""
        return self.percentiles[percent][None]

    def _each(self, total: np.ndarray) -> np.ndarray:
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.sums.valid > 0, total / self.sums.valid, np.nan)[None]


def _ratio(top: np.ndarray, bottom: np.ndarray) -> np.ndarray:
    """Quotients, 0 where the divisor is 0."""
    return np.asarray(np.divide(top, bottom, out=np.zeros(top.shape), where=bottom > 0))
