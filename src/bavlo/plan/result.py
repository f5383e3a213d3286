"""What a command that gives a table returns."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

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
    """

    table: Table
    title: str
    summary: tuple[str, ...]
    about: dict[str, Any]
    events: Table | None = None
    drawing: dict[str, Any] = field(default_factory=dict)
