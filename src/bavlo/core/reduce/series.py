"""The reducer of a series: all measures of a grid in one pass, and the range of its values."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from bavlo.core.reduce.period_reducer import OpenPeriods
from bavlo.core.reduce.period_state import PeriodValues
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst, RegionFirst

IN_CACHE = 2**16  # values that are still near when they are looked at again


@dataclass(frozen=True)
class ValueRange:
    """Lowest and highest value; ∞ and -∞ where there is none."""

    low: float = np.inf
    high: float = -np.inf

    def wider(self, other: ValueRange) -> ValueRange:
        """The range that holds two."""
        return ValueRange(min(self.low, other.low), max(self.high, other.high))

    @classmethod
    def of(cls, block: np.ndarray) -> ValueRange:
        """Of an array of any shape, leaving out NaN."""
        flat = block.reshape(-1)
        parts = [flat[n : n + IN_CACHE] for n in range(0, flat.size, IN_CACHE)]
        low = min((np.fmin.reduce(part, initial=np.inf) for part in parts), default=np.inf)
        high = max((np.fmax.reduce(part, initial=-np.inf) for part in parts), default=-np.inf)
        return cls(float(low), float(high))


@dataclass(frozen=True, eq=False)
class SeriesState:
    """The open periods of each group of measures, and the range of values so far.

    Parameters
    ----------
    groups
        None for a group of which no period is open.
    has_data
        (C,) bool which cells had data at any step; None where nobody needs it.
    """

    groups: tuple[OpenPeriods | None, ...]
    value_range: ValueRange
    has_data: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class SeriesSettled:
    """Values of periods that are over, by group of measures, with range and cells of what went in.

    Parameters
    ----------
    has_data
        (C,) bool which cells had data at any step; None where nobody needs it.
    """

    groups: list[list[PeriodValues]]
    value_range: ValueRange = field(default_factory=ValueRange)
    has_data: np.ndarray | None = None

    def split(self, counts: Sequence[int]) -> Iterator[SeriesSettled]:
        """So many groups at a time, one after the other."""
        first = 0
        for count in counts:
            yield replace(self, groups=self.groups[first : first + count])
            first += count


def either(one: np.ndarray | None, other: np.ndarray | None) -> np.ndarray | None:
    """Cells that had data in one or the other."""
    if one is None or other is None:
        return other if one is None else one
    return np.asarray(one | other)


@dataclass(frozen=True, eq=False)
class SeriesReducer:
    """Reduces each block for several groups of measures.

    Parameters
    ----------
    reducers
        Each is fed the same values.
    looks_at_cells
        Whether the cells that have data at any step are told.
    """

    reducers: tuple[RegionFirst | CellFirst, ...]
    looks_at_cells: bool = False

    def update(self, block: Block, cells: np.ndarray) -> list[SeriesState]:
        """Reduce the values (T, C) of a block."""
        groups = [
            reducer.state_of(block, cells) if reducer.has_steps(block) else None
            for reducer in self.reducers
        ]
        has_data = ~np.isnan(cells).all(axis=0) if self.looks_at_cells else None
        return [SeriesState(tuple(groups), ValueRange.of(cells), has_data)]

    def merge(self, earlier: SeriesState, later: SeriesState) -> SeriesState:
        """The open periods of two neighbouring runs of steps together."""
        groups = []
        for reducer, before, after in zip(self.reducers, earlier.groups, later.groups, strict=True):
            if before is None or after is None:
                groups.append(after if before is None else before)
            else:
                groups.append(reducer.merge(before, after))
        return SeriesState(
            tuple(groups),
            earlier.value_range.wider(later.value_range),
            either(earlier.has_data, later.has_data),
        )

    def settle(self, state: SeriesState) -> tuple[SeriesSettled, SeriesState | None]:
        """Values of periods that are over, and the state without them."""
        settled: list[list[PeriodValues]] = []
        rest: list[OpenPeriods | None] = []
        for reducer, group in zip(self.reducers, state.groups, strict=True):
            values, still = reducer.settle(group) if group is not None else ([], None)
            settled.append(values)
            rest.append(still)
        is_open = any(group is not None for group in rest)
        return (
            SeriesSettled(settled, state.value_range, state.has_data),
            SeriesState(tuple(rest), ValueRange()) if is_open else None,
        )

    def close(self, state: SeriesState) -> SeriesSettled:
        """Values of all periods."""
        pairs = zip(self.reducers, state.groups, strict=True)
        return SeriesSettled([[] if g is None else r.close(g) for r, g in pairs])
