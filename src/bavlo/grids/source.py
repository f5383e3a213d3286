"""What every grid reader gives: metadata first, then the values of chosen steps and cells."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Protocol

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.errors import public
from bavlo.grids.cells import CellSelection

if TYPE_CHECKING:
    from bavlo.grids.formats.packing import Packing


import itertools

from bavlo.grids.urls import ASKED_AT_ONCE, url_of


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
    unwritten
        Steps at the end of the file that have no time and are left out.
    """

    stamps: np.ndarray
    bounds: np.ndarray | None
    calendar: str
    climatology: bool = False
    accumulated: bool = False
    from_name: bool = False
    unwritten: int = 0


@dataclass(frozen=True)
class ReadOptions:
    """What a user says about files whose own metadata is silent, wrong or manifold.

    Parameters
    ----------
    variable, level
        Which variable, and which values of further dimensions: `V`, or `DIM=V`.
    stamp, day_start, utc_offset
        What time stamps mark, the hour at which a day begins, and minutes to add to all times.
    input_unit, scale
        The unit, and factor and offset of value = read × factor + offset.
    kind
        What the values are: amount, rate, state, accumulated, count or class.
    resample_tiles
        Tiles of several reference systems are brought onto the cells of the finest of them.
    called
        What the grid is called: a variable of that name is meant where nothing else is chosen.
    missing
        Numbers that mean no data and that files do not declare; none of them where empty, and None
        where nothing is said, so that the usual ones are looked for.
    dates
        Where the dates stand in file names, in strftime codes.
    prefer
        Which of two different values of a step counts: first or last.
    input_crs
        Reference system of a raster that names none.
    """

    variable: str | None = None
    level: tuple[str, ...] = ()
    stamp: str | None = None
    day_start: int | None = None
    utc_offset: int = 0
    input_unit: str | None = None
    scale: tuple[float, float] = (1.0, 0.0)
    dates: str | None = None
    prefer: str | None = None
    input_crs: str | None = None
    kind: str | None = None
    missing: tuple[float, ...] | None = None
    called: str | None = None
    resample_tiles: bool = False


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
    def needs_rechunking(self) -> bool:
        """Whether chunks of several steps would be inflated again for each run of steps."""

    @property
    def is_raster(self) -> bool:
        """Whether it is a raster, which may lack dates and a reference system."""

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

    needs_rechunking = False
    is_raster = False

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

    @property
    def tiles(self) -> tuple[JoinedGrid, ...]:
        """The grids of files that it is put together of: itself, or its tiles; none where made."""

    @property
    def reads_rows(self) -> bool:
        """Whether whole rows are read as they are stored, without a list of their cells."""

    @property
    def how_combined(self) -> str:
        """How steps became the values of its periods; empty where they did not."""

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded).

        Returns
        -------
        block : (T, C) float64
            In the variable's unit, NaN where there is no data.
        """


class OfSource:
    """A grid that reads another: what it has not of its own is that of the other, its `source`."""

    tiles: tuple[JoinedGrid, ...] = ()
    reads_rows = False
    how_combined = ""

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


@dataclass(frozen=True, eq=False)
class JoinedGrid:
    """Files with the same cells, one after the other in time.

    Parameters
    ----------
    file_of, step_in : (T,) int64
        The file that holds each step, and its number there.
    scale, offset
        What the user says: value = read × scale + offset.
    takes_all
        The user says that nothing means no data but what the files declare.
    looked_at
        Lowest and highest value of the sample in which marks of no data were looked for, these left
        out; None where nobody looked.
    """

    files: tuple[GridFile, ...]
    layout: GridLayout
    variable: Variable
    time: TimeAxis | None
    file_of: np.ndarray
    step_in: np.ndarray
    notes: tuple[str, ...] = ()
    scale: float = 1.0
    offset: float = 0.0
    takes_all: bool = False
    looked_at: tuple[float, float] | None = None
    reads_rows: ClassVar[bool] = True
    how_combined: ClassVar[str] = ""

    @property
    def tiles(self) -> tuple[JoinedGrid, ...]:
        """Itself."""
        return (self,)

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(f.step_chunk for f in self.files)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        block = np.empty((last - first, cells.size))
        file_of, step_in = self.file_of[first:last], self.step_in[first:last]
        new_run = (np.diff(file_of) != 0) | (np.diff(step_in) != 1)
        starts = np.concatenate([[0], np.flatnonzero(new_run) + 1, [last - first]])
        if starts.size == 2:
            low = int(step_in[0])
            self.files[file_of[0]].read(low, low + last - first, cells, block)
        else:

            def read_run(run: tuple[int, int]) -> None:
                start, stop = run
                low = int(step_in[start])
                self.files[file_of[start]].read(low, low + stop - start, cells, block[start:stop])

            runs = list(itertools.pairwise(starts.tolist()))
            if url_of(self.files[file_of[0]].path) is None:
                for run in runs:
                    read_run(run)
            else:  # so that the delays of many files do not add up
                from concurrent.futures import ThreadPoolExecutor

                with ThreadPoolExecutor(min(len(runs), ASKED_AT_ONCE)) as pool:
                    list(pool.map(read_run, runs))
        return self._scaled(block)

    def _scaled(self, block: np.ndarray) -> np.ndarray:
        if self.scale != 1.0:
            block *= self.scale
        if self.offset != 0.0:
            block += self.offset
        return block
