"""Chunked, deflated HDF5 variables read by their raw chunks, without the HDF5 library's lock.

Where the chunks of a variable lie in the file is asked of the library once. After that they are
fetched, inflated and unshuffled by any number of threads at once. What comes out are the stored
numbers, the same as the library gives; whatever filter is not known here goes the ordinary way.
"""

from __future__ import annotations

import math
import os
import sys
import zlib
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.files import unreadable
from bavlo.grids import urls as addresses
from bavlo.grids.cells import CellSelection, CellSubset, Piece, piece_of, pieces_of_rows
from bavlo.grids.formats import DEFLATE, SHUFFLE
from bavlo.grids.formats.stored import chunk_table, inflate
from bavlo.remembered import INDEXES, INFLATED, stamp_of

Fetch = Callable[[int, int], bytes]
Chunk = tuple[int, ...]  # its number along every dimension
Inflated = bytes | bytearray | None  # of a chunk; None where it was never written

KNOWN = ((), (DEFLATE,), (SHUFFLE,), (SHUFFLE, DEFLATE))
MOST_CHUNKS = 4_000_000
WIDE = 4  # bytes of a number, from which on it is put together byte by byte
SMALL_CHUNK = 2**14  # bytes of a chunk
GATHERED = 2**17  # bytes of small chunks of which cells are taken at once


