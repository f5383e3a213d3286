"""What tells how a number came to be: lines of a table, and the cells for a picture."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from bavlo.errors import InputError
from bavlo.figures.trace import TracedCells
from bavlo.jobs.result import TableResult
from bavlo.tables.rows import row_of
from bavlo.tables.schema import TRACE
from bavlo.tables.table import Table

NONE = float("nan")

# What lines are about, in the order in which they are shown.
NUMBER, REQUEST, FILE, PARENT, RULE = "number", "request", "file", "parent row", "rule"
YEAR, PAIR, STEP, CELL, NEIGHBOUR = "year", "pair", "step", "cell", "neighbour"


class Line(NamedTuple):
    """One thing that went into a number, or was asked or decided for it.

    A tuple, since a large region has millions of cells.

    Parameters
    ----------
    part
        What it is: one of the words above.
    item
        Which one.
    start, end
        Its first and last day.
    x, y
        Longitude and latitude.
    area, share, weight
        Shared area (km²), covered share of the cell, and what it weighs among all.
    valid
        Share of it that has data.
    """

    part: str
    item: str
    start: str = ""
    end: str = ""
    x: float = NONE
    y: float = NONE
    area: float = NONE
    share: float = NONE
    weight: float = NONE
    valid: float = NONE
    value: float = NONE
    unit: str = ""
    note: str = ""


@dataclass(frozen=True, eq=False)
class Traced:
    """A table that was made again, at least in the row that is traced, and what went into it."""

    result: TableResult
    lines: Sequence[Line] = ()
    cells: TracedCells | None = None

    def row(self, wanted: Mapping[str, str]) -> dict[str, Any]:
        """The traced row."""
        return row_of(self.result.table, wanted)


def table_of_lines(region: str, period: str, lines: Sequence[Line]) -> Table:
    """The lines as a table, without the columns that none of them has."""
    values: dict[str, Any] = {"region": [region] * len(lines), "period": [period] * len(lines)}
    for name, column in zip(Line._fields, zip(*lines, strict=True), strict=True):
        column_schema = TRACE.column(name)
        if column_schema is not None and column_schema.optional and not any(map(_is_there, column)):
            continue
        values[name] = list(column)
    return TRACE.table(values)


def _is_there(value: Any) -> bool:
    return bool(value != "" and value == value)


def no_such_row(where: object, what: str) -> InputError:
    """The recorded request does not give the traced row any more."""
    return InputError(where, f"the request gives no such row any more ({what})", "make it anew")
