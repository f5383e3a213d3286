"""Many files as one grid: joined in time, and in space where they are tiles."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import SECOND, TimeAxis, iso_day, iso_minute
from bavlo.core.time.steps import BOUNDS_IN_FILE, overlapping, time_axis
from bavlo.core.values.kinds import ACCUMULATED, Variable
from bavlo.errors import InputError
from bavlo.grids.fast.packed import HasPacked, PackedBlock
from bavlo.grids.fast.rows import HasStoredRows, StoredRows
from bavlo.grids.fast.stored import HasStoredSteps, StoredStep
from bavlo.grids.source import (
    CellSelection,
    GridFile,
    GridSource,
    RawTimes,
    ReadOptions,
    WholeRows,
    whole,
)
from bavlo.grids.urls import url_of
from bavlo.records import dataclass

NOWHERE = -1
FILES_AT_ONCE = 16  # that are fetched by URL


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

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(f.step_chunk for f in self.files)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        return self._scaled(self._read(first, last, cells, np.empty((last - first, cells.size))))

    def read_narrow(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """The same as float32, where `is_narrow`: in half of the memory."""
        block = np.empty((last - first, cells.size), np.float32)
        return self._read(first, last, cells, block)

    def _read(self, first: int, last: int, cells: CellSelection, block: np.ndarray) -> np.ndarray:
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

                with ThreadPoolExecutor(min(len(runs), FILES_AT_ONCE)) as pool:
                    list(pool.map(read_run, runs))
        return block

    @cached_property
    def whole_numbers(self) -> bool:
        """Whether all that is stored are whole numbers, of which the values are made at once."""
        plain = self.scale == 1.0 and self.offset == 0.0
        return plain and all(isinstance(f, HasPacked) and f.whole_numbers for f in self.files)

    def read_packed(self, first: int, last: int, cells: CellSelection) -> PackedBlock | None:
        """The same as whole numbers that are not decoded yet; None where they are none."""
        file_of, step_in = self.file_of[first:last], self.step_in[first:last]
        one_run = file_of[0] == file_of[-1] and (np.diff(step_in) == 1).all()
        file = self.files[file_of[0]]
        if not one_run or not self.whole_numbers or not isinstance(file, HasPacked):
            return None
        return file.read_packed(int(step_in[0]), int(step_in[0]) + last - first, cells)

    @cached_property
    def plain_steps(self) -> bool:
        """Whether each step is stored by itself, in floats that are the values."""
        plain = self.time is not None and self.scale == 1.0 and self.offset == 0.0
        return plain and all(isinstance(f, HasStoredSteps) and f.plain_steps for f in self.files)

    @cached_property
    def is_narrow(self) -> bool:
        """Whether all its values are float32 numbers."""
        return self.plain_steps and all(file.dtype == np.float32 for file in self.files)

    def read_stored(self, step: int, cells: CellSelection) -> StoredStep | None:
        """The stored numbers of a step; None where they are not to be had like that."""
        file = self.files[self.file_of[step]]
        if not self.plain_steps or not isinstance(file, HasStoredSteps):
            return None
        return file.read_stored(int(self.step_in[step]), cells)

    def read_rows(self, rows: slice) -> StoredRows | None:
        """Whole rows of a grid without time as they are stored, where they are the values."""
        file = self.files[0]
        plain = self.time is None and self.scale == 1.0 and self.offset == 0.0
        if not plain or len(self.files) > 1 or not isinstance(file, HasStoredRows):
            return None
        return file.read_rows(rows)

    def _scaled(self, block: np.ndarray) -> np.ndarray:
        if self.scale != 1.0:
            block *= self.scale
        if self.offset != 0.0:
            block += self.offset
        return block


@dataclass(frozen=True, eq=False)
class TiledGrid:
    """Grids that lie beside each other or overlap, as one.

    The cells are those of all tiles cut along the edges of all tiles, so that every cell lies
    wholly in one cell of each tile that covers it and areas stay exact.

    Parameters
    ----------
    tiles
        In order of preference where they overlap: finer cells first, then as given.
    rows, columns
        For each tile, the row and column that each row and column of the whole lies in.
    steps : (tiles, T) int64
        The step of each tile, NOWHERE where it has none.
    """

    tiles: tuple[JoinedGrid, ...]
    layout: GridLayout
    variable: Variable
    time: TimeAxis | None
    rows: tuple[np.ndarray, ...]
    columns: tuple[np.ndarray, ...]
    steps: np.ndarray
    notes: tuple[str, ...] = ()

    @cached_property
    def files(self) -> tuple[GridFile, ...]:
        """All files of all tiles."""
        return tuple(file for tile in self.tiles for file in tile.files)

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(tile.step_chunk for tile in self.tiles)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        if cells.whole_rows is not None:
            return self._read_rows(first, last, cells.whole_rows)
        block = np.full((last - first, cells.size), np.nan)
        row, column = np.divmod(cells.cells, self.layout.shape[1])
        for tile, rows, columns, steps in zip(
            self.tiles, self.rows, self.columns, self.steps, strict=True
        ):
            tile_row, tile_column = rows[row], columns[column]
            inside = np.flatnonzero((tile_row != NOWHERE) & (tile_column != NOWHERE))
            if not inside.size:
                continue
            number = tile_row[inside] * tile.layout.shape[1] + tile_column[inside]
            used, position = np.unique(number, return_inverse=True)
            chosen = CellSelection(tile.layout.shape, used)
            for own, low in _runs(steps[first:last]):
                values = tile.read(low, low + own.stop - own.start, chosen)[:, position]
                within = block[own, inside]
                block[own, inside] = np.where(np.isnan(within), values, within)
        return block

    def _read_rows(self, first: int, last: int, wanted: slice) -> np.ndarray:
        """The same of whole rows, which need no list of their cells."""
        width = self.layout.shape[1]
        block = np.full((last - first, wanted.stop - wanted.start, width), np.nan)
        for tile, rows, columns, steps in zip(
            self.tiles, self.rows, self.columns, self.steps, strict=True
        ):
            here, there = (
                np.flatnonzero(rows[wanted] != NOWHERE),
                np.flatnonzero(columns != NOWHERE),
            )
            if not here.size or not there.size:
                continue
            tile_row, tile_column = rows[wanted][here], columns[there]
            top, bottom = int(tile_row.min()), int(tile_row.max()) + 1
            chosen = WholeRows(tile.layout.shape, slice(top, bottom))
            for own, low in _runs(steps[first:last]):
                count = own.stop - own.start
                values = tile.read(low, low + count, chosen).reshape(count, bottom - top, -1)
                values = values[:, tile_row - top][:, :, tile_column]
                place = np.ix_(np.arange(own.start, own.stop), here, there)
                within = block[place]
                block[place] = np.where(np.isnan(within), values, within)
        return block.reshape(last - first, -1)


def _runs(steps: np.ndarray) -> Iterator[tuple[slice, int]]:
    """Where a tile has steps that follow one another, and the first of them there.

    Parameters
    ----------
    steps : (T,) int64
        The tile's own step for each, NOWHERE where it has none.
    """
    present = np.flatnonzero(steps != NOWHERE)
    breaks = np.flatnonzero((np.diff(present) != 1) | (np.diff(steps[present]) != 1)) + 1
    for run in np.split(present, breaks):
        if run.size:
            yield slice(int(run[0]), int(run[-1]) + 1), int(steps[run[0]])


def join(files: Sequence[GridFile], options: ReadOptions) -> GridSource:
    """Files as one grid.

    Parameters
    ----------
    files
        In the order given; each set of cells among them is a tile.
    """
    first = files[0]
    for file in files[1:]:
        if file.variable.unit != first.variable.unit and options.input_unit is None:
            raise InputError(
                file.path,
                f"has the unit '{file.variable.unit}', {first.path.name} '{first.variable.unit}'",
                "give files of one grid, or the unit of all of them with ‹input_unit›",
            )
        if (file.times is None) != (first.times is None):
            more = "no time axis, which" if file.times is None else "a time axis, as opposed to"
            raise InputError(
                file.path, f"has {more} {first.path.name} has", "give files of one grid only"
            )
    groups = grouped(files)
    if len(groups) == 1:
        return in_time(groups[0], options)
    _check_tiles(groups)
    tiles = [in_time(group, options) for group in groups]
    for tile in tiles[1:]:
        if _apart_in_time(tile, tiles[0]) or _shifted(tile.layout, tiles[0].layout):
            raise InputError(
                tile.files[0].path,
                f"has other cells than {first.path.name}",
                "give files of one grid, or tiles of the same steps",
            )
    return _beside(tiles)


def grouped(files: Sequence[GridFile]) -> list[list[GridFile]]:
    """Files with the same cells together, in the order given."""
    groups: list[list[GridFile]] = []
    for file in files:
        for group in groups:
            if file.layout is group[0].layout or group[0].layout.same_cells(file.layout):
                group.append(file)
                break
        else:
            groups.append([file])
    return groups


def _apart_in_time(a: JoinedGrid, b: JoinedGrid) -> bool:
    """Whether two tiles have no step in common, and so are different grids after one another."""
    if a.time is None or b.time is None:
        return False
    return not np.isin(a.time.start, b.time.start).any()


def _shifted(a: GridLayout, b: GridLayout) -> bool:
    """Whether cells of one size lie across each other's edges."""
    for one, other, size, other_size in (
        (a.x_edges, b.x_edges, a.cell_size[0], b.cell_size[0]),
        (a.y_edges, b.y_edges, a.cell_size[1], b.cell_size[1]),
    ):
        if abs(size / other_size - 1) < 1e-3:
            offset = (one.min() - other.min()) / size
            if abs(offset - np.rint(offset)) > 1e-3:
                return True
    return False


