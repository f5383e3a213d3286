"""Files whose cells are those of another in another order: from south to north, or from 0° on."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.grids.cells import CellSelection
from bavlo.grids.formats.packing import Packing
from bavlo.grids.source import GridFile, OfFile

TURN = 360.0


@dataclass(frozen=True, eq=False)
class ReorderedFile(OfFile):
    """A file whose cells are read in the order of another.

    Parameters
    ----------
    inner
        The file.
    layout
        The cells in the order of the other.
    rows, columns : (ny,), (nx,) int64
        Row and column of the file for each of those.
    """

    inner: GridFile
    layout: GridLayout
    rows: np.ndarray
    columns: np.ndarray

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed, and that cells are in another order."""
        name = self.inner.path.name
        return (*self.inner.notes, f"{name}: the same cells in another order than in other files")

    def packed(self, packing: Packing) -> ReorderedFile:
        """The same with another understanding of its stored numbers."""
        return ReorderedFile(self.inner.packed(packing), self.layout, self.rows, self.columns)

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.
        """
        row, column = np.divmod(cells.cells, self.layout.shape[1])
        own = self.rows[row] * self.layout.shape[1] + self.columns[column]
        order = np.argsort(own)
        block = np.empty((last - first, cells.size)) if into is None else into
        block[:, order] = self.inner.read(first, last, CellSelection(cells.shape, own[order]))
        return block


def in_order_of(file: GridFile, layout: GridLayout) -> ReorderedFile | None:
    """A file with its cells in the order of a layout; None where they are not the same cells."""
    own = file.layout
    if own.shape != layout.shape or own.crs != layout.crs or own.has_corners or layout.has_corners:
        return None
    turn = TURN if layout.is_lonlat else np.inf
    rows = _places(own.y_edges, layout.y_edges, np.inf)
    columns = _places(own.x_edges, layout.x_edges, turn)
    if rows is None or columns is None:
        return None
    return ReorderedFile(file, layout, rows, columns)


def _places(own: np.ndarray, wanted: np.ndarray, turn: float) -> np.ndarray | None:
    """(N,) int64 which cell between its own edges each wanted cell is; None where one is none.

    Parameters
    ----------
    own, wanted : (N + 1,) float64
        Edges, rising or falling.
    turn
        What may be between two numbers of one place.
    """
    middles = [(edges[:-1] + edges[1:]) / 2 for edges in (own, wanted)]
    if np.isfinite(turn):
        middles = [middle % turn for middle in middles]
    sizes = [np.abs(np.diff(edges)) for edges in (own, wanted)]
    orders = [np.argsort(middle) for middle in middles]
    found = np.empty(orders[0].size, np.int64)
    found[orders[1]] = orders[0]
    close = 1e-3 * sizes[1].min()
    apart = np.abs(middles[0][found] - middles[1])
    alike = np.minimum(apart, np.abs(turn - apart)) <= close
    alike &= np.abs(sizes[0][found] - sizes[1]) <= close
    return found if alike.all() else None
