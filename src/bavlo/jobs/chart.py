"""A figure of tables that Bavlo wrote."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from bavlo.core.stats.normals import Base
from bavlo.figures import draw
from bavlo.figures.titles import title_of
from bavlo.jobs.matched import Matched, matched
from bavlo.jobs.sources import VALUES, Source
from bavlo.regions.read import chosen
from bavlo.request.request import Request
from bavlo.tables.formats import read_table
from bavlo.tables.group import only_table
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@dataclass(frozen=True, eq=False)
class ChartContent:
    """What a chart shows."""

    tables: tuple[Table, ...]
    title: str
    figure: str | None
    base: Base | None
    matched: Matched | None = None

    def draw(self) -> Figure:
        """The figure, made anew each time."""
        settings = {} if self.matched is None else {"matched": self.matched}
        return draw(self.tables, self.title, self.figure, base=self.base, **settings)


def chart(request: Request) -> ChartContent:
    """Read the tables of a request, and take what is to be shown of them."""
    tables = []
    for path in (path for argument in request.grids.arguments for path in argument.paths):
        table = read_table(path)
        for column, value in request.figure.pick:
            table = table.where(column, value)
        one = only_table(table, "pick")
        tables.append(_only(path, one, request.regions.reading.only))
    title = request.figure.title or title_of(*tables)
    found = None
    if len(tables) > 1 and all(table.name in VALUES for table in tables):
        arguments = request.grids.arguments
        names = [a.name or a.paths[0].name.split(".")[0] for a in arguments for _ in a.paths]
        sources = [Source(name, table, {}) for name, table in zip(names, tables, strict=True)]
        (found,) = matched(sources)
        title = request.figure.title or f"{title}: {', '.join(names)}"
    shown = request.figure.figure, request.climate.base
    return ChartContent(tuple(tables), title, *shown, found)


def _only(path: Path, table: Table, only: tuple[str, ...]) -> Table:
    """The table of some regions, be they an axis of it or named in each row."""
    if "region" in table.axes:
        return table.take("region", chosen(path, table.labels("region"), only))
    names = table.labels("region")
    different = list(dict.fromkeys(names))
    kept = {different[n] for n in chosen(path, different, only)}
    return table.take("row", [n for n, name in enumerate(names) if name in kept])
