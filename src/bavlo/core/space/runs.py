"""The overlay of grids of very many cells: wholly covered cells as runs along rows."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import (
    Overlay,
    planar_areas,
    share_outside,
    sphere_areas,
    tiny_regions,
    wrapped,
)
from bavlo.core.space.pieces import cut_at_lines
from bavlo.core.space.regions import RegionEdges
from bavlo.core.space.row_areas import RowAreas

BYTES_OF_RUN = 24


def few_rows(first: int, last: int, width: int) -> Iterator[slice]:
    """The rows `first` to `last` (excluded) of so many cells each, a few at a time."""
    return batches(last, 2 * width, first)  # values and weights


@dataclass(frozen=True, eq=False)
class RunOverlay:
    """Shared areas of R regions and runs of cells, each of which a region covers alike.

    Parameters
    ----------
    shape
        Rows and columns of the whole grid.
    region : (N,) int32
        Whose run it is.
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
    def nbytes(self) -> int:
        """What it takes in memory."""
        return BYTES_OF_RUN * self.start.size

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

    def parts(self, first: int, last: int) -> Iterator[tuple[slice, slice]]:
        """Rows of a strip a few at a time, counted from its first, and the runs in them."""
        width = self.shape[1]
        for rows in few_rows(first, last, width):
            low, high = np.searchsorted(self.start, [rows.start * width, rows.stop * width])
            if low < high:
                yield slice(rows.start - first, rows.stop - first), slice(int(low), int(high))

    def of_region(self, region: int, areas: RowAreas) -> Overlay:
        """The overlay of one region and the cells that it touches, one by one."""
        own = self.region == region
        start, length = self.start[own], self.length[own]
        cells = np.repeat(start, length) + _offsets(length)
        fraction = np.repeat(self.fraction[own], length)
        width = self.shape[1]
        weight = np.zeros(cells.size)
        for rows in few_rows(*self.rows, width):
            ends = np.searchsorted(cells, [rows.start * width, rows.stop * width])
            part = slice(*ends.tolist())
            if part.start < part.stop:
                of_rows = areas.weights(rows.start, rows.stop).each.ravel()
                weight[part] = of_rows[cells[part] - rows.start * width]
        return Overlay(
            self.shape,
            cells,
            np.array([0, cells.size]),
            np.arange(cells.size, dtype=np.int32),
            fraction,
            weight * fraction,
            self.region_weight[[region]],
        )


def _offsets(length: np.ndarray) -> np.ndarray:
    """The place of each cell of runs within its run."""
    return np.asarray(np.arange(length.sum()) - np.repeat(np.cumsum(length) - length, length))


def run_overlay(edges: RegionEdges, layout: GridLayout, jobs: int = 1) -> RunOverlay:
    """Shared areas of regions and a grid, as `overlay` has them cell by cell.

    Parameters
    ----------
    edges
        Outlines in the reference system of the grid: degrees for longitude-latitude grids (any
        multiple of 360 away), else metres.
    layout
        The cells, small beside the distances over which the areal scale of a projection changes.
    jobs
        Threads at once, on which no number depends.
    """
    overlay, tiny = _arranged(edges, layout, jobs)
    inside = _inside(overlay, RowAreas(layout))
    if layout.is_lonlat:
        whole = sphere_areas(edges)
    else:
        with np.errstate(divide="ignore", invalid="ignore"):
            planar = _planar_inside(overlay, layout)
            scale = np.where(planar > 0, inside / planar, 1e-6)
        whole = planar_areas(edges) * scale
    whole[tiny] = inside[tiny]
    return replace(overlay, inside=inside, region_weight=whole)


def _arranged(edges: RegionEdges, layout: GridLayout, jobs: int) -> tuple[RunOverlay, np.ndarray]:
    """The runs of regions in order of their place, without the areas of the regions.

    Returns
    -------
    overlay
    tiny : (N,) int64
        Regions that lie within a cell of which they have next to nothing.
    """
    ny, nx = layout.shape
    x_lines, y_lines = np.sort(layout.x_edges), np.sort(layout.y_edges)
    outlines = wrapped(edges, x_lines[0], x_lines[-1]) if layout.is_lonlat else edges
    descending = bool(layout.y_edges[0] > layout.y_edges[-1])
    westward = bool(layout.x_edges[0] > layout.x_edges[-1])
    parts = []
    counts = np.zeros(edges.count, np.int64)
    for runs in cut_at_lines(
        outlines, x_lines, y_lines, sphere=layout.is_lonlat, descending=descending, jobs=jobs
    ):
        column = nx - runs.column - runs.length if westward else runs.column
        start = runs.row * nx + column
        parts.append(
            (runs.region.astype(np.int32), start, runs.length.astype(np.int32), runs.fraction)
        )
        counts += np.bincount(runs.region, runs.length, edges.count).astype(np.int64)
    tiny, cell, share = tiny_regions(edges, layout, counts)
    parts.append((tiny.astype(np.int32), cell, np.ones(tiny.size, np.int32), share))
    region, start, length, fraction = (np.concatenate(each) for each in zip(*parts, strict=True))
    del parts
    order = np.argsort(start * edges.count + region)  # of which no two are the same
    region, start, length, fraction = region[order], start[order], length[order], fraction[order]
    unknown = np.zeros(edges.count)
    return RunOverlay((ny, nx), region, start, length, fraction, unknown, unknown), tiny


def _planar_inside(overlay: RunOverlay, layout: GridLayout) -> np.ndarray:
    """(R,) area of each region that lies on the grid, on the plane of its coordinates."""
    height, width = np.abs(np.diff(layout.y_edges)), np.abs(np.diff(layout.x_edges))
    row, first = np.divmod(overlay.start, overlay.shape[1])
    along = np.concatenate([[0.0], np.cumsum(width)])
    of_runs = height[row] * (along[first + overlay.length] - along[first])
    return np.bincount(overlay.region, overlay.fraction * of_runs, overlay.regions)


def _inside(overlay: RunOverlay, areas: RowAreas) -> np.ndarray:
    """(R,) area of each region that lies on the grid, km²."""
    total = np.zeros(overlay.regions)
    for _, runs in overlay.parts(*overlay.rows):
        of_runs = areas.of_runs(overlay.start[runs], overlay.length[runs])
        total += np.bincount(overlay.region[runs], overlay.fraction[runs] * of_runs, total.size)
    return total
