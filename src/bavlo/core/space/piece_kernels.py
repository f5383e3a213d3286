"""Kernels that cut outlines along grid lines: plain loops that numba compiles.

See `bavlo.compiled`. They do the arithmetic of `bavlo.core.space.pieces` number by number. What
pieces add is rounded so that sums are exact, and so in whichever order they are made.
"""

# ruff: noqa: PLR0913 - a kernel takes its arrays one by one

from __future__ import annotations

import numpy as np

SLIVER = 1e-9  # a smaller share of a cell is nothing
DEGREE = np.pi / 180.0
ROUNDED_TO = 2.0**48  # of a cell


def cut_edges(
    edges: np.ndarray,
    region: np.ndarray,
    x_lines: np.ndarray,
    y_lines: np.ndarray,
    ends: np.ndarray,
    sign: np.ndarray,
    place: np.ndarray,
) -> int:
    """Cut edges where they meet grid lines, so that each piece lies in one cell.

    Parameters
    ----------
    edges : (4, E) float64
        x and y of their first ends, x and y of their last ones.
    region : (E,)
        Whose they are.
    x_lines, y_lines : float64
        Ascending.
    ends : (4, N) float64
        Filled with x, y, x, y of the ends of each piece, from the western one on.
    sign : (N,) float64
        Filled: -1 where the outline goes the other way.
    place : (3, N) int64
        Filled with region, row and column.

    Returns
    -------
    pieces
        How many there are; those beyond N are not filled in.
    """
    nx, ny = x_lines.size - 1, y_lines.size - 1
    count, row, column = 0, 0, 0
    for e in range(region.size):
        x0, y0, x1, y1, way = edges[0, e], edges[1, e], edges[2, e], edges[3, e], 1.0
        if x0 > x1 or (x0 == x1 and y0 > y1):
            x0, y0, x1, y1, way = x1, y1, x0, y0, -1.0
        # Horizontal edges enclose nothing, and neither does what lies north, south or east.
        if y0 == y1 or max(y0, y1) <= y_lines[0] or min(y0, y1) >= y_lines[ny] or x0 >= x_lines[nx]:
            continue
        low, rows = crossed(y_lines, y0, y1, row)
        begin_y, begin_x = y0, x0
        for n in range(rows + 1):
            end_y, end_x = y1, x1
            if n < rows:
                end_y = y_lines[low + n] if y1 > y0 else y_lines[low + rows - 1 - n]
                end_x = x0 + (end_y - y0) / (y1 - y0) * (x1 - x0)
            middle = (begin_y + end_y) / 2
            if y_lines[0] < middle < y_lines[ny]:
                left, columns = crossed(x_lines, begin_x, end_x, column)
                from_x, from_y = begin_x, begin_y
                for m in range(columns + 1):
                    to_x, to_y = end_x, end_y
                    if m < columns:
                        to_x = x_lines[left + m if end_x > begin_x else left + columns - 1 - m]
                        share = (to_x - begin_x) / (end_x - begin_x)
                        to_y = begin_y + share * (end_y - begin_y)
                    row = up_to(y_lines, (from_y + to_y) / 2, row + 1) - 1
                    column = up_to(x_lines, (from_x + to_x) / 2, column + 1) - 1
                    if column < nx:
                        if count < sign.size:
                            # What lies west of the grid bounds the first column as a wall.
                            is_west = column < 0
                            ends[0, count] = x_lines[0] if is_west else from_x
                            ends[2, count] = x_lines[0] if is_west else to_x
                            ends[1, count], ends[3, count] = from_y, to_y
                            sign[count] = way
                            place[0, count] = region[e]
                            place[1, count] = min(max(row, 0), ny - 1)
                            place[2, count] = max(column, 0)
                        count += 1
                    from_x, from_y = to_x, to_y
            begin_y, begin_x = end_y, end_x
    return count


def crossed(lines: np.ndarray, one: float, other: float, guess: int) -> tuple[int, int]:
    """The first line that lies between two numbers, and how many do."""
    low, high = min(one, other), max(one, other)
    first = up_to(lines, low, guess)
    last = up_to(lines, high, first)
    while last > 0 and lines[last - 1] >= high:
        last -= 1
    return first, max(last - first, 0)


def up_to(lines: np.ndarray, number: float, guess: int) -> int:
    """How many lines are not above a number; at once where a guess is near."""
    low, high = 0, lines.size
    if 0 <= guess <= high:
        if guess > 0 and lines[guess - 1] > number:
            high = guess - 1
            if high > 0 and lines[high - 1] > number:
                high -= 1
            else:
                return high
        elif guess < high and lines[guess] <= number:
            low = guess + 1
            if low < high and lines[low] <= number:
                low += 1
            else:
                return low
        else:
            return guess
    while low < high:
        middle = (low + high) // 2
        if lines[middle] <= number:
            low = middle + 1
        else:
            high = middle
    return low


