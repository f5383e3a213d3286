"""Grids in memory: arrays with their coordinates, and NetCDF files that were never written."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.formats import netcdf
from bavlo.grids.formats.cf_format import ContainerFormat
from bavlo.grids.formats.container import Container, Stored
from bavlo.grids.source import GridFile, ReadOptions
from bavlo.held import Array, content_of

TIME_UNIT = "seconds since 1970-01-01"


class MemoryFormat:
    """The format of what a call holds; its grids carry their values to wherever they are read."""

    named_by_file = False

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The one variable of an array, or those of a file."""
        return _format(path).variables(path, options)

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> GridFile:
        """Read the metadata of one variable."""
        return _format(path).open_file(path, variable, options)


def _format(path: Path) -> ContainerFormat:
    content = content_of(path)
    return ContainerFormat(partial(_of_bytes if isinstance(content, bytes) else _of_array, content))


@contextmanager
def _of_bytes(content: bytes, path: Path) -> Iterator[Container]:
    """The variables of a NetCDF file in memory."""
    import netCDF4

    with netcdf.LOCK, netCDF4.Dataset("memory.nc", memory=content) as data:
        yield netcdf.variables_of(data, is_hdf5=False)


@contextmanager
def _of_array(content: Array, path: Path) -> Iterator[Container]:
    """An array and its coordinates as the variables of a file.

    Raises
    ------
    InputError
        Where values and coordinates are not of one shape.
    """
    values = content.numbers
    if values.dtype.kind == "b":
        values = values.view(np.uint8)
    axes: dict[str, np.ndarray] = {
        "lat": np.asarray(content.lat, np.float64),
        "lon": np.asarray(content.lon, np.float64),
    }
    attributes = {"lat": {"units": "degrees_north"}, "lon": {"units": "degrees_east"}}
    if content.time is not None:
        stamps = np.asarray(content.time, "M8[s]").astype(np.int64)
        axes = {"time": stamps, **axes}
        attributes["time"] = {"units": TIME_UNIT}
    wanted = tuple(axis.size for axis in axes.values())
    if values.shape != wanted:
        what = f"has values {values.shape} for coordinates {wanted}"
        raise InputError(path, what, "give the same")
    found = {n: _stored(n, (n,), axis, attributes[n]) for n, axis in axes.items()}
    own = {**content.attributes, **({"units": content.unit} if content.unit else {})}
    yield Container({**found, content.name: _stored(content.name, tuple(axes), values, own)})


def _stored(
    name: str, dimensions: tuple[str, ...], values: np.ndarray, attributes: dict[str, Any]
) -> Stored:
    return Stored(
        name, dimensions, values.shape, values.dtype, attributes, None, lambda key: values[key]
    )


FORMAT = MemoryFormat()
