"""Steps added up as they are read, before regions are measured."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.periods import OpenPeriods
from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.regions import RegionFirst
from bavlo.core.reduce.totals import RunningTotals, StepValues
from bavlo.plan.value_range import ValueRange

LEAST_SUMMED = 4  # steps, from which on it pays to add them up before regions are measured


@dataclass(frozen=True, eq=False)
class Reduced:
    """The open periods of some steps of a reducer, and what went in.

    Parameters
    ----------
    has_data
        (C,) bool which cells had data at any of the steps; None where nobody needs it.
    """

    periods: OpenPeriods
    value_range: ValueRange
    has_data: np.ndarray | None


class StepSums:
    """What a reducer makes of the steps of a unit, each run of them that misses the same cells.

    Where the missing cells change every few steps, it stops: the rest is to be measured step by
    step. All of that follows from the data, however many steps are read at a time.

    Parameters
    ----------
    runs : (P,) int
        First steps of the unit's periods, counted from its own.
    cells
        How many values a step has.
    looks_at_cells
        Whether the cells that have data at any step are told.
    """

    def __init__(
        self,
        reducer: RegionFirst,
        unit: Unit,
        runs: np.ndarray,
        cells: int,
        *,
        looks_at_cells: bool,
    ) -> None:
        self.reducer = reducer
        self.looks_at_cells = looks_at_cells
        self.unit = unit
        self.runs = runs
        self.cells = cells
        self.done: list[Reduced] = []
        self.stopped_at: int | None = None
        self._begin(unit.first)

    @classmethod
    def of(
        cls, reducer: object, unit: Unit, cells: int, *, looks_at_cells: bool = False
    ) -> StepSums | None:
        """Where the steps of a unit may be added up first, and are so many that it pays."""
        if not unit.parts or not isinstance(reducer, RegionFirst):
            return None
        runs = reducer.plain_runs(unit)
        if runs is None or unit.last - unit.first < LEAST_SUMMED * len(runs):
            return None
        return cls(reducer, unit, runs, cells, looks_at_cells=looks_at_cells)

    def _begin(self, step: int) -> None:
        self.begin = step
        inside = self.runs[self.runs > step - self.unit.first] - (step - self.unit.first)
        self.sums = RunningTotals(np.append(0, inside), self.cells)
        self.held: list[StepValues] = []

    def add(self, values: StepValues) -> None:
        """Take in the values of the next step, unless it has stopped."""
        if self.stopped_at is not None:
            return
        if not self.sums.add(values):
            step = self.begin + self.sums.count
            if self.sums.count < LEAST_SUMMED:
                block = np.stack([each.decoded() for each in self.held])
                self._measure(Unit(self.begin, step), block)
                self.stopped_at = step
                return
            self._finish()
            self._begin(step)
            self.sums.add(values)
        if self.sums.count < LEAST_SUMMED:
            self.held.append(values)
        else:
            self.held.clear()

    def measure_rest(self, part: Unit, block: np.ndarray) -> None:
        """Measure those steps of a part of the unit, with values (T, C), that are left."""
        if self.stopped_at is not None and part.last > self.stopped_at:
            steps = Unit(max(part.first, self.stopped_at), part.last)
            self._measure(steps, block[steps.first - part.first :])

    def close(self) -> list[Reduced]:
        """What it made of all steps."""
        if self.stopped_at is None:
            self._finish()
        return self.done

    def _measure(self, steps: Unit, block: np.ndarray) -> None:
        state = self.reducer.state_of(steps, block)
        self._done(state, ValueRange.of(block), block)

    def _finish(self) -> None:
        steps, totals = Unit(self.begin, self.begin + self.sums.count), self.sums.totals()
        state = self.reducer.state_of_sums(steps, totals.value)
        self._done(state, ValueRange(*totals.value_range), totals.value)

    def _done(self, state: OpenPeriods, value_range: ValueRange, values: np.ndarray) -> None:
        has_data = with_data(values) if self.looks_at_cells else None
        self.done.append(Reduced(state, value_range, has_data))


def with_data(values: np.ndarray) -> np.ndarray:
    """(C,) bool which cells of (T, C) values, or of their sums, have any."""
    return np.asarray(~np.isnan(values).all(axis=0))


def add_steps(values: Iterable[StepValues], steps: Unit, sums: Collection[StepSums]) -> int:
    """Take in the values of some steps; the step from which on they are left.

    All sums of a unit stop at the same step, since they see the same gaps.
    """
    for step in values:
        for each in sums:
            each.add(step)
        stopped = [each.stopped_at for each in sums if each.stopped_at is not None]
        if stopped:
            return stopped[0]
    return steps.last
