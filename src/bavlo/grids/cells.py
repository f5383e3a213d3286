"""The cells that a job uses: numbers, rectangles around them, and what is used of each chunk."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    pass


Decode = Callable[[np.ndarray, np.ndarray | None], np.ndarray]


@dataclass(frozen=True, eq=False)
class CellSubset:
    """Cells of a rectangle that are wanted.

    Parameters
    ----------
    within
        Numbered row by row within the rectangle; None where it is all of them, in order.
    position
        Where each of them stands among all wanted cells.
    size
        Cells of the rectangle.
    box
        The same places as rows and columns, where the wanted cells are whole rows of so many.
    """

    within: np.ndarray | None
    position: slice | np.ndarray
    size: int
    box: tuple[slice, slice, int] | None = None

    @classmethod
    def of(cls, within: np.ndarray, position: np.ndarray, size: int) -> CellSubset:
        """Cells by number; `size` is that of the rectangle."""
        whole = within.size == size and bool((np.diff(within) == 1).all())
        into: slice | np.ndarray = position
        if (np.diff(position) == 1).all():
            into = slice(int(position[0]), int(position[-1]) + 1)
        return cls(None if whole else within, into, size)

    def taken(self, stored: np.ndarray) -> np.ndarray:
        """The wanted cells (T, n) of numbers (T, size)."""
        if self.within is None:
            return stored
        if len(stored) == 1:
            # Places are known to be inside; unchecked it takes half of the time.
            return np.asarray(stored[0].take(self.within, mode="clip")[None])
        return np.take(stored, self.within, axis=1, mode="clip")

    def decode(self, stored: np.ndarray, decode: Decode, block: np.ndarray) -> None:
        """Take the wanted cells out of stored numbers (T, size) into their columns (T, C)."""
        alike = stored.dtype == block.dtype and isinstance(self.position, slice)
        if alike and self.within is not None:  # taken straight into their columns
            own = block[:, self.position]
            np.take(stored, self.within, axis=1, mode="clip", out=own)
            decode(own, own)
            return
        stored = self.taken(stored)
        if isinstance(self.position, slice):
            decode(stored, block[:, self.position])
        elif self.box is not None:  # twice as fast as by their numbers
            rows, columns, width = self.box
            part = block.reshape(len(block), -1, width)[:, rows, columns]
            decode(stored.reshape(part.shape), part)
        else:
            block[:, self.position] = decode(stored, None)


@dataclass(frozen=True, eq=False)
class Window:
    """A rectangle of the grid and the wanted cells in it.

    Parameters
    ----------
    rows, columns
        The rectangle.
    subset
        Which of its cells are wanted, and where they stand among all wanted cells.
    known_blocks
        What `blocks` found last.
    """

    rows: slice
    columns: slice
    subset: CellSubset
    known_blocks: tuple[tuple[int, int], list[tuple[int, int]]] | None = None

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of the rectangle."""
        return self.rows.stop - self.rows.start, self.columns.stop - self.columns.start

    def blocks(self, block: tuple[int, int]) -> list[tuple[int, int]]:
        """Which blocks of so many rows and columns of the grid hold wanted cells, row by row."""
        if self.known_blocks is not None and self.known_blocks[0] == block:
            return self.known_blocks[1]
        height, width = block
        down = range(self.rows.start // height, (self.rows.stop - 1) // height + 1)
        across = range(self.columns.start // width, (self.columns.stop - 1) // width + 1)
        within = self.subset.within
        if within is None or len(down) * len(across) == 1:
            return [(y, x) for y in down for x in across]
        row, column = np.divmod(within, self.shape[1])
        row, column = (row + self.rows.start) // height, (column + self.columns.start) // width
        used = np.zeros((len(down), len(across)), bool)
        used[row - down.start, column - across.start] = True
        found = [(y + down.start, x + across.start) for y, x in np.argwhere(used).tolist()]
        object.__setattr__(self, "known_blocks", (block, found))
        return found


@dataclass(frozen=True, eq=False)
class CellSelection:
    """The cells that a job uses.

    Parameters
    ----------
    shape
        Rows and columns of the grid.
    cells : (C,) int64
        Flat cell numbers, ascending.
    """

    shape: tuple[int, int]
    cells: np.ndarray

    @property
    def size(self) -> int:
        """How many there are."""
        return self.cells.size

    @cached_property
    def whole_rows(self) -> slice | None:
        """The rows that they are, all of the cells of each; None where they are not such."""
        width = self.shape[1]
        if not self.cells.size or self.cells[0] % width or self.cells.size % width:
            return None
        first, count = int(self.cells[0]) // width, self.cells.size // width
        ascending = self.cells[-1] - self.cells[0] + 1 == self.cells.size
        return slice(first, first + count) if ascending else None

    @cached_property
    def windows(self) -> tuple[Window, ...]:
        """One rectangle, or two where the columns leave a wide gap between them.

        So a region across the antimeridian does not read the globe.
        """
        size = self.size
        if not size:
            return ()
        if size == self.shape[0] * self.shape[1]:  # all of them, which needs no looking at
            subset = CellSubset(None, slice(0, size), size)
            return (Window(slice(0, self.shape[0]), slice(0, self.shape[1]), subset),)
        if self.whole_rows is not None:
            subset = CellSubset(None, slice(0, size), size)
            return (Window(self.whole_rows, slice(0, self.shape[1]), subset),)
        rows, columns = np.divmod(self.cells, self.shape[1])
        used = np.flatnonzero(np.bincount(columns, minlength=1))
        distance = np.diff(used)
        cuts = [int(used[-1]) + 1]
        if distance.size and distance.max() > (used[-1] - used[0] + 1) / 4:
            cuts.insert(0, int(used[np.argmax(distance)]) + 1)
        windows, west = [], 0
        for east in cuts:
            position = np.flatnonzero((columns >= west) & (columns < east))
            r, c = rows[position], columns[position]
            south, north = int(r.min()), int(r.max()) + 1
            left, right = int(c.min()), int(c.max()) + 1
            within = (r - south) * (right - left) + (c - left)
            subset = CellSubset.of(within, position, (north - south) * (right - left))
            windows.append(Window(slice(south, north), slice(left, right), subset))
            west = east
        return tuple(windows)


class WholeRows(CellSelection):
    """All cells of some rows, numbered only when somebody asks for their numbers.

    Parameters
    ----------
    rows
        At least one.
    """

    def __init__(self, shape: tuple[int, int], rows: slice) -> None:
        object.__setattr__(self, "shape", shape)
        object.__setattr__(self, "rows", rows)

    @cached_property
    def cells(self) -> np.ndarray:
        """(C,) int64 flat cell numbers, ascending."""
        rows = self.whole_rows
        return np.arange(rows.start * self.shape[1], rows.stop * self.shape[1])

    @property
    def size(self) -> int:
        """How many there are."""
        rows = self.whole_rows
        return int(rows.stop - rows.start) * self.shape[1]

    @property
    def whole_rows(self) -> slice:
        """The rows that they are."""
        rows: slice = self.__dict__["rows"]
        return rows


def whole(shape: tuple[int, int]) -> CellSelection:
    """All cells of a grid."""
    return WholeRows(shape, slice(0, shape[0]))


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