def angles_of(ends: np.ndarray, half: np.ndarray, middle: np.ndarray) -> None:
    """Half of the height of pieces, and their middle, both (N,) in radians; of their `ends`."""
    for n in range(half.size):
        half[n] = (ends[3, n] - ends[1, n]) * DEGREE / 2
        middle[n] = (ends[1, n] + ends[3, n]) / 2 * DEGREE


def add_up(
    ends: np.ndarray,
    sign: np.ndarray,
    place: np.ndarray,
    x_lines: np.ndarray,
    full_height: np.ndarray,
    angles: np.ndarray,
    descending: bool,
    key: np.ndarray,
    sums: np.ndarray,
) -> int:
    """Put together what pieces that follow one another in a cell add to it and to those behind.

    Parameters
    ----------
    ends, sign, place
        As `cut_edges` fills them.
    full_height : (ny,) float64
        Of each row.
    angles : (4, N) float64
        Half of the height of each piece, its sine, and the sine and the cosine of the middle;
        (4, 0) on the plane.
    descending
        Count the rows from the last line down.
    key : (N,) int64
        Filled with the number of each cell, region by region and row by row.
    sums : (2, N) float64
        Filled with shares of its height and of its area.

    Returns
    -------
    cells
        How many are filled.
    """
    nx, ny = x_lines.size - 1, full_height.size
    count, before = 0, np.int64(-1)
    for n in range(sign.size):
        row, column = place[1, n], place[2, n]
        west, east = x_lines[column], x_lines[column + 1]
        mean = ((ends[0, n] - east) + (ends[2, n] - east)) / 2
        if angles.shape[1] > 0:
            height = 2 * angles[3, n] * angles[1, n]
            bend = bend_of(angles[0, n])
            area = mean * height - (ends[2, n] - ends[0, n]) * angles[2, n] * bend
        else:
            height = ends[3, n] - ends[1, n]
            area = mean * height
        scale = sign[n] / full_height[row]
        own_row = ny - 1 - row if descending else row
        own = (place[0, n] * ny + own_row) * nx + column
        if own != before:
            key[count], sums[0, count], sums[1, count] = own, 0.0, 0.0
            count, before = count + 1, own
        sums[0, count - 1] += np.rint(-height * scale * ROUNDED_TO) / ROUNDED_TO
        sums[1, count - 1] += np.rint(area * scale / (east - west) * ROUNDED_TO) / ROUNDED_TO
    return count


def bend_of(half: float) -> float:
    """(sin h - h cos h) / h of less than a tenth, as `sphere_strip` has it."""
    square = half * half
    inner = 1 - square / 28 * (1 - square / 54 * (1 - square / 88))
    return square / 3 * (1 - square / 10 * inner)


def fill_rows(
    key: np.ndarray,
    sums: np.ndarray,
    order: np.ndarray,
    shape: np.ndarray,
    place: np.ndarray,
    length: np.ndarray,
    fraction: np.ndarray,
) -> int:
    """What `bavlo.core.space.pieces` makes of the sums of cells: runs that are covered alike.

    Parameters
    ----------
    key, sums
        As `add_up` fills them.
    order : (N,) int64
        Their order.
    shape : (2,) int64
        Rows and columns of the grid.
    place : (3, 2 × N) int64
        Filled with region, row and first column of each run.
    length, fraction : (2 × N,) int64 and float64
        Filled.

    Returns
    -------
    runs
        How many are filled.
    """
    ny, nx = shape[0], shape[1]
    count, n, before, total, base = 0, 0, np.int64(-1), 0.0, 0.0
    while n < order.size:
        own, height, area = key[order[n]], 0.0, 0.0
        while n < order.size and key[order[n]] == own:
            height += sums[0, order[n]]
            area += sums[1, order[n]]
            n += 1
        strip, column = own // nx, own % nx
        if strip != before:
            base, before = total, strip
        share = area + (total - base)
        total += height
        covered = total - base
        covered = 1.0 if abs(covered - 1) < SLIVER else covered
        until = nx
        if n < order.size and key[order[n]] // nx == strip:
            until = key[order[n]] % nx
        if share > SLIVER:
            place[0, count], place[1, count], place[2, count] = strip // ny, strip % ny, column
            length[count], fraction[count] = 1, min(share, 1.0)
            count += 1
        if covered > SLIVER and until > column + 1:
            place[0, count], place[1, count], place[2, count] = strip // ny, strip % ny, column + 1
            length[count], fraction[count] = until - column - 1, min(covered, 1.0)
            count += 1
    return count
