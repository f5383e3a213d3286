"""What a command that gives a table returns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from bavlo.regions.read import RegionFile
from bavlo.request.filling import asked
from bavlo.request.request import Request
from bavlo.tables.formats import Shapes
from bavlo.tables.group import AnyTable, group, parts_of
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Table, text_column


@dataclass(frozen=True, eq=False)
class TableResult:
    """A table and how it came to be.

    Parameters
    ----------
    table
        Columns as promised for its kind.
    title
        What the values are, in words, for a chart or a heading.
    summary
        What was computed and what was left empty, in sentences.
    about
        Provenance as plain data.
    events
        A further table of events, where it was asked for.
    every
        By which sort of periods it is; empty where it has none.
    drawing
        What a chart of the table needs beside it.
    shapes
        Its regions as they were given; None where there are none, as of a raster of zones.
    """

    table: AnyTable
    title: str
    summary: tuple[str, ...]
    about: dict[str, Any]
    events: Table | None = None
    every: str = ""
    drawing: dict[str, Any] = field(default_factory=dict)
    shapes: Shapes | None = None


def shapes_of(found: RegionFile) -> Shapes | None:
    """The regions of a file as a table's companions."""
    regions = found.regions
    if regions.outlines is None:
        return None
    return Shapes(tuple(regions.labels), regions.outlines, found.fields, regions.crs)


def together(request: Request, results: Sequence[TableResult]) -> TableResult:
    """Results of several grids or sorts of periods as one, a table below the other.

    Raises
    ------
    RequestError
        Where two of them give the same period of one variable.
    """
    if len(results) == 1:
        return results[0]
    several = len({result.every for result in results}) > 1
    tables = []
    for result in results:
        for part in parts_of(result.table):
            tables.append(_by(part, result.every) if several and result.every else part)
    table = group(tables)
    lines = (f"{_named(result)}: {line}" for result in results for line in result.summary)
    summary = dict.fromkeys((f"{len(table)} rows in {len(tables)} parts", *lines))
    title = "; ".join(dict.fromkeys(result.title for result in results))
    about = {
        **_joined([result.about for result in results]),
        "request": asked(request),
        "summary": list(summary),
    }
    return replace(results[0], table=table, title=title, summary=tuple(summary), about=about)


def _named(result: TableResult) -> str:
    """What tells a result from the others, such as `rain by month`."""
    first = parts_of(result.table)[0]
    names = ", ".join(dict.fromkeys(map(str, first.labels("variable"))))
    return f"{names} by {result.every}" if result.every else names


def _by(table: Table, every: str) -> Table:
    """A table that says by which sort of periods its rows are."""
    columns = {column.name: column for column in table.columns}
    columns["every"] = text_column("every", (), [every])
    order = [c.name for c in schema_by_axes(table).columns if c.name in columns]
    return replace(table, columns=tuple(columns[name] for name in order))


def _joined(abouts: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """Provenance of several results: what is the same once, files once, all else in order."""
    out: dict[str, Any] = {}
    for key in abouts[0]:
        values = [about.get(key) for about in abouts]
        if key in ("inputs", "warnings"):
            flat = [each for value in values for each in value or ()]
            out[key] = [each for n, each in enumerate(flat) if each not in flat[:n]]
        elif all(value == values[0] for value in values):
            out[key] = values[0]
        else:
            out[key] = values
    return out
