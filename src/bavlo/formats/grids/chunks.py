"""Chunked, deflated HDF5 variables read by their raw chunks, without the HDF5 library's lock.

Where the chunks of a variable lie in the file is asked of the library once. After that they are
fetched, inflated and unshuffled by any number of threads at once. What comes out are the stored
numbers, the same as the library gives; whatever filter is not known here goes the ordinary way.
"""

from __future__ import annotations

import os
import threading
import zlib
from collections import OrderedDict
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bavlo.formats.grids import cf

DEFLATE, SHUFFLE = 1, 2  # HDF5's numbers of its filters
KNOWN = ((), (DEFLATE,), (SHUFFLE,), (SHUFFLE, DEFLATE))
LEAST_SIZE = 2**25  # bytes of a variable; the library opens smaller ones sooner than h5py loads
MOST_CHUNKS = 4_000_000
MOST_KEPT = 2**26  # bytes of inflated chunks that hold more than one step

_lock = threading.Lock()
_readers: OrderedDict[tuple[Path, str, int], ChunkReader | None] = OrderedDict()


@dataclass(eq=False)
class ChunkReader:
    """The chunks of one variable.

    Parameters
    ----------
    place
        Byte offset and size of each chunk by its number along every dimension; chunks that were
        never written are not there.
    filters
        In the order in which they were applied.
    """

    path: Path
    shape: tuple[int, ...]
    chunks: tuple[int, ...]
    dtype: np.dtype
    fill: np.ndarray
    filters: tuple[int, ...]
    place: dict[tuple[int, ...], tuple[int, int]]
    kept: OrderedDict[tuple[int, ...], np.ndarray] = field(default_factory=OrderedDict)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def read(self, key: tuple[slice | int, ...]) -> np.ndarray:
        """Stored numbers of a hyperslab; dimensions that are indexed by a number are dropped."""
        ranges = [k if isinstance(k, slice) else slice(k, k + 1) for k in key]
        out = np.empty([r.stop - r.start for r in ranges], self.dtype)
        numbers = [
            range(r.start // c, (r.stop - 1) // c + 1)
            for r, c in zip(ranges, self.chunks, strict=True)
        ]
        file = os.open(self.path, os.O_RDONLY)
        try:
            for number in np.ndindex(*(len(n) for n in numbers)):
                chunk = tuple(n[i] for n, i in zip(numbers, number, strict=True))
                self._copy(file, chunk, ranges, out)
        except (OSError, zlib.error, ValueError) as error:
            raise cf.not_damaged(self.path, error) from error
        finally:
            os.close(file)
        dropped = tuple(n for n, k in enumerate(key) if not isinstance(k, slice))
        return out.squeeze(axis=dropped) if dropped else out

    def _copy(
        self, file: int, chunk: tuple[int, ...], ranges: list[slice], out: np.ndarray
    ) -> None:
        """The part of a chunk that lies in the hyperslab."""
        inside, target = [], []
        for n, size, r in zip(chunk, self.chunks, ranges, strict=True):
            low, high = max(r.start, n * size), min(r.stop, (n + 1) * size)
            inside.append(slice(low - n * size, high - n * size))
            target.append(slice(low - r.start, high - r.start))
        out[tuple(target)] = self._chunk(file, chunk)[tuple(inside)]

    def _chunk(self, file: int, chunk: tuple[int, ...]) -> np.ndarray:
        """One chunk, inflated; those of several steps are kept for the next run of steps."""
        if self.chunks[0] == 1:
            return self._inflated(file, chunk)
        with self.lock:
            if chunk in self.kept:
                self.kept.move_to_end(chunk)
                return self.kept[chunk]
        values = self._inflated(file, chunk)
        with self.lock:
            self.kept[chunk] = values
            while len(self.kept) * values.nbytes > MOST_KEPT and len(self.kept) > 1:
                self.kept.popitem(last=False)
        return values

    def _inflated(self, file: int, chunk: tuple[int, ...]) -> np.ndarray:
        from isal import isal_zlib

        found = self.place.get(chunk)
        if found is None:
            return np.broadcast_to(self.fill, self.chunks)
        data = os.pread(file, found[1], found[0])
        if len(data) < found[1]:
            raise OSError("a chunk lies beyond the end of the file")
        size = int(np.prod(self.chunks)) * self.dtype.itemsize
        if DEFLATE in self.filters:
            try:
                data = isal_zlib.decompress(data, bufsize=size + 64)
            except isal_zlib.error as error:  # type: ignore[misc]
                raise zlib.error(str(error)) from error
        if len(data) != size:
            raise OSError(f"a chunk has {len(data)} bytes instead of {size}")
        if SHUFFLE in self.filters and self.dtype.itemsize > 1:
            planes = np.frombuffer(data, np.uint8).reshape(self.dtype.itemsize, -1)
            # Plane by plane: six times faster than to copy the transpose.
            mixed = np.empty((planes.shape[1], planes.shape[0]), np.uint8)
            for n, plane in enumerate(planes):
                mixed[:, n] = plane
            values = mixed.view(self.dtype)
        else:
            values = np.frombuffer(data, self.dtype)
        return values.reshape(self.chunks)


def reader_of(path: Path, name: str) -> ChunkReader | None:
    """The chunk reader of a variable; None where the ordinary way is the sound one."""
    key = (path, name, path.stat().st_mtime_ns)
    with _lock:
        if key not in _readers:
            _readers[key] = _open(path, name)
            while len(_readers) > 64:
                _readers.popitem(last=False)
        return _readers[key]


def _open(path: Path, name: str) -> ChunkReader | None:
    import h5py

    try:
        with h5py.File(path, "r", locking=False) as file:
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
            place: dict[tuple[int, ...], tuple[int, int]] = {}
            masked = []

            def note(info: object) -> None:
                offset = info.chunk_offset  # type: ignore[attr-defined]
                number = tuple(o // c for o, c in zip(offset, data.chunks, strict=True))
                place[number] = (info.byte_offset, info.size)  # type: ignore[attr-defined]
                if info.filter_mask:  # type: ignore[attr-defined]
                    masked.append(number)

            data.id.chunk_iter(note)
            if masked:  # chunks that were left unfiltered
                return None
            fill = np.asarray(data.fillvalue, data.dtype)
            return ChunkReader(path, data.shape, data.chunks, data.dtype, fill, filters, place)
    except (OSError, RuntimeError, KeyError, ValueError, AttributeError):
        return None  # the ordinary way tells what is wrong
