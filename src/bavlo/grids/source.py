"""What every grid reader gives: metadata first, then the values of chosen steps and cells."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.errors import public

if TYPE_CHECKING:
    from bavlo.grids.cf import Packing

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
    climatology
        The times are those of normals (CF-1.11, section 7.4), not a time series.
    accumulated
        The file says that values are accumulated up to their stamps.
    from_name
        They are told by the name of the file.
    """

    stamps: np.ndarray
    bounds: np.ndarray | None
    calendar: str
    climatology: bool = False
    accumulated: bool = False
    from_name: bool = False


@dataclass(frozen=True)
class ReadOptions:
    """What a user says about files whose own metadata is silent, wrong or manifold.

    Parameters
    ----------
    variable, level
        Which variable, and which values of further dimensions: `V`, or `DIM=V`.
    stamp, day_start, utc_offset
        What time stamps mark, the hour at which a day begins, and minutes to add to all times.
    input_unit, scale, offset
        The unit, and value = read × scale + offset.
    kind
        What the values are: amount, rate, state, accumulated, count or class.
    resample_tiles
        Tiles of several reference systems are brought onto the cells of the finest of them.
    called
        What the grid is called: a variable of that name is meant where nothing else is chosen.
    follow
        Files may keep their values in other files, outside their own folder.
    missing
        Numbers that mean no data and that files do not declare; none of them where empty, and None
        where nothing is said, so that the usual ones are looked for.
    dates
        Where the dates stand in file names, in strftime codes.
    prefer
        Which of two different values of a step counts: first or last.
    grid_crs
        Reference system of a raster that names none.
    """

    variable: str | None = None
    level: tuple[str, ...] = ()
    stamp: str | None = None
    day_start: int | None = None
    utc_offset: int = 0
    input_unit: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    dates: str | None = None
    prefer: str | None = None
    grid_crs: str | None = None
    kind: str | None = None
    missing: tuple[float, ...] | None = None
    called: str | None = None
    resample_tiles: bool = False
    follow: bool = False


# What a grid and a file may have from another that they read.
GRID_PARTS = frozenset(("files", "layout", "variable", "time", "notes", "step_chunk"))
FILE_PARTS = frozenset(
    ("path", "variable", "layout", "times", "notes", "step_chunk", "stored", "dtype", "packing")
)


class GridFile(Protocol):
    """One file's share of a grid: what a format must provide.

    A file is picklable; it opens itself again where it is read.
    """

    @property
    def path(self) -> Path:
        """Where it is."""

    @property
    def variable(self) -> Variable:
        """As the file describes it."""

    @property
    def layout(self) -> GridLayout:
        """Its cells."""

    @property
    def times(self) -> RawTimes | None:
        """Its time stamps; None for a grid without time."""

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values; None where they are packed."""

    @property
    def dtype(self) -> np.dtype:
        """Type of the stored numbers."""

    @property
    def packing(self) -> Packing:
        """How stored numbers become values."""

    def packed(self, packing: Packing) -> GridFile:
        """The same with another understanding of its stored numbers."""

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed and a user should know."""

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.
        """


class OfFile:
    """A file that reads another, its `inner`, and has from it what it has not of its own."""

    def __getattr__(self, name: str) -> Any:
        if name in FILE_PARTS:
            return getattr(self.inner, name)
        raise AttributeError(name)


class GridFormat(Protocol):
    """A format of grid files.

    Attributes
    ----------
    named_by_file
        Whether the one variable of a file goes by the file's name, which may differ among the
        files of a grid.
    """

    @property
    def named_by_file(self) -> bool:
        """Whether a variable goes by the name of its file."""

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The gridded variables of a file."""

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> GridFile:
        """Read the metadata of one variable."""


class GridSource(Protocol):
    """A grid, from one file or many: what the study needs of it."""

    @property
    def files(self) -> tuple[GridFile, ...]:
        """All files, in order of time."""

    @property
    def layout(self) -> GridLayout:
        """All cells."""

    @property
    def variable(self) -> Variable:
        """The variable, with what the user said about it."""

    @property
    def time(self) -> TimeAxis | None:
        """All steps; None for a grid without time."""

    @property
    def notes(self) -> tuple[str, ...]:
        """What the readers noticed and a user should know."""

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded).

        Returns
        -------
        block : (T, C) float64
            In the variable's unit, NaN where there is no data.
        """


class OfSource:
    """A grid that reads another: what it has not of its own is that of the other, its `source`."""

    def __getattr__(self, name: str) -> Any:
        if name in GRID_PARTS:
            return getattr(self.source, name)
        raise AttributeError(name)

    if TYPE_CHECKING:

        @property
        def files(self) -> tuple[GridFile, ...]: ...  # noqa: D102

        @property
        def layout(self) -> GridLayout: ...  # noqa: D102

        @property
        def variable(self) -> Variable: ...  # noqa: D102

        @property
        def time(self) -> TimeAxis | None: ...  # noqa: D102

        @property
        def notes(self) -> tuple[str, ...]: ...  # noqa: D102

        @property
        def step_chunk(self) -> int: ...  # noqa: D102


def is_climatology(source: GridSource) -> bool:
    """Whether a grid holds normals rather than a time series."""
    return any(file.times is not None and file.times.climatology for file in source.files)


def files_of(source: GridSource, first: int, last: int) -> str:
    """The files that hold some steps, for messages; all of them where that is not known."""
    file_of = getattr(source, "file_of", None)
    if file_of is None:
        return where(source)
    names = [public(str(source.files[n].path)) for n in np.unique(file_of[first:last])]
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"


def where(source: GridSource) -> str:
    """The files of a grid in a few words, for messages."""
    names = [public(str(f.path)) for f in source.files]
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
