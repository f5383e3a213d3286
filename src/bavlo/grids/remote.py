"""NetCDF files by URL (https, s3, …), of which only the needed byte ranges are fetched."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import DAMAGE
from bavlo.grids import cf, cfgrid, remote_classic
from bavlo.grids.cfgrid import Container, Stored
from bavlo.grids.classic import is_classic
from bavlo.grids.urls import first_bytes, hdf5, url_of

BARE = b"This is a netCDF dimension but not a netCDF variable"
OWN = ("REFERENCE_LIST", "DIMENSION_LIST", "CLASS", "NAME")


@contextmanager
def container(path: Path) -> Iterator[Container]:
    """The variables of a file."""
    url = url_of(path)
    if url is not None and is_classic(first_bytes(url)):
        try:
            yield remote_classic.container(url)
        except DAMAGE as error:
            raise cf.unreadable(path, error) from error
        return
    with hdf5(path) as file:
        found: dict[str, Stored] = {}
        file.visititems(lambda name, item: found.update(_stored(name, item)))
        yield Container(found)


def _stored(name: str, item: Any) -> dict[str, Stored]:
    import h5py
    import netCDF4

    if not isinstance(item, h5py.Dataset) or _is_bare(item):
        return {}
    dimensions: tuple[str, ...]
    if item.is_scale:
        dimensions = (name.rpartition("/")[2],)
    else:
        dimensions = tuple(
            scale[0].name.rpartition("/")[2] if len(scale) else f"dimension {n}"
            for n, scale in enumerate(item.dims)
        )
    kind = np.dtype(item.dtype) if item.dtype.kind in "iuf" else None
    fill: Any = None
    if kind is not None and kind.itemsize > 1:
        fill = netCDF4.default_fillvals.get(kind.newbyteorder("=").str[1:])
    attributes = {
        key: _plain(value)
        for key, value in item.attrs.items()
        if key not in OWN and not key.startswith("_Netcdf4")
    }
    return {
        name: Stored(
            name,
            dimensions,
            tuple(item.shape),
            kind,
            attributes,
            item.chunks,
            partial(_read, item),
            default_fill=fill,
            is_hdf5=True,
            is_remote=True,
        )
    }


def _is_bare(item: Any) -> bool:
    """Whether it stands for a dimension without a coordinate; it holds zeros."""
    name = item.attrs.get("NAME", b"") if item.is_scale else b""
    return bytes(name).startswith(BARE) if isinstance(name, bytes) else False


def _read(item: Any, key: Any) -> np.ndarray:
    return np.asarray(item[key])


def _plain(value: Any) -> Any:
    """An attribute as the NetCDF library would give it."""
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, np.ndarray) and value.size == 1:
        return _plain(value.ravel()[0])
    return value


FORMAT = cfgrid.ContainerFormat(container)
