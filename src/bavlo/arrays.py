"""Grids in memory: Bavlo's own arrays with coordinates, and labelled arrays of other libraries."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import InputError

IN_MEMORY = "in memory"
TIMES = ("time", "t", "date")
ROWS, COLUMNS = ("lat", "latitude", "y"), ("lon", "longitude", "x")


@dataclass(frozen=True, eq=False)
class Array:
    """A grid in memory: values with their coordinates.

    Parameters
    ----------
    values : (T, ny, nx) or (ny, nx) array
        NaN where there is no data; anything with `__array__`.
    lat, lon : (ny,), (nx,) array
        Centres of the cells, degrees.
    time : (T,) datetime64 or None
        When each step is; None for a grid without time.
    name, unit
        Of the variable.
    attributes
        CF attributes such as `cell_methods` or `standard_name`, which tell the kind.
    """

    values: Any
    lat: Any
    lon: Any
    time: Any = None
    name: str = "values"
    unit: str = ""
    attributes: Mapping[str, Any] = field(default_factory=dict)


def as_array(grid: Any) -> Array:
    """A labelled array of any library: one with `dims`, `coords` and `__array__`.

    Raises
    ------
    InputError
        Where it has none of them, or not the coordinates of a grid.
    """
    dims = tuple(_texts(getattr(grid, "dims", ())))
    coords = getattr(grid, "coords", None)
    if not dims or coords is None or not hasattr(grid, "__array__"):
        raise InputError(
            IN_MEMORY, f"{type(grid).__name__} is no grid", "give a path, or a bavlo.Array"
        )
    named = {}
    for role, names in (("time", TIMES), ("lat", ROWS), ("lon", COLUMNS)):
        found = next((name for name in dims if name.lower() in names), None)
        if found is None and role != "time":
            raise InputError(IN_MEMORY, f"has no dimension {role}", f"it has: {', '.join(dims)}")
        named[role] = found
    order = [name for name in named.values() if name is not None]
    if set(order) != set(dims):
        raise InputError(IN_MEMORY, f"has dimensions {', '.join(dims)}", "choose of the others")
    values = np.transpose(np.asarray(grid), [dims.index(name) for name in order])
    attributes = dict(getattr(grid, "attrs", {}) or {})
    time = None if named["time"] is None else np.asarray(coords[named["time"]])
    return Array(
        values,
        np.asarray(coords[named["lat"]]),
        np.asarray(coords[named["lon"]]),
        time,
        str(getattr(grid, "name", None) or "values"),
        str(attributes.pop("units", "")),
        {key: value for key, value in attributes.items() if isinstance(value, str)},
    )


def _texts(values: Any) -> list[str]:
    """Names as texts."""
    return [str(value) for value in values]


def write_array(path: Path, grid: Array) -> None:
    """A grid in memory as a NetCDF file."""
    import netCDF4

    values = np.asarray(grid.values)
    if values.dtype.kind in "iub" and values.dtype.itemsize > 4:
        values = values.astype(np.float64)
    lat, lon = np.asarray(grid.lat, np.float64), np.asarray(grid.lon, np.float64)
    time = None if grid.time is None else np.asarray(grid.time, "M8[s]")
    wanted = (*(() if time is None else (time.size,)), lat.size, lon.size)
    if values.shape != wanted:
        raise InputError(
            IN_MEMORY, f"has values {values.shape} for coordinates {wanted}", "give the same"
        )
    with netCDF4.Dataset(path, "w") as data:
        for name, centres, unit in (
            ("lat", lat, "degrees_north"),
            ("lon", lon, "degrees_east"),
        ):
            data.createDimension(name, centres.size)
            data.createVariable(name, "f8", (name,))[:] = centres
            data[name].units = unit
        axes: tuple[str, ...] = ("lat", "lon")
        if time is not None:
            data.createDimension("time", time.size)
            data.createVariable("time", "f8", ("time",))[:] = time.astype(np.int64)
            data["time"].units = "seconds since 1970-01-01"
            axes = ("time", *axes)
        variable = data.createVariable(grid.name, values.dtype, axes, fill_value=False)
        if grid.unit:
            variable.units = grid.unit
        variable.setncatts(dict(grid.attributes))
        variable[:] = values
