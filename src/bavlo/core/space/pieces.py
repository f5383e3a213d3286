"""Outlines cut along grid lines: what each piece adds to its own cell and to those further along.

An edge is split where it meets grid lines, so that each piece lies in one cell. By Green's theorem
the piece adds a signed area to its own cell and a signed height to every cell further along the
row. Summed over a region's closed outline that is the shared area, holes and islands included.
The work goes with the number of edges and of boundary cells, never with cells × vertices, and all
regions are done at once.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from bavlo.core.batches import AT_ONCE
from bavlo.core.space.regions import RegionEdges

SLIVER = 1e-9  # a smaller share of a cell is nothing
MOST_WORKERS = 4  # of so many the smaller batches still keep each busy


@dataclass(frozen=True, eq=False)
class RowSpans:
    """Neighbouring cells of a row of which a region covers the same share; one cell at its rim.

    Parameters
    ----------
    region, row, column, length : (N,) int64
        Ascending by region, row and first column.
    fraction : (N,) float64
        Share of each cell, greater than SLIVER, at most 1.
    """

    region: np.ndarray
    row: np.ndarray
    column: np.ndarray
    length: np.ndarray
    fraction: np.ndarray

    def cells(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Region, row, column and fraction of each cell, (C,) each, in the same order."""
        owner = np.repeat(np.arange(self.length.size), self.length)
        offset = np.arange(owner.size) - np.repeat(
            np.cumsum(self.length) - self.length, self.length
        )
        return (
            self.region[owner],
            self.row[owner],
            self.column[owner] + offset,
            self.fraction[owner],
        )


