"""Values between the centres of cells."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.resampling import CUBIC, LINEAR

OFFSETS = {LINEAR: np.arange(0, 2), CUBIC: np.arange(-1, 3)}  # of neighbours from the lower one
LEAST_WEIGHT = 0.5  # of the neighbours that must have data
CUBIC_A = -0.5  # of cubic convolution (Keys 1981)
NEWTON_STEPS = 8  # to the place within four centres; each doubles the digits
POLAR = 80.0  # degrees beyond which longitudes and latitudes are no plane to work on
NUMBERS_OF_PLACE = 8  # of a place: its neighbours and their weights
WALKS = 2  # from patch to patch, for cells that are slanted
WITHIN = 1e-9  # of a cell
ADJOINING = 1.5  # of the step between columns: as near as that the last adjoins the first


@dataclass(frozen=True, eq=False)
class Interpolated:
    """Values between old centres: weighted neighbours, within their range.

    The N × N neighbours of a new centre are those in N rows and N columns, and their weights are
    the products of both. Of grids of one system all centres of a row share their rows, and all of
    a column their columns, so that an axis of length 1 stands for all.

    Parameters
    ----------
    rows, columns : (ny' or 1, nx' or 1, N) int64
        Rows and columns of the old grid.
    up, along : (ny' or 1, nx' or 1, N) float64
        Their weights. They add up to 1; all 0 beyond the outermost edges of the old cells.
    """

    rows: np.ndarray
    up: np.ndarray
    columns: np.ndarray
    along: np.ndarray

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') values, NaN where less than half the weight of the neighbours has data."""
        ny, nx = np.broadcast_shapes(self.rows.shape, self.columns.shape)[:2]
        out = np.empty((ny, nx))
        for some in batches(ny, nx * NUMBERS_OF_PLACE):
            out[some] = _weighted(
                values,
                *(a[some] if len(a) > 1 else a for a in (self.rows, self.columns)),
                *(a[some] if len(a) > 1 else a for a in (self.up, self.along)),
            )
        return out


def _weighted(
    values: np.ndarray, rows: np.ndarray, columns: np.ndarray, up: np.ndarray, along: np.ndarray
) -> np.ndarray:
    """(n, nx') values of some new rows."""
    near = values[rows[..., :, None], columns[..., None, :]]
    weight = up[..., :, None] * along[..., None, :]
    valid = ~np.isnan(near) & (weight != 0)
    weight = np.where(valid, weight, 0.0)
    total = weight.sum(axis=(-2, -1))
    with np.errstate(invalid="ignore", divide="ignore"):
        found = (np.where(valid, near, 0.0) * weight).sum(axis=(-2, -1)) / total
    low = np.where(valid, near, np.inf).min(axis=(-2, -1))
    high = np.where(valid, near, -np.inf).max(axis=(-2, -1))
    enough = total >= LEAST_WEIGHT - ENOUGH
    return np.where(enough, np.clip(found, low, high), np.nan)


def between_centres(source: GridLayout, x: np.ndarray, y: np.ndarray, how: str) -> Interpolated:
    """Values at places by their neighbours along rows and columns.

    Parameters
    ----------
    x, y : (ny' or 1, nx' or 1) float64
        Places in the system of the old grid.
    how
        LINEAR, or CUBIC: cubic convolution (Keys 1981).
    """
    turn = source.is_lonlat and abs(float(np.ptp(source.x_edges)) - 360) < 1e-6
    columns, along = _neighbours(source.x_edges, x, how, wraps=turn)
    rows, up = _neighbours(source.y_edges, y, how, wraps=False)
    return Interpolated(rows, up, columns, along)


def _neighbours(
    edges: np.ndarray, at: np.ndarray, how: str, *, wraps: bool
) -> tuple[np.ndarray, np.ndarray]:
    """The 2 or 4 cells along an axis around each place, and their weights.

    Beyond the outermost centre, but inside the grid, the outermost cells stand for those that are
    not there; outside the grid all weights are 0.
    """
    centres = (edges[:-1] + edges[1:]) / 2
    order = np.argsort(centres)
    line = centres[order]
    if wraps:
        line = np.concatenate([line[-2:] - 360, line, line[:2] + 360])
        order = np.concatenate([order[-2:], order, order[:2]])
    inside = (at >= edges.min()) & (at <= edges.max())
    low = np.clip(np.searchsorted(line, at, side="right") - 1, 0, max(line.size - 2, 0))
    high = np.minimum(low + 1, line.size - 1)
    gap = line[high] - line[low]
    share = np.clip((at - line[low]) / np.where(gap > 0, gap, 1.0), 0.0, 1.0)
    share = np.where(np.isfinite(share), share, 0.0)
    places = low[..., None] + OFFSETS[how]
    return order[np.clip(places, 0, line.size - 1)], _weights(share, how) * inside[..., None]


