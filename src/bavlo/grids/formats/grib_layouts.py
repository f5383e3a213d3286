"""The cells of a GRIB message, and the order in which its values fill them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout, GridLayout, edges_from_centres
from bavlo.errors import InputError

PROJECTED = ("lambert", "polar_stereographic", "mercator", "lambert_azimuthal_equal_area", "albers")
CLOSE = 0.02  # of a cell: how far a point may lie from where the library has it


@dataclass(frozen=True)
class ValueOrder:
    """How the values of a message fill its rows and columns.

    Parameters
    ----------
    shape
        Rows and columns.
    by_columns
        Values run along columns rather than rows.
    alternate
        Every other run goes backwards.
    """

    shape: tuple[int, int]
    by_columns: bool = False
    alternate: bool = False

    def placed(self, values: np.ndarray) -> np.ndarray:
        """(ny, nx) values of a message (N,)."""
        rows, columns = self.shape
        if values.size != rows * columns:
            raise ValueError(f"{values.size} values for {rows} rows of {columns} columns")
        runs = values.reshape((columns, rows) if self.by_columns else (rows, columns))
        if self.alternate:
            runs = runs.copy()
            runs[1::2] = runs[1::2, ::-1]
        return np.asarray(runs.T if self.by_columns else runs)


def cells_of(path: Path, codes: Any, handle: Any) -> tuple[GridLayout, ValueOrder]:
    """The layout of a message, and the order of its values.

    Raises
    ------
    InputError
        Where its grid is of a sort that has no cells, or is not understood.
    """
    kind = str(codes.codes_get(handle, "gridType"))
    if kind in ("reduced_gg", "reduced_ll"):
        return _reduced(codes, handle)
    try:
        columns, rows = (int(codes.codes_get(handle, key)) for key in ("Ni", "Nj"))
    except codes.CodesInternalError:
        raise InputError(
            path,
            f"has fields on a grid of the sort {kind}, which has no rows and columns",
            "bring it onto longitudes and latitudes first",
        ) from None
    order = ValueOrder(
        (rows, columns),
        bool(codes.codes_get(handle, "jPointsAreConsecutive")),
        bool(_optional(codes, handle, "alternativeRowScanning", 0)),
    )
    if kind in ("regular_ll", "regular_gg"):
        layout = _lonlat(codes, handle, kind, order)
    elif kind == "rotated_ll":
        layout = _rotated(codes, handle, order)
    elif kind in PROJECTED:
        layout = _projected(path, codes, handle, order)
    else:
        lon, lat = _points(codes, handle, order)
        return CurvilinearLayout.from_centres_or_corners(lon, lat), order
    # With other orders the library lists the points of a projection in one of its own.
    canonical = codes.codes_get(handle, "jScansPositively") and not (
        codes.codes_get(handle, "iScansNegatively") or order.by_columns
    )
    if kind == "rotated_ll" or (kind in PROJECTED and canonical):
        _check_corners(path, codes, handle, layout, order)
    return layout, order


def _optional(codes: Any, handle: Any, key: str, otherwise: Any) -> Any:
    try:
        return codes.codes_get(handle, key)
    except codes.CodesInternalError:
        return otherwise


def _points(codes: Any, handle: Any, order: ValueOrder) -> tuple[np.ndarray, np.ndarray]:
    """(ny, nx) longitudes and latitudes of all points, as the library has them."""
    lon, lat = (codes.codes_get_array(handle, key) for key in ("longitudes", "latitudes"))
    return order.placed(lon), order.placed(lat)


def _axis_ends(codes: Any, handle: Any) -> tuple[float, float, float, float]:
    """Longitudes and latitudes of the first and the last point, degrees."""
    keys = ("longitudeOfFirst", "longitudeOfLast", "latitudeOfFirst", "latitudeOfLast")
    west, east, first, last = (
        float(codes.codes_get(handle, f"{key}GridPointInDegrees")) for key in keys
    )
    return west, east, first, last


def _longitudes(codes: Any, handle: Any, columns: int) -> np.ndarray:
    """(nx,) longitudes in the order of columns; exactly even where they go round the globe."""
    west, east, _, _ = _axis_ends(codes, handle)
    backwards = bool(codes.codes_get(handle, "iScansNegatively"))
    if backwards:
        west, east = -west, -east
    if east <= west and columns > 1:
        east += 360
    step = (east - west) / max(columns - 1, 1)
    if columns > 1 and abs(step * columns - 360) < 0.01 * step:
        step = 360 / columns
    found = west + step * np.arange(columns)
    return np.round(-found if backwards else found, 9)


def _lonlat(codes: Any, handle: Any, kind: str, order: ValueOrder) -> GridLayout:
    rows, columns = order.shape
    lon = _longitudes(codes, handle, columns)
    _, _, first, last = _axis_ends(codes, handle)
    if kind == "regular_gg":
        number = int(codes.codes_get(handle, "N"))
        lat = gaussian_latitudes(number)
        if first < last:
            lat = lat[::-1]
        start = int(np.argmin(np.abs(lat - first)))
        edges = gaussian_edges(number)
        edges = (edges[::-1] if first < last else edges)[start : start + rows + 1]
        return GridLayout(edges_from_centres(lon), edges, "lonlat")
    lat = np.round(np.linspace(first, last, rows), 9)
    return GridLayout(edges_from_centres(lon), edges_from_centres(lat, 90.0), "lonlat")


def gaussian_latitudes(number: int) -> np.ndarray:
    """(2N,) latitudes of a Gaussian grid, from the north: the zeros of the Legendre polynomial."""
    return np.asarray(np.degrees(np.arcsin(np.polynomial.legendre.leggauss(2 * number)[0]))[::-1])


def gaussian_edges(number: int) -> np.ndarray:
    """(2N + 1,) edges between Gaussian latitudes, the outermost at the poles."""
    lat = gaussian_latitudes(number)
    return np.concatenate([[90.0], (lat[1:] + lat[:-1]) / 2, [-90.0]])


def _reduced(codes: Any, handle: Any) -> tuple[GridLayout, ValueOrder]:
    """Rows of different numbers of cells: each cell has corners of its own."""
    counts = np.asarray(codes.codes_get_array(handle, "pl"), np.int64)
    kind = str(codes.codes_get(handle, "gridType"))
    west, _, first, last = _axis_ends(codes, handle)
    if kind == "reduced_gg":
        number = int(codes.codes_get(handle, "N"))
        lat = gaussian_latitudes(number)
        start = int(np.argmin(np.abs(lat - first)))
        edges = gaussian_edges(number)[start : start + counts.size + 1]
    else:
        edges = edges_from_centres(np.linspace(first, last, counts.size), 90.0)
    row = np.repeat(np.arange(counts.size), counts)
    column = np.arange(row.size) - np.repeat(np.cumsum(counts) - counts, counts)
    width = 360.0 / counts[row]
    left = west + (column - 0.5) * width
    top, bottom = edges[row], edges[row + 1]
    lon = np.stack([left, left + width, left + width, left], axis=-1)
    lat4 = np.stack([bottom, bottom, top, top], axis=-1)
    layout = CurvilinearLayout.from_centres_or_corners(lon[None], lat4[None])
    return layout, ValueOrder((1, row.size))


def _rotated(codes: Any, handle: Any, order: ValueOrder) -> GridLayout:
    import pyproj

    south = float(codes.codes_get(handle, "latitudeOfSouthernPoleInDegrees"))
    meridian = float(codes.codes_get(handle, "longitudeOfSouthernPoleInDegrees"))
    system = pyproj.CRS.from_cf(
        {
            "grid_mapping_name": "rotated_latitude_longitude",
            "grid_north_pole_latitude": -south,
            "grid_north_pole_longitude": (meridian + 360) % 360 - 180,
            "north_pole_grid_longitude": -float(
                _optional(codes, handle, "angleOfRotationInDegrees", 0.0)
            ),
        }
    )
    lon = _longitudes(codes, handle, order.shape[1])
    lon = lon - 360 * np.rint(lon[0] / 360)
    _, _, first, last = _axis_ends(codes, handle)
    lat = np.round(np.linspace(first, last, order.shape[0]), 9)
    edges = edges_from_centres(lon), edges_from_centres(lat, 90.0)
    return GridLayout(*edges, system.to_wkt())


def _projected(path: Path, codes: Any, handle: Any, order: ValueOrder) -> GridLayout:
    import pyproj

    text = _optional(codes, handle, "projString", "")
    if not text:
        raise InputError(path, "has a projection that ecCodes does not tell", "warp it first")
    system = pyproj.CRS.from_user_input(text)
    transformer = pyproj.Transformer.from_crs("OGC:CRS84", system, always_xy=True)
    lon, lat = (
        float(codes.codes_get(handle, f"{axis}OfFirstGridPointInDegrees"))
        for axis in ("longitude", "latitude")
    )
    x0, y0 = transformer.transform(lon, lat)
    steps = []
    for key, other in (("DxInMetres", "DiInMetres"), ("DyInMetres", "DjInMetres")):
        size = _optional(codes, handle, key, None) or _optional(codes, handle, other, 0)
        if not size:
            raise InputError(path, "states no size of its cells", "fetch it again")
        steps.append(float(size))
    dx = -steps[0] if codes.codes_get(handle, "iScansNegatively") else steps[0]
    dy = steps[1] if codes.codes_get(handle, "jScansPositively") else -steps[1]
    rows, columns = order.shape
    return GridLayout(
        x0 + dx * (np.arange(columns + 1) - 0.5),
        y0 + dy * (np.arange(rows + 1) - 0.5),
        system.to_wkt(),
    )


def _check_corners(
    path: Path, codes: Any, handle: Any, layout: GridLayout, order: ValueOrder
) -> None:
    """The corners must lie where the library has them, else the grid was not understood."""
    import pyproj

    lon, lat = _points(codes, handle, order)
    transformer = pyproj.Transformer.from_crs("OGC:CRS84", layout.crs, always_xy=True)
    width, height = layout.cell_size
    for row, column in ((0, 0), (0, -1), (-1, 0), (-1, -1)):
        x, y = transformer.transform(lon[row, column], lat[row, column])
        away_x = abs(x - layout.x_centres[column])
        if layout.cell_size[0] < 180 and away_x > 180 and "metre" not in layout.crs.lower():
            away_x = abs(away_x - 360)
        if away_x > CLOSE * width or abs(y - layout.y_centres[row]) > CLOSE * height:
            raise InputError(
                path,
                "has a grid whose corners lie elsewhere than its projection tells",
                "bring it onto longitudes and latitudes first",
            )
