"""NetCDF files: classic, 64-bit offset, CDF-5 and NetCDF-4."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.errors import InputError
from bavlo.core.layout import GridLayout
from bavlo.core.units import Variable
from bavlo.formats.grids import cf
from bavlo.formats.grids.source import CellSelection, RawTimes, Window

MAGIC = (b"CDF\x01", b"CDF\x02", b"CDF\x05", b"\x89HDF\r\n\x1a\n")
MOST_OPEN = 8
CHUNK_CACHE = 2**20  # for coordinates and small variables
MOST_CHUNK_CACHE = 2**26

_lock = threading.RLock()  # the netCDF4 library never runs in two threads at once
_open: OrderedDict[Path, Any] = OrderedDict()


def recognises(path: Path, head: bytes) -> bool:
    """Whether a file that begins with these bytes is NetCDF."""
    return head.startswith(MAGIC)


@contextmanager
def _dataset(path: Path) -> Iterator[Any]:
    """An open file; the last few stay open, since their steps are read in runs."""
    import netCDF4

    with _lock:
        data = _open.pop(path, None)
        try:
            if data is None:
                # The library's own default is so large that open files add up.
                netCDF4.set_chunk_cache(size=CHUNK_CACHE)
                data = netCDF4.Dataset(path, "r")
                data.set_auto_maskandscale(False)
                data.set_auto_chartostring(False)
            yield data
        except (OSError, RuntimeError, IndexError) as error:
            if data is not None and data.isopen():
                data.close()
            raise cf.not_damaged(path, error) from error
        _open[path] = data
        while len(_open) > MOST_OPEN:
            _open.popitem(last=False)[1].close()


def close_all() -> None:
    """Close the files that are kept open."""
    with _lock:
        while _open:
            _open.popitem()[1].close()


@dataclass(frozen=True, eq=False)
class NetCDFGrid:
    """One variable of one NetCDF file.

    Parameters
    ----------
    order
        For each dimension of the variable: "time", "y", "x", or the index taken of it.
    chunks
        Stored chunk of each dimension, or the whole dimension where it is contiguous.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    packing: cf.Packing
    order: tuple[str | int, ...]
    chunks: tuple[int, ...]
    notes: tuple[str, ...] = ()

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return self.chunks[self.order.index("time")] if "time" in self.order else 1

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data."""
        block = np.empty((last - first, cells.cells.size))
        kept = [name for name in self.order if isinstance(name, str)]
        axes = [kept.index(name) for name in ("time", "y", "x") if name in kept]
        for window in cells.windows:
            part = {"time": slice(first, last), "y": window.rows, "x": window.columns}
            key = tuple(part[n] if isinstance(n, str) else n for n in self.order)
            with _dataset(self.path) as data:
                variable = data[self.variable.name]
                self._keep_chunks(variable, window)
                stored = np.asarray(variable[key])
            flat = stored.transpose(axes).reshape(last - first, -1)
            block[:, window.place] = self.packing.decode(flat[:, window.within])
        return block

    def _keep_chunks(self, variable: Any, window: Window) -> None:
        """Keep the chunks that a run of steps touches, so that the next run finds them inflated."""
        if self.step_chunk == 1:
            return
        rows, columns = window.shape
        size = self.step_chunk * rows * columns * variable.dtype.itemsize
        size = min(max(2 * size, CHUNK_CACHE), MOST_CHUNK_CACHE)
        if variable.get_var_chunk_cache()[0] < size:
            variable.set_var_chunk_cache(size=size)


def variables(path: Path) -> list[Variable]:
    """The gridded variables of a file; those with a time axis where there are any."""
    with _dataset(path) as data:
        found = [(v, "time" in order) for v, order in _gridded(data)]
    timed = any(has_time for _, has_time in found)
    return [_describe(v) for v, has_time in found if has_time == timed]


def open_file(path: Path, variable: str) -> NetCDFGrid:
    """Read the metadata of one variable."""
    with _dataset(path) as data:
        for stored, order in _gridded(data):
            if _name(stored) == variable:
                return _grid(path, data, stored, order)
    raise InputError(path, f"has no gridded variable '{variable}'")


def _walk(group: Any) -> Iterator[Any]:
    yield from group.variables.values()
    for inner in group.groups.values():
        yield from _walk(inner)


def _name(variable: Any) -> str:
    group = variable.group().path.strip("/")
    return f"{group}/{variable.name}" if group else str(variable.name)


def _attributes(variable: Any) -> dict[str, Any]:
    return {name: variable.getncattr(name) for name in variable.ncattrs()}


def _coordinate(variable: Any, dimension: str) -> Any | None:
    """The coordinate variable of a dimension, from the variable's group or those around it."""
    group = variable.group()
    while group is not None:
        found = group.variables.get(dimension)
        if found is not None:
            return found if found.dimensions == (dimension,) else None
        group = group.parent
    return None


