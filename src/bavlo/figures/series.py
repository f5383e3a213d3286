"""Series as lines: one axes for a few regions, a panel each for many."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.stats.normals import Base, in_years
from bavlo.core.time.periods import cycle_of
from bavlo.errors import RequestError
from bavlo.figures.panels import from_zero, panel_grid, place_panels, set_words
from bavlo.figures.style import LINES, page_size, shortened, styled
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

TOGETHER = 8  # lines that can be told apart in one axes
MEAN_FROM = 5  # periods, for a mean to be marked
MARKED = 60  # periods up to which each is marked


@dataclass(frozen=True, eq=False)
class Lines:
    """The lines of a chart.

    Parameters
    ----------
    regions, measures
        Names.
    x : (P,) float64
        Middle of each period in days since 1970, or in years where the calendar is another.
    values : (R, P, M) float64
        NaN for a gap.
    unit, title, caption
        Words around it.
    dated
        Whether x is days of the everyday calendar.
    mean : (R, M) float64 or None
        Mean over the base.
    """

    regions: list[str]
    measures: list[str]
    x: np.ndarray
    values: np.ndarray
    unit: str
    title: str
    caption: str
    dated: bool
    mean: np.ndarray | None = None


def lines_of(table: Table, title: str) -> Lines:
    """Arrange a series table for drawing."""
    regions, measures = table.labels("region"), table.labels("measure")
    shape = (len(regions), table.axes["period"], len(measures))
    values = table.column("value").reshape(shape)
    starts, ends = table.along("start", "period"), table.along("end", "period")
    dated = "calendar" not in table.header
    x = days_between(starts, ends) if dated else _years(starts, ends)
    units = dict.fromkeys(unit for unit in table.along("unit", "measure") if unit)
    caption = f"{starts[0]}..{ends[-1]}   ·   {_orders(measures, table.along('order', 'measure'))}"
    empty = int(np.isnan(values).sum())
    if empty:
        caption += f"   ·   {empty:,} of {values.size:,} values empty"
    return Lines(regions, measures, x, values, ", ".join(units), title, caption, dated)


def _with_mean(lines: Lines, table: Table, base: Base | None) -> Lines:
    """The same with the mean of each line over the base, where periods come once a year."""
    labels = table.labels("period")
    kinds = {cycle_of(label) for label in labels}
    if len(kinds) != 1 or None in kinds or len(labels) < MEAN_FROM:
        return lines
    years = np.array([int(end[:4]) for end in table.along("end", "period")])
    base = base or Base(int(years.min()), int(years.max()))
    inside = in_years(years, base)
    if not inside.any():
        raise RequestError("base", f"{base} is outside the table", "choose years in it")
    valid = ~np.isnan(lines.values) & inside[None, :, None]
    count = valid.sum(axis=1)
    total = np.where(valid, lines.values, 0.0).sum(axis=1)
    with np.errstate(invalid="ignore"):
        mean = np.where(count > 0, total / np.maximum(count, 1), np.nan)
    caption = f"{lines.caption}   ·   dotted: mean of {base}"
    return replace(lines, mean=mean, caption=caption)


def _orders(measures: list[str], orders: list[str]) -> str:
    """Which measures were taken in which order, in words."""
    words = {
        "region": "of each step, then combined",
        "cell": "of cells that were combined first",
    }
    return "; ".join(
        f"{', '.join(m for m, o in zip(measures, orders, strict=True) if o == order)} "
        f"{words.get(order, order)}"
        for order in dict.fromkeys(orders)
    )


def draw_series(table: Table, title: str, base: Base | None = None) -> Figure:
    """Draw a series table; where all periods are alike, with the mean of the base.

    Parameters
    ----------
    table
        A table with the columns of `series`, one variable.
    title
        What the values are.
    base
        Years of the mean; all of them where none is given.
    """
    lines = _with_mean(lines_of(table, title), table, base)
    with styled():
        if len(lines.regions) * len(lines.measures) <= TOGETHER:
            return _together(lines)
        return _panels(lines)


def _together(lines: Lines) -> Figure:
    from matplotlib.figure import Figure

    figure = Figure(figsize=page_size(), layout="constrained")
    axes = figure.add_subplot()
    several = len(lines.regions) > 1
    for r, region in enumerate(lines.regions):
        for m, measure in enumerate(lines.measures):
            number = r * len(lines.measures) + m
            name = shortened(region, 30) if several else measure
            if several and len(lines.measures) > 1:
                name += f", {measure}"
            _line(axes, lines, (r, m), LINES[number % len(LINES)], name, 1.6)
    heading = lines.title if several else f"{lines.regions[0]} — {lines.title}"
    _finish(figure, [axes], lines, heading)
    if several or len(lines.measures) > 1:
        figure.legend(loc="outside right upper", handlelength=1.6)
    return figure


def _panels(lines: Lines) -> Figure:
    figure, panels = panel_grid(lines.regions)
    for r, axes in enumerate(panels):
        for m, measure in enumerate(lines.measures):
            name = measure if r == 0 else None
            _line(axes, lines, (r, m), LINES[m % len(LINES)], name)
    _finish(figure, panels, lines, lines.title)
    named = lines.measures if len(lines.measures) > 1 else []
    place_panels(figure, panels, named)
    return figure


def _line(
    axes: Axes, lines: Lines, at: tuple[int, int], color: str, name: str | None, width: float = 1.0
) -> None:
    """The line of a region and measure.

    A value between two gaps is a dot, since a line could not show it.
    """
    values = lines.values[at[0], :, at[1]]
    if lines.mean is not None and np.isfinite(lines.mean[at]):
        axes.axhline(lines.mean[at], color=color, linewidth=0.9, linestyle=(0, (1, 2.5)), zorder=1)
    axes.plot(lines.x, values, color=color, linewidth=width, label=name)
    gap = np.isnan(np.concatenate([[np.nan], values, [np.nan]]))
    alone = ~gap[1:-1] & gap[:-2] & gap[2:]
    shown = np.isfinite(values) if lines.x.size <= MARKED else alone
    axes.plot(lines.x[shown], values[shown], "o", color=color, markersize=3 * width**0.5)


def _finish(figure: Figure, panels: list[Axes], lines: Lines, heading: str) -> None:
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    placed = len(panels) > 1
    set_words(figure, heading, lines.unit or "value", lines.caption, placed=placed)
    axes = panels[0]  # the others share its axes
    axes.margins(x=0.05 if placed else 0.01)
    if lines.dated:
        locator = AutoDateLocator(minticks=3, maxticks=5 if placed else 10)
        axes.xaxis.set_major_locator(locator)
        axes.xaxis.set_major_formatter(ConciseDateFormatter(locator, show_offset=False))
    low, high = np.nanmin(lines.values, initial=np.inf), np.nanmax(lines.values, initial=-np.inf)
    if 0 <= low < 0.4 * high:
        from_zero(panels)


def days_between(starts: list[str], ends: list[str]) -> np.ndarray:
    """(P,) middle of each period in days since 1970."""
    first = np.array(starts, "datetime64[s]").astype(np.float64)
    last = np.array(ends, "datetime64[s]").astype(np.float64)
    if "T" not in ends[0]:
        last += 86400
    return (first + last) / 2 / 86400


def _years(starts: list[str], ends: list[str]) -> np.ndarray:
    def year(text: str) -> float:
        y, m, d = (int(part) for part in text[:10].split("-"))
        return y + (m - 1) / 12 + (d - 1) / 372

    return np.array([(year(a) + year(b)) / 2 for a, b in zip(starts, ends, strict=True)])
