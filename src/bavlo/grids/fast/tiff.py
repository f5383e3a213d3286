"""The blocks of deflated TIFF files, read without the raster library.

A folder of a file a day is mostly opened and inflated. Blocks are inflated here, which checks their
checksums, and several files at once. What is not plain goes the ordinary way.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from weakref import WeakKeyDictionary

import numpy as np

from bavlo.grids.fast.inflate import inflate
from bavlo.grids.fast.tiff_directory import FLOAT_PREDICTOR, Directory, Fetch
from bavlo.grids.source import Window


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
    for tile in _tiles(directory, window):
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
    """

    number: int
    y: int
    own: tuple[slice, slice]
    within: tuple[slice, slice]


_tiles_of: WeakKeyDictionary[Window, tuple[tuple[int, ...], tuple[_Tile, ...]]] = (
    WeakKeyDictionary()
)


def _tiles(directory: Directory, window: Window) -> tuple[_Tile, ...]:
    """The blocks of a window, listed once for all files with the same ones."""
    blocks = *directory.block, directory.shape[1]
    known = _tiles_of.get(window)
    if known is None or known[0] != blocks:
        _tiles_of[window] = known = blocks, tuple(_listed(directory, window))
    return known[1]


def _listed(directory: Directory, window: Window) -> Iterator[_Tile]:
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
        )


def _part(path: Path, fetch: Fetch, directory: Directory, tile: _Tile, fill: float) -> np.ndarray:
    """The wanted numbers of a block."""
    if not directory.is_written(tile.number):
        r, c = tile.own
        return np.full((r.stop - r.start, c.stop - c.start), fill, directory.dtype)
    return np.asarray(_block(fetch, directory, tile.number, tile.y)[tile.own])


def _block(fetch: Fetch, directory: Directory, number: int, y: int) -> np.ndarray:
    """The numbers of a block (lines, width)."""
    data = _bytes_of(fetch, directory, number, y)
    lines, width, item = len(data), directory.block[1], directory.dtype.itemsize
    if directory.predictor == FLOAT_PREDICTOR:
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
