"""Grids that lie beside each other or overlap, as one; also in several reference systems."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from bavlo.core.space.layout import GridLayout, median_area
from bavlo.core.space.projection import extent_in
from bavlo.core.space.resampling import NEAREST
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection, WholeRows, whole
from bavlo.grids.source import GridFile, JoinedGrid

if TYPE_CHECKING:
    from bavlo.core.space.regrid import Regrid


NOWHERE = -1


class OfTiles:
    """What grids that are put together of tiles have in common."""

    tiles: tuple[JoinedGrid, ...]
    reads_rows: ClassVar[bool] = True
    how_combined: ClassVar[str] = ""

    @cached_property
    def files(self) -> tuple[GridFile, ...]:
        """All files of all tiles."""
        return tuple(file for tile in self.tiles for file in tile.files)

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(tile.step_chunk for tile in self.tiles)


@dataclass(frozen=True, eq=False)
class TiledGrid(OfTiles):
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


def check_tiles(groups: list[list[GridFile]]) -> None:
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


def tiled(tiles: list[JoinedGrid]) -> TiledGrid:
    """Tiles as one grid.

    Raises
    ------
    InputError
        Where they are different grids, in time or by cells that lie across each other's edges.
    """
    for tile in tiles[1:]:
        if _apart_in_time(tile, tiles[0]) or _shifted(tile.layout, tiles[0].layout):
            raise InputError(
                tile.files[0].path,
                f"has other cells than {tiles[0].files[0].path.name}",
                "give files of one grid, or tiles of the same steps",
            )
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


@dataclass(frozen=True, eq=False)
class MosaicGrid(OfTiles):
    """Grids in several reference systems that lie beside each other or overlap, as one.

    Parameters
    ----------
    tiles
        In order of preference where they overlap: finer cells first, then as given.
    layout
        The cells of the first tile, going on over all of them.
    steps : (tiles, T) int64
        The step of each tile, NOWHERE where it has none.
    how
        How values of the other tiles come onto the cells; see `regrid`. The values of the nearest
        cells until it is known what the values are.
    counts
        Values are counted per cell, and shared out by covered fraction.
    least_area
        Share of a cell that must have values.
    """

    tiles: tuple[JoinedGrid, ...]
    layout: GridLayout
    variable: Variable
    time: TimeAxis | None
    steps: np.ndarray
    notes: tuple[str, ...] = ()
    how: str = NEAREST
    counts: bool = False
    least_area: float = 0.5
    reads_rows: ClassVar[bool] = False

    @cached_property
    def regrids(self) -> tuple[Regrid, ...]:
        """What brings each tile onto the cells; the first, whose cells they are, by centres."""
        from bavlo.core.space.regrid import regrid

        ways = [(NEAREST, False), *[(self.how, self.counts)] * (len(self.tiles) - 1)]
        return tuple(
            regrid(tile.layout, self.layout, how, counts=counts)
            for tile, (how, counts) in zip(self.tiles, ways, strict=True)
        )

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        block = np.full((last - first, cells.size), np.nan)
        for tile, way, steps in zip(self.tiles, self.regrids, self.steps, strict=True):
            everywhere = whole(tile.layout.shape)
            for n in np.flatnonzero(steps[first:last] != NOWHERE).tolist():
                step = int(steps[first + n])
                values = tile.read(step, step + 1, everywhere).reshape(tile.layout.shape)
                brought = way.apply(values, self.least_area).ravel()[cells.cells]
                block[n] = np.where(np.isnan(block[n]), brought, block[n])
        return block


def mosaic(tiles: Sequence[JoinedGrid]) -> MosaicGrid:
    """Tiles of several reference systems as one grid.

    Raises
    ------
    InputError
        Where the finest has corners of its own, or another lies outside its reference system.
    """
    areas = [median_area(tile.layout) for tile in tiles]
    order = sorted(range(len(tiles)), key=areas.__getitem__)
    if max(areas) < 1.001 * min(areas):
        order = list(range(len(tiles)))
    tiles = [tiles[n] for n in order]
    first = tiles[0]
    if first.layout.has_corners:
        raise InputError(
            first.files[0].path,
            "has the finest cells of all, whose corners are their own",
            "name the cells that all go onto with ‹onto›",
        )
    time, steps = all_steps(tiles)
    notes = tuple(dict.fromkeys(note for tile in tiles for note in tile.notes))
    layout = grown(first.layout, [tile.layout for tile in tiles[1:]])
    return MosaicGrid(tuple(tiles), layout, first.variable, time, steps, notes)


def grown(layout: GridLayout, others: Sequence[GridLayout]) -> GridLayout:
    """The cells of a grid, going on in steps of their size until they cover others too.

    Edges of the grid itself stay as they are.
    """
    system = layout.system
    boxes = [extent_in(other, system) for other in others]
    axes = []
    for axis, edges in enumerate((layout.x_edges, layout.y_edges)):
        low, high = min(box[axis] for box in boxes), max(box[axis + 2] for box in boxes)
        rising = edges[::-1] if edges[0] > edges[-1] else edges
        step = float(rising[-1] - rising[0]) / (rising.size - 1)
        before = max(0, int(np.ceil((rising[0] - low) / step - 1e-4)))
        after = max(0, int(np.ceil((high - rising[-1]) / step - 1e-4)))
        grown_axis = np.concatenate(
            [
                rising[0] - step * np.arange(before, 0, -1),
                rising,
                rising[-1] + step * np.arange(1, after + 1),
            ]
        )
        if axis and layout.is_lonlat:
            grown_axis = np.unique(np.clip(grown_axis, -90, 90))
        axes.append(grown_axis[::-1] if edges[0] > edges[-1] else grown_axis)
    return GridLayout(axes[0], axes[1], layout.crs)
