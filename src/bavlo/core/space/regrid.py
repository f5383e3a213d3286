"""From the cells of one grid to those of another: by shared area, or at their centres."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

import numpy as np
import shapely

from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.axis_regrid import AxisShares, axis_areas, largest
from bavlo.core.space.interpolation import (
    between_centres,
    between_curvilinear,
    on_sphere,
)
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.projection import (
    CELL_SHARE,
    overlay_on_grid,
    same_system,
    transformed_edges,
)
from bavlo.core.space.regions import LONLAT, RegionEdges, Regions
from bavlo.core.space.resampling import AREA, MAJORITY, NEAREST
from bavlo.core.space.shared_areas import overlay
from bavlo.core.sums import range_of_rows, within
from bavlo.errors import RequestError

if TYPE_CHECKING:
    from scipy import sparse


class Regrid(Protocol):
    """Brings values onto other cells."""

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') values from (ny, nx) ones, NaN where too little has data."""


@dataclass(frozen=True, eq=False)
class SharedAreas:
    """Means or sums over shared areas of grids of any two systems.

    Parameters
    ----------
    shape
        Rows and columns of the new grid.
    cells : (C,) int64
        Old cells that are used.
    weights : (C', C) sparse
        Share of each new cell that each old one covers, of true area.
    fractions : (C', C) sparse or None
        Share of each old cell that each new one covers, for what is counted per cell.
    """

    shape: tuple[int, int]
    cells: np.ndarray
    weights: sparse.csr_array
    fractions: sparse.csr_array | None = None

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') means or sums, NaN where less than `min_area` of a cell has data."""
        used = values.ravel()[self.cells]
        valid = ~np.isnan(used)
        filled = np.where(valid, used, 0.0)
        weight = self.weights @ valid.astype(np.float64)
        if self.fractions is not None:
            whole = np.asarray(self.weights.sum(axis=1)).ravel()
            enough = (weight >= min_area * whole - ENOUGH) & (weight > 0)
            return np.where(enough, self.fractions @ filled, np.nan).reshape(self.shape)
        enough = (weight >= min_area - ENOUGH) & (weight > 0)
        with np.errstate(invalid="ignore", divide="ignore"):
            mean = np.where(enough, self.weights @ filled / weight, np.nan)
        low, high = range_of_rows(self.weights.indices, self.weights.indptr, used[:, None])
        return within(mean, low[:, 0], high[:, 0]).reshape(self.shape)


@dataclass(frozen=True, eq=False)
class Majority:
    """The class code that covers most of each new cell; of equal shares the lowest."""

    areas: AxisShares | SharedAreas

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') codes, NaN where less than `min_area` of a cell has data."""
        known = ~np.isnan(values)
        codes = np.unique(values[known]).tolist()
        if not codes:
            return self.areas.apply(values, min_area)

        def share(code: float) -> np.ndarray:
            held = np.where(known, (values == code).astype(np.float64), np.nan)
            return self.areas.apply(held, min_area)

        return largest((code, share(code)) for code in codes)


@dataclass(frozen=True, eq=False)
class Nearest:
    """The value of the old cell that each new centre lies in; -1 in `cell` for none."""

    shape: tuple[int, int]
    cell: np.ndarray

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') values; `min_area` has no say."""
        found = values.ravel()[np.maximum(self.cell, 0)]
        return np.where(self.cell >= 0, found, np.nan).reshape(self.shape)


def regrid(source: GridLayout, target: GridLayout, how: str, *, counts: bool = False) -> Regrid:
    """What brings values of one grid onto the cells of another.

    Parameters
    ----------
    how
        AREA: means over exact shared areas; MAJORITY: the class of the largest; NEAREST; LINEAR;
        CUBIC: cubic convolution (Keys 1981), all seam-aware.
    counts
        Values are counted per cell, and shared out by covered fraction.

    Raises
    ------
    RequestError
        Where the new cells are curvilinear.
    """
    if target.has_corners:
        raise RequestError("onto", "cells with corners of their own are not written", "give others")
    if how in (AREA, MAJORITY):
        one_system = not source.has_corners and source.crs == target.crs
        areas = (
            axis_areas(source, target, counts)
            if one_system
            else _shared_areas(source, target, counts)
        )
        return Majority(areas) if how == MAJORITY else areas
    x, y = _centres(target, source)
    if isinstance(source, CurvilinearLayout):
        nearest = _nearest_curvilinear(source, x, y)
        if how == NEAREST:
            return Nearest(target.shape, nearest)
        x, y, nearest = (a.reshape(target.shape) for a in (x, y, nearest))
        return between_curvilinear(source, x, y, nearest, how)
    if how == NEAREST:
        return Nearest(target.shape, _holding(source, x, y))
    if source.crs == target.crs:
        x, y = x.reshape(target.shape)[:1], y.reshape(target.shape)[:, :1]
    else:
        x, y = x.reshape(target.shape), y.reshape(target.shape)
    return between_centres(source, x, y, how)


