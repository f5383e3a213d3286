"""The directories of TIFF files, read without the raster library.

Files whose directory says the same as that of the first one need no second look at their system
and cells. Format: TIFF Revision 6.0 and Adobe's Technical Note 3 (predictors); BigTIFF.
"""

from __future__ import annotations

import hashlib
import os
import struct
from collections import OrderedDict
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cached_property, partial
from pathlib import Path

import numpy as np

from bavlo.grids import urls as addresses

WIDTH, HEIGHT, BITS, COMPRESSION, SAMPLES = 256, 257, 258, 259, 277
STRIP_OFFSETS, ROWS_PER_STRIP, STRIP_SIZES, PREDICTOR, FORMAT = 273, 278, 279, 317, 339
TILE_WIDTH, TILE_HEIGHT, TILE_OFFSETS, TILE_SIZES = 322, 323, 324, 325
PLACES = (STRIP_OFFSETS, STRIP_SIZES, TILE_OFFSETS, TILE_SIZES)
USED = (
    WIDTH, HEIGHT, BITS, COMPRESSION, SAMPLES, ROWS_PER_STRIP, PREDICTOR, FORMAT, TILE_WIDTH,
    TILE_HEIGHT, *PLACES,
)  # fmt: skip
OF_NO_ACCOUNT = (*PLACES, 269, 270, 305, 306, 315)  # names, dates and programs
NO_COMPRESSION, DEFLATED = 1, (8, 32946)
FIRST_READ = 2**14  # bytes; most directories lie in them
FLOAT_PREDICTOR = 3
SUBFILE_TYPE, IS_MASK = 254, 4  # a tag, and the bit that makes an image the mask of another
MOST_ENTRIES = 4096
MOST_KNOWN = 20_000  # directories, of some 2 kB each
KINDS = {1: "u", 2: "i", 3: "f"}
TYPES = {
    1: ("B", 1), 2: ("B", 1), 3: ("H", 2), 4: ("I", 4), 5: ("Q", 8), 6: ("b", 1), 7: ("B", 1),
    8: ("h", 2), 9: ("i", 4), 10: ("q", 8), 11: ("f", 4), 12: ("d", 8), 13: ("I", 4),
    16: ("Q", 8), 17: ("q", 8), 18: ("Q", 8),
}  # fmt: skip


_known: OrderedDict[tuple[Path, int, int, int], Directory | None] = OrderedDict()


@dataclass(frozen=True, eq=False)
class Directory:
    """What a file says of its image.

    Parameters
    ----------
    shape
        Rows and columns.
    block
        Rows and columns of a tile, or of a strip.
    dtype
        In the file's byte order.
    predictor
        1: none; 2: differences along rows; 3: the same of the bytes of floats.
    offsets, sizes
        Of the blocks, row by row; 0 for one that was never written.
    signature
        Of everything else in it: files with the same have the same cells and packing.
    is_deflated
        Else the numbers stand in it as they are.
    """

    shape: tuple[int, int]
    block: tuple[int, int]
    dtype: np.dtype
    predictor: int
    offsets: tuple[int, ...]
    sizes: tuple[int, ...]
    signature: bytes
    is_deflated: bool = True

    def is_written(self, number: int) -> bool:
        """Whether a block was ever written."""
        return self.offsets[number] != 0 and self.sizes[number] != 0

    @cached_property
    def is_one_piece(self) -> bool:
        """Whether all rows follow one another as they are, without anything between strips."""
        line = self.shape[1] * self.dtype.itemsize
        return (
            not self.is_deflated
            and self.block[1] == self.shape[1]
            and sum(self.sizes) == self.shape[0] * line
            and all(
                a + n == b
                for a, n, b in zip(self.offsets, self.sizes, self.offsets[1:], strict=False)
            )
        )


Fetch = Callable[[int, int], bytes | memoryview]


@contextmanager
def opened(path: Path) -> Iterator[Fetch]:
    """What gives bytes of a file, here or at a URL, by their place and number."""
    url = addresses.url_of(path)
    if url is not None:
        yield _Near(partial(addresses.fetch, url))
        return
    file = os.open(path, os.O_RDONLY)
    try:
        yield _Near(lambda position, size: os.pread(file, size, position))
    finally:
        os.close(file)


