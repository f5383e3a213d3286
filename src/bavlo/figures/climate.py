"""Normals over the year, and anomalies above and below them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.stats.normals import Base
from bavlo.errors import RequestError
from bavlo.figures.panels import from_zero, panel_grid, place_panels, set_words
from bavlo.figures.series import days_between
from bavlo.figures.style import ABOVE, BAND, BELOW, FAINT, LINES, TEMPERATURES, panels_apart, styled
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MONTHS = "JFMAMJJASOND"
BANDS = (("p10", "p90"), ("p5", "p95"), ("p25", "p75"), ("min", "max"))


def draw_normals(table: Table, title: str, base: Base | None = None) -> Figure:
    """Normals by period of the year: bars for totals, a line for means, and the band about them."""
    if table.axes["measure"] > 1:
        raise RequestError("", "normals of several measures do not fit one chart", "choose one")
    value = table.full("value")[:, :, 0]
    statistics = table.along("statistic", "statistic")
    if "mean" not in statistics:
        raise RequestError("statistic", "the chart needs the mean", "ask for mean too")
    mean = value[:, :, statistics.index("mean")]
    low, high, band = _band(value, statistics, mean)
    kinds = table.labels("period")
    x = np.arange(len(kinds))
    total = table.labels("combine")[0] == "total"
    with styled():
        figure, panels = panel_grid(table.labels("region"))
        for r, axes in enumerate(panels):
            if total:
                axes.bar(x, mean[r], color=LINES[5], width=0.8, label="mean" if r == 0 else None)
                if band:
                    name = band if r == 0 else "_"  # an underscore keeps it out of the legend
                    axes.vlines(x, low[r], high[r], color=LINES[0], linewidth=1, label=name)
            else:
                if band:
                    axes.fill_between(
                        x, low[r], high[r], color=BAND, linewidth=0, label=band if r == 0 else None
                    )
                axes.plot(x, mean[r], color=LINES[0], label="mean" if r == 0 else None)
        _name_periods(panels[0], kinds)
        if total:
            from_zero(panels)
        unit = table.along("unit", "measure")[0]
        caption = f"base {table.labels('base')[0]}"
        set_words(figure, title, unit, caption, placed=True)
        place_panels(figure, panels, ["mean", band] if band else ["mean"])
    return figure


def _band(
    value: np.ndarray, statistics: list[str], mean: np.ndarray
) -> tuple[np.ndarray, np.ndarray, str]:
    """What spreads about the mean: a pair of percentiles, else one standard deviation."""
    for low, high in BANDS:
        if low in statistics and high in statistics:
            return (
                value[:, :, statistics.index(low)],
                value[:, :, statistics.index(high)],
                f"{low} to {high}",
            )
    if "std" in statistics:
        std = value[:, :, statistics.index("std")]
        return mean - std, mean + std, "± std"
    return mean, mean, ""


def _name_periods(axes: Axes, kinds: list[str]) -> None:
    """Names of the periods of the year, as many as fit."""
    if all(kind.isdigit() for kind in kinds):
        names = [MONTHS[int(kind) - 1] for kind in kinds]
        axes.set_xticks(range(len(kinds)), names)
        return
    step = max(1, len(kinds) // 6)
    axes.set_xticks(range(0, len(kinds), step), kinds[::step])


def draw_diagram(tables: Sequence[Table], title: str, base: Base | None = None) -> Figure:
    """Rain as bars and temperature as a line over the year, a panel a region."""
    if len(tables) != 2:
        what = "a diagram is of two tables: rain and temperature"
        raise RequestError("figure", what, "give both")
    for table in tables:
        if table.axes["measure"] > 1 or "mean" not in table.along("statistic", "statistic"):
            raise RequestError("figure", "a diagram needs the mean of one measure", "choose one")
    warm = [table.along("unit", "measure")[0] in TEMPERATURES for table in tables]
    if sorted(warm) != [False, True]:
        raise RequestError(
            "figure", "a diagram is of rain and of temperature", "give one table of each"
        )
    rain, heat = tables[warm.index(False)], tables[warm.index(True)]
    kinds = rain.labels("period")
    if heat.labels("period") != kinds:
        raise RequestError("figure", "the two tables have different periods", "make both alike")
    names = [name for name in rain.labels("region") if name in heat.labels("region")]
    if not names:
        raise RequestError("figure", "the two tables have no region in common", "make both alike")
    amounts, degrees = (
        _means(table)[[table.labels("region").index(name) for name in names]]
        for table in (rain, heat)
    )
    x = np.arange(len(kinds))
    top = np.nanmax(amounts, initial=1.0) * 1.08
    low, high = np.nanmin(degrees, initial=0.0), np.nanmax(degrees, initial=1.0)
    space = (high - low) * 0.08 or 1.0
    with styled():
        figure, panels = panel_grid(names)
        for r, axes in enumerate(panels):
            axes.bar(x, amounts[r], color=LINES[5], width=0.8, label="rain" if r == 0 else None)
            axes.set_ylim(0, top)
            other = axes.twinx()
            other.plot(
                x, degrees[r], color=LINES[1], linewidth=2, label="temperature" if r == 0 else None
            )
            other.set_ylim(low - space, high + space)
            other.grid(visible=False)
            last = _ends_row(panels, r)
            other.tick_params(labelsize=9, colors=LINES[1], labelright=last, length=3 * last)
        _name_periods(panels[0], kinds)
        units = [table.along("unit", "measure")[0] for table in (rain, heat)]
        caption = (
            f"bars: {units[0]}, left   ·   line: {units[1]}, right   ·   base "
            + " and ".join(dict.fromkeys(table.labels("base")[0] for table in (rain, heat)))
        )
        set_words(figure, title, units[0], caption, placed=True)
        place_panels(figure, panels, ["rain", "temperature"])
        figure.subplots_adjust(right=0.955)
    return figure


def _means(table: Table) -> np.ndarray:
    """(R, P) means of a table of normals."""
    return table.full("value")[:, :, 0, table.along("statistic", "statistic").index("mean")]


def _ends_row(panels: Sequence[Axes], n: int) -> bool:
    """Whether a panel is the last of its row."""
    spec = panels[n].get_subplotspec()
    return n + 1 == len(panels) or (spec is not None and spec.is_last_col())


def draw_anomalies(table: Table, title: str, base: Base | None = None) -> Figure:
    """Anomalies as bars above and below zero; periods without one are hatched."""
    if table.axes["measure"] > 1 or table.axes["window"] > 1:
        raise RequestError(
            "", "anomalies of several measures or windows do not fit one chart", "choose one"
        )
    anomaly = table.full("anomaly")[:, :, 0, 0]
    starts, ends = table.along("start", "period"), table.along("end", "period")
    x = days_between(starts, ends)
    width = float(np.median(np.diff(x))) * 0.9 if x.size > 1 else 30.0
    reaches = np.nanmax(np.abs(anomaly), axis=1, initial=0.0) * 1.05
    if not panels_apart():
        reaches[:] = reaches.max()
    reaches[reaches == 0] = 1.0
    with styled():
        from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

        figure, panels = panel_grid(table.labels("region"))
        for r, axes in enumerate(panels):
            values, reach = anomaly[r], float(reaches[r])
            color = np.where(values >= 0, ABOVE, BELOW)
            if table.along("unit", "measure")[0] in TEMPERATURES:
                color = np.where(values >= 0, BELOW, ABOVE)  # warm is the warm colour
            axes.bar(x, np.nan_to_num(values), width=width, color=color.tolist(), linewidth=0)
            gaps = np.isnan(values)
            axes.bar(
                x[gaps],
                2 * reach,
                bottom=-reach,
                width=width,
                facecolor="none",
                edgecolor=FAINT,
                hatch="////",
                linewidth=0,
            )
            axes.axhline(0, color="#5b646b", linewidth=0.8)
            axes.set_ylim(-reach, reach)
        panels[0].margins(x=0.01)
        locator = AutoDateLocator(minticks=3, maxticks=5)
        panels[0].xaxis.set_major_locator(locator)
        panels[0].xaxis.set_major_formatter(ConciseDateFormatter(locator, show_offset=False))
        gaps = int(np.isnan(anomaly).sum())
        caption = f"against normals of {table.labels('base')[0]}"
        if gaps:
            caption += f"   ·   {gaps} of {anomaly.size} periods without a value are hatched"
        set_words(figure, title, table.along("unit", "measure")[0], caption, placed=True)
        place_panels(figure, panels, [])
    return figure
