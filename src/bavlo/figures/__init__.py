"""Figures: each way to draw tables is one entry in one table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from bavlo.core.time.periods import STATIC_LABEL
from bavlo.errors import RequestError

SEVERAL = 0

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.tables.table import Table


@dataclass(frozen=True)
class Drawing:
    """One way to draw a table.

    Parameters
    ----------
    name
        As `figure` names it.
    tables
        The tables that it draws; the first drawing of a table is its usual one.
    module, function
        Where it is drawn.
    meaning
        One line for the help.
    tables_needed
        How many tables it draws together; SEVERAL for two and more.
    as_matrix
        More regions than there can be panels are drawn as a matrix of regions and periods.
    """

    name: str
    tables: tuple[str, ...]
    module: str
    function: str
    meaning: str
    tables_needed: int = 1
    as_matrix: bool = False


DRAWINGS: dict[str, Drawing] = {
    drawing.name: drawing
    for drawing in (
        Drawing(
            "lines", ("series", "extremes"), "series", "draw_series", "values over time", 1, True
        ),
        Drawing(
            "bars",
            ("anomalies",),
            "climate",
            "draw_anomalies",
            "above and below the normal",
            1,
            True,
        ),
        Drawing(
            "normals",
            ("normals",),
            "climate",
            "draw_normals",
            "the usual course of the year",
            1,
            True,
        ),
        Drawing(
            "diagram",
            ("normals",),
            "climate",
            "draw_diagram",
            "rain and temperature together, from two tables of normals",
            tables_needed=2,
        ),
        Drawing(
            "timeline", ("events",), "extremes", "draw_timeline", "events as bars, by their peak"
        ),
        Drawing(
            "calendar", ("events",), "extremes", "draw_calendar", "days of events, year by year"
        ),
        Drawing("longest", ("events",), "extremes", "draw_longest", "the longest spells"),
        Drawing("levels", ("return levels",), "extremes", "draw_levels", "values by return period"),
        Drawing(
            "years",
            ("series",),
            "years",
            "draw_years",
            "each year as a line, the last one strong, the band of the base behind",
        ),
        Drawing(
            "totals",
            ("series", "extremes"),
            "years",
            "draw_totals",
            "a bar a year, with the mean and the years of the records",
            as_matrix=True,
        ),
        Drawing(
            "matrix",
            ("series", "extremes", "anomalies"),
            "years",
            "draw_matrix",
            "years down, months across",
        ),
        Drawing(
            "sources",
            ("series", "extremes", "compare", "spread"),
            "sources",
            "draw_sources",
            "several tables as lines, the range between them shaded",
            tables_needed=SEVERAL,
        ),
        Drawing(
            "scatter",
            ("series", "extremes", "compare", "spread"),
            "sources",
            "draw_scatter",
            "two tables against each other",
            tables_needed=SEVERAL,
        ),
        Drawing(
            "agreement",
            ("compare",),
            "sources",
            "draw_agreement",
            "a statistic by region and period",
        ),
        Drawing(
            "shares",
            ("classes",),
            "classes",
            "draw_shares",
            "shares of classes as stacked bars, a region each",
        ),
        Drawing(
            "trend", ("trends",), "trends", "draw_trend", "values with the line of their trend"
        ),
        Drawing("cells", ("trace",), "trace", "draw_cells", "the cells behind a number"),
        Drawing("slopes", ("trends",), "trends", "draw_slopes", "slopes with their intervals"),
    )
}


def draw(tables: Sequence[Table], title: str, figure: str | None = None, **settings: Any) -> Figure:
    """Draw tables in one of the ways that suit them.

    Parameters
    ----------
    figure
        A name of DRAWINGS; None for the usual one.
    settings
        What the drawing takes further: base, and for return levels the yearly highest values.

    Raises
    ------
    RequestError
        Where there is no such drawing of these tables.
    """
    from importlib import import_module

    name = "classes" if "class" in tables[0].axes else tables[0].name
    if figure is None and name == "trends":
        one = tables[0].axes["period"] == tables[0].axes["measure"] == 1
        figure = "trend" if one and settings.get("intercept") is not None else "slopes"
    drawing = _suited(name, tables, figure, "matched" in settings)
    is_static = "period" in tables[0].header and tables[0].labels("period") == [STATIC_LABEL]
    if is_static and name != "classes":
        raise RequestError(
            "out", "there is no chart of a grid without time", "write a table, and map it"
        )
    if name == "extremes":
        from bavlo.figures.extremes import as_series

        tables = [as_series(table) for table in tables]
    if drawing.as_matrix and len(tables) == 1:
        from bavlo.figures.many import draw_many
        from bavlo.figures.style import Fits

        if tables[0].axes["region"] > Fits.panels:
            return draw_many(tables[0], title)
    module = import_module(f"bavlo.figures.{drawing.module}")
    function: Callable[..., Figure] = getattr(module, drawing.function)
    return function(tables if drawing.tables_needed != 1 else tables[0], title, **settings)


def _suited(name: str, tables: Sequence[Table], figure: str | None, matched: bool) -> Drawing:
    """The drawing that is asked for, or the usual one of tables of some name.

    Parameters
    ----------
    matched
        Whether periods of several tables were matched before.
    """
    suited = [each for each in DRAWINGS.values() if name in each.tables]
    if figure is None:
        together = len(tables) > 1 or matched
        by_number = [each for each in suited if each.tables_needed == len(tables) > 1]
        by_number += [each for each in suited if (each.tables_needed == SEVERAL) == together]
        drawing = next(iter([*by_number, *suited]), None)
    else:
        drawing = DRAWINGS.get(figure)
    if drawing is None or drawing not in suited:
        known = ", ".join(each.name for each in suited)
        what = f"{figure} is not for it" if known else f"there is no chart of this table ({name})"
        raise RequestError("figure" if known else "out", what, f"use {known or 'CSV'}")
    if len(tables) > 1 and drawing.tables_needed == 1:
        raise RequestError("figure", f"{drawing.name} draws one table", "give one")
    if drawing.tables_needed == SEVERAL and not matched:
        what = f"{drawing.name} draws several tables"
        raise RequestError("figure", what, "give two or more, as A=a.csv B=b.csv")
    return drawing
