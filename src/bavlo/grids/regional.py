"""Grids whose values depend on regions or periods, computed when they are read."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.cells import CellReducer
from bavlo.core.reduce.protocol import Block
from bavlo.core.space.overlay import Overlay
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.measures import parse_measure
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.formula import evaluate
from bavlo.core.values.kinds import Variable
from bavlo.grids.cells import CellSelection
from bavlo.grids.derived import DerivedGrid
from bavlo.grids.source import GridSource, OfSource


def by_entries(shared: Overlay) -> Overlay:
    """An overlay in which every entry has a cell of its own, so that no two regions share one."""
    number = np.arange(shared.index.size)
    return Overlay(
        (1, number.size),
        number,
        shared.indptr,
        number.astype(np.int32),
        shared.fraction,
        shared.weight,
        shared.region_weight,
    )


@dataclass(frozen=True, eq=False)
class RegionalGrid(OfSource):
    """A grid made by a formula whose values depend on the region that a cell is in.

    Its cells are the entries of an overlay: a cell that two regions share has a value in each.

    Parameters
    ----------
    source
        The formula and the grids that it is made from.
    shared
        The overlay of regions and cells.
    index
        The same with a cell for each entry, weighted as measures are.
    """

    source: DerivedGrid
    shared: Overlay
    index: OverlayIndex
    notes: tuple[str, ...] = ()

    @property
    def how_combined(self) -> str:  # type: ignore[override]
        """How the grids that it is made from were combined."""
        return self.source.how_combined

    @cached_property
    def _owner(self) -> np.ndarray:
        """(N,) the region of each entry."""
        return np.repeat(np.arange(self.shared.regions), self.shared.entries)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """(T, N) values of all entries at the steps `first` to `last` (excluded)."""
        return self.values(first, last)

    def values(self, first: int, last: int) -> np.ndarray:
        """(T, N) values of all entries at the steps `first` to `last` (excluded)."""
        used = CellSelection(self.shared.shape, self.shared.cells)
        blocks = self.source.aligned.read(first, last, used)
        entries = {name: block[:, self.shared.index] for name, block in blocks.items()}

        def of_regions(function: str, values: np.ndarray) -> np.ndarray:
            found = parse_measure(function).compute(CellSample(self.index, values))
            return np.asarray(found[:, self._owner])

        variables = self.source.variables
        shape = (last - first, self.shared.index.size)
        found = evaluate(self.source.formula.term, variables, entries, of_regions)
        return np.array(np.broadcast_to(found, shape))


@dataclass(frozen=True, eq=False)
class RegionalCells(RegionalGrid):
    """The same as a grid on its own cells, of which no two regions share one."""

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """(T, C) values of cells, NaN outside of all regions."""
        block = np.full((last - first, cells.cells.size), np.nan)
        number = self.shared.cells[self.shared.index]
        at = np.minimum(np.searchsorted(cells.cells, number), cells.cells.size - 1)
        found = cells.cells[at] == number
        block[:, at[found]] = self.values(first, last)[:, found]
        return block


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

    @property
    def how_combined(self) -> str:  # type: ignore[override]
        """How steps became values of periods."""
        return self.time.how

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
