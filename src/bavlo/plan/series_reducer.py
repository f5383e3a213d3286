"""The reducer of a series: all measures of a grid in one pass, and the range of its values."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from bavlo.core.reduce.period_state import PeriodValues
from bavlo.core.reduce.periods import OpenPeriods
from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.regions import CellFirst, RegionFirst
from bavlo.core.reduce.totals import DecodedStep
from bavlo.plan.reading import UnitValues
from bavlo.plan.series import SeriesPlan
from bavlo.plan.step_sums import StepSums, add_steps, with_data
from bavlo.plan.value_range import ValueRange


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

    def of_plans(self, plans: Sequence[SeriesPlan]) -> Iterator[SeriesSettled]:
        """The groups of each plan, one plan after the other."""
        first = 0
        for plan in plans:
            own = self.groups[first : first + len(plan.groups)]
            first += len(plan.groups)
            yield replace(self, groups=own)


def either(one: np.ndarray | None, other: np.ndarray | None) -> np.ndarray | None:
    """Cells that had data in one or the other."""
    if one is None or other is None:
        return other if one is None else one
    return np.asarray(one | other)


@dataclass(frozen=True, eq=False)
class SeriesReducer:
    """Reduces each unit for several groups of measures.

    Parameters
    ----------
    reducers
        Each is fed the same values.
    looks_at_cells
        Whether the cells that have data at any step are told.
    """

    reducers: tuple[RegionFirst | CellFirst, ...]
    looks_at_cells: bool = False

    def update(self, unit: Unit, values: UnitValues) -> list[SeriesState]:
        """Reduce the values of a unit, added up first where sums of them will do."""
        todo = [n for n, reducer in enumerate(self.reducers) if reducer.has_steps(unit)]
        states: list[SeriesState] = []
        sums: dict[int, StepSums] = {}
        if values.packed is not None:
            states, todo = self._of_stored(unit, values, todo)
        else:
            sums = self._step_sums(unit, values.cells, todo)
        others = [n for n in todo if n not in sums]
        only_ranks = not sums and all(self._only_ranks(n) for n in others)
        left = unit.first
        if sums and not others:
            left = add_steps(values.steps(), unit, sums.values())
        for part in unit.each if others or left < unit.last else ():
            if part.last <= left:
                continue
            some = Unit(max(part.first, left), part.last)
            block = values.block(some, narrow=only_ranks)
            if others:
                add_steps(map(DecodedStep, block), some, sums.values())
                states.append(self._measured(some, block, others))
            for each in sums.values():
                each.measure_rest(some, block)
        for n, each in sums.items():
            for found in each.close():
                groups: list[OpenPeriods | None] = [None] * len(self.reducers)
                groups[n] = found.periods
                states.append(SeriesState(tuple(groups), found.value_range, found.has_data))
        return states

    def _only_ranks(self, number: int) -> bool:
        """Whether a reducer does no more with the values of steps than rank them."""
        reducer = self.reducers[number]
        return isinstance(reducer, RegionFirst) and reducer.only_ranks

    def _step_sums(self, unit: Unit, cells: int, todo: list[int]) -> dict[int, StepSums]:
        """Of those reducers for which the steps of a unit may be added up first."""
        out = {}
        for n in todo:
            sums = StepSums.of(self.reducers[n], unit, cells, looks_at_cells=self.looks_at_cells)
            if sums is not None:
                out[n] = sums
        return out

    def _measured(self, part: Unit, block: np.ndarray, todo: list[int]) -> SeriesState:
        """The state of the values (T, C) of some steps."""
        groups: list[OpenPeriods | None] = [None] * len(self.reducers)
        for n in todo:
            if self.reducers[n].has_steps(part):
                groups[n] = self.reducers[n].state_of(part, block)
        return SeriesState(tuple(groups), ValueRange.of(block), self._with_data(block))

    def _of_stored(
        self, unit: Unit, values: UnitValues, todo: list[int]
    ) -> tuple[list[SeriesState], list[int]]:
        """The state of a unit from sums of whole numbers as stored, and reducers that need more."""
        groups: list[OpenPeriods | None] = [None] * len(self.reducers)
        value_range, has_data = ValueRange(), None
        for n in todo:
            reducer = self.reducers[n]
            starts = reducer.plain_runs(unit) if isinstance(reducer, RegionFirst) else None
            totals = None if starts is None else values.totals(starts)
            if isinstance(reducer, RegionFirst) and totals is not None:
                value_range = ValueRange(*totals.value_range)
                groups[n] = reducer.state_of_sums(unit, totals.value)
                has_data = self._with_data(totals.value)
        left = [n for n in todo if groups[n] is None]
        if left == todo:
            return [], todo
        return [SeriesState(tuple(groups), value_range, has_data)], left

    def _with_data(self, block: np.ndarray) -> np.ndarray | None:
        """Which cells of (T, C) values have any, where that is to be told."""
        return with_data(block) if self.looks_at_cells else None

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
