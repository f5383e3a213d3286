"""The cells that a grid is brought onto, and how."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.space.layout import GridLayout, median_area
from bavlo.core.space.projection import extent_in, same_system
from bavlo.core.space.regions import LONLAT
from bavlo.core.space.resampling import AREA, CUBIC, LINEAR, MAJORITY, NEAREST
from bavlo.core.values.kinds import CLASS, COUNT, NOT_TOLD, STATE, Quantity, codes_text
from bavlo.errors import RequestError
from bavlo.grids.open import open_grid
from bavlo.grids.source import GridSource, where
from bavlo.grids.tiles import MosaicGrid, TiledGrid
from bavlo.request.reporter import Reporter
from bavlo.request.request import GriddingRequest, Request

MOST_CELLS = 500_000_000
KEEPS = {
    AREA: "means over shared areas, which keep the integral where nothing is missing",
    MAJORITY: "the class that covers most of a cell",
    NEAREST: "the value of the cell that holds the new centre; totals are not kept",
    LINEAR: "between the four centres around; totals are not kept",
    CUBIC: "by cubic convolution, within the range of the neighbours; totals are not kept",
}


@dataclass(frozen=True, eq=False)
class Target:
    """The new cells, and how values come onto them.

    Parameters
    ----------
    counts
        Values are counted per cell, and shared out by covered fraction.
    """

    layout: GridLayout
    how: str
    counts: bool

    @property
    def words(self) -> str:
        """How it is done, and whether totals are kept."""
        if self.counts:
            return "area: shared out by covered fraction, which keeps the total"
        return f"{self.how}: {KEEPS[self.how]}"


def target_cells(request: GriddingRequest, source: GridSource, what: Quantity) -> Target | None:
    """Where values go; None where they stay on their own cells.

    To the cells of the grid that `onto` names, to those of `crs`, `cell` and `box`, or to those of
    the finest of tiles of several sizes.
    """
    made = request.crs is not None or request.cell is not None or request.box is not None
    if request.onto is not None and made:
        raise RequestError("onto", "names cells, and so do ‹crs›, ‹cell› and ‹box›", "use one way")
    tiles = finest_cells(source)
    if request.onto is not None:
        layout = open_grid((request.onto,)).layout
    elif made:
        layout = made_cells(request, source.layout)
    elif tiles is not None and what.kind != CLASS:
        layout = tiles
    elif request.resample is not None and not isinstance(source, MosaicGrid):
        raise RequestError("resample", "goes with other cells", "name them with ‹onto› or ‹cell›")
    else:
        return None
    if layout.has_corners:
        raise RequestError("onto", "cells with corners of their own are not written", "give others")
    layout = spelt_alike(layout, source.layout)
    if what.kind == NOT_TOLD and not what.unit:
        raise RequestError(where(source), *codes_text(source.variable))
    how = way_of(request.resample, source.layout, layout, what)
    return Target(layout, how, what.kind == COUNT)


def spelt_alike(layout: GridLayout, source: GridLayout) -> GridLayout:
    """The same cells; where their system is that of the source in other words, with its words.

    Within one system shared areas are shares of rows times shares of columns.
    """
    curvilinear = source.has_corners
    if curvilinear or layout.crs == source.crs or not same_system(layout.system, source.system):
        return layout
    return replace(layout, crs=source.crs)


def with_way(source: MosaicGrid, request: Request, what: Quantity, report: Reporter) -> MosaicGrid:
    """Tiles of several reference systems, brought together as suits what their values are."""
    finest, *others = source.tiles
    how = way_of(request.gridding.resample, others[0].layout, source.layout, what)
    way = Target(source.layout, how, what.kind == COUNT)
    names = ", ".join(where(tile) for tile in others)
    report.warn(f"{names}: brought onto the cells of {where(finest)} by {way.words}")
    return replace(source, how=how, counts=way.counts, least_area=request.measuring.least_area)


def way_of(asked: str | None, source: GridLayout, target: GridLayout, what: Quantity) -> str:
    """The way that suits what the values are."""
    if what.kind == CLASS:
        if asked not in (None, MAJORITY, NEAREST):
            raise RequestError(
                "resample", f"class codes have no {asked}", "use majority or nearest"
            )
        return asked or MAJORITY
    if asked == MAJORITY:
        raise RequestError("resample", "majority is of class codes", "use area")
    if what.kind == COUNT:
        if asked not in (None, AREA):
            raise RequestError(
                "resample",
                f"what is counted per cell has no {asked}, which loses its total",
                "use area",
            )
        return AREA
    if asked is not None:
        return asked
    if what.kind == STATE:
        return AREA if median_area(target) >= median_area(source) * (1 - 1e-3) else LINEAR
    return AREA


def made_cells(request: GriddingRequest, source: GridLayout) -> GridLayout:
    """Square cells of a size in a reference system, over a box that grows to whole cells."""
    if request.cell is None:
        raise RequestError("cell", "is needed with ‹crs› and ‹box›", "name the size of a cell")
    crs = _system(request.crs, source)
    system = LONLAT if crs == "lonlat" else crs
    west, south, east, north = request.box or extent_in(source, system)
    size = request.cell
    columns = np.arange(np.floor(west / size + 1e-9), np.ceil(east / size - 1e-9) + 1)
    rows = np.arange(np.floor(south / size + 1e-9), np.ceil(north / size - 1e-9) + 1)
    if columns.size < 2 or rows.size < 2:
        raise RequestError("box", "holds no cell", "write it as W,S,E,N")
    if columns.size * rows.size > MOST_CELLS:
        raise RequestError(
            "cell",
            f"makes {rows.size - 1:,} × {columns.size - 1:,} cells",
            "use a larger one; it is in the unit of ‹crs›",
        )
    y = rows[::-1] * size
    if crs == "lonlat":
        y = np.unique(np.clip(y, -90, 90))[::-1]
    return GridLayout(columns * size, y, crs)


def _system(asked: str | None, source: GridLayout) -> str:
    """The reference system as layouts name it."""
    if asked is None:
        if source.has_corners:
            return "lonlat"
        return source.crs
    import pyproj

    try:
        crs = pyproj.CRS.from_user_input(asked)
    except pyproj.exceptions.CRSError as error:
        raise RequestError("crs", f"'{asked}' is no reference system ({error})", "") from error
    if crs.is_geographic and same_system(asked, LONLAT):
        return "lonlat"
    return str(crs.to_wkt())


def finest_cells(source: GridSource) -> GridLayout | None:
    """The cells of the finest tile over all tiles; None where all have cells of one size."""
    if not isinstance(source, TiledGrid):
        return None
    finest = source.tiles[0].layout
    axes = []
    for whole, own in (
        (source.layout.x_edges, finest.x_edges),
        (source.layout.y_edges, finest.y_edges),
    ):
        step = float(own[-1] - own[0]) / (own.size - 1)
        low, high = (float(end - own[0]) / step for end in (whole[0], whole[-1]))
        first, last = np.floor(min(low, high) + 1e-4), np.ceil(max(low, high) - 1e-4)
        axes.append(own[0] + step * np.arange(first, last + 1))
    made = GridLayout(axes[0], axes[1], finest.crs)
    return None if made.same_cells(source.layout) else made
