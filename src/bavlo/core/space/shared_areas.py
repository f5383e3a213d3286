"""Regions laid over a grid: the area that each cell and each region share.

As lists of cells, or as spans of cells for grids without time. How outlines are cut along the
lines of a grid is in `pieces`.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay, planar_areas, sphere_areas
from bavlo.core.space.pieces import SLIVER, cut_at_lines
from bavlo.core.space.regions import RegionEdges
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.spans import Spans, listed

MOST_SCALE_CHANGE = 1e-3  # within a cell, up to which planar fractions will do
SCALE_CHANGE_OF_PIECES = 2.5e-4
MOST_PIECES = 30_000_000  # of all cells that regions touch
CELLS_LOOKED_AT = 2000


def overlay(edges: RegionEdges, layout: GridLayout, jobs: int = 1) -> Overlay:
    """Shared areas of regions and grid cells.

    Parameters
    ----------
    edges
        Outlines in the reference system of the grid: degrees for longitude-latitude grids (any
        multiple of 360 away), else metres.
    layout
        The cells.
    jobs
        Threads at once, on which no number depends.

    Notes
    -----
    Longitude-latitude: edges are straight in longitude and latitude, and areas are exact on the
    sphere. Otherwise areas are planar fractions of a cell times the cell's true (WGS 84) area.
    """
    if layout.has_corners:
        raise TypeError("use overlay_of, which knows the shapes")
    ny, nx = layout.shape
    spans, tiny = _arranged(edges, layout, jobs)
    order, counts = np.argsort(spans.region, kind="stable"), spans.entries
    number = listed(spans.start[order], spans.length[order])
    fraction = np.repeat(spans.fraction[order], spans.length[order])
    cells, index = _used_cells(number, ny * nx)
    if layout.is_lonlat:
        rows, columns = layout.sphere_areas()
        cell_area = rows[cells // nx] * columns[cells % nx]
    else:
        cell_area = layout.ellipsoid_areas(cells)
        pieces = _pieces_of_cells(layout, cells, fraction.size)
        if pieces > 1:
            fraction = _true_fractions(edges, layout, (number, fraction, counts), pieces, jobs)
    weight = fraction * cell_area[index]
    owner = np.repeat(np.arange(edges.count), counts)
    inside = np.bincount(owner, weight, edges.count)
    ends = np.concatenate([[0], np.cumsum(counts)])
    whole = _whole_areas(edges, layout, replace(spans, inside=inside), tiny)
    return Overlay((ny, nx), cells, ends, index, fraction, weight, whole)


def span_overlay(edges: RegionEdges, layout: GridLayout, jobs: int = 1) -> Spans:
    """Shared areas of regions and a grid, as `overlay` has them cell by cell.

    Parameters
    ----------
    edges
        Outlines in the reference system of the grid: degrees for longitude-latitude grids (any
        multiple of 360 away), else metres.
    layout
        The cells, small beside the distances over which the areal scale of a projection changes.
    jobs
        Threads at once, on which no number depends.
    """
    spans, tiny = _arranged(edges, layout, jobs)
    spans = replace(spans, inside=_inside(spans, RowAreas(layout)))
    return replace(spans, region_weight=_whole_areas(edges, layout, spans, tiny))


def _whole_areas(
    edges: RegionEdges, layout: GridLayout, spans: Spans, tiny: np.ndarray
) -> np.ndarray:
    """(R,) whole area of regions, km².

    What lies outside a projected grid is given the areal scale of the region's inside; tiny regions
    have the area that they share with their cell.
    """
    if layout.is_lonlat:
        whole = sphere_areas(edges)
    else:
        with np.errstate(divide="ignore", invalid="ignore"):
            planar = _planar_inside(spans, layout)
            scale = np.where(planar > 0, spans.inside / planar, 1e-6)
        whole = planar_areas(edges) * scale
    whole[tiny] = spans.inside[tiny]
    return whole


def _arranged(edges: RegionEdges, layout: GridLayout, jobs: int) -> tuple[Spans, np.ndarray]:
    """The spans of regions in order of their place, without the areas of the regions.

    Returns
    -------
    overlay
    tiny : (N,) int64
        Regions that lie within a cell of which they have next to nothing.
    """
    ny, nx = layout.shape
    x_lines, y_lines = np.sort(layout.x_edges), np.sort(layout.y_edges)
    outlines = wrapped(edges, x_lines[0], x_lines[-1]) if layout.is_lonlat else edges
    descending = bool(layout.y_edges[0] > layout.y_edges[-1])
    westward = bool(layout.x_edges[0] > layout.x_edges[-1])
    parts = []
    counts = np.zeros(edges.count, np.int64)
    for spans in cut_at_lines(
        outlines, x_lines, y_lines, sphere=layout.is_lonlat, descending=descending, jobs=jobs
    ):
        column = nx - spans.column - spans.length if westward else spans.column
        start = spans.row * nx + column
        parts.append(
            (spans.region.astype(np.int32), start, spans.length.astype(np.int32), spans.fraction)
        )
        counts += np.bincount(spans.region, spans.length, edges.count).astype(np.int64)
    tiny, cell, share = tiny_regions(edges, layout, counts)
    parts.append((tiny.astype(np.int32), cell, np.ones(tiny.size, np.int32), share))
    region, start, length, fraction = (np.concatenate(each) for each in zip(*parts, strict=True))
    del parts
    order = np.argsort(start * edges.count + region)  # of which no two are the same
    region, start, length, fraction = region[order], start[order], length[order], fraction[order]
    unknown = np.zeros(edges.count)
    return Spans((ny, nx), region, start, length, fraction, unknown, unknown), tiny


def _planar_inside(overlay: Spans, layout: GridLayout) -> np.ndarray:
    """(R,) area of each region that lies on the grid, on the plane of its coordinates."""
    height, width = np.abs(np.diff(layout.y_edges)), np.abs(np.diff(layout.x_edges))
    row, first = np.divmod(overlay.start, overlay.shape[1])
    along = np.concatenate([[0.0], np.cumsum(width)])
    of_spans = height[row] * (along[first + overlay.length] - along[first])
    return np.bincount(overlay.region, overlay.fraction * of_spans, overlay.regions)


def _inside(overlay: Spans, areas: RowAreas) -> np.ndarray:
    """(R,) area of each region that lies on the grid, km²."""
    total = np.zeros(overlay.regions)
    width = overlay.shape[1]
    for rows in batches(overlay.rows[1], 2 * width, overlay.rows[0]):
        low, high = np.searchsorted(overlay.start, [rows.start * width, rows.stop * width])
        some = slice(int(low), int(high))
        of_spans = areas.of_spans(overlay.start[some], overlay.length[some])
        total += np.bincount(overlay.region[some], overlay.fraction[some] * of_spans, total.size)
    return total


def tiny_regions(
    edges: RegionEdges, layout: GridLayout, counts: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Regions that share less than SLIVER with every cell, in the cell that holds their middle.

    Parameters
    ----------
    counts : (R,) int64
        How many cells each region shares enough with.

    Returns
    -------
    region, cell : (N,) int64
    share : (N,) float64
        Of the cell, as a planar fraction.
    """
    starts = np.searchsorted(edges.region, np.arange(edges.count + 1))
    region = np.flatnonzero((counts == 0) & (np.diff(starts) > 0))
    if not region.size:
        return region, region, np.zeros(0)
    origin_x, origin_y = edges.x0[starts[region]], edges.y0[starts[region]]
    place = np.full(edges.count, -1)
    place[region] = np.arange(region.size)
    mine = place[edges.region] >= 0
    which = place[edges.region[mine]]
    # From close by, else a small area drowns in the rounding of its coordinates.
    x0, x1 = (a[mine] - origin_x[which] for a in (edges.x0, edges.x1))
    y0, y1 = (a[mine] - origin_y[which] for a in (edges.y0, edges.y1))
    area = np.abs(np.bincount(which, (x0 + x1) / 2 * (y1 - y0), region.size))
    x = origin_x + np.bincount(which, x0, region.size) / np.bincount(which, minlength=region.size)
    y = origin_y + np.bincount(which, y0, region.size) / np.bincount(which, minlength=region.size)
    column, width = _cell_of(x, layout.x_edges, 360.0 if layout.is_lonlat else 0.0)
    row, height = _cell_of(y, layout.y_edges, 0.0)
    inside = (row >= 0) & (column >= 0) & (area > 0)
    share = area[inside] / (width * height)[inside]
    small = share <= SLIVER
    cell = (row * layout.shape[1] + column)[inside]
    return region[inside][small], cell[small], share[small]


