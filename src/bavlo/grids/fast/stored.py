"""A step as it is stored, whose cells are added up without being decoded one by one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache, cached_property
from typing import Protocol, runtime_checkable

import numpy as np

from bavlo.compiled import compiled
from bavlo.core.reduce.step_kernels import (
    add_to,
    floats_in_order,
    look_at,
    orders_of_marks,
)
from bavlo.core.reduce.totals import Seen
from bavlo.grids.cf import Packing
from bavlo.grids.fast import inflate, planes
from bavlo.grids.source import CellSelection, CellSubset

FLOATS = (np.dtype(np.float32), np.dtype(np.float64))
StepPart = tuple[CellSubset, np.ndarray]  # wanted cells, and stored numbers (size,)


@runtime_checkable
class HasStoredSteps(Protocol):
    """A file or a grid whose steps may be had as they are stored."""

    @property
    def plain_steps(self) -> bool:
        """Whether each step is stored by itself, in floats that are the values."""

    def read_stored(self, step: int, cells: CellSelection) -> StoredStep | None:
        """The stored numbers of a step; None where they are not to be had like that."""


def is_plain(packing: Packing, dtype: np.dtype) -> bool:
    """Whether stored numbers are floats that are values, or mean no data one by one."""
    bounded = packing.lowest is not None or packing.highest is not None
    return dtype in FLOATS and packing.is_plain and not bounded


def loops_are_ready() -> bool:
    """Whether steps may be added up as they are stored."""
    return compiled(look_at) is not None


@cache
def _marks_of(packing: Packing, dtype: np.dtype) -> tuple[np.ndarray, np.ndarray]:
    """The numbers that mean no data, as `look_at` asks for them; kept, as each step needs them."""
    marks = np.array([n for n in (*packing.missing, *packing.marks) if n == n], dtype)
    return marks, orders_of_marks(marks)


def warm_up(dtype: np.dtype) -> None:
    """Load and compile what adds up steps of some type, where numba is there."""
    planes.warm_up()
    inflate.warm_up()
    if dtype not in FLOATS or compiled(look_at) is None:
        return
    step = StoredStep([(CellSubset(None, slice(0, 1), 1), np.zeros(1, dtype))], Packing(), 1)
    step.add_to(np.full(1, step.seen.low))


@dataclass(frozen=True, eq=False)
class StoredStep:
    """The stored numbers of the cells of one step: `bavlo.core.reduce.totals.StepValues`.

    Parameters
    ----------
    parts
        Rectangles of cells, all of one type of `FLOATS`.
    packing
        One of which `is_plain` holds.
    cells
        How many cells are wanted of all parts.
    """

    parts: Sequence[StepPart]
    packing: Packing
    cells: int

    @cached_property
    def seen(self) -> Seen:
        """Range and gaps.

        Raises
        ------
        InputError
            Where a mark is met that the variable cannot have and that no sample held.
        """
        look = compiled(look_at)
        assert look is not None
        dtype = self.parts[0][1].dtype
        kind = np.dtype(f"i{dtype.itemsize}")
        marks, orders = _marks_of(self.packing, dtype)
        missing = np.zeros(self.cells, np.uint8)
        found = np.array([np.iinfo(kind).max, np.iinfo(kind).min, 0])
        for subset, stored in self.parts:
            look(stored, stored.view(kind), subset.runs, marks, orders, missing, found)
        low, high, count = found.tolist()
        if low > high:
            return Seen(np.inf, -np.inf, missing.view(bool))
        lowest, highest = floats_in_order(np.array([low, high], kind), dtype).tolist()
        if any(lowest <= mark < 0 or 0 < mark <= highest for mark in self.packing.watched):
            self.decoded()  # which tells what was met, and where
        return Seen(lowest, highest, missing.view(bool) if count else None)

    def add_to(self, total: np.ndarray) -> None:
        """Add them up."""
        add = compiled(add_to)
        assert add is not None
        for subset, stored in self.parts:
            add(stored, subset.runs, total)

    def decoded(self) -> np.ndarray:
        """(C,) float64, NaN where there is no data."""
        values = np.empty((1, self.cells))
        for subset, stored in self.parts:
            subset.decode(stored[None], self.packing.decode, values)
        return np.asarray(values[0])
