"""Grids into files that any map program opens: CF NetCDF, and cloud-optimised GeoTIFF."""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import DAY, iso_days
from bavlo.core.time.periods import STATIC_LABEL
from bavlo.errors import RequestError
from bavlo.files import refused_writing
from bavlo.grids.formats.netcdf import LOCK

NETCDF, TIFF = (".nc",), (".tif", ".tiff")
ENDINGS = (*NETCDF, *TIFF)
STANDARD_ERROR = 2
BLOCK = 256  # pixels of a tile
CHUNK = 512  # rows and columns of a chunk
CLASS_FILL = -(2**31)  # where there is no class
NO_COLOUR = "#000000"  # of codes that a table of colours leaves open
BYTE_FILL = 255  # the same where codes fit in a byte


@dataclass(frozen=True)
class OutputVariable:
    """A variable of a grid that is to be written, in CF terms.

    Parameters
    ----------
    difference
        A difference of temperatures (CF-1.11 `units_metadata`).
    flags, colours
        Names and colours of class codes, where the values are such.
    is_class
        Whether they are.
    ancillary
        Name of the variable that tells more of this one, where there is any.
    """

    name: str
    long_name: str
    unit: str
    cell_methods: str
    difference: bool = False
    flags: tuple[tuple[int, str], ...] = ()
    colours: tuple[tuple[int, str], ...] = ()
    is_class: bool = False
    ancillary: str = ""


@dataclass(frozen=True, eq=False)
class GridOutput:
    """Everything of a grid that is to be written but its values.

    Parameters
    ----------
    variables
        On the same cells and periods.
    layout
        The cells.
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
    rows_at_once
        Rows that are written together, which a chunk of the file should not exceed.
    """

    variables: tuple[OutputVariable, ...]
    layout: GridLayout
    labels: tuple[str, ...]
    start: np.ndarray
    end: np.ndarray
    calendar: str
    climatology: bool
    attributes: Mapping[str, str]
    rows_at_once: int

    @property
    def is_static(self) -> bool:
        """Whether it has no time."""
        return self.labels == (STATIC_LABEL,)


class GridWriter:
    """Takes the values of one period after the other, some rows of it at a time."""

    def put(self, variable: int, period: int, values: np.ndarray, rows: slice) -> None:
        """Write some rows of a variable and period, NaN where there is no data."""
        raise NotImplementedError


@contextlib.contextmanager
def grid_writer(path: Path, kind: str, output: GridOutput) -> Iterator[GridWriter]:
    """A file that is being written; whole once the context ends.

    Parameters
    ----------
    kind
        The ending that says what is written.
    """
    if output.layout.has_corners:
        raise RequestError(
            "out",
            "grids with two-dimensional coordinates are not written",
            "bring it onto plain rows and columns with ‹onto›",
        )
    open_writer = _netcdf if kind in NETCDF else _tiff
    with open_writer(path, output) as writer:
        yield writer


class _NetCDF(GridWriter):
    def __init__(self, variables: Sequence[Any], fill: float) -> None:
        self.variables, self.fill = variables, fill

    def put(self, variable: int, period: int, values: np.ndarray, rows: slice) -> None:
        target = self.variables[variable]
        with LOCK:
            key = (period, rows) if target.ndim == 3 else rows
            target[key] = stored(values, target.dtype, self.fill)


def stored(values: np.ndarray, dtype: np.dtype, fill: float) -> np.ndarray:
    """Values as they are stored: whole numbers with a fill value, or floats with NaN."""
    if np.dtype(dtype).kind == "f":
        return np.asarray(values.astype(dtype))
    return np.asarray(np.where(np.isnan(values), fill, values).astype(dtype))


@contextlib.contextmanager
def _netcdf(path: Path, output: GridOutput) -> Iterator[GridWriter]:
    import netCDF4

    with LOCK:
        data = netCDF4.Dataset(path, "w")
    try:
        with LOCK:
            variables = _prepared(data, output)
        yield _NetCDF(variables, CLASS_FILL)
    finally:
        with LOCK:
            data.close()


