"""NetCDF files: classic, 64-bit offset, CDF-5 and NetCDF-4."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import DAMAGE, unreadable
from bavlo.grids.formats import cf_format
from bavlo.grids.formats.container import Container, Stored
from bavlo.grids.formats.packing import default_fill
from bavlo.grids.guards import check_sound
from bavlo.remembered import OPEN_FILES, stamp_of

CHUNK_CACHE = 2**20  # for coordinates and small variables
MOST_CHUNK_CACHE = 2**26
LOCK = threading.RLock()  # the netCDF4 library never runs in two threads at once


@contextmanager
def container(path: Path) -> Iterator[Container]:
    """An open file; the last few stay open, since their steps are read in runs.

    One is never let go of without being closed: whichever thread collects it would close it while
    another reads.
    """
    with LOCK:
        opened: OpenFile | None = None
        try:
            key = "NetCDF", *stamp_of(path)
            opened = OPEN_FILES.take(key)
            if opened is None:
                check_sound(path)
                opened = _opened(path)
            yield opened.container
        except DAMAGE as error:
            if opened is not None:
                opened.close()
                opened = None
            raise unreadable(path, error) from error
        finally:
            if opened is not None:
                OPEN_FILES.put(key, opened)


@dataclass(frozen=True, eq=False)
class OpenFile:
    """A file that the library has open, and its variables."""

    data: Any
    container: Container

    def close(self) -> None:
        """Close it, in whichever thread."""
        with LOCK, suppress(RuntimeError):  # closed already
            self.data.close()


def _opened(path: Path) -> OpenFile:
    import netCDF4

    # The library's own default is so large that open files add up.
    netCDF4.set_chunk_cache(size=CHUNK_CACHE)
    data = netCDF4.Dataset(path, "r")
    data.set_auto_maskandscale(False)
    data.set_auto_chartostring(False)
    return OpenFile(data, variables_of(data, is_hdf5=data.disk_format == "HDF5"))


def variables_of(data: Any, *, is_hdf5: bool) -> Container:
    """The variables of an open file."""
    return Container({_name(v): _stored(v, is_hdf5) for v in _walk(data)})


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
        None if dtype is None else default_fill(dtype),
        is_hdf5,
    )


def _keep(variable: Any, size: int) -> None:
    size = min(max(2 * size, CHUNK_CACHE), MOST_CHUNK_CACHE)
    if variable.get_var_chunk_cache()[0] < size:
        variable.set_var_chunk_cache(size=size)


FORMAT = cf_format.ContainerFormat(container)