def _cell_of(position: np.ndarray, lines: np.ndarray, turn: float) -> tuple[np.ndarray, np.ndarray]:
    """(N,) the cell along one axis that holds each position, -1 for none, and its size."""
    ascending = np.sort(lines)
    if turn:
        position = ascending[0] + (position - ascending[0]) % turn
    cell = np.searchsorted(ascending, position, "right") - 1
    inside = (cell >= 0) & (cell < lines.size - 1)
    size = np.diff(ascending)[np.where(inside, cell, 0)]
    if lines[0] > lines[-1]:
        cell = lines.size - 2 - cell
    return np.where(inside, cell, -1), size


def _pieces_of_cells(layout: GridLayout, cells: np.ndarray, entries: int) -> int:
    """Into how many pieces each side of a cell is cut, so that the scale of area varies little.

    1 where it varies by less than 1e-3 within the cells that regions touch.
    """
    if not cells.size:
        return 1
    varies = scale_change(layout, cells[:: max(1, cells.size // CELLS_LOOKED_AT)])
    if varies <= MOST_SCALE_CHANGE:
        return 1
    bearable = int(np.sqrt(MOST_PIECES / max(entries, 1)))
    return max(2, min(int(np.ceil(varies / SCALE_CHANGE_OF_PIECES)), 64, bearable))


def scale_change(layout: GridLayout, cells: np.ndarray) -> float:
    """The largest share by which the scale of area varies within some cells; 0 where it is even."""
    rows, columns = np.divmod(cells, layout.shape[1])
    quarters = layout.lattice_areas(rows, columns, 2).reshape(rows.size, -1)
    if not quarters.size:
        return 0.0
    return 2 * float((np.ptp(quarters, axis=1) / quarters.mean(axis=1)).max())


def _true_fractions(
    edges: RegionEdges,
    layout: GridLayout,
    entries: tuple[np.ndarray, np.ndarray, np.ndarray],
    pieces: int,
    jobs: int,
) -> np.ndarray:
    """Shares of the true areas of cells, where the scale of area varies within them.

    The cells that a region covers in part are cut into pieces, each of which counts with its own
    true area.

    Parameters
    ----------
    entries
        (N,) cell numbers and planar fractions, ascending by region and cell, and (R,) how many
        entries each region has.
    pieces
        Along each side of a cell.
    jobs
        Threads at once.

    Returns
    -------
    fraction : (N,) float64
    """
    number, fraction, counts = entries
    ny, nx = layout.shape
    owner = np.repeat(np.arange(counts.size), counts)
    partial = np.flatnonzero(fraction < 1)
    cut, position = np.unique(number[partial], return_inverse=True)
    areas = layout.lattice_areas(*np.divmod(cut, nx), pieces)
    x_lines, y_lines = np.sort(layout.x_edges), np.sort(layout.y_edges)
    fine_x, fine_y = (
        np.append((a[:-1, None] + np.diff(a)[:, None] * np.arange(pieces) / pieces).ravel(), a[-1])
        for a in (x_lines, y_lines)
    )
    key = owner[partial] * (ny * nx) + number[partial]
    shared = np.zeros(partial.size)
    descending = layout.y_edges[0] > layout.y_edges[-1]
    westward = layout.x_edges[0] > layout.x_edges[-1]
    for spans in cut_at_lines(edges, fine_x, fine_y, sphere=False, jobs=jobs):
        region, row, column, share = spans.cells()
        (parent_row, in_row), (parent_column, in_column) = (
            np.divmod(row, pieces),
            np.divmod(column, pieces),
        )
        parent_row = ny - 1 - parent_row if descending else parent_row
        parent_column = nx - 1 - parent_column if westward else parent_column
        wanted = region * (ny * nx) + parent_row * nx + parent_column
        at = np.minimum(np.searchsorted(key, wanted), key.size - 1)
        found = key[at] == wanted
        at, of = at[found], position[at[found]]
        area = share[found] * areas[of, in_row[found], in_column[found]]
        shared += np.bincount(at, area, partial.size)
    out = fraction.copy()
    out[partial] = np.minimum(shared / areas.sum(axis=(1, 2))[position], 1.0)
    return out


def _used_cells(number: np.ndarray, grid_size: int) -> tuple[np.ndarray, np.ndarray]:
    """The different cell numbers, ascending, and where each entry's cell stands among them."""
    if number.size < grid_size // 64:
        cells, index = np.unique(number, return_inverse=True)
        return cells, index.astype(np.int32)
    used = np.zeros(grid_size, bool)  # several times faster than sorting, where it is no larger
    used[number] = True
    cells = np.flatnonzero(used)
    position = np.zeros(grid_size, np.int32)
    position[cells] = np.arange(cells.size, dtype=np.int32)
    return cells, position[number]


def wrapped(edges: RegionEdges, west: float, east: float) -> RegionEdges:
    """Edges repeated a whole turn away, as often as their region reaches into the grid there."""
    if not edges.region.size:
        return edges
    starts = np.searchsorted(edges.region, np.arange(edges.count + 1))
    filled = np.flatnonzero(np.diff(starts))
    lowest, highest = np.full(edges.count, np.inf), np.full(edges.count, -np.inf)
    lowest[filled] = np.minimum.reduceat(np.minimum(edges.x0, edges.x1), starts[filled])
    highest[filled] = np.maximum.reduceat(np.maximum(edges.x0, edges.x1), starts[filled])
    lowest, highest = lowest[edges.region], highest[edges.region]
    shifts = np.arange(
        np.floor((west - highest.max()) / 360), np.ceil((east - lowest.min()) / 360) + 1
    )
    kept = [(s, (highest + 360 * s > west) & (lowest + 360 * s < east)) for s in shifts]
    kept = [(s, keep) for s, keep in kept if keep.any()]
    if len(kept) == 1 and kept[0][0] == 0 and kept[0][1].all():
        return edges
    if not kept:
        kept = [(0.0, np.ones(edges.region.size, bool))]  # beside the grid, but not forgotten
    else:
        seen = np.logical_or.reduce([keep for _, keep in kept])
        kept.append((0.0, ~seen))
    region = np.concatenate([edges.region[keep] for _, keep in kept])
    order = np.argsort(region, kind="stable")

    def copied(values: np.ndarray, turn: float) -> np.ndarray:
        return np.concatenate([values[keep] + s * turn for s, keep in kept])[order]

    return RegionEdges(
        copied(edges.x0, 360),
        copied(edges.y0, 0),
        copied(edges.x1, 360),
        copied(edges.y1, 0),
        region[order],
        edges.count,
    )
