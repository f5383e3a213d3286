"""The blocks of deflated TIFF files, read without the raster library.

A folder of a file a day is mostly opened and inflated. Files whose directory says the same as that
of the first one need no second look at their system and cells; their blocks are inflated here,
which checks their checksums, and several files at once. What is not plain goes the ordinary way.
Format: TIFF Revision 6.0 and Adobe's Technical Note 3 (predictors); BigTIFF.
"""

from __future__ import annotations

import hashlib
import os
import struct
import sys
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

import numpy as np

from bavlo.compiled import Loop, compiled
from bavlo.grids import urls as addresses
from bavlo.grids.fast.inflate import inflate
from bavlo.grids.fast.shared import are_shared, inflated_once
from bavlo.grids.fast.tiff_kernels import undo_float_predictor
from bavlo.grids.source import Window
from bavlo.records import dataclass

WIDTH, HEIGHT, BITS, COMPRESSION, SAMPLES = 256, 257, 258, 259, 277
STRIP_OFFSETS, ROWS_PER_STRIP, STRIP_SIZES, PREDICTOR, FORMAT = 273, 278, 279, 317, 339
TILE_WIDTH, TILE_HEIGHT, TILE_OFFSETS, TILE_SIZES = 322, 323, 324, 325
PLACES = (STRIP_OFFSETS, STRIP_SIZES, TILE_OFFSETS, TILE_SIZES)
OF_NO_ACCOUNT = (*PLACES, 269, 270, 305, 306, 315)  # names, dates and programs
NO_COMPRESSION, DEFLATED = 1, (8, 32946)
FIRST_READ = 2**14  # bytes; most directories lie in them
FLOAT_PREDICTOR = 3
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

    @property
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
    try:
        return _read_directory(fetch)
    except (struct.error, ValueError, IndexError, KeyError, OverflowError):
        return None


def known_directory(path: Path, fetch: Fetch) -> Directory | None:
    """The same of a file of this machine, remembered for whoever asks for it next."""
    status = path.stat()
    stamp = path, status.st_ino, status.st_mtime_ns, status.st_size
    if stamp not in _known:
        _known[stamp] = read_directory(fetch)
        while len(_known) > MOST_KNOWN:
            _known.popitem(last=False)
    return _known[stamp]


