"""Figures: each kind of drawing is one entry in one table."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from bavlo.errors import RequestError
from bavlo.records import dataclass

STATIC_LABEL = "static"
SEVERAL = 0

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bavlo.tables.table import Table


@dataclass(frozen=True)
class Kind:
    """One way to draw a table.

    Parameters
    ----------
    name
        As `kind`.
    tables
        The tables that it draws; the first kind that draws a table is its usual one.
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


KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Kind("lines", ("series", "extremes"), "series", "draw_series", "values over time", 1, True),
        Kind(
            "bars",
            ("anomalies",),
            "climate",
            "draw_anomalies",
            "above and below the normal",
            1,
            True,
        ),
        Kind(
            "normals",
            ("normals",),
            "climate",
            "draw_normals",
            "the usual course of the year",
            1,
            True,
        ),
        Kind(
            "diagram",
            ("normals",),
            "climate",
            "draw_diagram",
            "rain and temperature together, from two tables of normals",
            tables_needed=2,
        ),
        Kind("timeline", ("events",), "extremes", "draw_timeline", "events as bars, by their peak"),
        Kind("calendar", ("events",), "extremes", "draw_calendar", "days of events, year by year"),
        Kind("longest", ("events",), "extremes", "draw_longest", "the longest spells"),
        Kind("levels", ("return levels",), "extremes", "draw_levels", "values by return period"),
        Kind(
            "years",
            ("series",),
            "years",
            "draw_years",
            "each year as a line, the last one strong, the band of the base behind",
        ),
        Kind(
            "totals",
            ("series", "extremes"),
            "years",
            "draw_totals",
            "a bar a year, with the mean and the years of the records",
            as_matrix=True,
        ),
        Kind(
            "matrix",
            ("series", "extremes", "anomalies"),
            "years",
            "draw_matrix",
            "years down, months across",
        ),
        Kind(
            "sources",
            ("series", "extremes", "compare", "spread"),
            "sources",
            "draw_sources",
            "several tables as lines, the range between them shaded",
            tables_needed=SEVERAL,
        ),
        Kind(
            "scatter",
            ("series", "extremes", "compare", "spread"),
            "sources",
            "draw_scatter",
            "two tables against each other",
            tables_needed=SEVERAL,
        ),
        Kind(
            "agreement",
            ("compare",),
            "sources",
            "draw_agreement",
            "a statistic by region and period",
        ),
        Kind(
            "shares",
            ("classes",),
            "classes",
            "draw_shares",
            "shares of classes as stacked bars, a region each",
        ),
        Kind("trend", ("trends",), "trends", "draw_trend", "values with the line of their trend"),
        Kind("cells", ("trace",), "trace", "draw_cells", "the cells behind a number"),
        Kind("slopes", ("trends",), "trends", "draw_slopes", "slopes with their intervals"),
    )
}


def draw(tables: Sequence[Table], title: str, kind: str | None = None, **settings: Any) -> Figure:
    """Draw tables in one of the ways of their kind.

    Parameters
    ----------
    kind
        A name of KINDS; None for the usual one.
    settings
        What the kind takes further: base, and for return levels the yearly highest values.
    """
    from importlib import import_module

    name = "classes" if "class" in tables[0].axes else tables[0].name
    suited = [k for k in KINDS.values() if name in k.tables]
    chosen = KINDS.get(kind or "")
    if kind is None:
        together = len(tables) > 1 or "matched" in settings
        chosen = next((k for k in suited if k.tables_needed == len(tables) > 1), None)
        chosen = chosen or next(
            (k for k in suited if (k.tables_needed == SEVERAL) == together), None
        )
        chosen = chosen or next(iter(suited), None)
    if chosen is None or chosen not in suited:
        known = ", ".join(k.name for k in suited)
        what = f"{kind} is not for it" if known else f"there is no chart of this table ({name})"
        raise RequestError("figure" if known else "out", what, f"use {known or 'CSV'}")
    if len(tables) > 1 and chosen.tables_needed == 1:
        raise RequestError("figure", f"{chosen.name} draws one table", "give one")
    is_static = "period" in tables[0].header and tables[0].labels("period") == [STATIC_LABEL]
    if is_static and name != "classes":
        raise RequestError(
            "out", "there is no chart of a grid without time", "write a table, and map it"
        )
    if name == "extremes":
        from bavlo.figures.extremes import as_series

        tables = [as_series(table) for table in tables]
    if chosen.as_matrix and len(tables) == 1:
        from bavlo.figures.many import draw_many
        from bavlo.figures.panels import MOST_PANELS

        if tables[0].axes["region"] > MOST_PANELS:
            return draw_many(tables[0], title)
    module = import_module(f"bavlo.figures.{chosen.module}")
    function: Callable[..., Figure] = getattr(module, chosen.function)
    if chosen.tables_needed == SEVERAL and "matched" not in settings:
        raise RequestError(
            "figure", f"{chosen.name} draws several tables", "give two or more, as A=a.csv B=b.csv"
        )
    return function(tables if chosen.tables_needed != 1 else tables[0], title, **settings)
