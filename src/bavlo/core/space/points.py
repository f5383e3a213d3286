"""Points as regions: the cell that a point is in, or the four cell centres around it."""

from __future__ import annotations

import numpy as np
import shapely

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.projection import same_system
from bavlo.core.space.regions import LONLAT, Regions
from bavlo.errors import InputError


def point_overlay(regions: Regions, layout: GridLayout, *, bilinear: bool = False) -> Overlay:
    """Weights of the cells at points; a point's weights sum to 1 inside the grid.

    Parameters
    ----------
    bilinear
        Take the four nearest cell centres, by distance along rows and columns, and not the cell
        that holds the point.
    """
    if layout.has_corners:
        raise InputError(
            "points",
            "on a grid with two-dimensional coordinates are not supported",
            "give small polygons around them",
        )
    x, y = _placed(regions, layout)
    ny, nx = layout.shape
    if not bilinear:
        row, row_in = _cell(layout.y_edges, y)
        column, column_in = _cell(layout.x_edges, x)
        corners = [(row, column, np.ones(x.size))]
        inside = row_in & column_in
    else:
        turn = layout.is_lonlat and abs(np.ptp(layout.x_edges) - 360) < 1e-6
        above, below, up, row_in = _between(layout.y_centres, layout.y_edges, y, wraps=False)
        left, right, along, column_in = _between(layout.x_centres, layout.x_edges, x, wraps=turn)
        inside = row_in & column_in
        corners = [
            (above, left, (1 - up) * (1 - along)),
            (above, right, (1 - up) * along),
            (below, left, up * (1 - along)),
            (below, right, up * along),
        ]
    point = np.tile(np.arange(x.size), len(corners))
    number = np.concatenate([r * nx + c for r, c, _ in corners])
    weight = np.concatenate([w for _, _, w in corners])
    keep = np.tile(inside, len(corners)) & (weight > 0)
    key, index = np.unique(point[keep] * (ny * nx) + number[keep], return_inverse=True)
    weight = np.bincount(index, weights=weight[keep], minlength=key.size)
    point, number = np.divmod(key, ny * nx)
    cells, position = np.unique(number, return_inverse=True)
    counts = np.bincount(point, minlength=x.size)
    return Overlay(
        (ny, nx),
        cells,
        np.concatenate([[0], np.cumsum(counts)]),
        position.astype(np.int32),
        weight,
        weight,
        np.ones(x.size),
    )


def _placed(regions: Regions, layout: GridLayout) -> tuple[np.ndarray, np.ndarray]:
    """Points in the grid's reference system, in the turn of 360 degrees that the grid is in."""
    x, y = shapely.get_coordinates(regions.geometry).T
    target = LONLAT if layout.is_lonlat else layout.crs
    if not same_system(regions.crs, target):
        import pyproj

        x, y = pyproj.Transformer.from_crs(regions.crs, target, always_xy=True).transform(x, y)
    if layout.is_lonlat:
        west = layout.extent[0]
        x = west + (x - west) % 360
    return x, y


def _cell(edges: np.ndarray, at: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The cell that holds each place; the far edge of the grid belongs to the last cell."""
    lines = np.sort(edges)
    position = np.searchsorted(lines, at, side="right") - 1
    position = np.where(at == lines[-1], lines.size - 2, position)
    inside = (position >= 0) & (position < lines.size - 1)
    position = np.clip(position, 0, lines.size - 2)
    return (lines.size - 2 - position if edges[0] > edges[-1] else position), inside


def _between(
    centres: np.ndarray, edges: np.ndarray, at: np.ndarray, *, wraps: bool
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The centres on both sides of each place and the share of the second.

    Beyond the outermost centre, but inside the grid, both are that centre.
    """
    _, inside = _cell(edges, at)
    order = np.argsort(centres)
    line = centres[order]
    if wraps:
        line = np.concatenate([[line[-1] - 360], line, [line[0] + 360]])
        order = np.concatenate([[order[-1]], order, [order[0]]])
    low = np.clip(np.searchsorted(line, at, side="right") - 1, 0, line.size - 1)
    high = np.minimum(low + 1, line.size - 1)
    gap = line[high] - line[low]
    share = np.where(gap > 0, (at - line[low]) / np.where(gap > 0, gap, 1), 0.0)
    return order[low], order[high], np.clip(share, 0.0, 1.0), inside
