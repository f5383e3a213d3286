"""Areas of all cells of some rows, for grids of so many cells that none is looked at by itself."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.space.layout import GridLayout, zone_area

SPACING = 64  # cells at most between those whose true areas are worked out
NODES = 64  # of those along an axis at least, unless it has fewer cells
ACCURACY, TRIED = 1e-9, 12  # of areas between nodes, and along an axis how many are looked at
STENCIL = 6  # of them on which a cell between is interpolated


@dataclass(frozen=True, eq=False)
class RowAreas:
    """Areas of the cells of a grid, row by row, km².

    On projected grids of more than NODES rows or columns the areal scale is interpolated between
    cells whose true areas are known, by polynomials of fifth degree: it is smooth, and cells are
    small beside the distances over which it changes.
    """

    layout: GridLayout

    @property
    def is_exact(self) -> bool:
        """Whether all cells have an area, and those between nodes are right within ACCURACY.

        Cells beyond the reach of their projection have none; on maps of the whole Earth the scale
        may change too much from node to node.
        """
        if self.layout.is_lonlat:
            return True
        if not np.isfinite(self._scale_by_row_nodes).all():
            return False
        rows, columns = (_between_nodes(size) for size in self.layout.shape)
        true = self.layout.ellipsoid_areas((rows[:, None] * self.layout.shape[1] + columns).ravel())
        each = [self.square_km(row, row + 1)[0, columns] for row in rows.tolist()]
        return bool((np.abs(np.ravel(each) - true) <= ACCURACY * true).all())

    def weights(self, first: int, last: int) -> np.ndarray:
        """(n, nx) areas by which values are weighted: on the sphere, or true ones if projected."""
        if not self.layout.is_lonlat:
            return self.square_km(first, last)
        rows, columns = self._sphere
        return np.asarray(rows[first:last, None] * columns)

    def of_spans(self, start: np.ndarray, length: np.ndarray) -> np.ndarray:
        """(N,) the same of spans of cells, of one row each.

        Parameters
        ----------
        start, length : (N,) int
            Flat number of a span's first cell, ascending, and its number of cells.
        """
        width = self.layout.shape[1]
        row, first = np.divmod(start, width)
        if self.layout.is_lonlat:
            rows, along = self._sphere[0], self._along
            return np.asarray(rows[row] * (along[first + length] - along[first]))
        top = int(row[0]) if row.size else 0
        area = self.weights(top, int(row[-1]) + 1 if row.size else 0)
        return of_each_span(np.add, area.ravel(), start - top * width, length)

    def square_km(self, first: int, last: int) -> np.ndarray:
        """(n, nx) areas on the WGS 84 ellipsoid."""
        if self.layout.is_lonlat:
            return np.asarray(self._zones[first:last, None] * self._sphere[1])
        height = np.abs(np.diff(self.layout.y_edges[first : last + 1]))
        shares, nodes = _between(np.arange(first, last), self._row_nodes)
        scale = shares @ self._scale_by_row_nodes[nodes]
        return np.asarray(scale * (height[:, None] * self._widths))

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


def of_each_span(
    how: np.ufunc, values: np.ndarray, start: np.ndarray, length: np.ndarray
) -> np.ndarray:
    """(N,) what the values of each span come to, from its first to its last.

    Parameters
    ----------
    how
        Such as np.add.
    values : (C,) float64
    start, length : (N,) int
        First value of each span, and how many it has, at least 1.

    Examples
    --------
    >>> of_each_span(np.add, np.array([1.0, 2.0, 4.0]), np.array([0, 1]), np.array([2, 2]))
    array([3., 6.])
    """
    if not start.size:
        return np.zeros(0)
    edges = np.column_stack([start, start + length]).ravel()
    if (edges[:-1] == values.size).any():
        values = np.append(values, 0.0)  # that is in no span
    elif edges[-1] == values.size:  # the last span goes up to there anyway
        edges = edges[:-1]
    return np.asarray(how.reduceat(values, edges)[::2])


def _nodes(size: int) -> np.ndarray:
    """Cells along an axis between which others are interpolated, the outermost among them."""
    count = min(size, max(NODES, -(-size // SPACING) + 1))
    return np.unique(np.rint(np.linspace(0, size - 1, count)).astype(np.int64))


def _between_nodes(size: int) -> np.ndarray:
    """Cells along an axis that lie in the middle between nodes, those at both ends among them."""
    nodes = _nodes(size)
    middle = (nodes[1:] + nodes[:-1]) // 2
    return np.asarray(middle[np.unique(np.linspace(0, middle.size - 1, TRIED).astype(np.int64))])


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
