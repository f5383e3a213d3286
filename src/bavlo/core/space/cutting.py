"""Outlines cut along grid lines by compiled loops: a fifth of the time, the same bits."""

from __future__ import annotations

import numpy as np

from bavlo.compiled import at_hand, compiled
from bavlo.core.space.piece_kernels import add_up, angles_of, cut_edges, fill_rows
from bavlo.core.space.regions import RegionEdges

HIGHEST_CELL = 11.0  # degrees; the loops know nothing of what is longer along a meridian


def count_pieces(edges: RegionEdges, x_lines: np.ndarray, y_lines: np.ndarray) -> np.ndarray:
    """(E,) into about how many pieces each edge is cut."""
    pieces = np.ones(edges.region.size)
    for a0, a1, lines in ((edges.x0, edges.x1, x_lines), (edges.y0, edges.y1, y_lines)):
        pieces += np.abs(a1 - a0) * ((lines.size - 1) / np.abs(lines[-1] - lines[0]))
    return pieces


def runs_by_loops(
    edges: RegionEdges,
    lines: tuple[np.ndarray, np.ndarray],
    full_height: np.ndarray,
    *,
    sphere: bool,
    descending: bool,
) -> tuple[np.ndarray, ...] | None:
    """Covered fraction of every touched cell, as `bavlo.core.space.pieces.row_runs` has it.

    Parameters
    ----------
    lines
        x and y of the grid lines, ascending.
    full_height : (ny,) float64
        Of each row, Δy or Δ(sin φ).

    Returns
    -------
    region, row, column, length, fraction : (N,)
        None unless compiled loops are in use for this.
    """
    x_lines, y_lines = lines
    cut = at_hand(cut_edges)
    if cut is None or (sphere and np.diff(y_lines).max() > HIGHEST_CELL):
        return None
    angles, add, fill = (compiled(kernel) for kernel in (angles_of, add_up, fill_rows))
    assert angles is not None
    assert add is not None
    assert fill is not None
    outlines = np.stack([edges.x0, edges.y0, edges.x1, edges.y1])
    region = edges.region.astype(np.int64)
    room = int(1.02 * count_pieces(edges, x_lines, y_lines).sum()) + 1024
    while True:
        ends, sign, place = np.empty((4, room)), np.empty(room), np.empty((3, room), np.int64)
        count = cut(outlines, region, x_lines, y_lines, ends, sign, place)
        if count <= room:
            break
        room = count
    ends, place = ends[:, :count].copy(), place[:, :count].copy()
    sign = sign[:count]
    of_pieces = np.empty((4, count if sphere else 0))
    if sphere:
        half, sine, sine_of_middle, middle = of_pieces
        angles(ends, half, middle)
        # By NumPy: the last bits of what compilers make of them are others.
        np.sin(half, out=sine)
        np.sin(middle, out=sine_of_middle)
        np.cos(middle, out=middle)
    key, sums = np.empty(count, np.int64), np.empty((2, count))
    cells = add(ends, sign, place, x_lines, full_height, of_pieces, descending, key, sums)
    key, sums = key[:cells], sums[:, :cells].copy()
    del ends, sign, place, of_pieces
    shape = np.array([y_lines.size - 1, x_lines.size - 1])
    found, length, fraction = (
        np.empty((3, 2 * cells), np.int64),
        np.empty(2 * cells, np.int64),
        np.empty(2 * cells),
    )
    runs = fill(key, sums, np.argsort(key), shape, found, length, fraction)
    return (*(line[:runs] for line in found), length[:runs], fraction[:runs].copy())


def warm_up() -> None:
    """Call the loops once, where numba is there; they are used from then on."""
    one = np.ones(1)
    edges = RegionEdges(0 * one, 0 * one, one, one, np.zeros(1, np.int64), 1)
    lines = np.array([0.0, 2.0])
    cut = compiled(cut_edges)
    if cut is not None:
        ends, place = np.zeros((4, 1)), np.zeros((3, 1), np.int64)
        cut(ends, edges.region, lines, lines, ends.copy(), one, place)
    for sphere in (False, True):
        runs_by_loops(edges, (lines, lines), one, sphere=sphere, descending=False)