class _Near:
    """Bytes of a file; a directory, which is read bit by bit, is fetched at once."""

    def __init__(self, fetch: Fetch) -> None:
        self.fetch = fetch
        self.start, self.near = 0, fetch(0, FIRST_READ)

    def __call__(self, position: int, size: int) -> bytes | memoryview:
        if not self._holds(position, size):
            if size > FIRST_READ // 2:
                return self.fetch(position, size)
            self.start = max(0, position - FIRST_READ // 4)
            self.near = self.fetch(self.start, FIRST_READ)
        return self.near[position - self.start : position - self.start + size]

    def _holds(self, position: int, size: int) -> bool:
        return self.start <= position and position + size <= self.start + len(self.near)


def read_directory(fetch: Fetch) -> Directory | None:
    """The first directory of a file; None where it is not plain: one deflated band."""
    global _latest
    like = None if _latest is None else _latest.directory_of_like(fetch)
    if like is not None:
        return like
    try:
        directory, form = _read_directory(fetch)
    except (struct.error, ValueError, IndexError, KeyError, OverflowError):
        return None
    _latest = form or _latest
    return directory


def known_directory(path: Path, fetch: Fetch) -> Directory | None:
    """The same of a file of this machine, remembered for whoever asks for it next."""
    status = path.stat()
    stamp = path, status.st_ino, status.st_mtime_ns, status.st_size
    if stamp not in _known:
        _known[stamp] = read_directory(fetch)
        while len(_known) > MOST_KNOWN:
            _known.popitem(last=False)
    return _known[stamp]


def _read_directory(at: Fetch) -> tuple[Directory | None, _Form | None]:
    head = at(0, 16)
    order = {b"II": "<", b"MM": ">"}[bytes(head[:2])]
    version = struct.unpack_from(order + "H", head, 2)[0]
    big = version == 43
    if version not in (42, 43):
        return None, None
    pointer, of_start = order + ("Q" if big else "I"), 8 if big else 4
    start = struct.unpack_from(pointer, head, of_start)[0]
    counted = at(start, 8 if big else 2)
    count = struct.unpack(order + ("Q" if big else "H"), counted)[0]
    if count > MOST_ENTRIES:
        return None, None
    entry, inline = (20, 8) if big else (12, 4)
    first = start + len(counted)
    entries = at(first, entry * count)
    found: dict[int, tuple[int, ...]] = {}
    digest = hashlib.sha256()
    told, pointers = [(0, head[: of_start + inline]), (start, counted)], [of_start]
    places: dict[int, tuple[int, str]] = {}
    for n in range(count):
        tag, kind = struct.unpack_from(order + "HH", entries, n * entry)
        number = struct.unpack_from(pointer, entries, n * entry + 4)[0]
        code, width = TYPES[kind]
        size = number * width
        if size > 2**26:
            return None, None
        own = entries[n * entry : (n + 1) * entry]
        value, place = own[entry - inline :], first + (n + 1) * entry - inline
        told.append((first + n * entry, own[: entry - inline]))
        if size > inline:
            told.append((place, value))
            pointers.append(place)
            place = struct.unpack(pointer, value)[0]
            value = at(place, size)
        if tag not in OF_NO_ACCOUNT:
            digest.update(struct.pack("<HHQ", tag, kind, number) + value[:size])
            told.append((place, value))
        if code not in ("f", "d") and tag in USED:
            found[tag] = struct.unpack(f"{order}{number}{code}", value[:size])
            if tag in PLACES:
                places[tag] = place, f"{order}{number}{code}"
    behind = first + entry * count, at(first + entry * count, inline)
    told.append(behind)
    following = struct.unpack(pointer, behind[1])[0]
    if _has_mask(at, order, big=big, start=following):
        return None, None
    directory = _directory(order, found, digest.digest())
    if directory is None or len(places) != 2 or following:
        return directory, None
    _, blocks = zip(*sorted(places.items()), strict=True)  # of offsets first
    form = _Form(start, pointer, of_start, _runs_of(told, pointers, start), blocks, directory)
    return directory, form


def _has_mask(at: Fetch, order: str, *, big: bool, start: int) -> bool:
    """Whether one of the images behind the first, such as overviews, is the mask of another."""
    pointer, size, entry = order + ("Q" if big else "I"), 8 if big else 2, 20 if big else 12
    for _ in range(MOST_ENTRIES):
        if not start:
            return False
        count = struct.unpack(order + ("Q" if big else "H"), at(start, size))[0]
        if count > MOST_ENTRIES:
            return False
        entries = at(start + size, entry * count)
        for n in range(count):
            tag = struct.unpack_from(order + "H", entries, n * entry)[0]
            sort = struct.unpack_from(order + "I", entries, n * entry + (12 if big else 8))[0]
            if tag == SUBFILE_TYPE and sort & IS_MASK:
                return True
        start = struct.unpack(pointer, at(start + size + entry * count, 8 if big else 4))[0]
    return False


@dataclass(frozen=True, eq=False)
class _Run:
    """Bytes that a directory was read from.

    Parameters
    ----------
    place
        Where they stand.
    pointers
        Where among them the places of others stand.
    """

    place: int
    content: bytes
    pointers: tuple[int, ...]


def _runs_of(
    told: Sequence[tuple[int, bytes | memoryview]], pointers: Sequence[int], start: int
) -> tuple[_Run, ...]:
    """Bytes as runs; those that touch are joined, on one side of `start`."""
    joined: list[tuple[int, bytearray]] = []
    for place, content in sorted(told, key=lambda each: each[0]):
        first, so_far = joined[-1] if joined else (place, bytearray())
        within = place - first
        if joined and within <= len(so_far) and (place < start) == (first < start):
            so_far[within : within + len(content)] = content
        else:
            joined.append((place, bytearray(content)))
    return tuple(
        _Run(
            place,
            bytes(content),
            tuple(p - place for p in pointers if place <= p < place + len(content)),
        )
        for place, content in joined
    )


@dataclass(frozen=True, eq=False)
class _Form:
    """What a directory was read from, by which that of a like file is read in a fifth of the time.

    In a like file it may stand elsewhere, with all that stands behind its beginning.

    Parameters
    ----------
    start, pointer, of_start
        Where it begins, how places are written, and where that of its beginning is.
    told
        All bytes that it was read from, but for `places` and for what is of no account.
    places
        Where the offsets and where the sizes of blocks stand, and how; not the same in like files.
    directory
        As it was read.
    """

    start: int
    pointer: str
    of_start: int
    told: tuple[_Run, ...]
    places: tuple[tuple[int, str], ...]
    directory: Directory

    def directory_of_like(self, at: Fetch) -> Directory | None:
        """The directory of another file; None where that does not say the same."""
        try:
            further = struct.unpack_from(self.pointer, at(0, 16), self.of_start)[0] - self.start
            for run in self.told:
                place = self._moved(run.place, further)
                if at(place, len(run.content)) != self._content(run, further):
                    return None
            offsets, sizes = (
                struct.unpack(how, at(self._moved(place, further), struct.calcsize(how)))
                for place, how in self.places
            )
        except struct.error:  # of a file that ends before
            return None
        if (offsets, sizes) == (self.directory.offsets, self.directory.sizes):
            return self.directory
        return replace(self.directory, offsets=offsets, sizes=sizes)

    def _moved(self, place: int, further: int) -> int:
        return place + further if place >= self.start else place

    def _content(self, run: _Run, further: int) -> bytes | bytearray:
        """What a like file holds where this holds a run."""
        if not further or not run.pointers:
            return run.content
        content = bytearray(run.content)
        for n in run.pointers:
            place = struct.unpack_from(self.pointer, content, n)[0]
            struct.pack_into(self.pointer, content, n, self._moved(place, further))
        return content


_latest: _Form | None = None  # of the file read last


def _directory(order: str, found: dict[int, tuple[int, ...]], signature: bytes) -> Directory | None:
    height, width = found[HEIGHT][0], found[WIDTH][0]
    kind = KINDS.get(found.get(FORMAT, (1,))[0])
    bits = found.get(BITS, (1,))
    predictor = found.get(PREDICTOR, (1,))[0]
    plain = (
        found.get(SAMPLES, (1,))[0] == 1
        and found[COMPRESSION][0] in (NO_COMPRESSION, *DEFLATED)
        and kind is not None
        and bits[0] in (8, 16, 32, 64)
        and predictor in (1, 2, 3)
        and (predictor != FLOAT_PREDICTOR or kind == "f")
    )
    is_deflated = found[COMPRESSION][0] != NO_COMPRESSION
    if not plain or (predictor != 1 and not is_deflated):
        return None
    dtype = np.dtype(f"{order}{kind}{bits[0] // 8}")
    if TILE_OFFSETS in found:
        block = found[TILE_HEIGHT][0], found[TILE_WIDTH][0]
        offsets, sizes = found[TILE_OFFSETS], found[TILE_SIZES]
    else:
        block = min(found.get(ROWS_PER_STRIP, (height,))[0], height), width
        offsets, sizes = found[STRIP_OFFSETS], found[STRIP_SIZES]
    if min(*block, height, width) < 1:
        return None
    across, down = -(-width // block[1]), -(-height // block[0])
    if len(offsets) != across * down or len(sizes) != across * down:
        return None
    return Directory(
        (height, width), block, dtype, predictor, offsets, sizes, signature, is_deflated
    )
