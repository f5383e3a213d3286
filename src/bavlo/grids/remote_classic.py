"""Classic NetCDF files by URL, of which only the needed byte ranges are fetched."""

from __future__ import annotations

import itertools
from functools import partial

import numpy as np

from bavlo.grids import cf, urls
from bavlo.grids.classic import ClassicVariable, read_header
from bavlo.grids.container import Container, Stored
from bavlo.remembered import INDEXES


def container(url: str) -> Container:
    """The variables of a file."""
    key = "classic", url, urls.stamp_of(url)
    found: Container = INDEXES.get(key, lambda: _container(url))
    return found


def _container(url: str) -> Container:
    size = int(urls.information(url)["size"])
    header = read_header(lambda count: urls.fetch(url, 0, min(count, size)), size)
    if size < header.needed_size:
        raise OSError(f"{size} of {header.needed_size} bytes are there")
    return Container({v.name: _stored(url, v, header.stride) for v in header.variables})


def _stored(url: str, variable: ClassicVariable, stride: int) -> Stored:
    dtype = variable.dtype.newbyteorder("=")
    is_number = dtype.kind in "iuf"
    return Stored(
        variable.name,
        variable.dimensions,
        variable.shape,
        dtype if is_number else None,
        variable.attributes,
        None,
        partial(_read, url, variable, stride),
        default_fill=cf.default_fill(dtype) if is_number else None,
    )


def _read(
    url: str, variable: ClassicVariable, stride: int, key: tuple[slice | int, ...] | slice
) -> np.ndarray:
    """Values of a hyperslab; dimensions that are indexed by a number are dropped.

    Of the first dimension each wanted part is fetched, of the second the run that holds those that
    are wanted.
    """
    given = key if isinstance(key, tuple) else (key,)
    parts = [*given, *[slice(None)] * (len(variable.shape) - len(given))]
    ranges = [
        range(length)[part if isinstance(part, slice) else slice(part, part + 1)]
        for part, length in zip(parts, variable.shape, strict=True)
    ]
    if not ranges:
        return _numbers(url, variable, [variable.begin], variable.dtype.itemsize).reshape(())
    item = variable.dtype.itemsize
    inner = variable.shape[1:]
    slab = int(np.prod(inner, dtype=np.int64)) * item
    step = stride if variable.is_record else slab
    run = slice(0, 1)
    if inner:
        run = slice(min(ranges[1], default=0), max(ranges[1], default=-1) + 1)
        slab //= max(inner[0], 1)
    begins = [variable.begin + n * step + run.start * slab for n in ranges[0]]
    values = _numbers(url, variable, begins, (run.stop - run.start) * slab)
    if inner:
        values = values.reshape(len(begins), run.stop - run.start, *inner[1:])
        rows = [n - run.start for n in ranges[1]]
        values = values[np.ix_(range(len(begins)), rows, *ranges[2:])]
    else:
        values = values.reshape(len(begins))
    dropped = tuple(n for n, part in enumerate(given) if not isinstance(part, slice))
    return values.squeeze(axis=dropped) if dropped else values


def _numbers(url: str, variable: ClassicVariable, begins: list[int], size: int) -> np.ndarray:
    """Numbers in the machine's byte order from runs of so many bytes each."""
    places = [(begin, size) for begin in begins if size]
    ahead = urls.Ahead(url, places)
    data = b"".join(itertools.starmap(ahead, places))
    if len(data) < size * len(places):
        raise OSError("values lie beyond the end of the file")
    return np.frombuffer(data, variable.dtype).astype(variable.dtype.newbyteorder("="))
