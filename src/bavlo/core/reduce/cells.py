"""Cells combined over periods, for grids that stay grids."""

from __future__ import annotations

import numpy as np

from bavlo.core.reduce.period_state import CellValues, Coverage, PeriodState
from bavlo.core.reduce.periods import OpenPeriods, PeriodReducer
from bavlo.core.reduce.protocol import Unit


class CellReducer(PeriodReducer[CellValues]):
    """Combine the steps of each cell."""

    def state_of(self, unit: Unit, block: np.ndarray) -> OpenPeriods:
        """Combine the values (T, C) of a unit."""
        steps = self.unit_steps(unit)
        sums = self.period_sums(steps, block)
        none = Coverage.none(steps.periods)
        return (PeriodState(steps.first, unit.first, unit.last, sums, none),)

    def finish(self, state: PeriodState) -> CellValues:
        """(P, C) values, NaN where too little of a period has data."""
        return CellValues(state.first, state.sums.combined(self.rules, *self.time_of(state)))
