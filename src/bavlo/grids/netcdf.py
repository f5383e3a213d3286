"""NetCDF files: classic, 64-bit offset, CDF-5 and NetCDF-4."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import DAMAGE
from bavlo.grids import cf, cf_format
from bavlo.grids.classic import check_whole
from bavlo.grids.container import Container, Stored
from bavlo.grids.elsewhere import check_heaps

MOST_OPEN = 8
CHUNK_CACHE = 2**20  # for coordinates and small variables
MOST_CHUNK_CACHE = 2**26
LOCK = threading.RLock()  # the netCDF4 library never runs in two threads at once
_open: OrderedDict[Path, tuple[Any, Container, tuple[int, ...]]] = OrderedDict()


@contextmanager
def container(path: Path) -> Iterator[Container]:
    """An open file; the last few stay open, since their steps are read in runs."""
    with LOCK:
        entry = _open.pop(path, None)
        try:
            status = path.stat()
            stamp = status.st_dev, status.st_ino, status.st_mtime_ns, status.st_size
            if entry is not None and entry[2] != stamp:  # another file by now, or written to
                _close(entry[0])
                entry = None
            if entry is None:
                check_sound(path)
                entry = *_opened(path), stamp
            yield entry[1]
        except DAMAGE as error:
            if entry is not None:
                _close(entry[0])
            raise cf.unreadable(path, error) from error
        _open[path] = entry
        while len(_open) > MOST_OPEN:
            _close(_open.popitem(last=False)[1][0])


def check_sound(path: Path) -> None:
    """Refuse what the libraries would loop over, or read as zeros, before they open it.

    Raises
    ------
    InputError, OSError
    """
    check_heaps(path)
    check_whole(path)


def _close(data: Any) -> None:
    with suppress(RuntimeError):  # closed already
        data.close()


def _opened(path: Path) -> tuple[Any, Container]:
    """A file and its variables."""
    import netCDF4

    # The library's own default is so large that open files add up.
    netCDF4.set_chunk_cache(size=CHUNK_CACHE)
    data = netCDF4.Dataset(path, "r")
    data.set_auto_maskandscale(False)
    data.set_auto_chartostring(False)
    is_hdf5 = data.disk_format == "HDF5"
    return data, Container({_name(v): _stored(v, is_hdf5) for v in _walk(data)})


def _walk(group: Any) -> Iterator[Any]:
    yield from group.variables.values()
    for inner in group.groups.values():
        yield from _walk(inner)


def _name(variable: Any) -> str:
    group = variable.group().path.strip("/")
    return f"{group}/{variable.name}" if group else str(variable.name)


def _stored(variable: Any, is_hdf5: bool) -> Stored:
    dtype = variable.dtype if isinstance(variable.dtype, np.dtype) else None
    chunking = variable.chunking()
    return Stored(
        _name(variable),
        tuple(variable.dimensions),
        tuple(int(n) for n in variable.shape),
        dtype,
        {name: variable.getncattr(name) for name in variable.ncattrs()},
        tuple(int(n) for n in chunking) if isinstance(chunking, list) else None,
        lambda key: np.asarray(variable[key]),
        partial(_keep, variable),
        None if dtype is None else cf.default_fill(dtype),
        is_hdf5,
    )


def _keep(variable: Any, size: int) -> None:
    size = min(max(2 * size, CHUNK_CACHE), MOST_CHUNK_CACHE)
    if variable.get_var_chunk_cache()[0] < size:
        variable.set_var_chunk_cache(size=size)


def close_all() -> None:
    """Close the files that are kept open."""
    with LOCK:
        while _open:
            _close(_open.popitem()[1][0])


FORMAT = cf_format.ContainerFormat(container)
