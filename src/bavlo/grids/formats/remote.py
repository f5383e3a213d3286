"""NetCDF files by URL (https, s3, …), of which only the needed byte ranges are fetched."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import DAMAGE, unreadable
from bavlo.grids.formats import cf_format
from bavlo.grids.formats import classic as remote_classic
from bavlo.grids.formats.classic import is_classic
from bavlo.grids.formats.container import Container, Stored
from bavlo.grids.formats.packing import default_fill
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
            raise unreadable(path, error) from error
        return
    with hdf5(path) as file:
        found: dict[str, Stored] = {}

        def note(name: str, item: Any) -> None:
            import h5py

            if isinstance(item, h5py.Dataset):
                found.update(_variable(name, item))

        file.visititems(note)
        yield Container(found)


def _variable(name: str, item: Any) -> dict[str, Stored]:
    """A dataset by its name; empty where it stands for a dimension without a coordinate."""
    if _is_bare(item):
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
    return {
        name: Stored(
            name,
            dimensions,
            tuple(item.shape),
            kind,
            dict(_attributes(item)),
            item.chunks,
            partial(_read, item),
            default_fill=None if kind is None else default_fill(kind),
            is_hdf5=True,
        )
    }


def _is_bare(item: Any) -> bool:
    """Whether it stands for a dimension without a coordinate; it holds zeros."""
    name = item.attrs.get("NAME", b"") if item.is_scale else b""
    return bytes(name).startswith(BARE) if isinstance(name, bytes) else False


def _read(item: Any, key: Any) -> np.ndarray:
    return np.asarray(item[key])


def _attributes(item: Any) -> Iterator[tuple[str, Any]]:
    """The attributes that are not the netCDF library's own, as that would give them."""
    for name in item.attrs:
        if name not in OWN and not name.startswith("_Netcdf4"):
            yield name, _as_given(item.attrs[name])


def _as_given(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, np.ndarray):
        if value.size == 1:
            return _as_given(value.ravel()[0])
        if value.dtype.kind in "OS":
            return [_as_given(each) for each in value.ravel()]
        return value
    return value if isinstance(value, (str, np.generic)) else ""  # else there is none


FORMAT = cf_format.ContainerFormat(container)
