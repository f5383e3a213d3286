"""Years beside each other: as lines over the year, as bars, and as a matrix of years and months."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.core.stats.normals import Base, in_years, percentile_8
from bavlo.core.time.periods import cycle_of
from bavlo.errors import RequestError
from bavlo.figures.many import draw_many
from bavlo.figures.panels import from_zero, panel_grid, place_panels, set_words
from bavlo.figures.style import (
    BAND,
    HATCH,
    INK,
    LINES,
    MISSING,
    Fits,
    counts_heat,
    neutral_of,
    panels_apart,
    scale_for,
    shown_unit,
    styled,
    symmetric,
)
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MONTHS = "JFMAMJJASOND"
PALE = "#b9c2c8"


@dataclass(frozen=True, eq=False)
class Years:
    """Values by region, year and period of the year.

    Parameters
    ----------
    kinds
        Periods of the year, in their order.
    months
        In which each of them begins.
    years : (Y,) int
        Years of the last days of the periods.
    values : (R, Y, K) float64
        NaN where there is none.
    """

    regions: list[str]
    kinds: list[str]
    months: list[int]
    years: np.ndarray
    values: np.ndarray
    unit: str


def by_year(table: Table, column: str = "value") -> Years:
    """Arrange the values of a table by year and period of the year."""
    if table.axes["measure"] > 1 or table.axes.get("window", 1) > 1:
        raise RequestError("figure", "this chart shows one measure and window", "choose one")
    labels = table.labels("period")
    cycles = [cycle_of(label) for label in labels]
    if None in cycles:
        raise RequestError("figure", f"the period {labels[0]} does not come back every year", "")
    names = [str(name) for name in cycles]
    ends = table.along("end", "period")
    last = np.array([int(end[:4]) for end in ends])
    kinds = list(dict.fromkeys(names))
    if all(kind.isdigit() or len(kind) == 5 for kind in kinds):  # months and days: from January
        kinds.sort()
    # Seasons follow one another in the year that their own label names.
    years = np.unique(last)
    values = np.full((table.axes["region"], years.size, len(kinds)), np.nan)
    position = np.searchsorted(years, last), np.array([kinds.index(name) for name in names])
    values[:, position[0], position[1]] = table.full(column).reshape(
        table.axes["region"], len(labels)
    )
    begins = dict(zip(names[::-1], table.along("start", "period")[::-1], strict=True))
    months = [int(begins[kind][5:7]) for kind in kinds]
    unit = table.along("unit", "measure")[0]
    return Years(table.labels("region"), kinds, months, years, values, unit)


def draw_years(table: Table, title: str, base: Base | None = None) -> Figure:
    """Each year as a line, the last strong, with the 10 to 90 % band of the base behind."""
    data = by_year(table)
    if len(data.kinds) < 3:
        raise RequestError("figure", "years need several periods in each year", "use totals")
    base = base or Base(int(data.years[0]), int(data.years[-1]))
    inside = in_years(data.years, base)
    x = np.arange(len(data.kinds))
    current = int(np.flatnonzero(~np.isnan(data.values).all(axis=(0, 2)))[-1])
    with styled():
        figure, panels = panel_grid(data.regions)
        for r, axes in enumerate(panels):
            low, high = (percentile_8(data.values[r, inside], p) for p in (10, 90))
            middle = percentile_8(data.values[r, inside], 50)
            name = (lambda text: text) if r == 0 else (lambda text: None)
            axes.fill_between(
                x, low, high, color=BAND, linewidth=0, label=name(f"10–90 % of {base}")
            )
            others = np.delete(data.values[r], current, axis=0)
            axes.plot(x, others.T, color=PALE, linewidth=0.5, zorder=1.5)
            axes.plot(x, middle, color=LINES[0], linewidth=1, linestyle="--", label=name("median"))
            axes.plot(
                x,
                data.values[r, current],
                color=LINES[1],
                linewidth=2.2,
                marker="o" if len(x) <= Fits.named_periods else None,
                markersize=3,
                label=name(str(data.years[current])),
            )
        name_kinds(panels[0], data.kinds, data.months)
        low = np.nanmin(data.values, initial=np.inf)
        if 0 <= low < 0.4 * np.nanmax(data.values, initial=0):
            from_zero(panels)
        caption = f"{data.years[0]}..{data.years[-1]}, each year a line"
        set_words(figure, title, data.unit, caption, placed=True)
        place_panels(figure, panels, [f"10–90 % of {base}", "median", str(data.years[current])])
    return figure


def name_kinds(axes: Axes, kinds: Sequence[str], months: Sequence[int]) -> None:
    """Names of the periods of the year, as many as fit."""
    if all(kind.isdigit() for kind in kinds):
        axes.set_xticks(range(len(kinds)), [MONTHS[int(kind) - 1] for kind in kinds])
        return
    if len(kinds) > Fits.named_periods:  # days, ten days, hours: a tick where a month begins
        firsts = [n for n, month in enumerate(months) if n == 0 or month != months[n - 1]]
        axes.set_xticks(firsts, [MONTHS[months[n] - 1] for n in firsts])
        return
    axes.set_xticks(range(len(kinds)), list(kinds))


def draw_totals(table: Table, title: str, base: Base | None = None) -> Figure:
    """A bar for each year, the mean as a line, and the years of the lowest and highest named."""
    data = by_year(table)
    if len(data.kinds) != 1:
        raise RequestError(
            "figure", "totals show one period of each year", "use ‹every year›, JJA or the like"
        )
    base = base or Base(int(data.years[0]), int(data.years[-1]))
    inside = in_years(data.years, base)
    with styled():
        from matplotlib.patheffects import withStroke
        from matplotlib.ticker import MaxNLocator

        figure, panels = panel_grid(data.regions)
        for r, axes in enumerate(panels):
            values = data.values[r, :, 0]
            axes.bar(data.years, values, color=LINES[5], width=0.8)
            valid = np.flatnonzero(~np.isnan(values))
            mean = np.nanmean(values[inside]) if (~np.isnan(values[inside])).any() else np.nan
            axes.axhline(mean, color=LINES[0], linewidth=1.2)
            if valid.size > 1:
                records = valid[np.argmin(values[valid])], valid[np.argmax(values[valid])]
                for n, color in zip(records, (LINES[1], LINES[0]), strict=True):
                    axes.bar(data.years[n], values[n], color=color, width=0.8)
                    axes.annotate(
                        str(data.years[n]),
                        (float(data.years[n]), values[n]),
                        xytext=(0, 2),
                        textcoords="offset points",
                        ha="center",
                        fontsize=9,
                        color=color,
                        path_effects=[withStroke(linewidth=2.5, foreground="white")],
                    )
            gaps = data.years[np.isnan(values)]
            axes.plot(gaps, np.zeros(gaps.size), "x", color=INK, markersize=4)
        panels[0].margins(x=0.02)
        top = np.nanmax(data.values, initial=1.0)
        if np.nanmin(data.values, initial=0.0) >= 0:
            from_zero(panels)
            panels[0].set_ylim(top=None if panels_apart() else top * 1.12)
        panels[0].xaxis.set_major_locator(MaxNLocator(5, integer=True))
        kind = "" if data.kinds[0] == "year" else f"{data.kinds[0]} of "
        caption = f"{kind}{data.years[0]}..{data.years[-1]}   ·   line: mean of {base}"
        if np.isnan(data.values).any():
            caption += "   ·   ×: no value"
        set_words(figure, title, data.unit, caption, placed=True)
        place_panels(figure, panels, [])
    return figure


def draw_matrix(table: Table, title: str, base: Base | None = None) -> Figure:
    """Years down and periods of the year across; of one a year, regions down and years across."""
    column = "anomaly" if table.name == "anomalies" else "value"
    data, neutral = by_year(table, column), neutral_of(table, column)
    if len(data.kinds) == 1:
        return draw_many(table, title)
    scale = scale_for(data.unit, neutral=neutral, heat=counts_heat(table))
    low, high = np.nanmin(data.values, initial=np.inf), np.nanmax(data.values, initial=-np.inf)
    low, high = symmetric(float(low), float(high), neutral)
    if not low < high:
        low, high = 0.0, max(high, 1.0)
    with styled():
        figure, panels = panel_grid(data.regions)
        for r, axes in enumerate(panels):
            image = _matrix(axes, data, data.values[r], scale, (float(low), float(high)))
        name_kinds(panels[0], data.kinds, data.months)
        caption = f"{data.years[0]}..{data.years[-1]}"
        if column == "anomaly":
            caption += f"   ·   against normals of {table.labels('base')[0]}"
        if np.isnan(data.values).any():
            caption += "   ·   hatched: no value"
        set_words(figure, title, "", caption, placed=True)
        place_panels(figure, panels, [])
        figure.subplots_adjust(right=0.92)
        bar = figure.colorbar(image, cax=figure.add_axes((0.932, 0.2, 0.012, 0.6)))
        bar.ax.set_title(shown_unit(data.unit), fontsize=11, weight="normal")
        bar.ax.tick_params(labelsize=9)
        bar.outline.set_visible(False)
    return figure


def _matrix(
    axes: Axes, data: Years, values: np.ndarray, scale: Any, ends: tuple[float, float]
) -> Any:
    from matplotlib.collections import PolyCollection
    from matplotlib.ticker import MaxNLocator

    axes.grid(visible=False)
    axes.set_facecolor(MISSING)
    edges = np.append(data.years - 0.5, data.years[-1] + 0.5)
    columns = np.arange(len(data.kinds) + 1) - 0.5
    row, column = np.nonzero(np.isnan(values))
    corners = [(0, 0), (1, 0), (1, 1), (0, 1)]
    gaps = [
        [(columns[c] + x, edges[y] + z) for x, z in corners]
        for y, c in zip(row, column, strict=True)
    ]
    axes.add_collection(
        PolyCollection(gaps, facecolor=MISSING, edgecolor=HATCH, hatch="//////", linewidth=0)
    )
    image = axes.pcolormesh(
        columns, edges, np.ma.masked_invalid(values), cmap=scale, vmin=ends[0], vmax=ends[1]
    )
    axes.set_ylim(edges[-1], edges[0])
    axes.yaxis.set_major_locator(MaxNLocator(6, integer=True))
    return image