def _read_directory(at: Fetch) -> Directory | None:
    head = at(0, 16)
    order = {b"II": "<", b"MM": ">"}[bytes(head[:2])]
    version = struct.unpack_from(order + "H", head, 2)[0]
    big = version == 43
    if version not in (42, 43):
        return None
    start = struct.unpack_from(order + ("Q" if big else "I"), head, 8 if big else 4)[0]
    count = struct.unpack(order + ("Q" if big else "H"), at(start, 8 if big else 2))[0]
    if count > MOST_ENTRIES:
        return None
    entry, inline = (20, 8) if big else (12, 4)
    entries = at(start + (8 if big else 2), entry * count)
    found: dict[int, tuple[int, ...]] = {}
    digest = hashlib.sha256()
    for n in range(count):
        tag, kind = struct.unpack_from(order + "HH", entries, n * entry)
        number = struct.unpack_from(order + ("Q" if big else "I"), entries, n * entry + 4)[0]
        code, width = TYPES[kind]
        size = number * width
        if size > 2**26:
            return None
        value = entries[(n + 1) * entry - inline : (n + 1) * entry]
        if size > inline:
            value = at(struct.unpack(order + ("Q" if big else "I"), value)[0], size)
        value = value[:size]
        if tag not in OF_NO_ACCOUNT:
            digest.update(struct.pack("<HHQ", tag, kind, number) + value)
        if code not in ("f", "d") and tag in (*PLACES, *range(256, 340)):
            found[tag] = struct.unpack(f"{order}{number}{code}", value)
    return _directory(order, found, digest.digest())


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
    across, down = -(-width // block[1]), -(-height // block[0])
    if len(offsets) != across * down or len(sizes) != across * down:
        return None
    return Directory(
        (height, width), block, dtype, predictor, offsets, sizes, signature, is_deflated
    )


def warm_up(path: Path) -> None:
    """Load and compile what reading a large file uses, where numba is there."""
    directory = compiled_directory(path)
    if directory is None:
        return
    kernel = compiled(undo_float_predictor)
    if kernel is not None:
        item = directory.dtype.itemsize
        line = np.zeros((1, item), np.uint8)
        kernel(line, _room(line), np.zeros(1, f"u{item}"), 0, 1)


def compiled_directory(path: Path) -> Directory | None:
    """The directory of a file that is read through a compiled loop; None for all others."""
    with opened(path) as fetch:
        directory = read_directory(fetch)
    if directory is None or directory.predictor != FLOAT_PREDICTOR:
        return None
    return directory


def read_window(
    path: Path, fetch: Fetch, directory: Directory, window: Window, fill: float
) -> np.ndarray:
    """Stored numbers of a window; only the blocks that hold wanted cells are fetched.

    Parameters
    ----------
    path
        Of the file, by which blocks are kept that others will read too.
    fill
        What blocks hold that were never written.

    Returns
    -------
    stored : (rows, columns)
        Of no meaning in blocks without wanted cells.
    """
    rows, columns = window.rows, window.columns
    if directory.is_one_piece:
        line = directory.shape[1] * directory.dtype.itemsize
        size = (rows.stop - rows.start) * line
        data = fetch(directory.offsets[0] + rows.start * line, size)
        if len(data) != size:
            raise ValueError("rows lie beyond the end of the file")
        return np.frombuffer(data, directory.dtype).reshape(-1, directory.shape[1])[:, columns]
    out = np.empty(window.shape, directory.dtype)
    undo = None
    if directory.dtype.isnative and not are_shared():
        undo = _undoing_loop(directory)  # which puts numbers where they belong at once
    for tile in _tiles(directory, window):
        if undo is not None and tile.is_whole and directory.is_written(tile.number):
            first = tile.within[0].start * out.shape[1] + tile.within[1].start
            lines = _bytes_of(fetch, directory, tile.number, tile.y)
            undo(lines, _room(lines), out.reshape(-1).view(f"u{out.itemsize}"), first, out.shape[1])
        else:
            out[tile.within] = _part(path, fetch, directory, tile, fill)
    return out


def ranges_of(directory: Directory, window: Window) -> list[tuple[int, int]]:
    """Offsets and sizes of the blocks of a window, in the order in which they are read."""
    across = -(-directory.shape[1] // directory.block[1])
    numbers = [y * across + x for y, x in window.blocks(directory.block)]
    return [(directory.offsets[n], directory.sizes[n]) for n in numbers if directory.offsets[n]]


def blocks_of(
    path: Path, fetch: Fetch, directory: Directory, window: Window, fill: float
) -> Iterator[tuple[slice, slice, np.ndarray]]:
    """The same block by block: its rows and columns within the window, and its numbers there."""
    for tile in _tiles(directory, window):
        yield *tile.within, _part(path, fetch, directory, tile, fill)


@dataclass(frozen=True, eq=False)
class _Tile:
    """What a window wants of a block.

    Parameters
    ----------
    number, y
        Its place among all blocks, and its row of blocks.
    own, within
        Rows and columns within the block, and within the window.
    is_whole
        Whether all of the block is wanted.
    """

    number: int
    y: int
    own: tuple[slice, slice]
    within: tuple[slice, slice]
    is_whole: bool


def _tiles(directory: Directory, window: Window) -> Iterator[_Tile]:
    height, width = directory.block
    rows, columns = window.rows, window.columns
    across = -(-directory.shape[1] // width)
    for y, x in window.blocks(directory.block):
        top, left = y * height, x * width
        r = slice(max(rows.start, top), min(rows.stop, top + height))
        c = slice(max(columns.start, left), min(columns.stop, left + width))
        yield _Tile(
            y * across + x,
            y,
            (slice(r.start - top, r.stop - top), slice(c.start - left, c.stop - left)),
            (
                slice(r.start - rows.start, r.stop - rows.start),
                slice(c.start - columns.start, c.stop - columns.start),
            ),
            (r.stop - r.start, c.stop - c.start) == (height, width),
        )


def _part(path: Path, fetch: Fetch, directory: Directory, tile: _Tile, fill: float) -> np.ndarray:
    """The wanted numbers of a block."""
    if not directory.is_written(tile.number):
        r, c = tile.own
        return np.full((r.stop - r.start, c.stop - c.start), fill, directory.dtype)
    place = directory.offsets[tile.number], directory.sizes[tile.number]
    key = path, directory.signature, *place
    block = inflated_once(key, partial(_block, fetch, directory, tile.number, tile.y))
    return np.asarray(block[tile.own])


def _block(fetch: Fetch, directory: Directory, number: int, y: int) -> np.ndarray:
    """The numbers of a block (lines, width)."""
    data = _bytes_of(fetch, directory, number, y)
    lines, width, item = len(data), directory.block[1], directory.dtype.itemsize
    if directory.predictor == FLOAT_PREDICTOR:
        undo = _undoing_loop(directory)
        if undo is not None:
            whole = np.empty((lines, width), f"u{item}")
            undo(data, _room(data), whole.reshape(-1), 0, width)
            return whole.view(f"f{item}")
        whole = np.zeros((lines, width), f"u{item}")
        planes = np.cumsum(data, axis=1, dtype=np.uint8)
        for plane in range(item):  # largest byte first; thrice as fast as turning bytes about
            whole <<= 8
            whole |= planes[:, plane * width : (plane + 1) * width]
        return whole.view(f"f{item}")
    values = data.view(directory.dtype)
    if directory.predictor == 2:
        whole = values.view(f"{directory.dtype.byteorder}u{item}").astype(f"=u{item}")
        summed = np.cumsum(whole, axis=1, dtype=f"u{item}")
        return summed.view(directory.dtype.newbyteorder("="))
    return values


def _bytes_of(fetch: Fetch, directory: Directory, number: int, y: int) -> np.ndarray:
    """The bytes of a block (lines, width × item), inflated."""
    height, width = directory.block
    strips = width == directory.shape[1]
    data: bytes | bytearray | memoryview = fetch(directory.offsets[number], directory.sizes[number])
    line = width * directory.dtype.itemsize
    if directory.is_deflated:
        data = inflate(data, height * line)
    lines = len(data) // line
    last = directory.shape[0] - y * height
    if len(data) != lines * line or lines < (min(height, last) if strips else height):
        raise ValueError(f"a block has {len(data)} bytes instead of {height * line}")
    return np.frombuffer(data, np.uint8).reshape(lines, line)


def _room(lines: np.ndarray) -> np.ndarray:
    """Where the loop that undoes the predictor of floats keeps the sums of a line."""
    return np.empty(lines.shape[1] // 8 + 1, np.uint64)


def _undoing_loop(directory: Directory) -> Loop | None:
    """The compiled loop that undoes the predictor of floats; None where there is none to undo."""
    if directory.predictor != FLOAT_PREDICTOR or sys.byteorder != "little":
        return None
    return compiled(undo_float_predictor)
