"""Where the chunks of an HDF5 variable lie, asked of the library once and kept as numbers."""

from __future__ import annotations

from array import array
from dataclasses import dataclass
from typing import Any

import numpy as np


@dataclass(frozen=True, eq=False)
class ChunkTable:
    """The N chunks of a variable of D dimensions that were written, in the library's order.

    Parameters
    ----------
    first : (N, D) int64
        The first number of each chunk along every dimension.
    offset : (N,) int64
        Where each begins, in bytes after the file's user block.
    size : (N,) int64
        Bytes, as they are stored.
    mask : (N,) int64
        Filters that were left out, one bit each.
    """

    first: np.ndarray
    offset: np.ndarray
    size: np.ndarray
    mask: np.ndarray


def chunk_table(dataset: Any) -> ChunkTable:
    """Read the table of a chunked h5py dataset: 3 µs for each chunk, 48 bytes where D is 3.

    Raises
    ------
    OSError
        Where a chunk cannot be in any file.
    """
    numbers = array("q")
    extend = numbers.extend

    def note(info: Any) -> None:
        extend((*info.chunk_offset, info.byte_offset, info.size, info.filter_mask))

    try:
        dataset.id.chunk_iter(note)
    except OverflowError as error:
        raise OSError("a chunk lies beyond the end of the file") from error
    rank = len(dataset.shape)
    rows = np.frombuffer(numbers, np.int64).reshape(-1, rank + 3)
    return ChunkTable(rows[:, :rank], *rows[:, rank:].T)
