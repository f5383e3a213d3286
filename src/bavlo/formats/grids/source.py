"""What every grid reader gives: metadata first, then the values of chosen steps and cells."""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Protocol

import numpy as np

from bavlo.core.layout import GridLayout
from bavlo.core.timeaxis import TimeAxis
from bavlo.core.units import Variable


@dataclass(frozen=True, eq=False)
class Window:
    """A rectangle of the grid and the wanted cells in it.

    Parameters
    ----------
    rows, columns
        The rectangle.
    within : (N,) int64
        Wanted cells, numbered row by row within the rectangle.
    place : (N,) int64
        Where each of them stands among all wanted cells.
    """

    rows: slice
    columns: slice
    within: np.ndarray
    place: np.ndarray

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of the rectangle."""
        return self.rows.stop - self.rows.start, self.columns.stop - self.columns.start


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

    @cached_property
    def windows(self) -> tuple[Window, ...]:
        """One rectangle, or two where the columns leave a wide gap between them.

        So a region across the antimeridian does not read the globe.
        """
        if not self.cells.size:
            return ()
        rows, columns = np.divmod(self.cells, self.shape[1])
        used = np.unique(columns)
        distance = np.diff(used)
        cuts = [int(used[-1]) + 1]
        if distance.size and distance.max() > (used[-1] - used[0] + 1) / 4:
            cuts.insert(0, int(used[np.argmax(distance)]) + 1)
        windows, west = [], 0
        for east in cuts:
            place = np.flatnonzero((columns >= west) & (columns < east))
            r, c = rows[place], columns[place]
            south, north = int(r.min()), int(r.max()) + 1
            left, right = int(c.min()), int(c.max()) + 1
            within = (r - south) * (right - left) + (c - left)
            windows.append(Window(slice(south, north), slice(left, right), within, place))
            west = east
        return tuple(windows)


def whole(shape: tuple[int, int]) -> CellSelection:
    """All cells of a grid."""
    return CellSelection(shape, np.arange(shape[0] * shape[1]))


@dataclass(frozen=True, eq=False)
class RawTimes:
    """Time stamps as a file has them, before their meaning is settled.

    Parameters
    ----------
    stamps : (T,) int64
        Microseconds since 1970-01-01 of the calendar.
    bounds : (T, 2) int64 or None
        Where the file has them.
    calendar
        CF calendar.
    """

    stamps: np.ndarray
    bounds: np.ndarray | None
    calendar: str


class GridFile(Protocol):
    """One file's share of a grid: what a format must provide.

    A file is picklable; it opens itself again where it is read.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    step_chunk: int
    notes: tuple[str, ...]

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data."""


@dataclass(frozen=True, eq=False)
class GridSource:
    """A grid, from one file or many.

    Parameters
    ----------
    files
        In order of time.
    layout, variable
        The same for all files.
    time
        All steps; None for a grid without time.
    file_of, step_in : (T,) int64
        The file that holds each step, and its number there.
    notes
        What the reader noticed and a user should know.
    """

    files: tuple[GridFile, ...]
    layout: GridLayout
    variable: Variable
    time: TimeAxis | None
    file_of: np.ndarray
    step_in: np.ndarray
    notes: tuple[str, ...] = field(default=())

    @property
    def where(self) -> str:
        """The files in a few words, for messages."""
        names = [str(f.path) for f in self.files]
        return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(f.step_chunk for f in self.files)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded).

        Returns
        -------
        block : (T, C) float64
            In the file's unit, NaN where there is no data.
        """
        file_of, step_in = self.file_of[first:last], self.step_in[first:last]
        new_run = (np.diff(file_of) != 0) | (np.diff(step_in) != 1)
        starts = np.concatenate([[0], np.flatnonzero(new_run) + 1, [last - first]])
        if starts.size == 2:
            low = int(step_in[0])
            return self.files[file_of[0]].read(low, low + last - first, cells)
        block = np.empty((last - first, cells.cells.size))
        for start, stop in itertools.pairwise(starts):
            low = int(step_in[start])
            file = self.files[file_of[start]]
            block[start:stop] = file.read(low, low + int(stop - start), cells)
        return block