def _shared_areas(source: GridLayout, target: GridLayout, counts: bool) -> SharedAreas:
    """The new cells laid over the old ones as if they were regions, some at a time."""
    ny, nx = target.shape
    new, old, weight, fraction = [], [], [], []
    for owner, boxes in _boxes(target, source):
        shared = (
            _over_curvilinear(boxes, target, source)
            if isinstance(source, CurvilinearLayout)
            else overlay(_edges_of(boxes, target, source), source)
        )
        whole = np.where(shared.region_weight > 0, shared.region_weight, 1.0)
        entry = np.repeat(np.arange(shared.regions), shared.entries)
        # A cell around a pole comes in four parts.
        of_owner = np.bincount(owner, shared.region_weight, ny * nx)[owner]
        whole = np.where(of_owner > 0, of_owner, whole)
        new.append(owner[entry].astype(np.int32))
        old.append(shared.cells[shared.index].astype(np.int32))
        weight.append(shared.weight / whole[entry])
        if counts:
            fraction.append(shared.fraction)
    rows, number = (np.concatenate([np.zeros(0, np.int32), *a]) for a in (new, old))
    del new, old  # there are several for each new cell
    used = np.zeros(source.shape[0] * source.shape[1], bool)
    used[number] = True
    cells = np.flatnonzero(used)
    column = (np.cumsum(used, dtype=np.int32) - 1)[number]
    del number

    from scipy import sparse

    def matrix(values: list[np.ndarray]) -> sparse.csr_array:
        flat = np.concatenate([np.zeros(0), *values])
        return sparse.csr_array((flat, (rows, column)), shape=(ny * nx, cells.size))

    return SharedAreas((ny, nx), cells, matrix(weight), matrix(fraction) if counts else None)


Boxes = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def _boxes(target: GridLayout, source: GridLayout) -> Iterator[tuple[np.ndarray, Boxes]]:
    """Cells as boxes (x0, y0, x1, y1), and the number of the cell that each is of.

    A cell that holds a pole of a projection is cut into four at it.
    """
    ny, nx = target.shape
    for some in batches(ny, nx * 5):  # four edges and a number
        rows = np.arange(some.start, some.stop)
        owner = (rows[:, None] * nx + np.arange(nx)).ravel()
        x0, x1 = (np.tile(e, rows.size) for e in _sorted_pairs(target.x_edges))
        y0, y1 = (np.repeat(e[rows], nx) for e in _sorted_pairs(target.y_edges))
        boxes = [x0, y0, x1, y1]
        if not target.is_lonlat:
            owner, boxes = _cut_at_poles(target, owner, boxes)
        yield owner, (boxes[0], boxes[1], boxes[2], boxes[3])


