"""The blocks of deflated GeoTIFF files of one band, inflated here.

The raster library does not look at the checksums of blocks, so that a turned bit gives another
number without an error, and inflates in a fifth more time. So it is only asked where blocks lie,
and what is done to their numbers before they are deflated. All other rasters it reads itself.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from bavlo.grids.fast.inflate import inflate
from bavlo.grids.source import Window

Fetch = Callable[[int, int], bytes | memoryview]  # bytes of a file by their place and number
DIFFERENCES, OF_FLOATS = 2, 3  # predictors: TIFF Revision 6.0, Adobe's Technical Note 3


@dataclass(frozen=True)
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
    """

    shape: tuple[int, int]
    block: tuple[int, int]
    dtype: np.dtype
    predictor: int

    @classmethod
    def of(cls, data: Any, fetch: Fetch) -> Blocks | None:
        """Those of an open raster; None where the raster library is to read it."""
        if data.driver != "GTiff" or data.count != 1:
            return None
        stored = data.tags(ns="IMAGE_STRUCTURE")
        dtype, predictor = np.dtype(data.dtypes[0]), int(stored.get("PREDICTOR", 1))
        is_plain = stored.get("COMPRESSION") == "DEFLATE" and "NBITS" not in stored
        if not is_plain or dtype.kind not in "iuf" or predictor not in (1, DIFFERENCES, OF_FLOATS):
            return None
        order = "<" if bytes(fetch(0, 2)) == b"II" else ">"
        shape = data.height, data.width
        return cls(shape, data.block_shapes[0], dtype.newbyteorder(order), predictor)

    def places(self, data: Any, window: Window) -> list[tuple[int, int]]:
        """Offset and size of each block with wanted cells; 0 of one that was never written."""
        found = []
        for y, x in window.blocks(self.block):
            pair = (
                data.get_tag_item(f"BLOCK_{what}_{x}_{y}", "TIFF", bidx=1)
                for what in ("OFFSET", "SIZE")
            )
            offset, size = (int(each or 0) for each in pair)
            found.append((offset, size) if offset and size else (0, 0))
        return found

    def read(self, data: Any, fetch: Fetch, window: Window, fill: float) -> np.ndarray:
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
        for (y, x), place in zip(numbers, self.places(data, window), strict=True):
            top, left = y * height, x * width
            r = slice(max(rows.start, top), min(rows.stop, top + height))
            c = slice(max(columns.start, left), min(columns.stop, left + width))
            down = slice(r.start - rows.start, r.stop - rows.start)
            across = slice(c.start - columns.start, c.stop - columns.start)
            own = slice(r.start - top, r.stop - top), slice(c.start - left, c.stop - left)
            out[down, across] = self._numbers(fetch(*place), y)[own] if place[1] else fill
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