def _weights(share: np.ndarray, how: str) -> np.ndarray:
    """(…, 2) or (…, 4) weights of neighbours, by the share of the way between the middle two."""
    if how == LINEAR:
        return np.stack([1 - share, share], axis=-1)
    return np.stack([_keys(share + 1), _keys(share), _keys(1 - share), _keys(2 - share)], axis=-1)


def _keys(distance: np.ndarray) -> np.ndarray:
    """The kernel of cubic convolution (Keys 1981, eq. 4) at a distance in cells, 0 to 2."""
    d, a = np.abs(distance), CUBIC_A
    near = (a + 2) * d**3 - (a + 3) * d**2 + 1
    far = a * d**3 - 5 * a * d**2 + 8 * a * d - 4 * a
    return np.asarray(np.where(d <= 1, near, far))


def between_curvilinear(
    source: CurvilinearLayout, lon: np.ndarray, lat: np.ndarray, nearest: np.ndarray, how: str
) -> Interpolated:
    """Values at places among cells that have corners of their own.

    Each place is put among the four centres around it: the shares (u, v) of the way along columns
    and rows at which the bilinear patch through the centres meets it. Neighbours are then weighted
    by (u, v) as on a grid of rows and columns. Beyond the outermost centres, but inside the grid,
    the outermost patch is held at its rim.

    Parameters
    ----------
    lon, lat : (ny', nx') float64
        Places, degrees.
    nearest : (ny', nx') int64
        The cell whose centre is nearest; -1 outside the grid.
    how
        LINEAR or CUBIC.
    """
    mesh = _Mesh.of(source)
    inside = nearest >= 0
    row, column = np.divmod(nearest, source.shape[1])
    u, v = np.zeros(lon.shape), np.zeros(lon.shape)
    for batch in batches(lon.size, NUMBERS_OF_PLACE):
        some = np.arange(batch.start, batch.stop)
        some = some[inside.ravel()[some]]
        found = _patches(mesh, lon.flat[some], lat.flat[some], row.flat[some], column.flat[some])
        row.flat[some], column.flat[some], u.flat[some], v.flat[some] = found
    rows = np.clip(row[..., None] + OFFSETS[how], 0, source.shape[0] - 1)
    columns = mesh.column(column[..., None] + OFFSETS[how])
    return Interpolated(rows, _weights(v, how) * inside[..., None], columns, _weights(u, how))


