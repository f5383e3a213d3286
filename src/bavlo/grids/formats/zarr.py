"""Zarr stores, version 2 and 3, consolidated or not."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import InputError
from bavlo.files import DAMAGE, unreadable
from bavlo.grids import urls as addresses
from bavlo.grids.formats import cf_format
from bavlo.grids.formats.container import Container, Stored
from bavlo.remembered import INDEXES, Stamp, stamp_of

ARRAY = ".zarray"  # of version 2
METADATA = (ARRAY, ".zattrs", ".zgroup", ".zmetadata", "zarr.json")


@contextmanager
def container(path: Path) -> Iterator[Container]:
    """The variables of a store."""
    try:
        key = "Zarr", str(path), *_stamps(path)
        yield INDEXES.get(key, lambda: _container(path))
    except DAMAGE as error:
        raise unreadable(path, error) from error


def _stamps(folder: Path) -> Iterator[Stamp]:
    """Those of all metadata of a store in a folder, which tell whether it is as it was."""
    marks = [folder / name for name in METADATA]
    yield from (stamp_of(mark) for mark in marks if mark.is_file())
    if not (folder / ARRAY).is_file() and folder.is_dir():  # whose chunks may be very many
        for inner in sorted(entry.path for entry in os.scandir(folder) if entry.is_dir()):
            if any(Path(inner, name).is_file() for name in METADATA):
                yield from _stamps(Path(inner))


def _container(path: Path) -> Container:
    try:
        import zarr
    except ImportError:
        raise InputError(
            path, "is a Zarr store, which needs a further library", "pip install 'bavlo[zarr]'"
        ) from None
    from bavlo.grids.guards import use_checked_codecs

    use_checked_codecs()
    url = addresses.url_of(path)
    store: Any = path
    if url is not None:
        addresses.filesystem(url)  # says what is missing
        store = zarr.storage.FsspecStore.from_url(url, read_only=True)
    group: Any = zarr.open_group(store, mode="r")
    found: dict[str, Stored] = {}
    for name, array in _arrays(group, ""):
        attributes = dict(array.attrs)
        dimensions = attributes.pop("_ARRAY_DIMENSIONS", None)
        dimensions = dimensions or getattr(array.metadata, "dimension_names", None)
        if not dimensions or len(dimensions) != array.ndim:
            continue
        fill = array.fill_value
        # By convention version 2 keeps the missing value here; but 0 is what stores write who
        # think of none, and no rain is a value.
        if fill and "_FillValue" not in attributes and array.metadata.zarr_format == 2:
            attributes["_FillValue"] = fill
        found[name] = Stored(
            name,
            tuple(dimensions),
            tuple(array.shape),
            np.dtype(array.dtype) if np.dtype(array.dtype).kind in "iuf" else None,
            attributes,
            tuple(array.chunks),
            partial(_read, array),
        )
    return Container(found)


def _arrays(group: Any, prefix: str) -> Iterator[tuple[str, Any]]:
    for name, array in group.arrays():
        yield prefix + name, array
    for name, inner in group.groups():
        yield from _arrays(inner, f"{prefix}{name}/")


def _read(array: Any, key: Any) -> np.ndarray:
    return np.asarray(array[key])


FORMAT = cf_format.ContainerFormat(container)
