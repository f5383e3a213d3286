"""Cells combined over periods, for grids that stay grids."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from bavlo.core.reduce.period_reducer import OpenPeriods, PeriodReducer
from bavlo.core.reduce.period_state import (
    CellValues,
    Coverage,
    PeriodState,
    Rules,
    StepWeights,
)
from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.values.combine import TOTAL


class CellReducer(PeriodReducer[CellValues]):
    """Combine the steps of each cell."""

    combines = True

    def state_of(self, block: Block, cells: np.ndarray) -> OpenPeriods:
        """Combine the values (T, C) of a block."""
        steps = self.block_steps(block)
        sums = self.period_sums(steps, cells)
        none = Coverage.none(steps.periods)
        return (PeriodState(steps.first, block.first, block.last, sums, none),)

    def finish(self, state: PeriodState) -> CellValues:
        """(P, C) values, NaN where too little of a period has data."""
        return CellValues(state.first, state.sums.combined(self.rules, *self.time_of(state)))


@dataclass(frozen=True, eq=False)
class SingleSteps:
    """Cells of periods that are one whole step each, so that nothing is combined.

    Much faster than `CellReducer`, and with a third of its memory.
    """

    combines: ClassVar[bool] = False

    step_weights: StepWeights
    rules: Rules

    def update(self, block: Block, cells: np.ndarray) -> list[CellValues]:
        """The values (T, C) of a block as those of its periods."""
        assignment = self.step_weights.assignment
        low, high = np.searchsorted(assignment.step, [block.first, block.last])
        if high == low:
            return []
        step = assignment.step[low:high] - block.first
        values = cells if step.size == len(cells) else cells[step]
        if self.rules.degrees is not None:
            values = self.rules.degrees.of(values)
        factor = self.step_weights.factor[assignment.step[low:high]]
        if self.rules.combine == TOTAL and (factor != 1).any():
            values = values * factor[:, None]
        return [CellValues(int(assignment.period[low]), values)]

    def merge(self, earlier: CellValues, later: CellValues) -> CellValues:
        """Not needed, since no period is ever open."""
        raise NotImplementedError

    def settle(self, state: CellValues) -> tuple[list[CellValues], None]:
        """All values, which no other step can change."""
        return [state], None

    def close(self, state: CellValues) -> list[CellValues]:
        """All values."""
        return [state]


def cell_reducer(step_weights: StepWeights, rules: Rules) -> CellReducer | SingleSteps:
    """What combines the steps of each cell: nothing, where every period is one whole step."""
    assignment = step_weights.assignment
    alone = assignment.step.size == np.unique(assignment.step).size
    alone &= bool((np.diff(assignment.period) == 1).all())
    if not alone or rules.most_missing is not None:
        return CellReducer(step_weights, rules)
    duration = step_weights.duration[assignment.step] * assignment.share
    whole = duration >= (1 - ENOUGH) * step_weights.period_length[assignment.period]
    if not whole.all():
        return CellReducer(step_weights, rules)
    return SingleSteps(step_weights, rules)
