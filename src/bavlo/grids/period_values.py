"""A grid whose steps are periods: the values of another grid combined over each of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.cells import CellReducer
from bavlo.core.reduce.protocol import Block
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.grids.source import CellSelection, GridSource, OfSource


@dataclass(frozen=True, eq=False)
class PeriodGrid(OfSource):
    """The values of periods of another grid, made when they are read.

    Parameters
    ----------
    source
        With the steps that are combined.
    reducer
        Combines them.
    time
        The periods, each a step.
    variable
        With the block and kind of the combined values.
    """

    source: GridSource
    reducer: CellReducer
    time: TimeAxis
    variable: Variable
    notes: tuple[str, ...] = ()
    step_chunk: int = 1

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the periods `first` to `last` (excluded) as (P, C) float64."""
        return np.stack([self._period(p, cells) for p in range(first, last)])

    def _period(self, period: int, cells: CellSelection) -> np.ndarray:
        """(C,) values of one period, its steps read run by run."""
        begins, ends = self.reducer.step_weights.assignment.step_ranges
        begin, end = int(begins[period]), int(ends[period])
        if end <= begin:
            return np.full(cells.size, np.nan)
        state = None
        for some in batches(end, cells.size, begin):
            block = Block(some.start, some.stop)
            part = self.reducer.state_of(block, self.source.read(block.first, block.last, cells))
            state = part if state is None else self.reducer.merge(state, part)
        assert state is not None
        for values in self.reducer.close(state):
            if values.first <= period < values.first + len(values.value):
                return np.asarray(values.value[period - values.first])
        raise LookupError(period)
