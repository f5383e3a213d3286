"""Where the cells of a grid lie."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

# WGS 84, and the sphere of the same area: shares of a longitude-latitude cell are taken on the
# sphere, printed square kilometres from the ellipsoid (design of the numbers, section 1).
SEMI_MAJOR_KM = 6378.137
FLATTENING = 1 / 298.257223563
AUTHALIC_RADIUS_KM = 6371.007180918475
AROUND_A_POLE = 120.0  # degrees of longitude that four centres span only where a pole is near
AROUND_POLES = 45.0  # degrees north or south from which areas are taken around the pole
POINTS_A_SIDE = 8  # of a cell's outline, when it is bent on the ellipsoid
MOST_TURNS = 10  # around the globe that longitudes may count on


@dataclass(frozen=True, eq=False)
class GridLayout:
    """Cell edges of a grid whose rows and columns are straight in their reference system.

    Parameters
    ----------
    x_edges : (nx + 1,) float64
        Edges of the columns in file order, ascending or descending; degrees or metres.
    y_edges : (ny + 1,) float64
        Edges of the rows in file order; degrees or metres.
    crs
        "lonlat" for longitude and latitude, else the reference system as WKT.
    """

    x_edges: np.ndarray
    y_edges: np.ndarray
    crs: str = "lonlat"

    def __post_init__(self) -> None:
        for name in ("x_edges", "y_edges"):
            edges = np.ascontiguousarray(getattr(self, name), dtype=np.float64)
            steps = np.diff(edges)
            if edges.ndim != 1 or edges.size < 2 or not np.isfinite(edges).all():
                raise ValueError(f"{name} must be at least two finite values")
            if not ((steps > 0).all() or (steps < 0).all()):
                raise ValueError(f"{name} must be strictly ascending or descending")
            object.__setattr__(self, name, edges)
        if self.is_lonlat and np.abs(self.x_edges).max() > MOST_TURNS * 360:
            raise ValueError(f"longitudes of {np.abs(self.x_edges).max():g} cannot be")

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.y_edges.size - 1, self.x_edges.size - 1

    @property
    def is_lonlat(self) -> bool:
        """Whether the axes are longitude and latitude in degrees."""
        return self.crs == "lonlat"

    @property
    def has_corners(self) -> bool:
        """Whether each cell has corners of its own, rather than a row's and a column's edges."""
        return self.crs == "curvilinear"

    @cached_property
    def extent(self) -> tuple[float, float, float, float]:
        """Lowest x, lowest y, highest x, highest y."""
        x, y = self.x_edges, self.y_edges
        return float(x.min()), float(y.min()), float(x.max()), float(y.max())

    @property
    def system(self) -> str:
        """The reference system of the coordinates, as pyproj reads it."""
        return "OGC:CRS84" if self.crs in ("lonlat", "curvilinear") else self.crs

    @cached_property
    def x_centres(self) -> np.ndarray:
        """(nx,) middle of each column."""
        return np.asarray((self.x_edges[:-1] + self.x_edges[1:]) / 2)

    @cached_property
    def y_centres(self) -> np.ndarray:
        """(ny,) middle of each row."""
        return np.asarray((self.y_edges[:-1] + self.y_edges[1:]) / 2)

    @cached_property
    def cell_size(self) -> tuple[float, float]:
        """Median width and height of a cell, in the unit of the axes."""
        return (
            np.median(np.abs(np.diff(self.x_edges))),
            np.median(np.abs(np.diff(self.y_edges))),
        )

    def places(self, cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Longitudes and latitudes of the middles of cells, (C,) each, degrees."""
        rows, columns = np.divmod(cells, self.shape[1])
        x, y = self.x_centres[columns], self.y_centres[rows]
        if self.is_lonlat:
            return x, y
        import pyproj

        transformer = pyproj.Transformer.from_crs(self.crs, "OGC:CRS84", always_xy=True)
        lon, lat = transformer.transform(x, y)
        return np.asarray(lon), np.asarray(lat)

    def same_cells(self, other: GridLayout) -> bool:
        """Whether both have the same cells to a thousandth of a cell."""
        if self.shape != other.shape or self.crs != other.crs:
            return False
        return all(
            np.allclose(a, b, rtol=0, atol=1e-3 * size)
            for a, b, size in (
                (self.x_edges, other.x_edges, self.cell_size[0]),
                (self.y_edges, other.y_edges, self.cell_size[1]),
            )
        )

    def sphere_areas(self) -> tuple[np.ndarray, np.ndarray]:
        """Areas on the sphere as an outer product, km²: `rows[:, None] * columns[None, :]`.

        Returns
        -------
        rows : (ny,) float64
            km² of one radian of longitude in each row.
        columns : (nx,) float64
            Width of each column in radians.
        """
        half = np.radians(np.abs(np.diff(self.y_edges))) / 2
        middle = np.radians(self.y_centres)
        rows = AUTHALIC_RADIUS_KM**2 * 2 * np.cos(middle) * np.sin(half)
        return rows, np.radians(np.abs(np.diff(self.x_edges)))

    def ellipsoid_areas(self, cells: np.ndarray) -> np.ndarray:
        """Areas of cells on the WGS 84 ellipsoid.

        Parameters
        ----------
        cells : (C,) int
            Flat cell numbers, row by row in file order.

        Returns
        -------
        areas : (C,) float64
            km².
        """
        rows, columns = np.divmod(cells, self.shape[1])
        if self.is_lonlat:
            zones = np.abs(np.diff(zone_area(self.y_edges)))
            return zones[rows] * np.radians(np.abs(np.diff(self.x_edges)))[columns]
        return self._projected_areas(rows, columns)

    def _projected_areas(self, rows: np.ndarray, columns: np.ndarray) -> np.ndarray:
        """True areas of cells of a projected grid, by their outline taken to the ellipsoid."""
        import pyproj

        transformer = pyproj.Transformer.from_crs(self.crs, "OGC:CRS84", always_xy=True)
        steps = np.arange(POINTS_A_SIDE) / POINTS_A_SIDE
        along_x = np.concatenate([steps, np.ones_like(steps), 1 - steps, np.zeros_like(steps)])
        along_y = np.roll(along_x, POINTS_A_SIDE)
        width, height = np.diff(self.x_edges)[columns], np.diff(self.y_edges)[rows]
        x = self.x_edges[columns][:, None] + width[:, None] * along_x
        y = self.y_edges[rows][:, None] + height[:, None] * along_y
        lon, lat = transformer.transform(x, y)
        return shoelace(*equal_area_plane(lon, lat))

    def lattice_areas(self, rows: np.ndarray, columns: np.ndarray, pieces: int) -> np.ndarray:
        """(C, n, n) true areas of n × n pieces of cells of a projected grid, km².

        Pieces are counted with rising x and y, their sides taken for straight.
        """
        import pyproj

        transformer = pyproj.Transformer.from_crs(self.crs, "OGC:CRS84", always_xy=True)
        share = np.arange(pieces + 1) / pieces
        x_low = np.minimum(self.x_edges[columns], self.x_edges[columns + 1])
        y_low = np.minimum(self.y_edges[rows], self.y_edges[rows + 1])
        width = np.abs(np.diff(self.x_edges))[columns][:, None, None]
        height = np.abs(np.diff(self.y_edges))[rows][:, None, None]
        x, y = np.broadcast_arrays(
            x_low[:, None, None] + width * share, y_low[:, None, None] + height * share[:, None]
        )
        shape = (rows.size, pieces + 1, pieces + 1)
        lon, lat = transformer.transform(x.reshape(rows.size, -1), y.reshape(rows.size, -1))
        px, py = (a.reshape(shape) for a in equal_area_plane(lon, lat))
        corners = [
            np.stack([a[:, :-1, :-1], a[:, :-1, 1:], a[:, 1:, 1:], a[:, 1:, :-1]], axis=-1)
            for a in (px, py)
        ]
        return shoelace(*corners)