def in_time(files: list[GridFile], options: ReadOptions) -> JoinedGrid:
    """Files with the same cells, in order of time."""
    first = files[0]
    variable = first.variable
    if options.input_unit is not None:
        variable = replace(variable, unit=options.input_unit)
    if options.kind is not None:
        variable = replace(variable, kind=options.kind, kind_evidence="the request")
    notes = tuple(dict.fromkeys(note for file in files for note in file.notes))
    settings = (options.scale, options.offset, options.missing == ())
    if first.times is None:
        if len(files) > 1:
            raise InputError(
                files[1].path,
                f"has neither a time axis nor a date in its name, and the cells of "
                f"{first.path.name}",
                "give one file, or say where dates stand in the names with ‹dates›",
            )
        none = np.zeros(1, np.int64)
        return JoinedGrid((first,), first.layout, variable, None, none, none, notes, *settings)
    axis, file_of, step_in = _steps_in_order(files, options)
    kept = tuple(files), first.layout, variable
    return JoinedGrid(*kept, axis, file_of, step_in, notes, *settings)


def _steps_in_order(
    files: list[GridFile], options: ReadOptions
) -> tuple[TimeAxis, np.ndarray, np.ndarray]:
    """The time axis of files that have one each; (T,) the file of each step, and its place there.

    Raises
    ------
    InputError
        Where they have no common calendar, a file has no steps, or steps overlap.
    """
    times = [f.times for f in files if f.times is not None]
    _check_times(files, times)
    counts = [t.stamps.size for t in times]
    stamps = np.concatenate([t.stamps for t in times])
    file_of = np.repeat(np.arange(len(files)), counts)
    step_in = np.concatenate([np.arange(n) for n in counts])
    order = np.argsort(stamps, kind="stable")
    steps = _Steps(tuple(files), stamps, file_of, step_in, times[0].calendar)
    order = _without_repeats(steps, order, options)
    bounds = None
    if all(t.bounds is not None for t in times):
        bounds = np.concatenate([t.bounds for t in times if t.bounds is not None])[order]
    grows = options.kind == ACCUMULATED
    raw = RawTimes(
        stamps[order],
        bounds,
        times[0].calendar,
        accumulated=grows or all(t.accumulated for t in times),
        from_name=all(t.from_name for t in times),
    )
    axis = _axis(raw, options)
    overlap = overlapping(axis)
    if overlap is not None and not grows:
        raise _overlapping(files[int(file_of[order[overlap]])], axis, overlap)
    return axis, file_of[order], step_in[order]


