"""The cells of regions for some steps: what measures are computed from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property

import numpy as np

from bavlo.core.space.overlay import LEAST_COVER, Overlay
from bavlo.core.stats.spatial import SizeClass, size_classes, weighted_percentiles
from bavlo.core.sums import WeightedSums
from bavlo.errors import RequestError

MOST_MASKS = 8  # that are remembered, such as that of the sea
WHOLE_WITHIN = 1e-6  # share of a region's area that sums over cells may lack


class OverlayIndex:
    """An overlay arranged for measuring block after block.

    Parameters
    ----------
    overlay
        Shared areas of R regions and C cells.
    cell_area : (C,) float64
        km² of each used cell on the ellipsoid, for volumes and areas of classes.
    extra : (C,) float64
        A further weight of each used cell.
    extra_is_count
        The further weight is a number in each cell, shared out by the covered fraction, rather
        than a density, shared out by area.
    """

    def __init__(
        self,
        overlay: Overlay,
        cell_area: np.ndarray | None = None,
        extra: np.ndarray | None = None,
        extra_is_count: bool = False,
    ) -> None:
        self.overlay = overlay
        self.areas = overlay.matrix()
        self.weight = overlay.weight
        if extra is not None:
            base = overlay.fraction if extra_is_count else overlay.weight
            self.weight = base * extra[overlay.index]
        self.matrix = self._matrix(self.weight)
        self.cell_area = cell_area
        self.extra, self.extra_is_count = extra, extra_is_count
        self.of_masks: dict[tuple[str, bytes], np.ndarray] = {}
        self.region_weight = np.where(overlay.region_weight > 0, overlay.region_weight, np.inf)

    def _matrix(self, entries: np.ndarray) -> WeightedSums:
        overlay = self.overlay
        shape = (overlay.regions, overlay.cells.size)
        return WeightedSums(entries, overlay.index, overlay.indptr, shape)

    def of_region(self, region: int) -> Overlay:
        """The overlay of one region and the cells that it touches."""
        return self.overlay.of_region(region)

    @cached_property
    def outside(self) -> np.ndarray:
        """(R,) share of each region's area that lies outside the grid."""
        return self.overlay.outside()

    @cached_property
    def fractions(self) -> WeightedSums:
        """(R, C) covered share of each cell."""
        return self._matrix(self.overlay.fraction)

    @cached_property
    def square_km(self) -> WeightedSums:
        """(R, C) shared area on the ellipsoid, km²."""
        if self.cell_area is None:
            raise ValueError("the areas of the cells were not given")
        return self._matrix(self.overlay.fraction * self.cell_area[self.overlay.index])

    @cached_property
    def touched(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Cells of which at least LEAST_COVER is covered.

        The regions that have any, where the entries of each begin, cells and weights.
        """
        keep = self.overlay.fraction >= LEAST_COVER
        counts = np.bincount(self.owner[keep], minlength=self.overlay.regions)
        regions = np.flatnonzero(counts)
        start = (np.cumsum(counts) - counts)[regions]
        return regions, start, self.overlay.index[keep], self.weight[keep]

    @cached_property
    def owner(self) -> np.ndarray:
        """(N,) the region of each entry of the overlay."""
        return np.repeat(np.arange(self.overlay.regions), self.overlay.entries)

    @cached_property
    def size_classes(self) -> list[SizeClass]:
        """Regions of like size side by side, for percentiles."""
        return size_classes(*self.touched, self.overlay.cells.size)


class CellSample:
    """The cells' values of some steps, with what several measures need worked out once.

    Parameters
    ----------
    index
        The overlay.
    block : (T, C) float64
        Values of the used cells, NaN where there is no data.
    percents
        Percentiles that will be asked for; together they take one sort.
    """

    def __init__(
        self, index: OverlayIndex, block: np.ndarray, percents: tuple[float, ...] = ()
    ) -> None:
        self.index = index
        self.block = block
        self.steps = block.shape[0]
        self.percents = percents
        self._percentiles: dict[float, np.ndarray] = {}

    @cached_property
    def invalid(self) -> np.ndarray:
        """(T, C) where data is missing, or (1, C) where every step misses the same cells."""
        if not any(
            np.isnan(row.min(initial=0.0)) for row in self.block
        ):  # sooner than cell by cell
            return np.zeros((1, self.block.shape[1]), bool)
        missing = np.isnan(self.block)
        if len(missing) == 1:
            return np.asarray(missing)
        first = missing[:1].tobytes()
        alike = all(row.tobytes() == first for row in missing[1:])
        return np.asarray(missing[:1] if alike else missing)

    @cached_property
    def valid_weight(self) -> np.ndarray:
        """(T, R) or (1, R) weight of the cells with data."""
        return self._of_mask("weight", self._valid_weight)

    def _valid_weight(self) -> np.ndarray:
        valid = np.ascontiguousarray(~self.invalid.T).astype(np.float64)
        return (self.index.matrix @ valid).T

    def _of_mask(self, name: str, compute: Callable[[], np.ndarray]) -> np.ndarray:
        """What depends on the mask alone; a mask that comes again is paid for once."""
        if len(self.invalid) > 1:
            return compute()
        key = name, self._mask_key
        known = self.index.of_masks.get(key)
        if known is None:
            known = compute()
            if len(self.index.of_masks) >= MOST_MASKS:
                self.index.of_masks.clear()
            self.index.of_masks[key] = known
        return known

    @cached_property
    def _mask_key(self) -> bytes:
        """The mask that all steps share, eight cells a byte: hashed in a third of the time."""
        return np.packbits(self.invalid).tobytes()

    @cached_property
    def area_valid(self) -> np.ndarray:
        """(T, R) or (1, R) share of each region's area that has data; exactly 1 when all has."""
        return self._of_mask("area", self._area_valid)

    def _area_valid(self) -> np.ndarray:
        missing = np.ascontiguousarray(self.invalid.T).astype(np.float64)
        share = (self.index.areas @ missing).T / self.index.region_weight
        valid = 1 - share - self.index.outside
        known = (self.index.areas @ np.ascontiguousarray(~self.invalid.T).astype(np.float64)).T
        valid = np.where(known > 0, np.clip(valid, 0.0, 1.0), 0.0)
        return np.where(np.abs(valid - 1) < 1e-12, 1.0, valid)

    @cached_property
    def mean(self) -> np.ndarray:
        """(T, R) area-weighted mean, NaN where a region has no cell with data."""
        values = np.ascontiguousarray(self.block.T)
        return self.index.matrix.mean(values, self.valid_weight.T).T

    def summed(self, matrix: WeightedSums) -> np.ndarray:
        """(T, R) sums over the cells with data, each times its entry in an (R, C) matrix."""
        filled = self.block if not self.invalid.any() else np.where(self.invalid, 0.0, self.block)
        return np.asarray((matrix @ np.ascontiguousarray(filled.T)).T)

    @cached_property
    def covered_total(self) -> np.ndarray:
        """(T, R) values times the covered share of their cell."""
        return self.summed(self.index.fractions)

    @cached_property
    def volume(self) -> np.ndarray:
        """(T, R) values times their area on the ellipsoid, km²."""
        return self.summed(self.index.square_km)

    @cached_property
    def number(self) -> np.ndarray:
        """(T, R) cells with data, each counted by its covered share."""
        valid = np.ascontiguousarray(~self.invalid.T).astype(np.float64)
        counted = (self.index.fractions @ valid).T
        return np.broadcast_to(counted, (self.steps, counted.shape[1]))

    def majority(self) -> np.ndarray:
        """(T, R) the code with the largest weight, the lowest of those that are equal."""

        def weights() -> Iterator[tuple[float, np.ndarray]]:
            for code in codes_of(self.block).tolist():
                held = np.ascontiguousarray((self.block == code).T).astype(np.float64)
                yield code, (self.index.matrix @ held).T

        return majority_of(weights(), (self.steps, self.index.overlay.regions))

    @cached_property
    def variance(self) -> np.ndarray:
        """(T, R) area-weighted population variance, about the mean of each step and region."""
        overlay, owner = self.index.overlay, self.index.owner
        total = np.zeros((self.steps, overlay.regions))
        for step in range(self.steps):
            away = self.block[step, overlay.index] - self.mean[step, owner]
            square = np.where(np.isnan(away), 0.0, away * away * self.index.weight)
            total[step] = np.bincount(owner, weights=square, minlength=overlay.regions)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.valid_weight > 0, total / self.valid_weight, np.nan)

    def place_of(self, value: np.ndarray) -> np.ndarray:
        """(T, R) int64 the first used cell of each region with a value (T, R); -1 for none."""
        regions, start, cells, _ = self.index.touched
        out = np.full(value.shape, -1)
        if not regions.size:
            return out
        owner = np.repeat(np.arange(regions.size), np.diff(np.append(start, cells.size)))
        for step in range(self.steps):
            holds = self.block[step, cells] == value[step, regions][owner]
            entry = np.where(holds, np.arange(cells.size), cells.size)
            first = np.minimum.reduceat(entry, start)
            found = first < cells.size
            out[step, regions[found]] = cells[first[found]]
        return out

    def extreme(self, choose: np.ufunc) -> np.ndarray:
        """(T, R) lowest (np.fmin) or highest (np.fmax) value of the touched cells."""
        regions, start, cells, _ = self.index.touched
        out = np.full((self.steps, self.index.overlay.regions), np.nan)
        if regions.size:
            by_entry = np.ascontiguousarray(self.block.T)[cells]
            out[:, regions] = choose.reduceat(by_entry, start, axis=0).T
        return out

    def percentile(self, percent: float) -> np.ndarray:
        """(T, R) weighted percentile; see `weighted_percentiles`."""
        if percent not in self._percentiles:
            regions, percents = self.index.overlay.regions, {*self.percents, percent}
            found = weighted_percentiles(self.index.size_classes, self.block, regions, percents)
            self._percentiles.update(found)
        return self._percentiles[percent]


def codes_of(block: np.ndarray) -> np.ndarray:
    """The different class codes of a block, ascending."""
    return check_codes(np.unique(block[~np.isnan(block)]))


def check_codes(codes: np.ndarray) -> np.ndarray:
    """The same codes.

    Raises
    ------
    RequestError
        Where they are no whole numbers.
    """
    if (codes != np.rint(codes)).any():
        raise RequestError(
            "measure", "majority and shares are for class codes, and these are not whole numbers"
        )
    return codes


def majority_of(weights: Iterable[tuple[float, np.ndarray]], shape: tuple[int, int]) -> np.ndarray:
    """(T, R) the code of the largest weight, the lowest of those that are equal.

    Parameters
    ----------
    weights
        Codes, ascending, each with its weights (T, R). NaN where no code has any.
    shape
        T and R.
    """
    best, most = np.full(shape, np.nan), np.zeros(shape)
    for code, weight in weights:
        more = weight > most * (1 + 1e-12)
        best, most = np.where(more, code, best), np.where(more, weight, most)
    return best
