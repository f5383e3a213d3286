"""Events on calendars and time lines, longest spells, and return levels."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo.core.stats.normals import Base
from bavlo.errors import RequestError
from bavlo.figures.panels import panel_grid, place_panels, set_words
from bavlo.figures.style import (
    BAND,
    HEAT,
    INK,
    LINES,
    TEMPERATURES,
    WET,
    Fits,
    colour_scale,
    counts_heat,
    page_size,
    shortened,
    styled,
)
from bavlo.tables.table import Column, Table, text_column

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MONTHS = "JFMAMJJASOND"
FIRST_OF_MONTH = np.array([1, 32, 60, 91, 121, 152, 182, 213, 244, 274, 305, 335])
# Few to many, or low to high, of events that are wet, warm, dry or cold.
WET_EVENTS, WARM_EVENTS = WET[1:], HEAT[1:]
DRY_EVENTS, COLD_EVENTS = ("#e6cfa6", "#c98a4b", "#8a4b1f", "#5a2f12"), WET[1:]


def as_series(table: Table) -> Table:
    """A table of extremes as a series, its counts as measures; one condition only."""
    if table.axes["condition"] > 1:
        names = table.labels("condition")
        raise RequestError(
            "pick",
            f"the table has several conditions: {', '.join(names[:4])}",
            f"choose one, as ‹pick condition={names[0]}›",
        )
    shape = table.axes["region"], table.axes["period"], table.axes["count"]
    condition = table.labels("condition")[0]
    counts = table.along("count", "count")
    measure = [condition if count == "index" else count for count in counts]
    axes = dict(zip(("region", "period", "measure"), shape, strict=True))
    kept = [c for c in table.columns if c.name in ("region", "period", "start", "end", "calendar")]
    tested = table.along("tested_on", "period")[0]
    columns = (
        *kept,
        text_column("variable", (), [condition]),
        text_column("measure", ("measure",), measure),
        Column("value", ("region", "period", "measure"), table.full("value").reshape(shape)),
        text_column("unit", ("measure",), table.along("unit", "count")),
        text_column("combine", (), [""]),
        text_column("order", ("measure",), [f"tested on {tested}s"] * shape[2]),
    )
    return Table("series", axes, columns)


def _days(table: Table, name: str) -> np.ndarray:
    """The days of a column; an hour that is not in the event any more stands for the one before."""
    texts = table.labels(name)
    excluded = np.array([name == "end" and "T" in text for text in texts])
    minutes = np.array(texts, "datetime64[m]") - excluded.astype("m8[m]")
    return np.asarray(minutes, "datetime64[D]")


def _needs_events(table: Table) -> None:
    if not len(table):
        raise RequestError("figure", "there are no events to draw", "")
    if len(set(table.labels("condition"))) > 1:
        raise RequestError(
            "pick", "the table has events of several conditions", "choose one with ‹pick›"
        )


def _is_below(table: Table) -> bool:
    """Whether the condition of the events is that something is low."""
    return "<" in table.labels("condition")[0].split(" and ")[0]


def _colours_of_events(table: Table) -> Sequence[str]:
    """Colours for the condition of the events, pale to strong."""
    if table.labels("unit")[0] in TEMPERATURES or counts_heat(table):
        return COLD_EVENTS if _is_below(table) else WARM_EVENTS
    return DRY_EVENTS if _is_below(table) else WET_EVENTS


def draw_calendar(table: Table, title: str, base: Base | None = None) -> Figure:
    """A strip of days for each year in each region, dark where an event lasts."""
    _needs_events(table)
    starts, ends = _days(table, "start"), _days(table, "end")
    regions = list(dict.fromkeys(table.labels("region")))
    owner = np.array(table.labels("region"), object)
    years = np.arange(starts.min().astype(object).year, ends.max().astype(object).year + 1)
    with styled():
        from matplotlib.ticker import MaxNLocator

        figure, panels = panel_grid(regions)
        colour = _colours_of_events(table)[-2]
        for r, axes in enumerate(panels):
            mine = owner == regions[r]
            days = _strip(starts[mine], ends[mine], years)
            axes.grid(visible=False)
            axes.pcolormesh(
                np.arange(367) + 0.5,
                np.append(years - 0.5, years[-1] + 0.5),
                days,
                cmap=colour_scale("strip", ("#f1f3f2", colour)),
                vmin=0,
                vmax=1,
            )
            axes.set_ylim(years[-1] + 0.5, years[0] - 0.5)
            axes.yaxis.set_major_locator(MaxNLocator(6, integer=True))
        panels[0].set_xticks(FIRST_OF_MONTH + 14, list(MONTHS))
        caption = f"{table.labels('condition')[0]}   ·   years down, days across"
        set_words(figure, title, "", caption, placed=True)
        place_panels(figure, panels, [])
    return figure


def _strip(starts: np.ndarray, ends: np.ndarray, years: np.ndarray) -> np.ndarray:
    """(Y, 366) 1 on days of an event, counted through each year."""
    first = years[0].astype(str) if hasattr(years[0], "astype") else str(years[0])
    origin = np.datetime64(f"{first}-01-01", "D")
    total = int((np.datetime64(f"{years[-1] + 1}-01-01", "D") - origin).astype(int))
    change = np.zeros(total + 1)
    np.add.at(change, (starts - origin).astype(int), 1)
    np.add.at(change, (ends - origin).astype(int) + 1, -1)
    on = np.cumsum(change)[:total] > 0
    out = np.full((years.size, 366), np.nan)
    for n, year in enumerate(years):
        begin = int((np.datetime64(f"{year}-01-01", "D") - origin).astype(int))
        end = int((np.datetime64(f"{year + 1}-01-01", "D") - origin).astype(int))
        out[n, : end - begin] = on[begin:end]
    return out


def draw_timeline(table: Table, title: str, base: Base | None = None) -> Figure:
    """Events as bars on a time line, as wide as they are long, coloured by their peak."""
    _needs_events(table)
    starts, ends = _days(table, "start"), _days(table, "end")
    regions = list(dict.fromkeys(table.labels("region")))
    if len(regions) > Fits.lines:
        raise RequestError("only", f"{len(regions)} regions do not fit", "choose some of them")
    peak = table.column("peak")
    row = np.array([regions.index(name) for name in table.labels("region")])
    with styled():
        from matplotlib.collections import PolyCollection
        from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
        from matplotlib.figure import Figure

        figure = Figure(figsize=page_size(), layout="constrained")
        axes = figure.add_subplot()
        x0, x1 = date2num(starts), date2num(ends + 1)
        # A day in thirty years is thinner than a line, so bars have a least width.
        least = (x1.max() - x0.min()) / 900
        x1 = np.maximum(x1, x0 + least)
        corners = np.stack(
            [
                np.column_stack([x0, row - 0.36]),
                np.column_stack([x1, row - 0.36]),
                np.column_stack([x1, row + 0.36]),
                np.column_stack([x0, row + 0.36]),
            ],
            axis=1,
        )
        below = _is_below(table)
        colours = colour_scale("peak", _colours_of_events(table)[:: -1 if below else 1])
        bars = PolyCollection(list(corners), array=peak, cmap=colours, linewidth=0)
        axes.add_collection(bars)
        axes.set_ylim(len(regions) - 0.4, -0.6)
        axes.set_xlim(x0.min() - least * 8, x1.max() + least * 8)
        axes.set_yticks(range(len(regions)), [shortened(name, 24) for name in regions])
        axes.grid(visible=False, axis="y")
        locator = AutoDateLocator(minticks=4, maxticks=9)
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, show_offset=False))
        bar = figure.colorbar(bars, ax=axes, shrink=0.6, aspect=36, pad=0.01)
        bar.set_label(f"peak, {table.labels('unit')[0]}", fontsize=10)
        bar.outline.set_visible(False)
        caption = f"{table.labels('condition')[0]}   ·   {len(table)} events"
        set_words(figure, title, "", caption, placed=False)
    return figure


def draw_longest(table: Table, title: str, base: Base | None = None) -> Figure:
    """The longest spells of all regions, each with its dates."""
    _needs_events(table)
    steps = table.column("steps")
    top = np.argsort(-steps, kind="stable")[: Fits.longest]
    names, starts, ends = (table.labels(n) for n in ("region", "start", "end"))
    with styled():
        from matplotlib.figure import Figure

        figure = Figure(figsize=page_size(), layout="constrained")
        axes = figure.add_subplot()
        y = np.arange(top.size)
        axes.barh(y, steps[top], color=_colours_of_events(table)[1], height=0.7)
        axes.set_yticks(y, [shortened(names[n], 26) for n in top])
        axes.set_ylim(top.size - 0.4, -0.6)
        axes.grid(visible=False, axis="y")
        for row, n in enumerate(top):
            axes.annotate(
                f"{starts[n]}..{ends[n]}",
                (0, row),
                xytext=(6, 0),
                textcoords="offset points",
                va="center",
                fontsize=9,
                color=INK,
            )
        days = (_days(table, "end") - _days(table, "start")).astype(int) + 1
        axes.set_xlabel("length, days" if (days == steps).all() else "length, steps")
        caption = f"{table.labels('condition')[0]}   ·   the {top.size} longest of {len(table)}"
        axes.set_title(title, fontsize=14, pad=10)
        figure.supxlabel(caption, x=0.01, ha="left", fontsize=9)
    return figure


def draw_levels(table: Table, title: str, base: Base | None = None, highest: Any = None) -> Figure:
    """Return levels over return periods with their interval, and the yearly values as points."""
    years = table.labels("years")
    x = np.array(years, np.float64)
    level, lower, upper = (table.full(name) for name in ("value", "lower", "upper"))
    with styled():
        figure, panels = panel_grid(table.labels("region"))
        for r, axes in enumerate(panels):
            first = r == 0
            band, line = ("95 %", "GEV") if first else ("", "")
            if x.size > 1:
                axes.fill_between(x, lower[r], upper[r], color=BAND, linewidth=0, label=band)
                axes.plot(x, level[r], color=LINES[0], label=line)
            else:  # one return period is a point with its interval
                axes.vlines(x, lower[r], upper[r], color=BAND, linewidth=6, label=band)
                axes.plot(x, level[r], "o", color=LINES[0], label=line)
            name = table.labels("region")[r]
            if highest is not None and highest.values[name].size:
                axes.plot(
                    highest.periods[name],
                    highest.values[name],
                    "o",
                    color=LINES[1],
                    markersize=2.8,
                    label="yearly highest" if first else None,
                )
        _log_years(panels[0], x)
        points = "   ·   points by Gringorten's plotting positions" if highest is not None else ""
        caption = f"return period in years   ·   {table.labels('method')[0]}{points}"
        set_words(figure, title, table.labels("unit")[0], caption, placed=True)
        named = ["95 %", "GEV", "yearly highest"][: 2 + (highest is not None)]
        place_panels(figure, panels, named)
    return figure


def _log_years(axes: Axes, x: np.ndarray) -> None:
    from matplotlib.ticker import FixedLocator, NullLocator

    axes.set_xscale("log")
    ticks = [year for year in (2, 5, 10, 20, 50, 100, 200, 500, 1000) if year <= x.max() * 1.01]
    axes.xaxis.set_major_locator(FixedLocator(ticks))
    axes.xaxis.set_minor_locator(NullLocator())
    axes.set_xticklabels([str(year) for year in ticks])
    axes.set_xlim(1, x.max() if x.size > 1 else x.max() * 2)
