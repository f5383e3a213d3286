"""Trends: the series with its line and band, or slopes with their intervals."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.core.stats.normals import Base
from bavlo.core.stats.trends import DECADE
from bavlo.errors import RequestError
from bavlo.figures.panels import panel_grid, place_panels, set_words
from bavlo.figures.style import BAND, INK, LINES, Fits, grown_page, shortened, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from bavlo.tables.table import Table

LINE = {"sen": "Theil-Sen", "ols": "least squares"}
NAMED = 3  # regions at either end of very many
HEADROOM = 0.15  # of the height of a panel, for its words
OFF = "#8a9299"  # of trends that are not significant


def is_significant(table: Table) -> np.ndarray:
    """Where p_adjusted is below 1 minus the confidence."""
    confidence = float(table.full("confidence").flat[0])
    return np.asarray(table.full("p_adjusted") < 1 - confidence)


def draw_trend(
    table: Table,
    title: str,
    base: Base | None = None,
    matched: Any = None,
    intercept: np.ndarray | None = None,
) -> Figure:
    """Each region's values by year, with the line of the trend and the band of its interval.

    Raises
    ------
    RequestError
        Where there are several periods or measures, or the values are not there.
    """
    for axis in ("period", "measure"):
        if table.axes[axis] > 1:
            raise RequestError(
                "figure",
                f"trend draws one {axis}, and the table has {table.axes[axis]}",
                f"choose one with ‹pick {axis}={table.labels(axis)[0]}›, or use slopes",
            )
    if matched is None or intercept is None:
        raise RequestError(
            "figure",
            "trend draws the values too, which a table of trends does not hold",
            "draw it with `bavlo trends … ‹out FILE.png›`, or use slopes",
        )
    slope, lower, upper = (table.full(n)[:, 0, 0] / DECADE for n in ("slope", "lower", "upper"))
    significant = is_significant(table)[:, 0, 0]
    years = np.array([int(end[:4]) for end in matched.ends])
    with styled():
        figure, panels = panel_grid(matched.regions, share_y=False)
        for r, axes in enumerate(panels):
            values = matched.values[0][r, :, 0]
            axes.plot(years, values, color=LINES[0], linewidth=0.9, marker="o", markersize=2.5)
            if not np.isfinite(slope[r]):
                continue
            known = years[np.isfinite(values)]
            x = np.array([known.min(), known.max()])
            middle = float(np.median(known))
            line = intercept[r, 0, 0] + slope[r] * x
            at_middle = intercept[r, 0, 0] + slope[r] * middle
            ends = [at_middle + s * (x - middle) for s in (lower[r], upper[r])]
            axes.fill_between(x, np.minimum(*ends), np.maximum(*ends), color=BAND, linewidth=0)
            color = LINES[1] if significant[r] else OFF
            axes.plot(x, line, color=color, linewidth=1.6 if significant[r] else 1.1)
            bottom, top = axes.get_ylim()
            axes.set_ylim(bottom, top + HEADROOM * (top - bottom))
            words = f"{slope[r] * DECADE:+.3g} a decade" + (" *" if significant[r] else "")
            axes.text(
                0.03, 0.95, words, transform=axes.transAxes, va="top", fontsize=8.5, color=INK
            )
        unit = table.along("unit", "measure")[0].removesuffix(" per decade")
        period = table.labels("period")[0]
        caption = (
            f"{period}   ·   line: {LINE[table.labels('method')[0]]}, band: its "
            f"{table.full('confidence').flat[0]:.0%} interval about the middle year   ·   strong "
            "and *: significant after adjusting p for the number of regions"
        )
        set_words(figure, title, unit, caption, placed=True)
        place_panels(figure, panels, [], own_y=True)
    return figure


def draw_slopes(table: Table, title: str, base: Base | None = None, **_: Any) -> Figure:
    """Slopes with their intervals, a row a region and a column a period of the year."""
    if table.axes["measure"] > 1:
        raise RequestError("pick", "the table has several measures", "choose one with ‹pick›")
    slope, lower, upper = (table.full(n)[:, :, 0] for n in ("slope", "lower", "upper"))
    significant = is_significant(table)[:, :, 0]
    regions, periods = table.labels("region"), table.labels("period")
    if len(regions) > Fits.panels:
        return _draw_ranked(table, title, (slope, lower, upper), significant)
    with styled():
        from matplotlib.figure import Figure

        columns = min(len(periods), 6)
        rows = -(-len(periods) // columns)
        height = max(8.0, (0.24 * len(regions) + 1.0) * rows + 1)
        figure = Figure(figsize=grown_page(height), layout="constrained")
        grid = figure.subplots(rows, columns, sharex=True, sharey=True, squeeze=False).ravel()
        place = np.arange(len(regions))[::-1]
        for p, axes in enumerate(grid[: len(periods)]):
            axes.axvline(0, color=INK, linewidth=0.8)
            for mask, color in ((significant[:, p], LINES[1]), (~significant[:, p], OFF)):
                axes.hlines(place[mask], lower[mask, p], upper[mask, p], color=color, linewidth=1.4)
                axes.plot(slope[mask, p], place[mask], "o", color=color, markersize=4.5)
            axes.set_title(periods[p])
            axes.set_yticks(place, [shortened(name, 24) for name in regions])
            axes.set_ylim(-1, len(regions))
        for axes in grid[len(periods) :]:
            axes.set_visible(False)
        unit = table.along("unit", "measure")[0]
        caption = (
            f"{unit}   ·   bars: {table.full('confidence').flat[0]:.0%} interval   ·   coloured: "
            "significant after adjusting p for the number of regions"
        )
        set_words(figure, title, "", caption, placed=False)
    return figure


def _draw_ranked(
    table: Table, title: str, slopes: tuple[np.ndarray, ...], significant: np.ndarray
) -> Figure:
    """Slopes of very many regions in their order, a panel a period; the ends are named.

    Parameters
    ----------
    slopes
        Slope, lower and upper end of its interval, (R, P) each.
    """
    regions, periods = table.labels("region"), table.labels("period")
    with styled():
        from matplotlib.figure import Figure

        columns = min(len(periods), 4)
        rows = -(-len(periods) // columns)
        figure = Figure(figsize=grown_page(3.0 * rows + 1), layout="constrained")
        grid = figure.subplots(rows, columns, sharex=True, sharey=True, squeeze=False).ravel()
        absent = 0
        for p, axes in enumerate(grid[: len(periods)]):
            slope, lower, upper = (each[:, p] for each in slopes)
            known = np.flatnonzero(np.isfinite(slope))
            absent += len(regions) - known.size
            order = known[np.argsort(slope[known], kind="stable")]
            place = np.arange(order.size)
            axes.axhline(0, color=INK, linewidth=0.8)
            axes.fill_between(place, lower[order], upper[order], color=BAND, linewidth=0)
            for mask, colour, size in (
                (~significant[order, p], OFF, 2.0),
                (significant[order, p], LINES[1], 4.0),
            ):
                axes.plot(place[mask], slope[order][mask], "o", color=colour, markersize=size)
            axes.set_title(periods[p])
            axes.set_xlim(-1, max(order.size, 1))
            _name_ends(axes, [regions[n] for n in order])
        for axes in grid[len(periods) :]:
            axes.set_visible(False)
        unit = table.along("unit", "measure")[0]
        few = int(significant.sum())
        caption = (
            f"{len(regions):,} regions in the order of their slopes   ·   band: "
            f"{table.full('confidence').flat[0]:.0%} interval   ·   "
            + (f"coloured: the {few:,} that are" if few else "none is")
            + " significant after adjusting p"
        )
        caption += f"   ·   {absent:,} without a slope" if absent else ""
        set_words(figure, title, unit, caption, placed=False)
    return figure


def _name_ends(axes: Axes, names: Sequence[str]) -> None:
    """The regions of the lowest and highest slopes, in words in the panel."""
    if not names:
        return
    lowest, highest = ", ".join(names[:NAMED]), ", ".join(names[: -NAMED - 1 : -1])
    for x, y, side, words in ((0.02, 0.03, "left", lowest), (0.98, 0.97, "right", highest)):
        axes.text(
            x, y, shortened(words, 70), transform=axes.transAxes, fontsize=8, color=INK,
            ha=side, va="bottom" if side == "left" else "top",
        )  # fmt: skip
