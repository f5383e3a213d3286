"""Very many regions on one page: a row each, a column a period."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.errors import RequestError
from bavlo.figures.style import (
    MISSING,
    Fits,
    counts_heat,
    neutral_of,
    page_size,
    scale_for,
    shortened,
    shown_unit,
    styled,
    symmetric,
)
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure

RARE = 0.5  # percent of the values at either end, which have the colour of the end


def draw_many(table: Table, title: str, base: Any = None, **_: Any) -> Figure:
    """Regions down and periods across, coloured by value, or by anomaly about zero.

    Raises
    ------
    RequestError
        Where several numbers stand in one place.
    """
    from matplotlib.figure import Figure

    column = "anomaly" if table.name == "anomalies" else "value"
    values, neutral = table.full(column), neutral_of(table, column)
    regions, periods = table.axes["region"], table.axes["period"]
    values = values.reshape(regions, periods, -1)
    if values.shape[2] > 1 and table.name == "normals":
        values = values[:, :, :1]  # the mean comes first
    if values.shape[2] > 1:
        raise RequestError(
            "figure", f"{regions} regions are drawn of one number each", "choose one with ‹pick›"
        )
    shown = np.ma.masked_invalid(values[:, :, 0])
    unit = str(table.full("unit").ravel()[0]) if "unit" in table.header else ""
    low, high = 0.0, 1.0
    if shown.count():
        low, high = np.percentile(shown.compressed(), [RARE, 100 - RARE]).tolist()
    low, high = symmetric(low, high, neutral)
    if not low < high:
        low, high = low - 0.5, high + 0.5
    names, labels = table.labels("region"), table.labels("period")
    with styled():
        figure = Figure(page_size(), layout="constrained")
        axes = figure.add_subplot()
        axes.grid(visible=False)
        axes.set_facecolor(MISSING)
        image = axes.imshow(
            shown,
            cmap=scale_for(unit, neutral=neutral, heat=counts_heat(table)),
            vmin=low,
            vmax=high,
            aspect="auto",
            interpolation="nearest",
        )
        rows = np.unique(np.linspace(0, regions - 1, min(regions, Fits.names_at_side)).astype(int))
        letters = 8.0 if rows.size <= Fits.large_names else 6.5
        axes.set_yticks(rows, [shortened(names[n], 28) for n in rows], fontsize=letters)
        columns = np.arange(0, periods, -(-periods // Fits.labels))
        axes.set_xticks(columns, [labels[n] for n in columns], fontsize=9)
        bar = figure.colorbar(image, ax=axes, shrink=0.6, pad=0.02, extend="both")
        bar.ax.set_title(shown_unit(unit), fontsize=11, weight="normal")
        bar.outline.set_visible(False)
        figure.suptitle(shortened(title, 110), fontsize=15, x=0.01, ha="left", weight="bold")
        empty = int(values.size - shown.count())
        caption = f"{regions:,} regions in the order of the table"
        caption += f", of which {rows.size} are named" if rows.size < regions else ""
        caption += f"   ·   {empty:,} of {values.size:,} values empty" if empty else ""
        caption += f"   ·   colours end where {RARE:g} % of the values lie beyond"
        figure.supxlabel(caption, fontsize=10, x=0.01, ha="left")
    return figure
