"""Grids made by formulas with functions of the cells of each region."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.space.overlay import Overlay
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.measures import parse_measure
from bavlo.core.values.formula import evaluate
from bavlo.grids.derived import DerivedGrid
from bavlo.grids.source import CellSelection, OfSource


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
