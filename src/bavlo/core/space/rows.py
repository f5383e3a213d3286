"""Rows of a large grid, a few of which are worked on at a time while they are near."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

import numpy as np

CELLS_AT_ONCE = 2**18  # whose values and weights stay near


class Rows(Protocol):
    """Rows (n, nx) of values: an array, or what makes some of them when they are asked for."""

    def __len__(self) -> int: ...

    def __getitem__(self, rows: slice) -> np.ndarray: ...


def few_rows(first: int, last: int, width: int) -> Iterator[slice]:
    """The rows `first` to `last` (excluded) of so many cells each, a few at a time."""
    at_once = max(1, CELLS_AT_ONCE // width)
    for top in range(first, last, at_once):
        yield slice(top, min(top + at_once, last))