@dataclass(eq=False)
class ChunkReader:
    """The chunks of one variable.

    Parameters
    ----------
    key
        What tells this variable of this file, as it is now, from all others.
    offset, size : int64 arrays
        Where each chunk lies and how many bytes it has, by its number along every dimension; an
        offset of -1 for chunks that were never written.
    filters
        In the order in which they were applied.
    """

    path: Path
    key: Hashable
    shape: tuple[int, ...]
    chunks: tuple[int, ...]
    dtype: np.dtype
    fill: np.ndarray
    filters: tuple[int, ...]
    offset: np.ndarray
    size: np.ndarray
    pieces: dict[int, tuple[CellSelection, list[Piece]]] = field(default_factory=dict)

    def read(self, key: tuple[slice | int, ...]) -> np.ndarray:
        """Stored numbers of a hyperslab; dimensions that are indexed by a number are dropped."""
        ranges = [k if isinstance(k, slice) else slice(k, k + 1) for k in key]
        out = np.empty([r.stop - r.start for r in ranges], self.dtype)
        numbers = [
            range(r.start // c, (r.stop - 1) // c + 1)
            for r, c in zip(ranges, self.chunks, strict=True)
        ]
        with self._opened() as file:
            for number in np.ndindex(*(len(n) for n in numbers)):
                chunk = tuple(n[i] for n, i in zip(numbers, number, strict=True))
                inside, target = [], []
                for n, size, r in zip(chunk, self.chunks, ranges, strict=True):
                    low, high = max(r.start, n * size), min(r.stop, (n + 1) * size)
                    inside.append(slice(low - n * size, high - n * size))
                    target.append(slice(low - r.start, high - r.start))
                out[tuple(target)] = self._part(file, chunk, tuple(inside))
        dropped = tuple(n for n, k in enumerate(key) if not isinstance(k, slice))
        return out.squeeze(axis=dropped) if dropped else out

    @contextmanager
    def parts_once(self) -> Iterator[Callable[[tuple[slice | int, ...], np.ndarray], None]]:
        """What fills an array with the stored numbers of a hyperslab within one chunk.

        The chunk is kept until another one is asked for. The array has no dimensions that are
        indexed by a number.
        """
        with self._opened() as file:
            bytes_of = _LastChunk(self, file)

            def fill(key: tuple[slice | int, ...], out: np.ndarray) -> None:
                number, inside, dropped = [], [], []
                for axis, (at, size) in enumerate(zip(key, self.chunks, strict=True)):
                    low = at.start if isinstance(at, slice) else at
                    high = at.stop if isinstance(at, slice) else at + 1
                    number.append(low // size)
                    inside.append(slice(low - number[-1] * size, high - number[-1] * size))
                    if not isinstance(at, slice):
                        dropped.append(axis)
                whole = np.expand_dims(out, tuple(dropped)) if dropped else out
                self._unshuffle_into(bytes_of(tuple(number)), tuple(inside), whole)

            yield fill

    @property
    def largest(self) -> int:
        """Bytes of the largest chunk, as it is stored."""
        return int(self.size.max(initial=0))

    @property
    def has_small_chunks(self) -> bool:
        """Whether they are shuffled, and what is done for each takes longer than its numbers."""
        return SHUFFLE in self.filters and self._chunk_size <= SMALL_CHUNK

    @cached_property
    def _chunk_size(self) -> int:
        """Bytes of a chunk, inflated."""
        return math.prod(self.chunks) * self.dtype.itemsize

    def take_cells(
        self, wanted: np.ndarray, cuts: np.ndarray, cells: np.ndarray, stride: int, out: np.ndarray
    ) -> None:
        """Fill in the stored numbers of cells of small chunks, for the steps that a chunk holds.

        Of many chunks at once by one index, where chunk by chunk would take longer than their
        numbers do.

        Parameters
        ----------
        wanted : (N, D) int
            The number of each chunk along every dimension.
        cuts : (N + 1,) int
            Where the cells of each chunk begin.
        cells : (2, C) int64
            Chunk by chunk, of each cell where its first step stands in its chunk, and its column in
            `out`.
        stride
            Numbers of a chunk from one step to the next.
        out : (T, C)
        """
        item, size = self.dtype.itemsize, math.prod(self.chunks)
        fill = np.frombuffer(self.fill.tobytes(), np.uint8)[:, None]
        numbers = tuple(wanted.T)
        places = list(zip(self.offset[numbers].tolist(), self.size[numbers].tolist(), strict=True))
        group = GATHERED // (item * size)
        steps = (np.arange(len(out)) * stride)[:, None]
        with self._opened() as file:
            for first in range(0, len(places), group):
                parts = []
                for place in places[first : first + group]:
                    data = self._inflated(file, *place)
                    part = np.repeat(fill, size) if data is None else np.frombuffer(data, np.uint8)
                    parts.append(part.reshape(item, size))
                whole = np.stack(parts).transpose(0, 2, 1).copy().view(self.dtype).ravel()
                edges = cuts[first : first + len(parts) + 1]
                offset, column = cells[:, edges[0] : edges[-1]]
                begin = offset + np.repeat(np.arange(len(parts)) * size, np.diff(edges))
                out[:, column] = whole.take(begin + steps, mode="clip")

    def parts(
        self, first: int, last: int, cells: CellSelection
    ) -> Iterator[tuple[CellSubset, slice, np.ndarray]]:
        """Stored numbers of the steps `first` to `last` of a (time, y, x) variable.

        Of each chunk only the rectangle around its cells is unshuffled.

        Yields
        ------
        subset
            Which cells of the rectangle are wanted.
        steps
            From `first` on.
        stored : (t, size)
        """
        pieces = self._pieces(cells)
        height = self.chunks[0]
        numbers = range(first // height, (last - 1) // height + 1)
        with self._opened(
            [(number, *piece.chunk) for number in numbers for piece in pieces]
        ) as file:
            for number in numbers:
                low, high = max(first, number * height), min(last, (number + 1) * height)
                steps = slice(low - number * height, high - number * height)
                rows = slice(low - first, high - first)
                for piece in pieces:
                    part = self._part(
                        file, (number, *piece.chunk), (steps, piece.rows, piece.columns)
                    )
                    yield piece.subset, rows, part.reshape(high - low, -1)

    def _pieces(self, cells: CellSelection) -> list[Piece]:
        """What is used of each chunk of a step; worked out once for a selection of cells."""
        known = self.pieces.get(id(cells))
        if known is not None and known[0] is cells:
            return known[1]
        _, cy, cx = self.chunks
        if cells.whole_rows is not None:
            found = pieces_of_rows(cells.whole_rows, cells.shape[1], cy, cx)
        else:
            row, column = np.divmod(cells.cells, cells.shape[1])
            key = (row // cy) * (cells.shape[1] // cx + 2) + column // cx
            order = np.argsort(key, kind="stable")
            cuts = np.flatnonzero(np.diff(key[order])) + 1
            found = [
                piece_of(row, column, position, cy, cx)
                for position in np.split(order, cuts)
                if position.size
            ]
        self.pieces.clear()
        self.pieces[id(cells)] = (cells, found)
        return found

    @contextmanager
    def _opened(self, wanted: Sequence[tuple[int, ...]] = ()) -> Iterator[Fetch]:
        """What gives bytes of the file by their place and number.

        Parameters
        ----------
        wanted
            Chunks that will be read, in that order.
        """
        url = addresses.url_of(self.path)
        file = None if url is not None else os.open(self.path, os.O_RDONLY)
        try:
            if url is not None:
                left = [chunk for chunk in wanted if (self.key, chunk) not in INFLATED]
                places = [(int(self.offset[chunk]), int(self.size[chunk])) for chunk in left]
                yield addresses.Ahead(url, [place for place in places if place[0] >= 0])
            else:
                yield lambda offset, size: os.pread(file, size, offset)  # type: ignore[arg-type]
        except (OSError, zlib.error, ValueError) as error:
            raise unreadable(self.path, error) from error
        finally:
            if file is not None:
                os.close(file)

    def _part(self, file: Fetch, chunk: tuple[int, ...], inside: tuple[slice, ...]) -> np.ndarray:
        """Part of a chunk; those of several steps are kept for the next run of steps."""
        if self.chunks[0] == 1:
            data = self._bytes(file, chunk)
        else:
            data = INFLATED.get((self.key, chunk), lambda: self._bytes(file, chunk))
        return self._unshuffled(data, inside)

    def _bytes(self, file: Fetch, chunk: tuple[int, ...]) -> Inflated:
        """The inflated bytes of a chunk; None where it was never written."""
        return self._inflated(file, int(self.offset[chunk]), int(self.size[chunk]))

    def _inflated(self, file: Fetch, offset: int, length: int) -> Inflated:
        """The same by the place of a chunk and its stored length."""
        if offset < 0:
            return None
        data: bytes | bytearray = file(offset, length)
        if len(data) < length:
            raise OSError("a chunk lies beyond the end of the file")
        size = self._chunk_size
        if DEFLATE in self.filters:
            data = inflate(data, size)
        if len(data) != size:
            raise OSError(f"a chunk has {len(data)} bytes instead of {size}")
        return data

    def _unshuffled(self, data: Inflated, inside: tuple[slice, ...]) -> np.ndarray:
        """The numbers of a part of a chunk, in an array of their own."""
        shape = tuple(s.stop - s.start for s in inside)
        if data is None:
            return np.broadcast_to(self.fill, shape)
        item = self.dtype.itemsize
        if SHUFFLE not in self.filters or item == 1:
            return np.frombuffer(data, self.dtype).reshape(self.chunks)[inside]
        planes = np.frombuffer(data, np.uint8).reshape(item, *self.chunks)
        if item == 2:  # put together as numbers: twice as fast again
            low, high = planes if sys.byteorder == "little" else planes[::-1]
            numbers = high[inside].astype(np.uint16, order="C")
            numbers <<= 8
            numbers |= low[inside]
            return np.asarray(numbers.view(self.dtype))
        numbers = np.empty(shape, self.dtype)
        put_planes(planes, inside, numbers)
        return numbers

    def _unshuffle_into(self, data: Inflated, inside: tuple[slice, ...], out: np.ndarray) -> None:
        """Fill an array, of whichever byte order, with the numbers of a part of a chunk."""
        by_planes = SHUFFLE in self.filters and self.dtype.itemsize >= WIDE
        if data is None or not by_planes or out.dtype != self.dtype:
            out[...] = self._unshuffled(data, inside)
        else:
            planes = np.frombuffer(data, np.uint8).reshape(-1, *self.chunks)
            put_planes(planes, inside, out)


def put_planes(planes: np.ndarray, inside: tuple[slice, ...], out: np.ndarray) -> None:
    """Fill an array with the numbers of a part of a shuffled chunk, all first bytes of which stand
    together, then all second ones, …

    Plane by plane, which is six times faster than to copy the transpose.

    Parameters
    ----------
    planes : (item, …) uint8
        The bytes of a whole chunk.
    inside
        The part, along each dimension of the chunk.
    out
        Of the shape of the part.
    """
    mixed = out[..., None].view(np.uint8)
    for n, plane in enumerate(planes):
        mixed[..., n] = plane[inside]


class _LastChunk:
    """The inflated bytes of the chunk that was asked for last."""

    def __init__(self, reader: ChunkReader, file: Fetch) -> None:
        self._reader, self._file = reader, file
        self._chunk: tuple[int, ...] | None = None
        self._data: Inflated = None

    def __call__(self, chunk: tuple[int, ...]) -> Inflated:
        """Those of a chunk."""
        if chunk != self._chunk:
            self._data = None  # let go of before the next takes its place
            self._data = self._reader._bytes(self._file, chunk)
            self._chunk = chunk
        return self._data


def reader_of(path: Path, name: str) -> ChunkReader | None:
    """The chunk reader of a variable; None where the ordinary way is the sound one."""
    url = addresses.url_of(path)
    stamp = stamp_of(path) if url is None else (url, addresses.stamp_of(url))
    key = "chunks", name, *stamp
    found: ChunkReader | None = INDEXES.get(key, lambda: _open(path, name, key))
    return found


def _hdf5(path: Path) -> AbstractContextManager[Any]:
    import h5py

    if addresses.url_of(path) is not None:
        return addresses.hdf5(path)
    opened: AbstractContextManager[Any] = h5py.File(path, "r", locking=False)
    return opened


def _open(path: Path, name: str, key: Hashable) -> ChunkReader | None:
    try:
        with _hdf5(path) as file:
            data = file[name]
            plist = data.id.get_create_plist()
            filters = tuple(plist.get_filter(n)[0] for n in range(plist.get_nfilters()))
            if (
                file.userblock_size
                or data.chunks is None
                or filters not in KNOWN
                or data.dtype.kind not in "iuf"
                or plist.get_external_count()
                or data.id.get_num_chunks() > MOST_CHUNKS
            ):
                return None
            counts = [-(-n // c) for n, c in zip(data.shape, data.chunks, strict=True)]
            if math.prod(counts) > MOST_CHUNKS:
                return None
            table = chunk_table(data)
            if table.mask.any():  # chunks that were left unfiltered
                return None
            offsets, sizes = np.full(counts, -1, np.int64), np.zeros(counts, np.int64)
            numbers = tuple((table.first // data.chunks).T)
            offsets[numbers], sizes[numbers] = table.offset, table.size
            fill = np.asarray(data.fillvalue, data.dtype)
            return ChunkReader(
                path, key, data.shape, data.chunks, data.dtype, fill, filters, offsets, sizes
            )
    except (OSError, RuntimeError, LookupError, ValueError, AttributeError):
        return None  # the ordinary way tells what is wrong
