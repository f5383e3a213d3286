"""Zones: regions given as the cells of an integer grid that share a code."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.pieces import SLIVER
from bavlo.errors import InputError

ReadRows = Callable[[int, int], np.ndarray]
NO_ZONE = -1


@dataclass(frozen=True, eq=False)
class Zones:
    """Named zones of a grid.

    Parameters
    ----------
    labels
        One for each zone.
    zone : (ny, nx) int64
        Which zone each cell belongs to, NO_ZONE for none.
    layout
        The cells of the zone grid.
    """

    labels: tuple[str, ...]
    zone: np.ndarray
    layout: GridLayout
    are_points: ClassVar[bool] = False
    outlines: ClassVar[np.ndarray | None] = None

    def __len__(self) -> int:
        return len(self.labels)

    @property
    def crs(self) -> str:
        """The reference system of the zone grid."""
        return self.layout.crs

    def take(self, index: np.ndarray) -> Zones:
        """Some of the zones, in that order."""
        position = np.full(len(self.labels) + 1, NO_ZONE)
        position[index] = np.arange(index.size)
        labels = tuple(self.labels[i] for i in index)
        return replace(self, labels=labels, zone=position[self.zone])


def zone_overlay(zones: Zones, layout: GridLayout) -> Overlay:
    """Shared areas of zones and the cells of a grid of any cell size in the same system.

    Areas are exact: the cells of both grids are rectangles, so that shares along rows and columns
    multiply.
    """
    if zones.layout.crs != layout.crs or layout.has_corners:
        raise InputError(
            "zones", "have another reference system than the grid", "give them on the grid's"
        )
    ny, nx = layout.shape
    row, zone_row, row_share = axis_shares(zones.layout.y_edges, layout.y_edges, layout.is_lonlat)
    column, zone_column, column_share = longitude_shares(zones.layout, layout)
    by_zone_row = np.argsort(zone_row, kind="stable")
    keys, shares = [], []
    for at in np.split(by_zone_row, np.flatnonzero(np.diff(zone_row[by_zone_row])) + 1):
        if not at.size:
            continue
        # All grid rows that this zone row touches × all pairs of columns.
        zone = zones.zone[zone_row[at[0]], zone_column]
        inside = zone != NO_ZONE
        if inside.any():
            number = row[at][:, None] * nx + column[inside]
            keys.append((zone[inside] * (ny * nx) + number).ravel())
            shares.append((row_share[at][:, None] * column_share[inside]).ravel())
    key = np.concatenate([np.zeros(0, np.int64), *keys])
    share = np.concatenate([np.zeros(0), *shares])
    key, index = np.unique(key, return_inverse=True)
    fraction = np.minimum(np.bincount(index, weights=share, minlength=key.size), 1.0)
    fraction = np.where(fraction > 1 - 1e-12, 1.0, fraction)
    key, fraction = key[fraction > SLIVER], fraction[fraction > SLIVER]
    region, number = np.divmod(key, ny * nx)
    cells, position = np.unique(number, return_inverse=True)
    area = _areas(layout, cells)
    own = _areas(zones.layout, np.arange(zones.zone.size))
    flat = zones.zone.ravel()
    whole = np.bincount(flat[flat != NO_ZONE], weights=own[flat != NO_ZONE], minlength=len(zones))
    counts = np.bincount(region, minlength=len(zones))
    return Overlay(
        (ny, nx),
        cells,
        np.concatenate([[0], np.cumsum(counts)]),
        position.astype(np.int32),
        fraction,
        fraction * area[position],
        whole,
    )


def axis_shares(
    source: np.ndarray, target: np.ndarray, latitude: bool
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """How the cells of two axes overlap.

    Parameters
    ----------
    source, target : edges, ascending or descending
    latitude
        Shares by sin φ rather than by length.

    Returns
    -------
    target_cell, source_cell : (N,) int64
        Pairs that overlap, in order of the target's position.
    share : (N,) float64
        Part of the target cell that the source cell covers.
    """
    descends = target[0] > target[-1], source[0] > source[-1]
    a = np.sort(target)
    b = np.sort(source)
    lines = np.unique(np.concatenate([a, b]))
    lines = lines[(lines >= max(a[0], b[0])) & (lines <= min(a[-1], b[-1]))]
    if lines.size < 2:
        none = np.zeros(0, np.int64)
        return none, none, np.zeros(0)
    middle = (lines[1:] + lines[:-1]) / 2
    # The middle of two lines that only rounding parts may be the upper one.
    cell = np.minimum(np.searchsorted(a, middle, side="right") - 1, a.size - 2)
    other = np.minimum(np.searchsorted(b, middle, side="right") - 1, b.size - 2)

    def lengths(edges: np.ndarray) -> np.ndarray:
        if not latitude:
            return np.diff(edges)
        half = np.radians(np.diff(edges)) / 2
        return np.asarray(2 * np.cos(np.radians(edges[1:] + edges[:-1]) / 2) * np.sin(half))

    share = lengths(lines) / lengths(a)[cell]
    cell = a.size - 2 - cell if descends[0] else cell
    other = b.size - 2 - other if descends[1] else other
    return cell, other, share


def longitude_shares(
    source: GridLayout, target: GridLayout
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Shares along the columns; a turn of 360 degrees apart is the same place."""
    turns = (-360.0, 0.0, 360.0) if target.is_lonlat else (0.0,)
    parts = [axis_shares(source.x_edges + t, target.x_edges, latitude=False) for t in turns]
    return tuple(np.concatenate(p) for p in zip(*parts, strict=True))  # type: ignore[return-value]


