"""A loop that puts shuffled numbers together, which numba compiles: see `bavlo.compiled`."""

from __future__ import annotations

import numpy as np


def join_planes(planes: np.ndarray, layer: int, row: int, column: int, out: np.ndarray) -> None:
    """The numbers of a box of a shuffled chunk of numbers of four bytes.

    Parameters
    ----------
    planes : (4, T, rows, columns) uint8
        All first bytes of the numbers, then all second ones, …
    layer, row, column
        Where the box begins.
    out : (t, y, x) uint32
        Filled, the first byte being the lowest.
    """
    layers, rows, columns = out.shape
    for t in range(layers):
        for y in range(rows):
            line = planes[:, layer + t, row + y, column : column + columns]
            join_line(line[0], line[1], line[2], line[3], out[t, y])


def join_runs(
    planes: np.ndarray, layer: int, runs: np.ndarray, first: int, last: int, out: np.ndarray
) -> None:
    """The same of some cells of each layer.

    Parameters
    ----------
    planes : (4, T, N) uint8
    layer
        The first one.
    runs : (3, K) int64
        Runs of cells: where each begins in a layer and in `out`, and its length.
    first, last
        Those of this chunk, the last excluded.
    out : (t, C) uint32
        Filled where these cells are.
    """
    for t in range(out.shape[0]):
        for run in range(first, last):
            begin, place, length = runs[0, run], runs[1, run], runs[2, run]
            line = planes[:, layer + t, begin : begin + length]
            join_line(line[0], line[1], line[2], line[3], out[t, place : place + length])


def join_line(
    first: np.ndarray, second: np.ndarray, third: np.ndarray, fourth: np.ndarray, out: np.ndarray
) -> None:
    """The numbers of a line; a loop by itself, which goes many numbers at a time."""
    for x in range(out.size):
        low = np.uint32(first[x]) | (np.uint32(second[x]) << np.uint32(8))
        high = np.uint32(third[x]) | (np.uint32(fourth[x]) << np.uint32(8))
        out[x] = low | (high << np.uint32(16))
