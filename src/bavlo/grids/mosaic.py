"""Tiles of several reference systems as one grid: on the cells of the finest of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.space.layout import GridLayout, median_area
from bavlo.core.space.projection import extent_in
from bavlo.core.space.resampling import NEAREST
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.joined import JoinedGrid
from bavlo.grids.source import CellSelection, whole
from bavlo.grids.tiled import NOWHERE, OfTiles, all_steps

if TYPE_CHECKING:
    from bavlo.core.space.regrid import Regrid


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