def _areas(layout: GridLayout, cells: np.ndarray) -> np.ndarray:
    """km² on the sphere for longitude-latitude grids, else true areas."""
    if not layout.is_lonlat:
        return layout.ellipsoid_areas(cells)
    rows, columns = layout.sphere_areas()
    return np.asarray(rows[cells // layout.shape[1]] * columns[cells % layout.shape[1]])


def _areas_of_rows(layout: GridLayout, first: int, last: int) -> np.ndarray:
    """The same of the cells of some rows, (n, nx)."""
    if layout.is_lonlat:
        rows, columns = layout.sphere_areas()
        return np.asarray(rows[first:last, None] * columns)
    width = layout.shape[1]
    return _areas(layout, np.arange(first * width, last * width)).reshape(-1, width)


def brought_onto(
    read: ReadRows,
    source: GridLayout,
    target: GridLayout,
    bands: Iterable[tuple[int, int]],
    *,
    total: bool,
) -> np.ndarray:
    """Values of one grid on the cells of another, conserving their total or their mean.

    Parameters
    ----------
    read
        Gives the rows `first` to `last` (excluded) of the source's values, (n, nx) float64; NaN
        counts as nothing. Only rows that share something with the target are asked for.
    bands
        The first row and the one after the last of all bands that are read one after the other.
    total
        Values are totals of their cell (people) rather than densities.

    Returns
    -------
    values : (target ny, target nx) float64
    """
    if source.crs != target.crs or target.has_corners:
        raise InputError(
            "weight", "is in another reference system than the grid", "give it on the grid's"
        )
    from scipy import sparse

    y = axis_shares(source.y_edges, target.y_edges, target.is_lonlat)
    x = longitude_shares(source, target)
    rows = sparse.csr_array((y[2], (y[0], y[1])), shape=(target.shape[0], source.shape[0]))
    columns = sparse.csr_array((x[2], (x[0], x[1])), shape=(target.shape[1], source.shape[1]))
    by_row = np.zeros((target.shape[0], source.shape[1]))
    for first, last in bands:
        shares = rows[:, first:last]
        if not shares.nnz:
            continue
        values = np.nan_to_num(read(first, last))
        if total:
            values /= _areas_of_rows(source, first, last)
        by_row += shares @ values
    out = np.asarray(columns @ by_row.T).T
    if total:
        out *= _areas_of_rows(target, 0, target.shape[0])
    return out