@dataclass(frozen=True, eq=False)
class CurvilinearLayout(GridLayout):
    """A grid whose cells have corners of their own, in longitude and latitude.

    Its `x_edges` and `y_edges` only count columns and rows.

    Parameters
    ----------
    lon, lat : (ny, nx, 4) float64
        Corners of each cell in turn, degrees.
    """

    lon: np.ndarray = field(default_factory=lambda: np.zeros((0, 0, 4)))
    lat: np.ndarray = field(default_factory=lambda: np.zeros((0, 0, 4)))

    @classmethod
    def from_centres_or_corners(cls, lon: np.ndarray, lat: np.ndarray) -> CurvilinearLayout:
        """From (ny, nx) centres, whose corners lie halfway between, or (ny, nx, 4) corners."""
        if lon.ndim == 2:
            lon, lat = _corners(lon, lat)
        lon = lon[..., :1] + (lon - lon[..., :1] + 180) % 360 - 180
        ny, nx = lon.shape[:2]
        return cls(np.arange(nx + 1.0), np.arange(ny + 1.0), "curvilinear", lon, lat)

    @cached_property
    def extent(self) -> tuple[float, float, float, float]:
        """Lowest longitude and latitude, highest longitude and latitude."""
        lon, lat = self.lon, self.lat
        return float(lon.min()), float(lat.min()), float(lon.max()), float(lat.max())

    @cached_property
    def cell_size(self) -> tuple[float, float]:
        """Median reach of a cell in longitude and latitude, degrees."""
        return (
            np.median(np.ptp(self.lon, axis=-1)),
            np.median(np.ptp(self.lat, axis=-1)),
        )

    def places(self, cells: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Longitudes and latitudes of the middles of cells, (C,) each, degrees."""
        lon, lat = (a.reshape(-1, 4)[cells].mean(axis=1) for a in (self.lon, self.lat))
        return np.asarray(lon), np.asarray(lat)

    def same_cells(self, other: GridLayout) -> bool:
        """Whether both have the same cells to a thousandth of a cell."""
        if not isinstance(other, CurvilinearLayout) or self.shape != other.shape:
            return False
        return all(
            np.allclose(a, b, rtol=0, atol=1e-3 * size)
            for a, b, size in (
                (self.lon, other.lon, self.cell_size[0]),
                (self.lat, other.lat, self.cell_size[1]),
            )
        )

    def ellipsoid_areas(self, cells: np.ndarray) -> np.ndarray:
        """Areas of cells on the ellipsoid, km²."""
        lon, lat = (a.reshape(-1, 4)[cells] for a in (self.lon, self.lat))
        share = np.arange(POINTS_A_SIDE) / POINTS_A_SIDE

        def outline(corner: np.ndarray) -> np.ndarray:
            follows = np.roll(corner, -1, axis=1)
            sides = corner[..., None] + (follows - corner)[..., None] * share
            return np.asarray(sides.reshape(len(corner), -1))

        return outline_areas(outline(lon), outline(lat))


def _corners(lon: np.ndarray, lat: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(ny, nx, 4) corners halfway between (ny, nx) centres, mirrored outwards at the rim.

    Longitudes are averaged the short way around, and near a pole, where they have no mean, as
    points of the sphere.
    """
    wide_lon, wide_lat = _mirrored(lon, turn=True), np.clip(_mirrored(lat), -90, 90)
    mesh_lon, mesh_lat = (
        np.stack([a[:-1, :-1], a[1:, :-1], a[:-1, 1:], a[1:, 1:]]) for a in (wide_lon, wide_lat)
    )
    apart = (mesh_lon - mesh_lon[:1] + 180) % 360 - 180
    corner_lon, corner_lat = mesh_lon[0] + apart.mean(axis=0), mesh_lat.mean(axis=0)
    polar = np.ptp(apart, axis=0) > AROUND_A_POLE
    if polar.any():
        a, b = np.radians(mesh_lon[:, polar]), np.radians(mesh_lat[:, polar])
        x, y = (np.cos(b) * np.cos(a)).mean(axis=0), (np.cos(b) * np.sin(a)).mean(axis=0)
        corner_lon[polar] = np.degrees(np.arctan2(y, x))
        corner_lat[polar] = np.degrees(np.arctan2(np.sin(b).mean(axis=0), np.hypot(x, y)))
    corners = [
        np.stack([mesh[:-1, :-1], mesh[:-1, 1:], mesh[1:, 1:], mesh[1:, :-1]], axis=-1)
        for mesh in (corner_lon, corner_lat)
    ]
    return corners[0], corners[1]


def _mirrored(centres: np.ndarray, *, turn: bool = False) -> np.ndarray:
    """(ny + 2, nx + 2) centres with a rim beyond them; `turn` takes the short way around."""

    def beyond(rim: np.ndarray, inner: np.ndarray) -> np.ndarray:
        step = rim - inner
        return np.asarray(rim + ((step + 180) % 360 - 180 if turn else step))

    for _ in range(2):  # rows, then columns
        low, high = beyond(centres[0], centres[1]), beyond(centres[-1], centres[-2])
        centres = np.concatenate([low[None], centres, high[None]]).T
    return centres


def outline_areas(lon: np.ndarray, lat: np.ndarray) -> np.ndarray:
    """Areas within closed outlines on the WGS 84 ellipsoid.

    Parameters
    ----------
    lon, lat : (N, K) float64
        Points of each outline in turn, degrees. Between them the edge is straight in the
        equal-area cylindrical projection.

    Returns
    -------
    areas : (N,) float64
        km².
    """
    return shoelace(np.radians((lon - lon[:, :1] + 180) % 360 - 180), zone_area(lat))


def equal_area_plane(lon: np.ndarray, lat: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points of outlines on a plane on which areas are true, whatever pole they lie around.

    Parameters
    ----------
    lon, lat : (N, K) float64
        Degrees. Outlines that reach beyond 45° are taken to the azimuthal equal-area projection of
        their pole, where ρ² = 2 (q(90°) − |q(φ)|) with q as of `zone_area`, others to the
        cylindrical one (Snyder 1987, §24 and §10).

    Returns
    -------
    x, y : (N, K) float64
        Of which products are km².
    """
    along = np.radians((lon - lon[:, :1] + 180) % 360 - 180)
    zone = zone_area(lat)
    pole = float(zone_area(np.array([90.0]))[0])
    radius = np.sqrt(np.maximum(2 * (pole - np.abs(zone)), 0.0))
    polar = np.abs(lat).max(axis=1, keepdims=True) > AROUND_POLES
    x = np.where(polar, radius * np.sin(along), along)
    return x, np.where(polar, radius * np.cos(along), zone)


def shoelace(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """(…,) areas within closed outlines of (…, K) points."""
    x, y = x - x[..., :1], y - y[..., :1]
    cross = x * np.roll(y, -1, axis=-1) - np.roll(x, -1, axis=-1) * y
    return np.asarray(np.abs(cross.sum(axis=-1)) / 2)


def zone_area(latitude: np.ndarray) -> np.ndarray:
    """Area between the equator and a latitude on WGS 84, for one radian of longitude.

    Parameters
    ----------
    latitude : (N,) float64
        Degrees north.

    Returns
    -------
    area : (N,) float64
        km² per radian, negative in the south: `b²/2 · (sin φ/(1 − e² sin² φ) + artanh(e sin φ)/e)`
        (Snyder 1987, USGS Professional Paper 1395, eq. 3-12).

    Examples
    --------
    >>> float(round(4 * np.pi * zone_area(np.array([90.0]))[0] / 1e6, 3))
    510.066
    """
    e2 = FLATTENING * (2 - FLATTENING)
    e = np.sqrt(e2)
    sine = np.sin(np.radians(latitude))
    half_b2 = SEMI_MAJOR_KM**2 * (1 - e2) / 2
    return np.asarray(half_b2 * (sine / (1 - e2 * sine**2) + np.arctanh(e * sine) / e))


def zone_width(latitude: np.ndarray) -> np.ndarray:
    """Change of `zone_area` with latitude, km² per radian of each: b² cos φ / (1 − e² sin² φ)²."""
    e2 = FLATTENING * (2 - FLATTENING)
    sine, cosine = np.sin(np.radians(latitude)), np.cos(np.radians(latitude))
    return np.asarray(SEMI_MAJOR_KM**2 * (1 - e2) * cosine / (1 - e2 * sine**2) ** 2)


def edges_from_centres(centres: np.ndarray, limit: float | None = None) -> np.ndarray:
    """Cell edges halfway between cell centres, the outermost mirrored outwards.

    Parameters
    ----------
    centres : (N,) float64
        Ascending or descending.
    limit
        Edges never go beyond ±limit (90 for latitudes).

    Examples
    --------
    >>> edges_from_centres(np.array([-89.0, -87.0, -85.0]), limit=90)
    array([-90., -88., -86., -84.])
    """
    if centres.size < 2:
        raise ValueError("one cell centre alone does not tell the size of its cell")
    inner = (centres[:-1] + centres[1:]) / 2
    first = centres[0] - (inner[0] - centres[0])
    last = centres[-1] + (centres[-1] - inner[-1])
    edges = np.concatenate([[first], inner, [last]])
    return edges if limit is None else np.clip(edges, -limit, limit)


def median_area(layout: GridLayout) -> float:
    """Of the cells, km²; of many a regular sample."""
    count = layout.shape[0] * layout.shape[1]
    some = np.arange(0, count, max(1, count // 2000))
    return float(np.median(layout.ellipsoid_areas(some)))


def is_all_around(layout: GridLayout) -> bool:
    """Whether the last column of a grid on longitude and latitude adjoins its first."""
    if not layout.is_lonlat or layout.has_corners:
        return False
    return abs(abs(float(layout.x_edges[-1] - layout.x_edges[0])) - 360) < 1e-6


def rolled(layout: GridLayout, first: int) -> GridLayout:
    """A grid all around the globe with the columns from `first` on, then those before it.

    Examples
    --------
    >>> layout = GridLayout(np.array([0.0, 90, 180, 270, 360]), np.array([0.0, 10]))
    >>> rolled(layout, 3).x_edges
    array([-90.,   0.,  90., 180., 270.])
    """
    edges = layout.x_edges
    turn = 360.0 if edges[-1] > edges[0] else -360.0
    edges = np.concatenate([edges[first:], edges[1 : first + 1] + turn])
    if edges.min() >= 180:
        edges = edges - 360
    return GridLayout(edges, layout.y_edges, layout.crs)


def after_widest_gap(wanted: np.ndarray) -> int:
    """The first of the wanted columns (nx,) of a ring, beyond the widest gap between them.

    Examples
    --------
    >>> after_widest_gap(np.array([True, True, False, False, False, True]))
    5
    """
    columns = np.flatnonzero(wanted)
    gaps = np.diff(np.append(columns, columns[0] + wanted.size))
    return int(columns[(int(gaps.argmax()) + 1) % columns.size])
