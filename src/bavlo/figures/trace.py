"""The cells behind a number: how much of each the region covers, and their values."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout
from bavlo.errors import RequestError
from bavlo.figures.style import FAINT, INK, WET, colour_scale, scale_for, styled
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.commands.tracing.lines import TracedCells

MOST_NUMBERS = 300  # cells whose values are written into them
LEAST_SHARE = 0.05  # of a cell, for its value to be written into it
MARGIN = 1  # cells around the region


def draw_cells(table: Table, title: str, cells: TracedCells | None = None, **_: Any) -> Figure:
    """The region with its cells, coloured by value, as strong as the share that it covers.

    Raises
    ------
    RequestError
        Where the number is not made of cells of rows and columns.
    """
    if cells is None or isinstance(cells.layout, CurvilinearLayout):
        raise RequestError(
            "out",
            "there is no picture of this number, which is not made of cells on rows and columns",
            "write a table, or trace the table that it was made from",
        )
    from matplotlib.collections import LineCollection
    from matplotlib.figure import Figure

    layout = cells.layout
    rows, columns = np.divmod(cells.cells, layout.shape[1])
    south, north = _around(rows, layout.shape[0])
    west, east = _around(columns, layout.shape[1])
    share = np.zeros((north - south, east - west))
    value = np.full(share.shape, np.nan)
    share[rows - south, columns - west] = cells.share
    value[rows - south, columns - west] = cells.value
    x, y = layout.x_edges[west : east + 1], layout.y_edges[south : north + 1]
    with styled():
        figure = Figure((12.8, 8.0), layout="constrained")
        axes = figure.add_subplot()
        axes.grid(visible=False)
        low, high = float(np.nanmin(value)), float(np.nanmax(value))
        if not high > low:
            low, high = low - 0.5, high + 0.5
        scale = scale_for(cells.unit, about_zero=False) if cells.unit else colour_scale("v", WET)
        painted = axes.pcolormesh(
            x, y, np.ma.masked_invalid(value), cmap=scale, vmin=low, vmax=high,
            alpha=np.clip(share, 0, 1), edgecolors=FAINT, linewidth=0.4,
        )  # fmt: skip
        del painted
        if cells.outline is not None:
            edges = cells.outline
            pieces = np.stack(
                [np.column_stack([edges.x0, edges.y0]), np.column_stack([edges.x1, edges.y1])], 1
            )
            pieces = pieces + _turn(layout.is_lonlat, pieces, x)
            axes.add_collection(LineCollection(list(pieces), colors=INK, linewidths=1.3))
        _write_values(axes, x, y, share, value)
        axes.set_xlim(float(x.min()), float(x.max()))
        axes.set_ylim(float(y.min()), float(y.max()))
        if layout.is_lonlat:
            middle = np.radians((y.min() + y.max()) / 2)
            axes.set_aspect(1 / max(float(np.cos(middle)), 0.05))
            axes.set_xlabel("longitude")
            axes.set_ylabel("latitude")
        else:
            axes.set_aspect("equal")
        from matplotlib.cm import ScalarMappable
        from matplotlib.colors import Normalize

        bar = figure.colorbar(ScalarMappable(Normalize(low, high), scale), ax=axes, shrink=0.7)
        bar.set_label(cells.unit or "value")
        axes.set_title(title, fontsize=16, loc="left")
        figure.supxlabel(
            f"{cells.cells.size} cells; the fainter a cell, the less of it the region covers",
            fontsize=10, x=0.01, ha="left",
        )  # fmt: skip
    return figure


def _around(numbers: np.ndarray, size: int) -> tuple[int, int]:
    """The rows or columns of some cells with a margin."""
    return max(int(numbers.min()) - MARGIN, 0), min(int(numbers.max()) + MARGIN + 1, size)


def _turn(is_lonlat: bool, pieces: np.ndarray, x: np.ndarray) -> np.ndarray:
    """What brings an outline into the grid's turn of longitude."""
    if not is_lonlat:
        return np.zeros(2)
    turns = np.rint((x.mean() - pieces[..., 0].mean()) / 360)
    return np.array([360.0 * turns, 0.0])


def _write_values(
    axes: Any, x: np.ndarray, y: np.ndarray, share: np.ndarray, value: np.ndarray
) -> None:
    """Values in the cells, where there is room for them."""
    written = np.argwhere((share >= LEAST_SHARE) & ~np.isnan(value))
    if len(written) > MOST_NUMBERS:
        return
    size = float(np.clip(420 / max(share.shape), 5, 10))
    for row, column in written.tolist():
        axes.text(
            (x[column] + x[column + 1]) / 2,
            (y[row] + y[row + 1]) / 2,
            f"{value[row, column]:.3g}",
            ha="center",
            va="center",
            fontsize=size,
        )