def _sorted_pairs(edges: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return np.minimum(edges[:-1], edges[1:]), np.maximum(edges[:-1], edges[1:])


def _cut_at_poles(
    target: GridLayout, owner: np.ndarray, boxes: list[np.ndarray]
) -> tuple[np.ndarray, list[np.ndarray]]:
    import pyproj

    transformer = pyproj.Transformer.from_crs(LONLAT, target.crs, always_xy=True)
    for latitude in (-90.0, 90.0):
        x, y = transformer.transform(0.0, latitude)
        other = transformer.transform(90.0, latitude)
        if not np.isfinite([x, y, *other]).all() or np.hypot(x - other[0], y - other[1]) > 1.0:
            continue  # the pole is no point there
        x0, y0, x1, y1 = boxes
        holds = np.flatnonzero((x0 < x) & (x < x1) & (y0 < y) & (y < y1))
        for n in holds.tolist():
            quarters = [
                (x0[n], y0[n], x, y),
                (x, y0[n], x1[n], y),
                (x0[n], y, x, y1[n]),
                (x, y, x1[n], y1[n]),
            ]
            boxes = [
                np.concatenate([np.delete(a, n), [q[k] for q in quarters]])
                for k, a in enumerate(boxes)
            ]
            owner = np.concatenate([np.delete(owner, n), [owner[n]] * 4])
    return owner, boxes


def _edges_of(boxes: Boxes, target: GridLayout, source: GridLayout) -> RegionEdges:
    """The outlines of boxes in the system of the grid; those that have none there are empty."""
    x0, y0, x1, y1 = boxes
    count = x0.size
    region = np.tile(np.arange(count), 4)
    edges = RegionEdges(
        np.concatenate([x0, x1, x1, x0]),
        np.concatenate([y0, y0, y1, y1]),
        np.concatenate([x1, x1, x0, x0]),
        np.concatenate([y0, y1, y1, y0]),
        region,
        count,
    )
    edges = _some(edges, np.argsort(region, kind="stable"))
    if same_system(target.system, source.system):
        return edges
    import pyproj

    transformer = pyproj.Transformer.from_crs(target.system, source.system, always_xy=True)
    corners = transformer.transform(edges.x0, edges.y0)
    fine = np.isfinite(corners[0]) & np.isfinite(corners[1])
    kept = np.bincount(edges.region, fine, count) == 4
    edges = _some(edges, kept[edges.region])
    tolerance = CELL_SHARE * min(source.cell_size)
    return transformed_edges(edges, transformer.transform, tolerance, source.is_lonlat)


def _some(edges: RegionEdges, which: np.ndarray) -> RegionEdges:
    """Some of the edges, in an order."""
    return RegionEdges(
        edges.x0[which],
        edges.y0[which],
        edges.x1[which],
        edges.y1[which],
        edges.region[which],
        edges.count,
    )


def _over_curvilinear(boxes: Boxes, target: GridLayout, source: CurvilinearLayout) -> Overlay:
    """Boxes over cells that have corners of their own."""
    geometry = shapely.box(*boxes)
    labels = tuple(map(str, range(len(geometry))))
    return overlay_on_grid(Regions(labels, geometry, target.system), source)


def _centres(target: GridLayout, source: GridLayout) -> tuple[np.ndarray, np.ndarray]:
    """(C',) centres of the new cells in the system of the old grid, in its turn of longitude."""
    x, y = (a.ravel() for a in np.meshgrid(target.x_centres, target.y_centres))
    if not same_system(target.system, source.system):
        import pyproj

        transformer = pyproj.Transformer.from_crs(target.system, source.system, always_xy=True)
        x, y = transformer.transform(x, y)
    if source.is_lonlat:
        west = source.extent[0]
        x = west + (x - west) % 360
    return x, y


def _holding(source: GridLayout, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(C',) the old cell that holds each place, -1 for none."""
    row, row_in = _position(source.y_edges, y)
    column, column_in = _position(source.x_edges, x)
    return np.where(row_in & column_in, row * source.shape[1] + column, -1)


def _position(edges: np.ndarray, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The cell of an axis that holds each place, and whether any does."""
    lines = np.sort(edges)
    inside = (at >= lines[0]) & (at <= lines[-1])
    place = np.clip(np.searchsorted(lines, at, side="right") - 1, 0, lines.size - 2)
    return (lines.size - 2 - place if edges[0] > edges[-1] else place), inside


def _nearest_curvilinear(source: CurvilinearLayout, lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """(C',) the old cell whose centre is nearest, -1 beyond the reach of the cells."""
    from scipy.spatial import cKDTree  # which few jobs need

    corners = on_sphere(source.lon, source.lat).reshape(-1, 4, 3)
    middle = corners.mean(axis=1)
    middle /= np.linalg.norm(middle, axis=1, keepdims=True)
    reach = np.linalg.norm(corners - middle[:, None], axis=2).max(axis=1)
    known = np.isfinite(lon) & np.isfinite(lat)
    out = np.full(lon.size, -1)
    distance, cell = cKDTree(middle).query(on_sphere(lon[known], lat[known]))
    out[known] = np.where(distance <= reach[cell], cell, -1)
    return out
