"""A grid all around the globe that begins with another column, so that its seam is elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.space.layout import GridLayout, rolled
from bavlo.grids.source import CellSelection, GridSource, OfSource


@dataclass(frozen=True, eq=False)
class RolledGrid(OfSource):
    """The same values, with columns from `first` on and then those before it.

    Parameters
    ----------
    source
        On longitude and latitude, all around.
    first
        The column that comes first.
    """

    source: GridSource
    first: int

    @cached_property
    def layout(self) -> GridLayout:
        """All cells, in the order of columns here."""
        return rolled(self.source.layout, self.first)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        ny, nx = self.layout.shape
        row, column = np.divmod(cells.cells, nx)
        number = row * nx + (column + self.first) % nx
        order = np.argsort(number)
        block = np.empty((last - first, number.size))
        block[:, order] = self.source.read(first, last, CellSelection((ny, nx), number[order]))
        return block