def _gridded(data: Any) -> Iterator[tuple[Any, tuple[str, ...]]]:
    """Variables with a row and a column dimension, and the axis of each of their dimensions."""
    for variable in _walk(data):
        if variable.ndim < 2 or getattr(variable.dtype, "kind", "") not in "iuf":
            continue
        order = []
        for dimension in variable.dimensions:
            coordinate = _coordinate(variable, dimension)
            attributes = {} if coordinate is None else _attributes(coordinate)
            axis = cf.axis_of(dimension, attributes) if coordinate is not None else ""
            order.append({"lat": "y", "lon": "x"}.get(axis, axis))
        if order.count("y") == 1 and order.count("x") == 1 and order.count("time") <= 1:
            yield variable, tuple(order)


def _describe(variable: Any) -> Variable:
    attributes = _attributes(variable)

    def text(name: str) -> str:
        return str(attributes.get(name, "")).strip()

    return Variable(
        _name(variable),
        text("units"),
        text("standard_name"),
        text("long_name"),
        text("cell_methods"),
    )


def _grid(path: Path, data: Any, variable: Any, axes: tuple[str, ...]) -> NetCDFGrid:
    import netCDF4

    order: list[str | int] = []
    edges: dict[str, np.ndarray] = {}
    times = None
    for dimension, axis in zip(variable.dimensions, axes, strict=True):
        size = len(variable.get_dims()[variable.dimensions.index(dimension)])
        if axis in ("x", "y"):
            edges[axis] = _edges(path, variable, dimension)
            order.append(axis)
        elif axis == "time":
            times = _times(path, variable, dimension)
            order.append(axis)
        elif size == 1:
            order.append(0)
        else:
            raise InputError(
                path,
                f"variable {variable.name} has a further dimension {dimension} of {size} values",
                "write the wanted one to a file of its own",
            )
    attributes = _attributes(variable)
    default_fill: Any = None
    if variable.dtype.itemsize > 1:
        default_fill = netCDF4.default_fillvals.get(variable.dtype.str[1:])
    chunking = variable.chunking()
    chunks = variable.shape if chunking in (None, "contiguous") else chunking
    if chunking in (None, "contiguous"):
        chunks = tuple(1 if a == "time" else n for a, n in zip(axes, chunks, strict=True))
    return NetCDFGrid(
        path,
        _describe(variable),
        GridLayout(edges["x"], edges["y"], _crs(path, variable, axes)),
        times,
        cf.packing(attributes, variable.dtype, default_fill),
        tuple(order),
        tuple(int(n) for n in chunks),
    )


def _edges(path: Path, variable: Any, dimension: str) -> np.ndarray:
    coordinate = _coordinate(variable, dimension)
    assert coordinate is not None
    attributes = _attributes(coordinate)
    axis = cf.axis_of(dimension, attributes)
    centres = cf.plain_numbers(np.asarray(coordinate[:]))
    bounds = None
    named = coordinate.group().variables.get(str(attributes.get("bounds", "")))
    if named is not None and named.shape == (centres.size, 2):
        bounds = cf.plain_numbers(np.asarray(named[:]).ravel()).reshape(-1, 2)
    return cf.cell_edges(centres, bounds, axis, path)


def _times(path: Path, variable: Any, dimension: str) -> RawTimes:
    coordinate = _coordinate(variable, dimension)
    assert coordinate is not None
    attributes = _attributes(coordinate)
    unit = str(attributes.get("units", ""))
    calendar = str(attributes.get("calendar", "standard")).lower()
    calendar = "standard" if calendar in ("gregorian", "none", "") else calendar
    if " since " not in unit:
        raise InputError(
            path,
            f"the time coordinate {dimension} has no unit such as 'days since 1991-01-01'",
            "add it to the file",
        )
    stamps = cf.decode_times(np.asarray(coordinate[:]), unit, calendar, path)
    bounds = None
    named = coordinate.group().variables.get(str(attributes.get("bounds", "")))
    if named is not None and named.shape == (stamps.size, 2):
        bounds = cf.decode_times(np.asarray(named[:]), unit, calendar, path)
    return RawTimes(stamps, bounds, calendar)


def _crs(path: Path, variable: Any, axes: tuple[str, ...]) -> str:
    """Longitude and latitude, or the reference system that the grid mapping names."""
    x = _coordinate(variable, variable.dimensions[axes.index("x")])
    if x is not None and cf.axis_of(x.name, _attributes(x)) == "lon":
        return "lonlat"
    mapping = str(_attributes(variable).get("grid_mapping", "")).split(":")[0].strip()
    group = variable.group()
    while group is not None and mapping not in group.variables:
        group = group.parent
    if not mapping or group is None:
        raise InputError(
            path,
            f"variable {variable.name} is not on longitude and latitude and has no grid mapping",
            "add a grid mapping with its reference system to the file",
        )
    import pyproj

    try:
        return str(pyproj.CRS.from_cf(_attributes(group.variables[mapping])).to_wkt())
    except (pyproj.exceptions.CRSError, KeyError) as error:
        raise InputError(path, f"the grid mapping {mapping} cannot be read: {error}") from error
