"""Cells taken out of many small chunks at once."""

from __future__ import annotations

import numpy as np


def cells_of_small_chunks(
    raw: np.ndarray, cells: np.ndarray, cuts: np.ndarray, stride: int, out: np.ndarray
) -> None:
    """Put together the numbers of some cells of shuffled chunks, for a run of steps.

    By one index for all, where chunk by chunk would take longer than their numbers do.

    Parameters
    ----------
    raw : (N, item, S) uint8
        Of each chunk all first bytes of its S numbers, then all second ones, …
    cells : (2, C) int64
        Chunk by chunk, of each cell where its first step stands in its chunk, and its column in
        `out`.
    cuts : (N + 1,) int64
        Where the cells of each chunk begin among them.
    stride
        Numbers from one step to the next.
    out : (T, ≥ C) array of the stored type
    """
    count, item, size = raw.shape
    whole = np.empty((count, size, item), np.uint8)
    for n in range(item):
        whole[..., n] = raw[:, n]
    begin = cells[0] + np.repeat(np.arange(count) * size, np.diff(cuts))
    index = begin + (np.arange(len(out)) * stride)[:, None]
    out[:, cells[1]] = whole.view(out.dtype).ravel().take(index, mode="clip")
