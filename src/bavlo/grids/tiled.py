"""Grids that lie beside each other or overlap, as one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.joined import JoinedGrid
from bavlo.grids.source import CellSelection, GridFile, WholeRows

NOWHERE = -1


class OfTiles:
    """What grids that are put together of tiles have in common."""

    tiles: tuple[JoinedGrid, ...]

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
