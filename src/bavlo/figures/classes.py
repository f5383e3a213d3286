"""Shares of classes as stacked bars: a bar a region, or of one region a bar a period."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.errors import RequestError
from bavlo.figures.panels import set_words
from bavlo.figures.style import INK, Fits, class_colour, grown_page, shortened, styled
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure

ROW = 0.3  # inches of a bar
LIGHT = 140  # brightness of a colour on which dark figures are read


def draw_shares(table: Table, title: str, **_: Any) -> Figure:
    """Shares of the area, stacked to a whole; what of a region has no data is left empty.

    Raises
    ------
    RequestError
        Where there are several regions and several periods, or too many bars.
    """
    regions, periods = table.labels("region"), table.labels("period")
    measures, classes = table.along("measure", "measure"), table.labels("class")
    values = table.full("value")  # (R, P, classes, measures)
    shares = values[..., measures.index("share")] if "share" in measures else values[..., 0]
    if len(regions) > 1 and len(periods) > 1:
        shares, periods = shares[:, -1:], periods[-1:]
        title = f"{title}: {periods[0]}"
    bars, shares = (regions, shares[:, 0]) if len(regions) > 1 else (periods, shares[0])
    if len(bars) > Fits.bars:
        raise RequestError(
            "figure", f"{len(bars)} bars do not fit one page", "choose some regions with ‹only›"
        )
    with styled():
        from matplotlib.colors import to_rgb
        from matplotlib.figure import Figure
        from matplotlib.ticker import PercentFormatter

        figure = Figure(figsize=grown_page(ROW * len(bars) + 1.6), layout="constrained")
        axes = figure.add_subplot()
        left = np.zeros(len(bars))
        places = np.arange(len(bars))
        for n, name in enumerate(classes):
            width = np.nan_to_num(shares[:, n])
            colour = class_colour(n)
            axes.barh(places, width, left=left, color=colour, height=0.8, label=str(name))
            dark = np.dot(to_rgb(colour), (299, 587, 114)) / 1000 * 255 < LIGHT
            for k in np.flatnonzero(width >= Fits.named_share).tolist():
                axes.text(
                    left[k] + width[k] / 2, k, f"{100 * width[k]:.0f}", ha="center", va="center",
                    fontsize=8, color="white" if dark else INK,
                )  # fmt: skip
            left += width
        axes.set_xlim(0, 1)
        axes.xaxis.set_major_formatter(PercentFormatter(1.0))
        axes.set_yticks(places, [shortened(str(name), 28) for name in bars], fontsize=9)
        axes.set_ylim(len(bars) - 0.4, -0.6)
        axes.grid(visible=False, axis="y")
        figure.legend(loc="outside right upper", fontsize=10, handlelength=1.2)
        set_words(figure, title, "", "shares of the area that has data, in percent", placed=False)
    return figure