def cut_at_lines(
    edges: RegionEdges,
    x_lines: np.ndarray,
    y_lines: np.ndarray,
    *,
    sphere: bool,
    descending: bool = False,
    jobs: int = 1,
) -> Iterator[RowSpans]:
    """The spans of all regions as `row_spans` has them, some whole regions after the other.

    Parameters
    ----------
    jobs
        Threads at once, on which no number depends.
    """
    workers = max(1, min(jobs, MOST_WORKERS))
    batches = list(_batches(edges, x_lines, y_lines, AT_ONCE // workers))
    cut = partial(row_spans, x_lines=x_lines, y_lines=y_lines, sphere=sphere, descending=descending)
    if workers == 1 or len(batches) <= 1:
        yield from map(cut, batches)
        return
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(workers, thread_name_prefix="bavlo") as pool:
        yield from pool.map(cut, batches)


def _batches(
    edges: RegionEdges, x_lines: np.ndarray, y_lines: np.ndarray, at_once: int
) -> Iterator[RegionEdges]:
    """Whole regions of about so many pieces, as their edges are cut at the lines."""
    if not edges.region.size:
        return
    number = np.cumsum(count_pieces(edges, x_lines, y_lines))
    ends = np.searchsorted(edges.region, np.arange(1, edges.count + 1))
    until = number[np.maximum(ends, 1) - 1]  # pieces of a region and those before it
    start, done = 0, 0.0
    while start < edges.region.size:
        fit = np.searchsorted(until, done + at_once, side="right")
        after = np.searchsorted(ends, start, side="right")
        stop = int(ends[max(fit - 1, after)])
        part = slice(start, stop)
        yield RegionEdges(
            edges.x0[part],
            edges.y0[part],
            edges.x1[part],
            edges.y1[part],
            edges.region[part],
            edges.count,
        )
        start, done = stop, float(number[stop - 1])


def count_pieces(edges: RegionEdges, x_lines: np.ndarray, y_lines: np.ndarray) -> np.ndarray:
    """(E,) into about how many pieces each edge is cut."""
    pieces = np.ones(edges.region.size)
    for a0, a1, lines in ((edges.x0, edges.x1, x_lines), (edges.y0, edges.y1, y_lines)):
        pieces += np.abs(a1 - a0) * ((lines.size - 1) / np.abs(lines[-1] - lines[0]))
    return pieces


def row_spans(
    edges: RegionEdges,
    x_lines: np.ndarray,
    y_lines: np.ndarray,
    sphere: bool,
    descending: bool = False,
) -> RowSpans:
    """Covered fraction of every touched cell, those side by side that are covered alike as one.

    Parameters
    ----------
    x_lines, y_lines : float64
        Ascending grid lines.
    sphere
        Areas on the sphere rather than the plane.
    descending
        Count the rows from the last line down.
    """
    nx, ny = x_lines.size - 1, y_lines.size - 1
    strip = sphere_strip if sphere else plane_strip
    full_height, _ = strip(x_lines[0], y_lines[:-1], x_lines[0], y_lines[1:], x_lines[0])
    # Every edge is taken from its western end, so that the edge that two neighbours share is
    # split and rounded alike for both and they never share more than a cell has.
    backward = (edges.x0 > edges.x1) | ((edges.x0 == edges.x1) & (edges.y0 > edges.y1))
    x0, x1 = np.where(backward, edges.x1, edges.x0), np.where(backward, edges.x0, edges.x1)
    y0, y1 = np.where(backward, edges.y1, edges.y0), np.where(backward, edges.y0, edges.y1)
    sign = np.where(backward, -1.0, 1.0)

    # Horizontal edges enclose nothing, and neither does what lies north, south or east.
    keep = (y0 != y1) & (np.maximum(y0, y1) > y_lines[0]) & (np.minimum(y0, y1) < y_lines[-1])
    keep &= x0 < x_lines[-1]
    edge = np.flatnonzero(keep)
    y0, x0, y1, x1, edge = _split(y0[edge], x0[edge], y1[edge], x1[edge], edge, y_lines)
    middle = (y0 + y1) / 2
    inside = (middle > y_lines[0]) & (middle < y_lines[-1])
    x0, y0, x1, y1, edge = (a[inside] for a in (x0, y0, x1, y1, edge))
    x0, y0, x1, y1, edge = _split(x0, y0, x1, y1, edge, x_lines)

    row = np.clip(np.searchsorted(y_lines, (y0 + y1) / 2, side="right") - 1, 0, ny - 1)
    column = np.searchsorted(x_lines, (x0 + x1) / 2, side="right") - 1
    # What lies west of the grid bounds the first column as a wall on its western side.
    west = column < 0
    x0, x1 = np.where(west, x_lines[0], x0), np.where(west, x_lines[0], x1)
    column = np.maximum(column, 0)
    inside = column < nx
    x0, y0, x1, y1, edge, row, column = (a[inside] for a in (x0, y0, x1, y1, edge, row, column))

    height, area = strip(x0, y0, x1, y1, x_lines[column + 1])
    scale = sign[edge] / full_height[row]
    # Rounded to 2^-48 of a cell they add up exactly, in any order: a region's cells do not depend
    # on the regions beside it.
    height = np.rint(-height * scale * 2.0**48) / 2.0**48
    area = np.rint(area * scale / np.diff(x_lines)[column] * 2.0**48) / 2.0**48

    row = ny - 1 - row if descending else row
    key = (edges.region[edge].astype(np.int64) * ny + row) * nx + column
    key, height, area = _sum_by_key(key, height, area)
    return _filled(key, height, area, nx, ny)


def _filled(key: np.ndarray, height: np.ndarray, area: np.ndarray, nx: int, ny: int) -> RowSpans:
    """Fractions of the cells that edges pass, and of the cells between them.

    Heights are shares of the row's height; cumulated along a row they are the share of each
    further cell that is covered until the next edge: a whole number, unless the outline runs
    level through the row.
    """
    if not key.size:
        nothing = np.zeros(0, np.int64)
        return RowSpans(nothing, nothing, nothing, nothing, np.zeros(0))
    strip, column = np.divmod(key, nx)
    new_strip = np.diff(strip, prepend=-1) != 0
    first = np.maximum.accumulate(np.where(new_strip, np.arange(key.size), 0))
    cumulated = np.cumsum(height)
    before = np.concatenate([[0.0], cumulated[:-1]])
    base = before[first]
    fraction = area + (before - base)
    covered = cumulated - base
    covered = np.where(np.abs(covered - 1) < SLIVER, 1.0, covered)

    next_column = np.append(np.where(new_strip[1:], nx, column[1:]), nx)
    gap = np.where(covered > SLIVER, next_column - column - 1, 0)
    # A boundary cell and the gap behind it come out together, so nothing needs sorting again.
    length = np.column_stack([fraction > SLIVER, gap]).ravel()
    used = np.flatnonzero(length)
    owner, is_gap = np.divmod(used, 2)
    region, row = np.divmod(strip[owner], ny)
    share = np.where(is_gap == 0, fraction[owner], covered[owner])
    return RowSpans(region, row, column[owner] + is_gap, length[used], np.minimum(share, 1.0))


def _split(
    a0: np.ndarray,
    b0: np.ndarray,
    a1: np.ndarray,
    b1: np.ndarray,
    edge: np.ndarray,
    lines: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Split edges at the lines that their coordinate `a` crosses.

    Parameters
    ----------
    a0, b0, a1, b1 : (E,) float64
        Ends of the edges; `a` is the coordinate that is split.
    edge : (E,) int
        A number that each piece inherits.
    lines : (L,) float64
        Ascending.
    """
    first = np.searchsorted(lines, np.minimum(a0, a1), side="right")
    last = np.searchsorted(lines, np.maximum(a0, a1), side="left")
    crossings = np.maximum(last - first, 0)
    whole = crossings == 0
    if whole.all():
        return a0, b0, a1, b1, edge
    cut = np.flatnonzero(~whole)
    pieces = crossings[cut] + 1
    end = np.cumsum(pieces)
    owner = np.repeat(cut, pieces)
    nth = np.arange(end[-1]) - np.repeat(end - pieces, pieces)

    rising = a1[owner] > a0[owner]
    line = np.where(rising, first[owner] + nth - 1, last[owner] - nth)
    start_a = np.where(nth == 0, a0[owner], lines[np.clip(line, 0, lines.size - 1)])
    share = (start_a - a0[owner]) / (a1[owner] - a0[owner])
    start_b = b0[owner] + share * (b1[owner] - b0[owner])
    stop_a, stop_b = np.empty_like(start_a), np.empty_like(start_b)
    stop_a[:-1], stop_b[:-1] = start_a[1:], start_b[1:]
    stop_a[end - 1], stop_b[end - 1] = a1[cut], b1[cut]
    return (
        np.concatenate([a0[whole], start_a]),
        np.concatenate([b0[whole], start_b]),
        np.concatenate([a1[whole], stop_a]),
        np.concatenate([b1[whole], stop_b]),
        np.concatenate([edge[whole], edge[owner]]),
    )


def _sum_by_key(
    key: np.ndarray, height: np.ndarray, area: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Sum heights and areas that share a key; keys come out ascending.

    Pieces follow an outline, so runs of one key are summed first: an outline that is finer than
    the cells is sorted by cells, not by vertices.
    """
    for sort in (False, True):
        if sort:
            order = np.argsort(key, kind="stable")
            key, height, area = key[order], height[order], area[order]
        if not key.size:
            break
        start = np.flatnonzero(np.diff(key, prepend=key[0] - 1))
        key = key[start]
        height, area = np.add.reduceat(height, start), np.add.reduceat(area, start)
    return key, height, area


def plane_strip(
    x0: np.ndarray, y0: np.ndarray, x1: np.ndarray, y1: np.ndarray, origin: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Height Δy and area ∫(x − origin) dy of edges on the plane."""
    height = y1 - y0
    return height, ((x0 - origin) + (x1 - origin)) / 2 * height


def sphere_strip(
    x0: np.ndarray, y0: np.ndarray, x1: np.ndarray, y1: np.ndarray, origin: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Height Δ(sin φ) and area ∫(λ − origin) cos φ dφ of edges straight in longitude-latitude.

    With φₘ, λₘ the middle of the edge and h = Δφ/2 the area is
    (λₘ − origin)·2 cos φₘ·sin h − Δλ·sin φₘ·(sin h − h cos h)/h, which does not cancel however
    flat the edge is. Longitudes stay in degrees, so the area is in degrees too.
    """
    half = np.radians(y1 - y0) / 2
    middle = np.radians((y0 + y1) / 2)
    height = 2 * np.cos(middle) * np.sin(half)
    square = half * half
    series = (
        square / 3 * (1 - square / 10 * (1 - square / 28 * (1 - square / 54 * (1 - square / 88))))
    )
    if np.max(np.abs(half), initial=0.0) >= 0.1:
        safe = np.where(np.abs(half) < 0.1, 0.1, half)
        series = np.where(np.abs(half) < 0.1, series, (np.sin(safe) - safe * np.cos(safe)) / safe)
    mean = ((x0 - origin) + (x1 - origin)) / 2
    return height, mean * height - (x1 - x0) * np.sin(middle) * series
