"""Grids into files that any map program opens: CF NetCDF, and cloud-optimised GeoTIFF."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.time.axis import DAY, iso_days
from bavlo.core.time.periods import STATIC_LABEL
from bavlo.errors import RequestError
from bavlo.grids.netcdf import LOCK

NETCDF, TIFF = (".nc",), (".tif", ".tiff")
ENDINGS = (*NETCDF, *TIFF)
BLOCK = 256  # pixels of a tile


@dataclass(frozen=True, eq=False)
class GridOutput:
    """A grid that is to be written.

    Parameters
    ----------
    name, long_name, unit, cell_methods
        Of the variable, in CF terms.
    layout
        Its cells.
    labels
        One for each period.
    start, end : (P,) int64
        Bounds of the periods, microseconds since the calendar's 1970, the end excluded.
    calendar
        CF calendar.
    climatology
        The periods are those of many years: bounds run from the first to the last of them.
    attributes
        Further ones of the file.
    difference
        A difference of temperatures (CF-1.11 `units_metadata`).
    """

    name: str
    long_name: str
    unit: str
    cell_methods: str
    layout: GridLayout
    labels: tuple[str, ...]
    start: np.ndarray
    end: np.ndarray
    calendar: str
    climatology: bool
    attributes: Mapping[str, str]
    difference: bool = False

    @property
    def is_static(self) -> bool:
        """Whether it has no time."""
        return self.labels == (STATIC_LABEL,)


class GridWriter:
    """Takes the values of one period after the other, (ny, nx) each."""

    def put(self, period: int, values: np.ndarray) -> None:
        """Write the values of a period, NaN where there is no data."""
        raise NotImplementedError


@contextlib.contextmanager
def grid_writer(path: Path, kind: str, output: GridOutput) -> Iterator[GridWriter]:
    """A file that is being written; whole once the context ends.

    Parameters
    ----------
    kind
        The ending that says what is written.
    """
    if isinstance(output.layout, CurvilinearLayout):
        raise RequestError(
            "out",
            "grids with two-dimensional coordinates are not written",
            "bring it onto plain rows and columns with ‹onto›",
        )
    open_writer = _netcdf if kind in NETCDF else _tiff
    with open_writer(path, output) as writer:
        yield writer


class _NetCDF(GridWriter):
    def __init__(self, variable: Any) -> None:
        self.variable = variable

    def put(self, period: int, values: np.ndarray) -> None:
        with LOCK:
            key = period if self.variable.ndim == 3 else slice(None)
            self.variable[key] = values.astype(np.float32)


@contextlib.contextmanager
def _netcdf(path: Path, output: GridOutput) -> Iterator[GridWriter]:
    import netCDF4

    with LOCK:
        data = netCDF4.Dataset(path, "w")
    try:
        with LOCK:
            variable = _prepared(data, output)
        yield _NetCDF(variable)
    finally:
        with LOCK:
            data.close()


def _prepared(data: Any, output: GridOutput) -> Any:
    """The variable to be filled, with coordinates and attributes around it."""
    data.Conventions = "CF-1.11"
    for name, text in output.attributes.items():
        data.setncattr(name, text)
    data.createDimension("bounds", 2)
    if not output.is_static:
        _time(data, output)
    names, mapping = _axes(data, output.layout)
    ny, nx = output.layout.shape
    times, steps = (("time",), (1,)) if not output.is_static else ((), ())
    variable = data.createVariable(
        output.name,
        "f4",
        (*times, *names),
        zlib=True,
        shuffle=True,
        complevel=4,
        fill_value=np.float32(np.nan),
        chunksizes=(*steps, min(ny, 512), min(nx, 512)),
    )
    variable.long_name = output.long_name
    variable.units = output.unit or "1"
    if output.cell_methods:
        variable.cell_methods = output.cell_methods
    if output.difference:
        variable.units_metadata = "temperature: difference"
    if mapping:
        variable.grid_mapping = mapping
    return variable


def _time(data: Any, output: GridOutput) -> None:
    data.createDimension("time", len(output.labels))
    named = "climatology_bounds" if output.climatology else "time_bounds"
    time = data.createVariable("time", "f8", ("time",))
    time.units, time.calendar = "days since 1970-01-01", output.calendar
    time.standard_name, time.axis = "time", "T"
    time.setncattr("climatology" if output.climatology else "bounds", named)
    bounds = np.stack([output.start, output.end], axis=1) / DAY
    # Of normals: the day on which the first of their periods begins (CF-1.11, section 7.4).
    time[:] = bounds[:, 0] if output.climatology else bounds.mean(axis=1)
    data.createVariable(named, "f8", ("time", "bounds"))[:] = bounds
    label = data.createVariable("period", str, ("time",))
    label.long_name = "name of the period"
    for n, text in enumerate(output.labels):
        label[n] = text


def _axes(data: Any, layout: GridLayout) -> tuple[tuple[str, str], str]:
    """Coordinates of rows and columns, and the grid mapping where there is one."""
    mapping = ""
    if layout.is_lonlat:
        axes = (
            ("lat", layout.y_edges, "latitude", "degrees_north", "Y"),
            ("lon", layout.x_edges, "longitude", "degrees_east", "X"),
        )
    else:
        import pyproj

        crs = pyproj.CRS.from_wkt(layout.crs)
        kind, unit = "projection", "m"
        attributes = crs.to_cf()
        if "rotated" in str(attributes.get("grid_mapping_name", "")):
            kind, unit = "grid", "degrees"
        axes = (
            ("y", layout.y_edges, f"{kind}_y_coordinate", unit, "Y"),
            ("x", layout.x_edges, f"{kind}_x_coordinate", unit, "X"),
        )
        if kind == "grid":
            axes = (
                ("rlat", layout.y_edges, "grid_latitude", unit, "Y"),
                ("rlon", layout.x_edges, "grid_longitude", unit, "X"),
            )
        mapping = "crs"
        data.createVariable(mapping, "i4").setncatts(attributes)
    for name, edges, standard, unit, axis in axes:
        data.createDimension(name, edges.size - 1)
        coordinate = data.createVariable(name, "f8", (name,))
        coordinate.standard_name, coordinate.units, coordinate.axis = standard, unit, axis
        coordinate.bounds = f"{name}_bounds"
        coordinate[:] = (edges[:-1] + edges[1:]) / 2
        pairs = np.stack([edges[:-1], edges[1:]], axis=1)
        data.createVariable(f"{name}_bounds", "f8", (name, "bounds"))[:] = pairs
    return (axes[0][0], axes[1][0]), mapping


class _Tiff(GridWriter):
    def __init__(self, data: Any, turn: tuple[slice, slice]) -> None:
        self.data, self.turn = data, turn

    def put(self, period: int, values: np.ndarray) -> None:
        self.data.write(values[self.turn].astype(np.float32), period + 1)


@contextlib.contextmanager
def _tiff(path: Path, output: GridOutput) -> Iterator[GridWriter]:
    """Written band by band, then copied so that readers over the network fetch only parts."""
    import rasterio
    import rasterio.shutil

    x, y = output.layout.x_edges, output.layout.y_edges
    for name, edges in (("columns", x), ("rows", y)):
        steps = np.diff(edges)
        if np.ptp(steps) > 1e-4 * abs(steps[0]):
            raise RequestError(
                "out", f"GeoTIFF needs evenly spaced {name}, which this grid has not", "use .nc"
            )
    north_up = slice(None, None, -1 if y[0] < y[-1] else 1)
    eastward = slice(None, None, -1 if x[0] > x[-1] else 1)
    ny, nx = output.layout.shape
    west, north = float(x.min()), float(y.max())
    transform = rasterio.transform.from_origin(
        west, north, float(np.ptp(x)) / nx, float(np.ptp(y)) / ny
    )
    draft = path.with_name(path.name + ".bands.tif")
    size: dict[str, Any] = {"tiled": True, "blockxsize": BLOCK, "blockysize": BLOCK}
    try:
        with rasterio.open(
            draft,
            "w",
            driver="GTiff",
            width=nx,
            height=ny,
            count=len(output.labels),
            dtype="float32",
            nodata=np.nan,
            crs="OGC:CRS84" if output.layout.is_lonlat else output.layout.crs,
            transform=transform,
            compress="deflate",
            predictor=3,
            interleave="band",
            bigtiff="if_safer",
            **(size if min(ny, nx) >= BLOCK else {}),
        ) as data:
            data.update_tags(**output.attributes, variable=output.name, units=output.unit)
            if output.climatology:
                data.update_tags(climatology="yes")
            if output.calendar != "standard":
                data.update_tags(calendar=output.calendar)
            tags = {"units": output.unit, "long_name": output.long_name}
            tags |= {"cell_methods": output.cell_methods} if output.cell_methods else {}
            tags |= {"units_metadata": "temperature: difference"} if output.difference else {}
            days = zip(
                iso_days(output.start, output.calendar),
                iso_days(output.end - 1, output.calendar),
                strict=True,
            )
            for n, (label, (first, last)) in enumerate(zip(output.labels, days, strict=True)):
                data.set_band_description(n + 1, label)
                dates = {} if output.is_static else {"start": first, "end": last}
                data.update_tags(n + 1, **tags, **dates)
            data.units = [output.unit] * len(output.labels)
            yield _Tiff(data, (north_up, eastward))
        rasterio.shutil.copy(
            draft, path, driver="COG", compress="deflate", predictor="yes", blocksize=BLOCK
        )
    finally:
        draft.unlink(missing_ok=True)
