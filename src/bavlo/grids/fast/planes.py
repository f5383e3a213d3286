"""Shuffled numbers put together: all first bytes, then all second ones, … to numbers."""

from __future__ import annotations

import sys

import numpy as np

from bavlo.compiled import Loop, at_hand, compiled
from bavlo.grids.fast.plane_kernels import join_planes, join_runs

COMPILED_ITEM = 4  # bytes of the numbers that the compiled loop puts together
LEAST_COMPILED = 2**14  # numbers; of fewer, what is done around the loop takes as long


def put_planes(planes: np.ndarray, inside: tuple[slice, ...], out: np.ndarray) -> None:
    """Fill an array with the numbers of a part of a chunk.

    By NumPy plane by plane, which is six times faster than to copy the transpose. Where compiled
    loops are in use by one of them, in a third of that; to load them for this alone does not pay.

    Parameters
    ----------
    planes : (item, …) uint8
        The bytes of a whole chunk.
    inside
        The part, along each dimension of the chunk.
    out
        Of the shape of the part.
    """
    join, is_box = None, out.ndim == 3 and out.flags.c_contiguous
    if is_box and out.size >= LEAST_COMPILED and sys.byteorder == "little":
        join = at_hand(join_planes) if len(planes) == COMPILED_ITEM else None
    if join is None:
        mixed = out[..., None].view(np.uint8)
        for n, plane in enumerate(planes):
            mixed[..., n] = plane[inside]
    else:
        join(planes, *(part.start for part in inside), out.view(np.uint32))


def runs_loop(dtype: np.dtype) -> Loop | None:
    """What puts together runs of cells alone, for numbers of some type; None where it is not there.

    Taking them out of whole numbers goes through memory twice more.
    """
    fits = dtype.itemsize == COMPILED_ITEM and dtype.isnative and sys.byteorder == "little"
    return at_hand(join_runs) if fits else None


def warm_up() -> None:
    """Load and compile what puts numbers together, where that is allowed."""
    join, join_some = compiled(join_planes), compiled(join_runs)
    if join is not None and join_some is not None:
        planes = np.zeros((COMPILED_ITEM, 1, 1, 1), np.uint8)
        join(planes, 0, 0, 0, np.zeros((1, 1, 1), np.uint32))
        runs = np.array([[0], [0], [1]])
        out = np.zeros((1, 1), np.uint32)
        join_some(planes.reshape(COMPILED_ITEM, 1, 1), 0, runs, 0, 1, out)
