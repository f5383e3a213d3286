"""Classic NetCDF files: what their headers say, and values of them by URL.

Format: NetCDF Classic and 64-bit Offset File Formats (and CDF-5), Unidata.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from bavlo.grids import urls
from bavlo.grids.formats.container import Container, Stored
from bavlo.grids.formats.packing import default_fill
from bavlo.remembered import INDEXES

TYPES = {
    1: "i1", 2: "S1", 3: ">i2", 4: ">i4", 5: ">f4", 6: ">f8",
    7: "u1", 8: ">u2", 9: ">u4", 10: ">i8", 11: ">u8",
}  # fmt: skip
FIRST_READ, MOST_READ = 2**16, 2**28
LEAST_ITEM = 8  # bytes of a dimension, an attribute or a variable in a header
MAGIC, VERSIONS = b"CDF", (1, 2, 5)


@dataclass(frozen=True, eq=False)
class ClassicVariable:
    """A variable of a classic file.

    Parameters
    ----------
    shape
        With the number of records of one that has them.
    dtype
        In the file's byte order.
    begin
        Where its values begin, or those of its first record.
    """

    name: str
    dimensions: tuple[str, ...]
    shape: tuple[int, ...]
    dtype: np.dtype
    attributes: Mapping[str, Any]
    begin: int
    is_record: bool

    @property
    def size(self) -> int:
        """Bytes of all values, or of those of one record."""
        return math.prod(self.shape[self.is_record :]) * self.dtype.itemsize


@dataclass(frozen=True, eq=False)
class Header:
    """What a classic file says of itself.

    Parameters
    ----------
    size
        Bytes of the header itself.
    stride
        Bytes from one record to the next.
    """

    variables: tuple[ClassicVariable, ...]
    size: int
    records: int
    stride: int

    @property
    def needed_size(self) -> int:
        """Bytes that a whole file has at least.

        Padding after the last value does not count, since some writers leave it out.
        """
        ends = [self.size]
        for each in self.variables:
            if not each.is_record:
                ends.append(each.begin + each.size)
            elif self.records:
                ends.append(each.begin + each.size + (self.records - 1) * self.stride)
        return max(ends)


class _Reader:
    """Big-endian numbers one after the other; `long` counts have eight bytes in CDF-5."""

    def __init__(self, data: bytes, file_size: int) -> None:
        self.data = data
        self.file_size = file_size
        self.at = 4
        version = data[3]
        self.count_size = 8 if version == 5 else 4
        self.offset_size = 4 if version == 1 else 8

    def number(self, size: int) -> int:
        """A whole number of so many bytes."""
        return int.from_bytes(self.take(size), "big")

    def take(self, size: int) -> bytes:
        """The next bytes; an EOFError where there are fewer."""
        part = self.data[self.at : self.at + size]
        if len(part) < size:
            raise EOFError
        self.at += size
        return part

    def count(self) -> int:
        """How many there are of something."""
        return self.number(self.count_size)

    def items(self) -> range:
        """A list's items, of which there cannot be more than the file has room for."""
        found = self.count()
        if found * LEAST_ITEM > self.file_size:
            raise OSError(f"its header states {found:,} items in a list")
        return range(found)

    def padded(self, size: int) -> bytes:
        """Bytes that are filled up to a multiple of four."""
        part = self.take(size)
        self.at += -size % 4
        return part

    def text(self) -> str:
        """A name."""
        return self.padded(self.count()).decode("utf-8", "replace")

    def dtype(self) -> np.dtype:
        """A type by its number."""
        kind = self.number(4)
        if kind not in TYPES:
            raise OSError(f"its header names a type {kind}, which there is not")
        return np.dtype(TYPES[kind])

    def attributes(self) -> dict[str, Any]:
        """A list of attributes, texts as such and single numbers alone."""
        self.number(4)
        found: dict[str, Any] = {}
        for _ in self.items():
            name, dtype = self.text(), self.dtype()
            data = self.padded(self.count() * dtype.itemsize)
            if dtype.kind == "S":
                found[name] = data.decode("utf-8", "replace").rstrip("\0")
            else:
                values = np.frombuffer(data, dtype).astype(dtype.newbyteorder("="))
                found[name] = values[0] if values.size == 1 else values
        return found


def read_header(read: Callable[[int], bytes], file_size: int) -> Header:
    """The header of a file.

    Parameters
    ----------
    read
        Gives so many bytes from the beginning, fewer where the file ends before.

    Raises
    ------
    OSError
        Where the header ends too soon, or cannot be one.
    """
    size = FIRST_READ
    while True:
        data = read(size)
        try:
            return _header(_Reader(data, file_size))
        except EOFError:
            if len(data) < size or size > MOST_READ:
                raise OSError("the header ends too soon") from None
            size *= 16


def _header(reader: _Reader) -> Header:
    streaming = 2 ** (8 * reader.count_size) - 1
    records = reader.count()
    reader.number(4)
    dimensions = [(reader.text(), reader.count()) for _ in reader.items()]
    reader.attributes()
    reader.number(4)
    found = []
    for _ in reader.items():
        name = reader.text()
        own = [dimensions[reader.count()] for _ in reader.items()]
        attributes = reader.attributes()
        dtype = reader.dtype()
        reader.count()
        begin = reader.number(reader.offset_size)
        is_record = bool(own) and own[0][1] == 0
        found.append((name, own, dtype, attributes, begin, is_record))
    sizes = [
        math.prod(length for _, length in own[1:]) * dtype.itemsize
        for _, own, dtype, _, _, is_record in found
        if is_record
    ]
    stride = sizes[0] if len(sizes) == 1 else sum(-(-size // 4) * 4 for size in sizes)
    begins = [begin for *_, begin, is_record in found if is_record]
    if records == streaming:  # as many as there is room for
        room = reader.file_size - min(begins, default=reader.file_size)
        records = room // stride if stride else 0
    variables = tuple(
        ClassicVariable(
            name,
            tuple(dimension for dimension, _ in own),
            tuple(length or records for _, length in own),
            dtype,
            attributes,
            begin,
            is_record,
        )
        for name, own, dtype, attributes, begin, is_record in found
    )
    return Header(variables, reader.at, records, stride)


def is_classic(head: bytes) -> bool:
    """Whether a file that begins so is a classic one."""
    return len(head) >= 4 and head[:3] == MAGIC and head[3] in VERSIONS


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
        default_fill=default_fill(dtype) if is_number else None,
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
