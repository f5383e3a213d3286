"""Areas of all cells of some rows, for grids of so many cells that none is looked at by itself."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.space.layout import GridLayout, zone_area

SPACING = 64  # cells between those whose true areas are worked out
STENCIL = 6  # of them on which a cell between is interpolated


@dataclass(frozen=True, eq=False)
class CellAreas:
    """Areas of the cells of n rows, km², as factors of which few are kept.

    Parameters
    ----------
    rows : (n,) float64
    columns : (m, nx) float64
        The other factor: one for all rows, or of each row.
    """

    rows: np.ndarray
    columns: np.ndarray

    @classmethod
    def of_one(cls, rows: int, columns: int) -> CellAreas:
        """An area of 1 for each cell, by which values are added up as they are."""
        return cls(np.ones(rows), np.ones((1, columns)))

    @property
    def each(self) -> np.ndarray:
        """(n, nx) areas."""
        return np.asarray(self.rows[:, None] * self.columns)


@dataclass(frozen=True, eq=False)
class BothAreas:
    """Both sorts of areas of the cells of n rows, km², as factors: their columns are alike.

    Parameters
    ----------
    rows : (2, n) float64
        Of the areas by which values are weighted, and of those on the ellipsoid.
    columns : (m, nx) float64
        The other factor: one for all rows, or of each row.
    """

    rows: np.ndarray
    columns: np.ndarray

    def row_factors(self, cell: np.ndarray) -> np.ndarray:
        """(2, N) of the rows that cells (N,) are in, flat numbers from the first of these rows."""
        return np.asarray(self.rows[:, cell // self.columns.shape[1]])

    def column_factor(self, cell: np.ndarray) -> np.ndarray:
        """(N,) of the columns of cells (N,)."""
        row, column = np.divmod(cell, self.columns.shape[1])
        return np.asarray(self.columns[row if len(self.columns) > 1 else 0, column])


@dataclass(frozen=True, eq=False)
class RowAreas:
    """Areas of the cells of a grid, row by row, km².

    On projected grids the areal scale is interpolated between cells whose true areas are known, by
    polynomials of fifth degree: it is smooth, and cells are small beside the distances over which
    it changes.
    """

    layout: GridLayout

    @property
    def is_known(self) -> bool:
        """Whether all cells have an area: not those beyond the reach of their projection."""
        return self.layout.is_lonlat or bool(np.isfinite(self._scale_by_row_nodes).all())

    def weights(self, first: int, last: int) -> CellAreas:
        """Areas by which values are weighted: on the sphere, or true ones if projected."""
        if not self.layout.is_lonlat:
            return self.square_km(first, last)
        rows, columns = self._sphere
        return CellAreas(rows[first:last], columns[None])

    def of_runs(self, start: np.ndarray, length: np.ndarray) -> np.ndarray:
        """(N,) the same of runs of cells, of one row each.

        Parameters
        ----------
        start, length : (N,) int
            Flat number of a run's first cell, ascending, and its number of cells.
        """
        width = self.layout.shape[1]
        row, first = np.divmod(start, width)
        if self.layout.is_lonlat:
            rows, along = self._sphere[0], self._along
            return np.asarray(rows[row] * (along[first + length] - along[first]))
        top = int(row[0]) if row.size else 0
        area = self.weights(top, int(row[-1]) + 1 if row.size else 0).each
        return run_sums(np.append(area.ravel(), 0.0), start - top * width, length)

    def square_km(self, first: int, last: int) -> CellAreas:
        """Areas on the WGS 84 ellipsoid."""
        if self.layout.is_lonlat:
            return CellAreas(self._zones[first:last], self._sphere[1][None])
        height = np.abs(np.diff(self.layout.y_edges[first : last + 1]))
        shares, nodes = _between(np.arange(first, last), self._row_nodes)
        scale = shares @ self._scale_by_row_nodes[nodes]
        return CellAreas(np.ones(len(height)), scale * (height[:, None] * self._widths))

    def both(self, first: int, last: int) -> BothAreas:
        """Those by which values are weighted and those on the ellipsoid."""
        weights, square_km = self.weights(first, last), self.square_km(first, last)
        return BothAreas(np.stack([weights.rows, square_km.rows]), square_km.columns)

    @cached_property
    def _widths(self) -> np.ndarray:
        return np.abs(np.diff(self.layout.x_edges))

    @cached_property
    def _sphere(self) -> tuple[np.ndarray, np.ndarray]:
        return self.layout.sphere_areas()

    @cached_property
    def _zones(self) -> np.ndarray:
        """(ny,) km² of one radian of longitude in each row, on the ellipsoid."""
        return np.abs(np.diff(zone_area(self.layout.y_edges)))

    @cached_property
    def _along(self) -> np.ndarray:
        """(nx + 1,) width in radians up to each grid line."""
        return np.concatenate([[0.0], np.cumsum(self._sphere[1])])

    @cached_property
    def _row_nodes(self) -> np.ndarray:
        return _nodes(self.layout.shape[0])

    @cached_property
    def _scale_by_row_nodes(self) -> np.ndarray:
        """(nodes of rows, nx) km² for each unit of the plane's area."""
        rows, columns = self._row_nodes, _nodes(self.layout.shape[1])
        r, c = (a.ravel() for a in np.meshgrid(rows, columns, indexing="ij"))
        planar = np.abs(np.diff(self.layout.y_edges)[r] * np.diff(self.layout.x_edges)[c])
        areas = self.layout.ellipsoid_areas(r * self.layout.shape[1] + c)
        scale = (areas / planar).reshape(rows.size, columns.size)
        shares, nodes = _between(np.arange(self.layout.shape[1]), columns)
        return np.asarray(scale[:, nodes] @ shares.T)


def run_sums(values: np.ndarray, start: np.ndarray, length: np.ndarray) -> np.ndarray:
    """(N,) sums of runs of values.

    Parameters
    ----------
    values : (C + 1,) float64
        One more than there are, so that a run may end with the last of them.
    """
    if not start.size:
        return np.zeros(0)
    bounds = np.column_stack([start, start + length]).ravel()
    return np.asarray(np.add.reduceat(values, bounds)[::2])


def _nodes(size: int) -> np.ndarray:
    """Cells along an axis between which others are interpolated, the outermost among them."""
    count = min(size, max(STENCIL, -(-size // SPACING) + 1))
    return np.unique(np.rint(np.linspace(0, size - 1, count)).astype(np.int64))


def _between(position: np.ndarray, nodes: np.ndarray) -> tuple[np.ndarray, slice]:
    """Shares of the values at nodes in those at positions between them.

    Parameters
    ----------
    position : (N,) int64
        Ascending.

    Returns
    -------
    shares : (N, K) float64
        Lagrange's polynomials through the nearest STENCIL nodes, 0 for all others.
    nodes
        The K of them that take part.
    """
    count = min(STENCIL, nodes.size)
    first = np.searchsorted(nodes, position, side="right") - count // 2
    first = np.clip(first, 0, nodes.size - count)
    low, high = int(first.min()), int(first.max()) + count
    shares = np.zeros((position.size, high - low))
    own = first[:, None] + np.arange(count)
    x = nodes[own].astype(np.float64)
    for k in range(count):
        others = np.delete(x, k, axis=1)
        share = np.prod((position[:, None] - others) / (x[:, [k]] - others), axis=1)
        shares[np.arange(position.size), first - low + k] = share
    return shares, slice(low, high)