def _check_times(files: Sequence[GridFile], times: Sequence[RawTimes]) -> None:
    """Refuse files of several calendars, or without steps."""
    odd = next((n for n, t in enumerate(times) if t.calendar != times[0].calendar), None)
    if odd is not None:
        raise InputError(
            files[odd].path,
            f"has the calendar {times[odd].calendar}, {files[0].path.name} {times[0].calendar}",
            "give files of one calendar",
        )
    empty = next((n for n, t in enumerate(times) if not t.stamps.size), None)
    if empty is not None:
        raise InputError(files[empty].path, "has a time axis without steps", "leave it out")


def _overlapping(file: GridFile, axis: TimeAxis, step: int) -> InputError:
    """What to say of a step that begins before the one before it ends."""
    one, other = (iso_minute(int(axis.start[n]), axis.calendar) for n in (step - 1, step))
    what = f"the one from {one} ends after the one from {other} begins"
    remedy = "repair the bounds, or leave them out of account with ‹stamp start› (or middle, end)"
    if axis.start[step] == axis.start[step - 1]:
        what = f"two of them begin {one}"
        remedy = "say ‹kind accumulated› if values grow from there, or ‹stamp end› to use no bounds"
    return InputError(file.path, f"has steps whose bounds overlap: {what}", remedy)


