"""The blocks of deflated GeoTIFF files of one band, inflated here.

The raster library does not look at the checksums of blocks, so that a turned bit gives another
number without an error, and to open a file takes it as long as to inflate a fifth of a day's rain.
So a library for TIFF files says where blocks lie and what is done to their numbers before they are
deflated; of files that say the same of their cells only the first is opened as a raster.
"""

from __future__ import annotations

import logging
import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, BinaryIO

import numpy as np

from bavlo.grids.cells import Window
from bavlo.grids.formats.stored import inflate

Fetch = Callable[[int, int], bytes | memoryview]  # bytes of a file by their place and number
DIFFERENCES, OF_FLOATS = 2, 3  # predictors: TIFF Revision 6.0, Adobe's Technical Note 3
DEFLATED = (8, 32946)
# Tags of no account for what the numbers are: places of blocks, and names, dates and programs.
ASIDE = (269, 270, 273, 279, 305, 306, 315, 324, 325)


@dataclass(frozen=True, eq=False)
class Blocks:
    """How the numbers of a file are stored.

    Parameters
    ----------
    shape
        Rows and columns.
    block
        Rows and columns of a tile, or of a strip.
    dtype
        In the file's byte order.
    predictor
        1: none; DIFFERENCES along rows; OF_FLOATS: the same of the bytes of floats.
    offsets, sizes
        Of the blocks, row by row; 0 for one that was never written.
    likeness
        All else that the file says: files with the same have the same cells and packing.
    """

    shape: tuple[int, int]
    block: tuple[int, int]
    dtype: np.dtype
    predictor: int
    offsets: tuple[int, ...]
    sizes: tuple[int, ...]
    likeness: tuple[Any, ...]

    def places(self, window: Window) -> list[tuple[int, int]]:
        """Offset and size of each block with wanted cells; 0 of one that was never written."""
        across = -(-self.shape[1] // self.block[1])
        numbers = [y * across + x for y, x in window.blocks(self.block)]
        return [(self.offsets[n], self.sizes[n]) for n in numbers]

    def read(self, fetch: Fetch, window: Window, fill: float) -> np.ndarray:
        """Stored numbers of a window; only the blocks that hold wanted cells are fetched.

        Parameters
        ----------
        fill
            What blocks hold that were never written.

        Returns
        -------
        stored : (rows, columns)
            Of no meaning in blocks without wanted cells.

        Raises
        ------
        zlib.error, ValueError
            Where a block is damaged.
        """
        height, width = self.block
        rows, columns = window.rows, window.columns
        out = np.empty(window.shape, self.dtype.newbyteorder("="))
        numbers = window.blocks(self.block)
        for (y, x), place in zip(numbers, self.places(window), strict=True):
            top, left = y * height, x * width
            r = slice(max(rows.start, top), min(rows.stop, top + height))
            c = slice(max(columns.start, left), min(columns.stop, left + width))
            down = slice(r.start - rows.start, r.stop - rows.start)
            across = slice(c.start - columns.start, c.stop - columns.start)
            own = slice(r.start - top, r.stop - top), slice(c.start - left, c.stop - left)
            out[down, across] = self._numbers(fetch(*place), y)[own] if all(place) else fill
        return out

    def _numbers(self, stored: bytes | memoryview, y: int) -> np.ndarray:
        """The numbers of a block (lines, width) in a row of blocks."""
        height, width = self.block
        item = self.dtype.itemsize
        data = inflate(stored, height * width * item)
        lines = len(data) // (width * item)
        strips, last = width == self.shape[1], self.shape[0] - y * height
        least = min(height, last) if strips else height
        if len(data) != lines * width * item or lines < least:
            raise ValueError(f"a block has {len(data)} bytes instead of {height * width * item}")
        if self.predictor == OF_FLOATS:
            return self._of_floats(np.frombuffer(data, np.uint8).reshape(lines, -1))
        values = np.frombuffer(data, self.dtype).reshape(lines, width)
        if self.predictor == DIFFERENCES:
            whole = values.view(f"{self.dtype.byteorder}u{item}").astype(f"=u{item}")
            summed = np.cumsum(whole, axis=1, dtype=f"u{item}")
            return summed.view(self.dtype.newbyteorder("="))
        return values

    def _of_floats(self, data: np.ndarray) -> np.ndarray:
        """Numbers of lines of bytes: all highest ones, …, each less the byte before it."""
        item, width = self.dtype.itemsize, self.block[1]
        planes = np.cumsum(data, axis=1, dtype=np.uint8)
        mixed = np.empty((len(data), width, item), np.uint8)
        for plane in range(item):
            mixed[..., plane] = planes[:, plane * width : (plane + 1) * width]
        return mixed.view(f">f{item}")[..., 0]


def blocks_of(file: BinaryIO) -> Blocks | None:
    """Those of an open file; None where the raster library is to read it, or say what is wrong."""
    import tifffile

    logging.getLogger("tifffile").setLevel(logging.CRITICAL + 1)  # it is no matter of the user's
    try:
        with tifffile.TiffFile(file) as data:
            page: Any = data.pages.first
            others: list[Any] = list(data.pages[1:])
            if any(each.is_mask for each in others):
                return None
            dtype = page.dtype
            is_plain = page.compression in DEFLATED and page.samplesperpixel == 1
            known = page.predictor in (1, DIFFERENCES, OF_FLOATS)
            if not is_plain or not known or dtype is None or dtype.kind not in "iuf":
                return None
            if page.bitspersample != 8 * dtype.itemsize or page.fillorder != 1:
                return None
            height, width = page.imagelength, page.imagewidth
            block = min(page.rowsperstrip, height), width
            if page.is_tiled:
                block = page.tilelength, page.tilewidth
            if min(height, width, *block) < 1:
                return None
            count = -(-height // block[0]) * -(-width // block[1])
            if not len(page.dataoffsets) == len(page.databytecounts) == count:
                return None
            said = ((tag.code, repr(tag.value)) for tag in page.tags if tag.code not in ASIDE)
            return Blocks(
                (height, width),
                block,
                dtype.newbyteorder(data.byteorder),
                int(page.predictor),
                tuple(map(int, page.dataoffsets)),
                tuple(map(int, page.databytecounts)),
                (data.byteorder, *said),
            )
    except (
        tifffile.TiffFileError,
        ArithmeticError,
        AttributeError,
        LookupError,
        MemoryError,
        OSError,
        TypeError,
        ValueError,
        struct.error,
    ):
        return None
