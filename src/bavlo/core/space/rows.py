"""Rows of a large grid, a few of which are worked on at a time while they are near."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol, runtime_checkable

import numpy as np

from bavlo.core.reduce.totals import Seen

CELLS_AT_ONCE = 2**18  # whose values and weights stay near


class Rows(Protocol):
    """Rows (n, nx) of values: an array, or what makes some of them when they are asked for."""

    def __len__(self) -> int: ...

    def __getitem__(self, rows: slice) -> np.ndarray: ...


@runtime_checkable
class PlainRows(Protocol):
    """Rows of which some may be had as they are stored, in floats."""

    def plain(self, rows: slice) -> tuple[np.ndarray, Seen] | None:
        """(C,) numbers of some rows that are values or mean no data, and what they are."""


def few_rows(first: int, last: int, width: int) -> Iterator[slice]:
    """The rows `first` to `last` (excluded) of so many cells each, a few at a time."""
    at_once = max(1, CELLS_AT_ONCE // width)
    for top in range(first, last, at_once):
        yield slice(top, min(top + at_once, last))