def _axis(raw: RawTimes, options: ReadOptions) -> TimeAxis:
    shift = options.utc_offset * 60 * SECOND
    bounds = None if raw.bounds is None else raw.bounds + shift
    axis = time_axis(
        raw.stamps + shift,
        bounds,
        raw.calendar,
        options.stamp,
        options.day_start,
        accumulated=raw.accumulated,
    )
    if raw.from_name and axis.how == BOUNDS_IN_FILE:
        axis = replace(axis, how="as their names tell")
    if shift:
        sign = "+" if shift > 0 else "-"
        hours, minutes = divmod(abs(options.utc_offset), 60)
        axis = replace(axis, how=f"{axis.how}, moved by {sign}{hours:02d}:{minutes:02d}")
    return axis


@dataclass(frozen=True, eq=False)
class _Steps:
    """The steps of all files.

    Parameters
    ----------
    stamps, file_of, step_in : (T,) int64
        Time stamp of each, number of its file, and its number in that file.
    """

    files: tuple[GridFile, ...]
    stamps: np.ndarray
    file_of: np.ndarray
    step_in: np.ndarray
    calendar: str

    def read(self, step: int) -> np.ndarray:
        """(1, C) values of all cells."""
        file, number = self.files[self.file_of[step]], int(self.step_in[step])
        return np.asarray(file.read(number, number + 1, whole(file.layout.shape)))


def _without_repeats(steps: _Steps, order: np.ndarray, options: ReadOptions) -> np.ndarray:
    """The order of steps without those that stand in two files.

    Two files may repeat each other; where they differ, `prefer` decides.
    """
    again = np.flatnonzero(np.diff(steps.stamps[order]) == 0) + 1
    if not again.size:
        return order
    drop = []
    for later in again.tolist():
        a, b = int(order[later - 1]), int(order[later])
        one, other = (steps.files[steps.file_of[n]] for n in (a, b))
        if options.prefer is None and not np.array_equal(
            steps.read(a), steps.read(b), equal_nan=True
        ):
            raise _repeated(one, other, iso_day(int(steps.stamps[a]), steps.calendar))
        drop.append(later - 1 if options.prefer == "last" else later)
        if options.prefer != "last":
            order[later] = a  # a third repeat is compared with the first again
    return np.delete(order, drop)


