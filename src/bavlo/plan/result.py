"""What a command that gives a table returns."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from bavlo.core.space.regions import Regions
from bavlo.regions.read import RegionFile
from bavlo.tables.formats import Shapes
from bavlo.tables.table import Table


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
    drawing
        What a chart of the table needs beside it.
    shapes
        Its regions as they were given; None where there are none, as of a raster of zones.
    """

    table: Table
    title: str
    summary: tuple[str, ...]
    about: dict[str, Any]
    events: Table | None = None
    drawing: dict[str, Any] = field(default_factory=dict)
    shapes: Shapes | None = None


def shapes_of(found: RegionFile) -> Shapes | None:
    """The regions of a file as a table's companions."""
    regions = found.regions
    if not isinstance(regions, Regions):
        return None
    return Shapes(tuple(regions.labels), regions.geometry, found.fields, regions.crs)
