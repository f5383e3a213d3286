"""What is used of the chunks of one step, each a rectangle with some wanted cells."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.grids.source import CellSubset


@dataclass(frozen=True, eq=False)
class Piece:
    """What is used of one chunk of a step.

    Parameters
    ----------
    chunk
        Its numbers along y and x.
    rows, columns
        The rectangle around the used cells, within the chunk.
    subset
        Which cells of it.
    """

    chunk: tuple[int, int]
    rows: slice
    columns: slice
    subset: CellSubset


def pieces_of_rows(rows: slice, width: int, cy: int, cx: int) -> list[Piece]:
    """What is used of each chunk by whole rows; ten times faster than by single cells."""
    place = np.arange((rows.stop - rows.start) * width).reshape(-1, width)
    found = []
    for y in range(rows.start // cy, (rows.stop - 1) // cy + 1):
        south, north = max(rows.start, y * cy), min(rows.stop, (y + 1) * cy)
        for x in range((width - 1) // cx + 1):
            columns = slice(x * cx, min(width, (x + 1) * cx))
            box = slice(south - rows.start, north - rows.start), columns
            position: slice | np.ndarray = place[box].ravel()
            if columns == slice(0, width):
                position = slice(box[0].start * width, box[0].stop * width)
            size = (north - south) * (columns.stop - columns.start)
            found.append(
                Piece(
                    (y, x),
                    slice(south - y * cy, north - y * cy),
                    slice(0, columns.stop - columns.start),
                    CellSubset(None, position, size, (*box, width)),
                )
            )
    return found


def piece_of(row: np.ndarray, column: np.ndarray, position: np.ndarray, cy: int, cx: int) -> Piece:
    """What is used of the chunk that some of the cells (C,) are in, by their places (n,)."""
    r, c = row[position], column[position]
    chunk = int(r[0]) // cy, int(c[0]) // cx
    south, west = int(r.min()), int(c.min())
    height, width = int(r.max()) + 1 - south, int(c.max()) + 1 - west
    number = (r - south) * width + (c - west)
    y, x = south - chunk[0] * cy, west - chunk[1] * cx
    return Piece(
        chunk,
        slice(y, y + height),
        slice(x, x + width),
        CellSubset.of(number, position, height * width),
    )
