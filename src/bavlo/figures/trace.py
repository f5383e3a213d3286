"""The cells behind a number: how much of each the region covers, and their values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regions import RegionEdges
from bavlo.errors import RequestError
from bavlo.figures.style import FAINT, INK, WET, Fits, colour_scale, page_size, scale_for, styled
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

DARK = 0.55  # strength of a colour from which text on it is white
MARGIN = 1  # cells around the region


@dataclass(frozen=True, eq=False)
class TracedCells:
    """The cells behind a number, for a picture.

    Parameters
    ----------
    layout
        Of the whole grid.
    cells : (K,) int64
        Their numbers.
    share, value : (K,) float64
        Covered share of each, and its value of the period.
    outline
        Of the region, in the reference system of the grid; None where it is no outline.
    """

    layout: GridLayout
    cells: np.ndarray
    share: np.ndarray
    value: np.ndarray
    unit: str
    outline: RegionEdges | None


def draw_cells(table: Table, title: str, cells: TracedCells | None = None, **_: Any) -> Figure:
    """The region with its cells, coloured by value, as strong as the share that it covers.

    Raises
    ------
    RequestError
        Where the number is not made of cells of rows and columns.
    """
    if cells is None or cells.layout.has_corners:
        raise RequestError(
            "out",
            "there is no picture of this number, which is not made of cells on rows and columns",
            "write a table, or trace the table that it was made from",
        )
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize
    from matplotlib.figure import Figure

    layout = cells.layout
    edges, share, value = _fields(cells)
    x, y = edges
    with styled():
        figure = Figure(page_size(), layout="compressed")
        axes = figure.add_subplot()
        axes.grid(visible=False)
        low, high = float(np.nanmin(value)), float(np.nanmax(value))
        if not high > low:
            low, high = low - 0.5, high + 0.5
        scale = scale_for(cells.unit, neutral=None) if cells.unit else colour_scale("v", WET)
        axes.pcolormesh(
            x, y, np.ma.masked_invalid(value), cmap=scale, vmin=low, vmax=high,
            alpha=np.clip(share, 0, 1),  # one for each cell
            edgecolors=FAINT, linewidth=0.4,
        )  # fmt: skip
        if cells.outline is not None:
            _draw_outline(axes, cells.outline, x, is_lonlat=layout.is_lonlat)
        _frame(axes, x, y, is_lonlat=layout.is_lonlat)
        bar = figure.colorbar(ScalarMappable(Normalize(low, high), scale), ax=axes, shrink=0.7)
        bar.set_label(cells.unit or "value")
        figure.suptitle(title, fontsize=16, x=0.01, ha="left", weight="bold")
        figure.supxlabel(
            f"{cells.cells.size} cells; the fainter a cell, the less of it the region covers",
            fontsize=10, x=0.01, ha="left",
        )  # fmt: skip
        figure.draw_without_rendering()  # so that it is known how large a cell is
        _write_values(axes, edges, share, value, (low, high))
    return figure


def _fields(
    cells: TracedCells,
) -> tuple[tuple[np.ndarray, np.ndarray], np.ndarray, np.ndarray]:
    """Edges, covered share and value of the rectangle around the cells, with a margin."""
    layout = cells.layout
    rows, columns = np.divmod(cells.cells, layout.shape[1])
    south, north = _around(rows, layout.shape[0])
    west, east = _around(columns, layout.shape[1])
    share = np.zeros((north - south, east - west))
    value = np.full(share.shape, np.nan)
    share[rows - south, columns - west] = cells.share
    value[rows - south, columns - west] = cells.value
    edges = layout.x_edges[west : east + 1], layout.y_edges[south : north + 1]
    return edges, share, value


def _draw_outline(axes: Axes, outline: RegionEdges, x: np.ndarray, *, is_lonlat: bool) -> None:
    """The edges of the region, by whole turns near the columns `x`."""
    from matplotlib.collections import LineCollection

    begin = np.column_stack([outline.x0, outline.y0])
    pieces = np.stack([begin, np.column_stack([outline.x1, outline.y1])], 1)
    pieces = pieces + _turn(is_lonlat, pieces, x)
    axes.add_collection(LineCollection(list(pieces), colors=INK, linewidths=1.3))


def _frame(axes: Axes, x: np.ndarray, y: np.ndarray, *, is_lonlat: bool) -> None:
    """The limits of the picture; a degree of longitude as wide as it is in the middle."""
    axes.set_xlim(float(x.min()), float(x.max()))
    axes.set_ylim(float(y.min()), float(y.max()))
    if is_lonlat:
        middle = np.radians((y.min() + y.max()) / 2)
        axes.set_aspect(1 / max(float(np.cos(middle)), 0.05))
        axes.set_xlabel("longitude")
        axes.set_ylabel("latitude")
    else:
        axes.set_aspect("equal")


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
    axes: Any,
    edges: tuple[np.ndarray, np.ndarray],
    share: np.ndarray,
    value: np.ndarray,
    limits: tuple[float, float],
) -> None:
    """Values in the cells, where there is room for them."""
    x, y = edges
    written = np.argwhere((share >= Fits.cell_share) & ~np.isnan(value)).tolist()
    texts = [_short(value[row, column]) for row, column in written]
    corners = axes.transData.transform([(x[0], y[0]), (x[1], y[1])])
    width, height = np.abs(corners[1] - corners[0])
    longest = max((len(text) for text in texts), default=1)
    size = min(1.5 * width / (longest + 1), 0.6 * height, 11) * 72 / 100
    if size < Fits.letters:
        return
    for (row, column), text in zip(written, texts, strict=True):
        strength = (value[row, column] - limits[0]) / (limits[1] - limits[0]) * share[row, column]
        axes.text(
            (x[column] + x[column + 1]) / 2,
            (y[row] + y[row + 1]) / 2,
            text,
            ha="center",
            va="center",
            fontsize=size,
            color="white" if strength > DARK else INK,
        )


def _short(value: float) -> str:
    return f"{value:.0f}" if abs(value) >= 100 else f"{value:.3g}"
