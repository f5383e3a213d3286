"""The overlay: the exact area that every cell and every region share.

How outlines are cut along the lines of a grid is in `pieces`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.space.layout import AUTHALIC_RADIUS_KM, GridLayout, zone_width
from bavlo.core.space.pieces import SLIVER, cut_at_lines, sphere_strip
from bavlo.core.space.regions import RegionEdges
from bavlo.core.sums import WeightedSums

LEAST_COVER = 1e-6  # of a cell, for it to take part in all but means and sums
MOST_SCALE_CHANGE = 1e-3  # within a cell, up to which planar fractions will do
SCALE_CHANGE_OF_PIECES = 2.5e-4
MOST_PIECES = 30_000_000  # of all cells that regions touch
CELLS_LOOKED_AT = 2000


@dataclass(frozen=True, eq=False)
class Overlay:
    """Shared areas of R regions and the C cells that they touch, as a sparse matrix.

    Parameters
    ----------
    shape
        Rows and columns of the whole grid.
    cells : (C,) int64
        Flat numbers of the used cells (row by row in file order), ascending.
    indptr : (R + 1,) int64
        Where each region's entries begin.
    index : (N,) int32
        Which used cell an entry is about, ascending within a region.
    fraction : (N,) float64
        Share of the cell that the region covers, 0 to 1.
    weight : (N,) float64
        Shared area, km² on the sphere (longitude-latitude) or true area (projected grids).
    region_weight : (R,) float64
        The whole area of each region in the same unit, also where it lies outside the grid.
    """

    shape: tuple[int, int]
    cells: np.ndarray
    indptr: np.ndarray
    index: np.ndarray
    fraction: np.ndarray
    weight: np.ndarray
    region_weight: np.ndarray

    @property
    def regions(self) -> int:
        """How many regions there are."""
        return self.indptr.size - 1

    @property
    def entries(self) -> np.ndarray:
        """(R,) how many cells each region touches."""
        return np.diff(self.indptr)

    @property
    def is_sound(self) -> bool:
        """Whether the lengths of its arrays agree, as those of what was kept should."""
        return (
            self.index.size == self.fraction.size == self.weight.size
            and self.indptr.size == self.region_weight.size + 1
            and bool((np.diff(self.indptr) >= 0).all())
            and self.indptr[-1] == self.index.size
        )

    def matrix(self) -> WeightedSums:
        """The weights as an (R, C) sparse matrix, km²."""
        return WeightedSums(self.weight, self.index, self.indptr, (self.regions, self.cells.size))

    def of_region(self, region: int) -> Overlay:
        """The overlay of one region and the cells that it touches."""
        part = slice(int(self.indptr[region]), int(self.indptr[region + 1]))
        cells = self.cells[self.index[part]]
        return Overlay(
            self.shape,
            cells,
            np.array([0, cells.size]),
            np.arange(cells.size, dtype=np.int32),
            self.fraction[part],
            self.weight[part],
            self.region_weight[[region]],
        )

    def outside(self) -> np.ndarray:
        """(R,) share of each region's area that lies outside the grid; 0 where only rounding is."""
        inside = np.zeros(self.regions)
        np.add.at(inside, np.repeat(np.arange(self.regions), self.entries), self.weight)
        return share_outside(inside, self.region_weight)