def _repeated(one: GridFile, other: GridFile, when: str) -> InputError:
    """What to say where a step stands twice with different values."""
    if one is other:
        what = f"has the step {when} twice"
    else:
        what = f"has the step {when}, as {one.path.name} has, with other values"
    if one is not other and any(f.times is not None and f.times.from_name for f in (one, other)):
        return InputError(
            other.path,
            f"is of {when} by its name, as {one.path.name} is, with other values",
            "say where the whole date stands in the names, as ‹dates rain_%Y-%m.{dekad}›; only "
            "files that are twice the same data are for ‹prefer›",
        )
    return InputError(other.path, what, "leave one of them out, or use ‹prefer› first or last")


def _check_tiles(groups: list[list[GridFile]]) -> None:
    """Tiles must lie beside each other, not be different grids of the same place."""
    first = groups[0][0]
    for group in groups[1:]:
        file = group[0]
        if file.layout.crs != first.layout.crs or first.layout.crs == "curvilinear":
            raise InputError(
                file.path,
                f"has another reference system than {first.path.name}",
                "give files of one grid only, or join them into one grid on common cells first",
            )
        a, b = first.layout.extent, file.layout.extent
        if all(abs(p - q) < 1e-6 * max(1.0, abs(p)) for p, q in zip(a, b, strict=True)) and (
            len(group) > 1 or len(groups[0]) > 1
        ):
            raise InputError(
                file.path, f"has other cells than {first.path.name}", "give files of one grid only"
            )


def _beside(tiles: list[JoinedGrid]) -> TiledGrid:
    """Tiles as one grid."""
    order = sorted(
        range(len(tiles)), key=lambda n: tiles[n].layout.cell_size[0] * tiles[n].layout.cell_size[1]
    )
    sizes = [tiles[n].layout.cell_size for n in order]
    # Sizes that differ by rounding only must not change the order given.
    if max(s[0] for s in sizes) < 1.001 * min(s[0] for s in sizes):
        order = list(range(len(tiles)))
    tiles = [tiles[n] for n in order]
    first = tiles[0]
    x = _all_edges([t.layout.x_edges for t in tiles], min(s[0] for s in sizes))
    y = _all_edges([t.layout.y_edges for t in tiles], min(s[1] for s in sizes))
    if first.layout.y_edges[0] > first.layout.y_edges[-1]:
        y = y[::-1]
    layout = GridLayout(x, y, first.layout.crs)
    time, steps = all_steps(tiles)
    notes = tuple(dict.fromkeys(note for tile in tiles for note in tile.notes))
    return TiledGrid(
        tuple(tiles),
        layout,
        first.variable,
        time,
        tuple(_inside(layout.y_centres, t.layout.y_edges) for t in tiles),
        tuple(_inside(layout.x_centres, t.layout.x_edges) for t in tiles),
        steps,
        (*notes, f"{len(tiles)} tiles joined"),
    )


def _all_edges(edges: list[np.ndarray], size: float) -> np.ndarray:
    """Edges of all tiles, ascending, those that differ by rounding only taken as one."""
    every = np.sort(np.concatenate(edges))
    return np.asarray(every[np.concatenate([[True], np.diff(every) > 1e-4 * size])])


def _inside(centres: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """The cell between edges that holds each centre, NOWHERE outside."""
    falling = edges[0] > edges[-1]
    lines = edges[::-1] if falling else edges
    position = np.searchsorted(lines, centres, side="right") - 1
    position = np.where((centres < lines[0]) | (centres >= lines[-1]), NOWHERE, position)
    return (
        np.where(position == NOWHERE, position, lines.size - 2 - position) if falling else position
    )


def all_steps(tiles: Sequence[JoinedGrid]) -> tuple[TimeAxis | None, np.ndarray]:
    """The steps of all tiles together, and the step of each tile."""
    times = [tile.time for tile in tiles if tile.time is not None]
    if not times:
        return None, np.zeros((len(tiles), 1), np.int64)
    starts, position = np.unique(np.concatenate([t.start for t in times]), return_index=True)
    ends = np.concatenate([t.end for t in times])[position]
    axis = replace(times[0], start=starts, end=ends)
    steps = np.full((len(tiles), starts.size), NOWHERE)
    for n, time in enumerate(times):
        steps[n, np.searchsorted(starts, time.start)] = np.arange(len(time))
    return axis, steps