def _prepared(data: Any, output: GridOutput) -> list[Any]:
    """The variables to be filled, with coordinates and attributes around them."""
    data.Conventions = "CF-1.11"
    for name, text in output.attributes.items():
        data.setncattr(name, text)
    data.createDimension("bounds", 2)
    if not output.is_static:
        _time(data, output)
    names, mapping = _axes(data, output.layout)
    ny, nx = output.layout.shape
    times, steps = (("time",), (1,)) if not output.is_static else ((), ())
    variables = []
    for one in output.variables:
        variable = data.createVariable(
            one.name,
            "i4" if one.is_class else "f4",
            (*times, *names),
            zlib=True,
            shuffle=True,
            complevel=4,
            fill_value=np.int32(CLASS_FILL) if one.is_class else np.float32(np.nan),
            chunksizes=(*steps, min(ny, CHUNK, output.rows_at_once), min(nx, CHUNK)),
        )
        variable.long_name = one.long_name
        if one.is_class:
            variable.setncatts(_flag_attributes(one.flags))
        else:
            variable.units = one.unit or "1"
        if one.cell_methods:
            variable.cell_methods = one.cell_methods
        if one.difference:
            variable.units_metadata = "temperature: difference"
        if one.ancillary:
            variable.ancillary_variables = one.ancillary
        if mapping:
            variable.grid_mapping = mapping
        variables.append(variable)
    return variables


def _flag_attributes(flags: tuple[tuple[int, str], ...]) -> dict[str, Any]:
    """Names of class codes as CF has them (section 3.5), blanks as underscores."""
    if not flags:
        return {}
    return {
        "flag_values": np.array([code for code, _ in flags], np.int32),
        "flag_meanings": " ".join(name.replace(" ", "_") for _, name in flags),
    }


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


def _band_type(output: OutputVariable) -> tuple[str, float, str]:
    """Type of the bands, what stands for no data, and how overviews are made."""
    if not output.is_class:
        return "float32", np.nan, "average"
    codes = [code for code, _ in output.flags]
    codes = codes or [code for code, colour in output.colours if colour != NO_COLOUR]
    if codes and min(codes) >= 0 and max(codes) < BYTE_FILL:
        return "uint8", BYTE_FILL, "mode"
    return "int32", CLASS_FILL, "mode"


def _name_classes(data: Any, output: OutputVariable, dtype: str) -> None:
    """Names and colours of class codes, where there are any."""
    if output.flags:
        tags = _flag_attributes(output.flags)
        data.update_tags(
            flag_values=" ".join(map(str, tags["flag_values"].tolist())),
            flag_meanings=tags["flag_meanings"],
        )
    if output.colours and dtype == "uint8":
        rgb = {
            code: tuple(int(text[n : n + 2], 16) for n in (1, 3, 5))
            for code, text in output.colours
            if code < BYTE_FILL
        }
        data.write_colormap(1, rgb)


_standard_error = threading.RLock()


@contextlib.contextmanager
def _without_chatter() -> Iterator[None]:
    """Without the lines that the TIFF library prints by itself where it cannot write.

    It knows no other way to silence them; the error itself is raised all the same.
    """
    with _standard_error:
        try:
            kept = os.dup(STANDARD_ERROR)
        except OSError:  # closed, so nothing shows
            yield
            return
        nowhere = os.open(os.devnull, os.O_WRONLY)
        try:
            os.dup2(nowhere, STANDARD_ERROR)
            yield
        finally:
            os.dup2(kept, STANDARD_ERROR)
            os.close(kept)
            os.close(nowhere)


class _Tiff(GridWriter):
    def __init__(self, data: Any, turn: tuple[slice, slice], periods: int) -> None:
        self.data, self.turn, self.periods = data, turn, periods

    def put(self, variable: int, period: int, values: np.ndarray, rows: slice) -> None:
        from rasterio.windows import Window

        dtype, fill = np.dtype(self.data.dtypes[0]), self.data.nodata
        band = period + 1 + self.periods * variable
        first = rows.start if self.turn[0].step == 1 else self.data.height - rows.stop
        window = Window(0, first, self.data.width, rows.stop - rows.start)
        with _without_chatter():
            self.data.write(stored(values[self.turn], dtype, fill), band, window=window)


