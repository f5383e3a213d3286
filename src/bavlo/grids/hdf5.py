"""NetCDF-4 files by way of the HDF5 library: by URL, and a few small plain ones.

Without the netCDF library a small job takes a quarter of the time of importing NumPy less.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import DAMAGE
from bavlo.grids import cf
from bavlo.grids.container import Container, Stored
from bavlo.grids.formats import DEFLATE, FLETCHER, HDF5, SHUFFLE

MOST_SIZE = 2**25  # bytes of a file that is read here; larger ones are read by their raw chunks
CHUNK_CACHE = 2**21  # bytes of inflated chunks that are kept of each variable
BARE = b"This is a netCDF dimension but not a netCDF variable"
OWN = ("REFERENCE_LIST", "DIMENSION_LIST", "CLASS", "NAME")
ASIDE = "_nc4_non_coord_"  # how names begin of variables that only share that of a dimension
NUMBERS = ("i1", "i2", "i4", "i8", "u1", "u2", "u4", "u8", "f4", "f8")
PLAIN_FILTERS = {DEFLATE, SHUFFLE, FLETCHER}


def open_plain(path: Path) -> tuple[Any, Container] | None:
    """A small NetCDF-4 file and its variables; None where the netCDF library is to read it.

    What it must have is what the netCDF library writes for variables of numbers outside of groups,
    each dimension with its scale and as long as that: there both libraries see the same.
    """
    with path.open("rb") as start:
        if start.read(len(HDF5)) != HDF5 or path.stat().st_size > MOST_SIZE:
            return None
    import h5py

    with ExitStack() as closed_unless_plain:
        try:
            file = h5py.File(path, "r", locking=False, rdcc_nbytes=CHUNK_CACHE)
            closed_unless_plain.callback(file.close)
            container = _plain(file)
        except DAMAGE:
            return None  # the netCDF library tells what is wrong
        if container:
            closed_unless_plain.pop_all()
            return file, container
    return None


def _plain(file: Any) -> Container | None:
    """The variables of a file that has nothing else; None where there is more to it."""
    found = Container()
    for name in _in_order(file) or ():
        item = _plain_variable(file, name)
        if item is None:
            return None
        found.update(variable(name, item))
    return found


def _in_order(file: Any) -> list[str] | None:
    """Names in the file in the order in which they were made; None where that is not known."""
    from h5py import h5l

    links = {name: file.id.links.get_info(name) for name in file.id}
    if any(link.type != h5l.TYPE_HARD or not link.corder_valid for link in links.values()):
        return None
    return [name.decode() for name in sorted(links, key=lambda name: int(links[name].corder))]


def _plain_variable(file: Any, name: str) -> Any:
    """A dataset that is a variable of numbers as the netCDF library writes them, else None."""
    import h5py

    item = file[name]
    if not isinstance(item, h5py.Dataset) or name.startswith(ASIDE) or item.shape is None:
        return None
    kind, stored = item.id.get_type(), item.id.get_create_plist()
    filters = {stored.get_filter(n)[0] for n in range(stored.get_nfilters())}
    if not isinstance(kind, (h5py.h5t.TypeIntegerID, h5py.h5t.TypeFloatID)):
        return None
    if item.dtype.newbyteorder("=").str[1:] not in NUMBERS or not filters <= PLAIN_FILTERS:
        return None
    if stored.get_external_count() or stored.get_layout() == h5py.h5d.VIRTUAL:
        return None
    if item.chunks is not None and item.chunks[0] > 1 and item.nbytes > CHUNK_CACHE:
        return None  # the netCDF library is told how much to keep of chunks of many steps
    if item.is_scale:
        return item if item.ndim == 1 else None
    for length, scales in zip(item.shape, item.dims, strict=True):
        if len(scales) != 1 or scales[0].shape != (length,) or scales[0].parent.name != "/":
            return None
    return item


def variable(name: str, item: Any, by_chunks: bool = False) -> dict[str, Stored]:
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
            default_fill=None if kind is None else cf.default_fill(kind),
            is_hdf5=True,
            by_chunks=by_chunks,
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