def share_outside(inside: np.ndarray, whole: np.ndarray) -> np.ndarray:
    """(R,) share of areas that is not inside; 0 where only rounding is, or no area."""
    share = 1 - inside / np.where(whole > 0, whole, 1.0)
    return np.where((share < 1e-9) | (whole <= 0), 0.0, np.minimum(share, 1.0))


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
    sphere = layout.is_lonlat
    outlines = edges
    ny, nx = layout.shape
    x_lines, y_lines = np.sort(layout.x_edges), np.sort(layout.y_edges)
    if sphere:
        edges = wrapped(edges, x_lines[0], x_lines[-1])

    descending = layout.y_edges[0] > layout.y_edges[-1]
    westward = layout.x_edges[0] > layout.x_edges[-1]
    numbers, fractions, counts = [], [], np.zeros(edges.count, np.int64)
    for spans in cut_at_lines(
        edges, x_lines, y_lines, sphere=sphere, descending=descending, jobs=jobs
    ):
        region, row, column, fraction = spans.cells()
        number = row * nx + (nx - 1 - column if westward else column)
        if westward:
            order = np.lexsort((number, region))
            number, fraction = number[order], fraction[order]
        numbers.append(number)
        fractions.append(fraction)
        counts += np.bincount(region, minlength=edges.count)

    number = np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
    fraction = np.concatenate(fractions) if fractions else np.zeros(0)
    tiny, cell, share = tiny_regions(outlines, layout, counts)
    at = np.cumsum(counts)[tiny]
    number, fraction = np.insert(number, at, cell), np.insert(fraction, at, share)
    counts[tiny] = 1
    cells, index = _used_cells(number, ny * nx)
    if sphere:
        rows, columns = layout.sphere_areas()
        cell_area = rows[cells // nx] * columns[cells % nx]
        region_weight = sphere_areas(outlines)
    else:
        cell_area = layout.ellipsoid_areas(cells)
        pieces = _pieces_of_cells(layout, cells, fraction.size)
        if pieces > 1:
            fraction = _true_fractions(edges, layout, (number, fraction, counts), pieces, jobs)
        region_weight = _true_areas(edges, layout, fraction * cell_area[index], counts, jobs)
    own = np.cumsum(counts)[tiny] - 1
    region_weight[tiny] = (fraction * cell_area[index])[own]
    return Overlay(
        (ny, nx),
        cells,
        np.concatenate([[0], np.cumsum(counts)]),
        index,
        fraction,
        fraction * cell_area[index],
        region_weight,
    )


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


def sphere_areas(edges: RegionEdges) -> np.ndarray:
    """Area of each region on the sphere of WGS 84's area, edges straight in longitude-latitude.

    Returns
    -------
    areas : (R,) float64
        km².

    Examples
    --------
    The octant from the equator to the pole is an eighth of the sphere.

    >>> from shapely import box
    >>> from bavlo.core.space.regions import region_edges
    >>> octant = sphere_areas(region_edges(np.array([box(0, 0, 90, 90)])))
    >>> float(octant[0] / (4 * np.pi * AUTHALIC_RADIUS_KM**2))
    0.125
    """
    if not edges.region.size:
        return np.zeros(edges.count)
    origin = _home(edges)
    _, area = sphere_strip(edges.x0, edges.y0, edges.x1, edges.y1, origin)
    total = np.bincount(edges.region, weights=area, minlength=edges.count)
    return np.asarray(np.abs(total) * np.radians(1) * AUTHALIC_RADIUS_KM**2)


def ellipsoid_areas(edges: RegionEdges) -> np.ndarray:
    """Area of each region on the WGS 84 ellipsoid, edges straight in longitude-latitude.

    ∮ λ dq along every edge by Gauss-Legendre quadrature, q being the area between the equator and
    a latitude for one radian of longitude: exact to rounding for edges of a few degrees.

    Returns
    -------
    areas : (R,) float64
        km².

    Examples
    --------
    >>> from shapely import box
    >>> from bavlo.core.space.regions import region_edges
    >>> float(round(ellipsoid_areas(region_edges(np.array([box(0, 0, 90, 90)])))[0] / 1e6, 3))
    63.758
    """
    if not edges.region.size:
        return np.zeros(edges.count)
    origin = _home(edges)
    total = np.zeros(edges.region.size)
    for node, weight in zip(*np.polynomial.legendre.leggauss(12), strict=True):
        share = (node + 1) / 2
        longitude = edges.x0 - origin + share * (edges.x1 - edges.x0)
        latitude = edges.y0 + share * (edges.y1 - edges.y0)
        total += weight / 2 * longitude * zone_width(latitude)
    total *= np.radians(1) * np.radians(edges.y1 - edges.y0)
    return np.abs(np.bincount(edges.region, weights=total, minlength=edges.count))


def _home(edges: RegionEdges) -> np.ndarray:
    """(E,) where the region of each edge begins, so that areas are taken from close by."""
    first = np.searchsorted(edges.region, np.arange(edges.count))
    return np.asarray(edges.x0[np.minimum(first, edges.region.size - 1)][edges.region])


def _true_areas(
    edges: RegionEdges, layout: GridLayout, weight: np.ndarray, counts: np.ndarray, jobs: int
) -> np.ndarray:
    """Whole true areas of regions on a projected grid, km².

    What lies inside the grid is known cell by cell; the planar share outside is given the areal
    scale of the region's inside.
    """
    planar = planar_areas(edges)
    owner = np.repeat(np.arange(edges.count), counts)
    true_inside = np.bincount(owner, weights=weight, minlength=edges.count)
    x_lines, y_lines = np.sort(layout.x_edges), np.sort(layout.y_edges)
    planar_inside = np.zeros(edges.count)
    for spans in cut_at_lines(edges, x_lines, y_lines, sphere=False, jobs=jobs):
        which, row, column, fraction = spans.cells()
        area = fraction * np.diff(y_lines)[row] * np.diff(x_lines)[column]
        planar_inside += np.bincount(which, weights=area, minlength=edges.count)
    with np.errstate(divide="ignore", invalid="ignore"):
        scale = np.where(planar_inside > 0, true_inside / planar_inside, 1e-6)
    return planar * scale


def planar_areas(edges: RegionEdges) -> np.ndarray:
    """(R,) area of each region on the plane of its coordinates."""
    x, y, region = edges.x0, edges.y0, edges.region
    origin = _home(edges) if region.size else x
    cross = ((x - origin) + (edges.x1 - origin)) / 2 * (edges.y1 - y)
    return np.abs(np.bincount(region, weights=cross, minlength=edges.count))


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