def _describe_bands(data: Any, output: GridOutput) -> None:
    """Periods, dates and units of bands; further variables' bands begin with their names."""
    first, *further = output.variables
    if output.climatology:
        data.update_tags(climatology="yes")
    if output.calendar != "standard":
        data.update_tags(calendar=output.calendar)
    tags = {"units": first.unit, "long_name": first.long_name}
    tags |= {"cell_methods": first.cell_methods} if first.cell_methods else {}
    tags |= {"units_metadata": "temperature: difference"} if first.difference else {}
    days = zip(
        iso_days(output.start, output.calendar),
        iso_days(output.end - 1, output.calendar),
        strict=True,
    )
    for n, (label, (begin, end)) in enumerate(zip(output.labels, days, strict=True), 1):
        data.set_band_description(n, label)
        data.update_tags(n, **tags, **({} if output.is_static else {"start": begin, "end": end}))
    for n, one in enumerate(further, 1):
        for band, label in enumerate(output.labels, n * len(output.labels) + 1):
            data.set_band_description(band, f"{one.name} {label}")
            data.update_tags(band, long_name=one.long_name, units=one.unit)
    data.units = [one.unit for one in output.variables for _ in output.labels]


def _check_even(layout: GridLayout) -> None:
    """Refuse rows or columns of several sizes, which a GeoTIFF cannot have."""
    for name, edges in (("columns", layout.x_edges), ("rows", layout.y_edges)):
        steps = np.diff(edges)
        if np.ptp(steps) > 1e-4 * abs(steps[0]):
            raise RequestError(
                "out", f"GeoTIFF needs evenly spaced {name}, which this grid has not", "use .nc"
            )


@contextlib.contextmanager
def _tiff(path: Path, output: GridOutput) -> Iterator[GridWriter]:
    """Written band by band, then copied so that readers over the network fetch only parts."""
    import rasterio
    import rasterio.errors
    import rasterio.shutil

    first, *further = output.variables
    if further and not first.ancillary:
        raise RequestError("out", "a GeoTIFF holds one grid", "use .nc for several")
    _check_even(output.layout)
    x, y = output.layout.x_edges, output.layout.y_edges
    north_up = slice(None, None, -1 if y[0] < y[-1] else 1)
    eastward = slice(None, None, -1 if x[0] > x[-1] else 1)
    ny, nx = output.layout.shape
    draft = path.with_name(path.name + ".bands.tif")
    dtype, fill, overviews = _band_type(first)
    size: dict[str, Any] = {"tiled": True, "blockxsize": BLOCK, "blockysize": BLOCK}
    try:
        data = rasterio.open(
            draft,
            "w",
            driver="GTiff",
            width=nx,
            height=ny,
            count=len(output.labels) * len(output.variables),
            dtype=dtype,
            nodata=fill,
            crs="OGC:CRS84" if output.layout.is_lonlat else output.layout.crs,
            transform=rasterio.transform.from_origin(
                float(x.min()), float(y.max()), float(np.ptp(x)) / nx, float(np.ptp(y)) / ny
            ),
            compress="deflate",
            predictor=2 if first.is_class else 3,
            interleave="band",
            bigtiff="if_safer",
            **(size if min(ny, nx) >= BLOCK else {}),
        )
        try:
            data.update_tags(**output.attributes, variable=first.name, units=first.unit)
            _describe_bands(data, output)
            _name_classes(data, first, dtype)
            yield _Tiff(data, (north_up, eastward), len(output.labels))
        finally:
            with _without_chatter():
                data.close()
        with _without_chatter():
            rasterio.shutil.copy(
                draft,
                path,
                driver="COG",
                compress="deflate",
                predictor="yes",
                blocksize=BLOCK,
                overview_resampling=overviews,
            )
    except rasterio.errors.RasterioError as error:
        refused = refused_writing(draft if draft.exists() else path)
        raise refused or error from error
    finally:
        draft.unlink(missing_ok=True)
