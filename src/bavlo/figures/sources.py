"""Several sources of the same numbers: as lines with the range between them, and as a scatter."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Protocol

import numpy as np

from bavlo.core.stats.agreement import agreement
from bavlo.core.stats.normals import Base
from bavlo.errors import RequestError
from bavlo.figures.panels import panel_grid, place_panels, say_absent, set_words
from bavlo.figures.series import days_between
from bavlo.figures.style import ABOVE, BAND, FAINT, INK, LINES, Fits, grown_page, shortened, styled

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

    from bavlo.tables.table import Table

PARTING = 0.1  # share of the periods, those with the largest range, that are marked


class MatchedValues(Protocol):
    """Values of the same regions and periods from all sources, (R, P, M) each."""

    names: tuple[str, ...]
    regions: list[str]
    starts: list[str]
    ends: list[str]
    units: list[str]
    values: list[np.ndarray]


def draw_sources(
    tables: Sequence[Table],
    title: str,
    base: Base | None = None,
    matched: MatchedValues | None = None,
) -> Figure:
    """All sources as lines in a panel a region, the range between them shaded.

    The tenth of the periods of each region in which they lie farthest apart is marked.
    """
    from matplotlib.dates import AutoDateLocator, ConciseDateFormatter

    found = _of(matched)
    x = days_between(found.starts, found.ends)
    with styled():
        figure, panels = panel_grid(found.regions)
        for r, axes in enumerate(panels):
            records = np.stack([values[r, :, 0] for values in found.values])
            low, high = np.fmin.reduce(records), np.fmax.reduce(records)
            axes.fill_between(x, low, high, color=BAND, linewidth=0, zorder=1)
            for s, name in enumerate(found.names):
                color = LINES[s % len(LINES)]
                axes.plot(x, records[s], color=color, linewidth=0.9, label=name if r == 0 else None)
            parting = parting_periods(high - low)
            axes.plot(
                x[parting],
                high[parting],
                linestyle="none",
                marker="v",
                markersize=3.5,
                color=INK,
                label="farthest apart" if r == 0 else None,
            )
        locator = AutoDateLocator(minticks=3, maxticks=5)
        panels[0].xaxis.set_major_locator(locator)
        panels[0].xaxis.set_major_formatter(ConciseDateFormatter(locator, show_offset=False))
        panels[0].margins(x=0.01)
        caption = (
            f"{found.starts[0]}..{found.ends[-1]}   ·   shaded: from the lowest source to the "
            "highest   ·   marked: the tenth of the periods in which they lie farthest apart"
        )
        set_words(figure, title, found.units[0], caption, placed=True)
        place_panels(figure, panels, [*found.names, "farthest apart"])
    return figure


def parting_periods(span: np.ndarray) -> np.ndarray:
    """Positions of the tenth of the periods with the largest range, at least one."""
    known = np.flatnonzero(np.isfinite(span) & (span > 0))
    most = max(1, round(PARTING * known.size))
    return np.sort(known[np.argsort(-span[known], kind="stable")[:most]])


def draw_scatter(
    tables: Sequence[Table],
    title: str,
    base: Base | None = None,
    matched: MatchedValues | None = None,
) -> Figure:
    """Two sources against each other in a panel a region, with the line of equal values."""
    found = _of(matched)
    if len(found.names) != 2:
        raise RequestError("figure", "scatter is of two sources", "give two")
    a, b = (values[:, :, 0] for values in found.values)
    known = np.isfinite(a) & np.isfinite(b)
    if not known.any():
        raise RequestError("figure", "the two sources have no value in common", "choose others")
    low, high = min(a[known].min(), b[known].min()), max(a[known].max(), b[known].max())
    regions = list(found.regions)
    if len(regions) > Fits.panels:
        a, b, known = (each.reshape(1, -1) for each in (a, b, known))
        regions = [f"{len(regions):,} regions together"]
    with styled():
        figure, panels = panel_grid(regions)
        none = np.zeros_like(a.T)
        of, count = agreement(a.T, b.T, none, none)
        for r, axes in enumerate(panels):
            if not count[r]:
                say_absent(axes, "no value in common")
                continue
            axes.plot([low, high], [low, high], color=INK, linewidth=0.8, linestyle=(0, (4, 3)))
            every = max(1, int(known[r].sum()) // Fits.points)
            axes.plot(
                a[r][known[r]][::every],
                b[r][known[r]][::every],
                linestyle="none",
                marker="o",
                markersize=3,
                color=ABOVE,
                alpha=0.55,
                markeredgewidth=0,
            )
            words = (
                f"bias {of['bias'][r]:+.3g}\nrmse {of['rmse'][r]:.3g}\n"
                f"r {of['correlation'][r]:.2f}\nn {count[r]}"
            )
            _corner(axes, words.replace("nan", "–"))  # of a single pair there is no correlation
        panels[0].margins(0.03)
        caption = f"across: {found.names[0]}   ·   up: {found.names[1]}   ·   dashed: equal values"
        unit = f"{found.names[1]}, {found.units[0]}"
        set_words(figure, title, unit, caption, placed=True)
        place_panels(figure, panels, [])
    return figure


def _corner(axes: Axes, words: str) -> None:
    """Words in the upper left corner of a panel."""
    box = {"facecolor": "white", "edgecolor": FAINT, "alpha": 0.85, "pad": 2}
    axes.text(
        0.03, 0.95, words, transform=axes.transAxes, va="top", ha="left", fontsize=8, bbox=box
    )


def _of(matched: MatchedValues | None) -> MatchedValues:
    if matched is None:
        raise RequestError(
            "figure", "needs the values of all sources", "give their tables, as A=a.csv B=b.csv"
        )
    return matched


def draw_agreement(table: Table, title: str, base: Base | None = None) -> Figure:
    """One statistic of a table of agreement: regions down, periods across."""
    from matplotlib.figure import Figure

    from bavlo.figures.style import neutral_of, scale_for, symmetric

    for axis in ("measure", "pair", "statistic"):
        if table.axes[axis] > 1:
            hint = "statistic=bias" if axis == "statistic" else "b=NAME"
            raise RequestError(
                "pick", f"the table has several {axis}s", f"choose one, as ‹pick {hint}›"
            )
    values = table.full("value")[:, :, 0, 0, 0]
    statistic = table.labels("statistic")[0]
    unit = table.along("unit", "measure")[0]
    correlation, neutral = unit == "1", neutral_of(table, "value")
    limit = float(np.nanmax(np.abs(values))) if np.isfinite(values).any() else 1.0
    low, high = symmetric(0.0, 1.0 if correlation else limit, neutral)
    regions, periods = table.labels("region"), table.labels("period")
    with styled():
        figure = Figure(figsize=grown_page(0.34 * len(regions) + 2), layout="constrained")
        axes = figure.add_subplot()
        scale = scale_for("mm", neutral=neutral)
        image = axes.imshow(values, cmap=scale, vmin=low, vmax=high, aspect="auto")
        axes.set_xticks(range(len(periods)), periods)
        axes.set_yticks(range(len(regions)), [shortened(name, 28) for name in regions])
        axes.grid(visible=False)
        if values.size <= 600:
            for (r, p), value in np.ndenumerate(values):
                if np.isfinite(value):
                    dark = abs(value) > 0.7 * high and (not correlation or value > 0.7)
                    axes.text(
                        p,
                        r,
                        f"{value:.3g}",
                        ha="center",
                        va="center",
                        fontsize=8,
                        color="white" if dark else INK,
                    )
        figure.colorbar(image, ax=axes, label=f"{statistic} ({unit})", fraction=0.03, pad=0.01)
        a, b = table.labels("a")[0], table.labels("b")[0]
        heading = f"{statistic.replace('_', ' ')} of {b} against {a}"
        set_words(
            figure, heading, "", "periods of the year across; all: over all of them", placed=False
        )
    return figure