@dataclass(frozen=True, eq=False)
class _Mesh:
    """The middles of cells that have corners of their own.

    Parameters
    ----------
    lon, lat : (ny, nx) float64
        Degrees.
    turns
        The last column adjoins the first.
    """

    lon: np.ndarray
    lat: np.ndarray
    turns: bool

    @classmethod
    def of(cls, source: CurvilinearLayout) -> _Mesh:
        middle = on_sphere(source.lon, source.lat).mean(axis=2)
        polar = np.abs(source.lat).max(axis=2) > POLAR
        lon = np.where(
            polar, np.degrees(np.arctan2(middle[..., 1], middle[..., 0])), source.lon.mean(axis=2)
        )
        height = np.degrees(np.arctan2(middle[..., 2], np.hypot(middle[..., 0], middle[..., 1])))
        lat = np.where(polar, height, source.lat.mean(axis=2))
        points = on_sphere(lon, lat)
        if points.shape[1] < 3:
            return cls(lon, lat, False)
        step = np.median(np.linalg.norm(np.diff(points, axis=1), axis=2))
        around = np.median(np.linalg.norm(points[:, -1] - points[:, 0], axis=1))
        return cls(lon, lat, bool(around < ADJOINING * step))

    def first_row(self, number: np.ndarray) -> np.ndarray:
        """The first row of a patch."""
        return np.asarray(np.clip(number, 0, max(self.lon.shape[0] - 2, 0)))

    def first_column(self, number: np.ndarray) -> np.ndarray:
        """The first column of a patch."""
        if self.turns:
            return np.asarray(number % self.lon.shape[1])
        return np.asarray(np.clip(number, 0, max(self.lon.shape[1] - 2, 0)))

    def column(self, number: np.ndarray) -> np.ndarray:
        """Columns, around the seam or held at the rim."""
        count = self.lon.shape[1]
        return np.asarray(number % count if self.turns else np.clip(number, 0, count - 1))

    def shares(
        self, lon: np.ndarray, lat: np.ndarray, row: np.ndarray, column: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """(P,) u and v of places in the patches that begin at rows and columns."""
        last = self.lon.shape[0] - 1
        corners = [
            (np.minimum(row + j, last), self.column(column + i))
            for j, i in ((0, 0), (0, 1), (1, 1), (1, 0))
        ]
        corner_lon, corner_lat = (
            np.stack([a[corner] for corner in corners], axis=1) for a in (self.lon, self.lat)
        )
        return _place_within(*_around(lon, lat, corner_lon, corner_lat))


def _patches(
    mesh: _Mesh, lon: np.ndarray, lat: np.ndarray, row: np.ndarray, column: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """First row and column of the patch around each place, and u and v in it, within 0 and 1.

    Tries the four patches around the nearest centre, then those towards which the best of them
    points (cells may be slanted). Where all are without area the nearest cell is kept.
    """
    best = np.full(lon.size, np.inf)
    found = np.stack([row, column, np.zeros(lon.size), np.zeros(lon.size)])

    def try_patches(first_row: np.ndarray, first_column: np.ndarray) -> None:
        """Take over those in which places lie better; places may lie beyond them."""
        first_row, first_column = mesh.first_row(first_row), mesh.first_column(first_column)
        u, v = mesh.shares(lon, lat, first_row, first_column)
        with np.errstate(invalid="ignore"):
            beyond = np.hypot(u - np.clip(u, 0, 1), v - np.clip(v, 0, 1))
        better = beyond < best
        np.copyto(best, beyond, where=better)
        np.copyto(found, np.stack([first_row, first_column, u, v]), where=better)

    for down in (-1, 0):
        for left in (-1, 0):
            try_patches(row + down, column + left)
    for _ in range(WALKS):
        if not (best > WITHIN).any():
            break
        towards = np.clip(np.floor(found[2:]), -1, 1)
        try_patches(*(found[:2] + towards[::-1]).astype(int))
    first_row, first_column = found[:2].astype(int)
    u, v = np.clip(found[2:], 0, 1)
    return first_row, first_column, u, v


def on_sphere(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """(…, 3) points of the unit sphere."""
    a, b = np.radians(lon), np.radians(lat)
    return np.stack([np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)], axis=-1)


def _around(
    lon: np.ndarray, lat: np.ndarray, corner_lon: np.ndarray, corner_lat: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(C', 4) positions of corners seen from places, on a plane.

    In degrees of longitude and latitude; near the poles on the plane that touches the sphere at
    the place.
    """
    x = (corner_lon - lon[:, None] + 180) % 360 - 180
    y = corner_lat - lat[:, None]
    polar = np.abs(lat) > POLAR
    if polar.any():
        a, b = np.radians(x[polar]), np.radians(corner_lat[polar])
        c = np.radians(lat[polar])[:, None]
        x[polar] = np.degrees(np.cos(b) * np.sin(a))
        y[polar] = np.degrees(np.cos(c) * np.sin(b) - np.sin(c) * np.cos(b) * np.cos(a))
    return x, y


def _place_within(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Shares (u, v) at which the bilinear patch through four corners meets the origin.

    Solves a + u (b − a) + v (d − a) + u v (a − b + c − d) = 0 by Newton's method. A patch without
    area has none (infinite).
    """
    a, b, c, d = (np.stack([x[:, n], y[:, n]]) for n in range(4))
    e, f, g = b - a, d - a, a - b + c - d
    u = v = np.full(x.shape[0], 0.5)
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        for _ in range(NEWTON_STEPS):
            rest = a + u * e + v * f + u * v * g
            along, up = e + v * g, f + u * g
            area = along[0] * up[1] - along[1] * up[0]
            u = u - (rest[0] * up[1] - rest[1] * up[0]) / area
            v = v - (along[0] * rest[1] - along[1] * rest[0]) / area
    found = np.isfinite(u) & np.isfinite(v)
    return np.where(found, u, np.inf), np.where(found, v, np.inf)
