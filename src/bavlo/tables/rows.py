"""Rows of a table, found by what stands in their columns."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from bavlo.errors import RequestError, known_words
from bavlo.tables.group import AnyTable
from bavlo.tables.schema import TEXT, schema_by_axes
from bavlo.tables.table import Table

# Numbers that tell rows apart, as texts do.
TELLING_NUMBERS = ("window", "years", "event")
NOT_TELLING = ("start", "end", "unit", "note", "total_unit", "peak_on", "open", "lowest_source",
               "highest_source", "apart")  # fmt: skip
MOST_LISTED = 8


def telling_columns(table: AnyTable) -> list[str]:
    """The columns that tell rows apart."""
    first = table if isinstance(table, Table) else table.parts[0]
    schema = schema_by_axes(first)
    years_tell = first.name == "return levels"
    return [
        column.name
        for column in schema.columns
        if column.name in first.header
        and column.name not in NOT_TELLING
        and (column.kind == TEXT or column.name in TELLING_NUMBERS)
        and (column.name != "years" or years_tell)
    ]


def row_of(table: AnyTable, wanted: Mapping[str, str]) -> dict[str, Any]:
    """The one row of a table that has the wanted values, by the names of its columns.

    Raises
    ------
    RequestError
        Where there is none, or where several are and what would choose one of them.
    """
    rows = np.arange(len(table))
    columns = {name: table.column(name) for name in table.header}
    for name, value in wanted.items():
        if name not in columns:
            raise RequestError(name, f"the table has no column {name}", known_words(name, columns))
        texts = as_texts(columns[name])
        kept = rows[texts[rows] == value]
        if not kept.size:
            known = list(dict.fromkeys(texts[rows].tolist()))
            hint = known_words(value, known, "there is")
            raise RequestError(name, f"no row has the {name} {value}", hint)
        rows = kept
    if rows.size > 1:
        for name in telling_columns(table):
            known = list(dict.fromkeys(as_texts(columns[name])[rows].tolist()))
            if len(known) > 1:
                how = f"‹{name}›" if name in ("region", "period") else f"‹pick {name}={known[0]}›"
                raise RequestError(
                    name, f"rows with several are left: {_some(known)}", f"choose one with {how}"
                )
    n = int(rows[0])
    return {name: values[n] for name, values in columns.items()}


def as_texts(column: np.ndarray) -> np.ndarray:
    """The values of a column as one would write them."""
    if column.dtype.kind == "O":
        return column.astype(str)
    return np.array([f"{value:g}" for value in column.tolist()], object)


def _some(names: list[str]) -> str:
    more = f" and {len(names) - MOST_LISTED} more" if len(names) > MOST_LISTED else ""
    return ", ".join(names[:MOST_LISTED]) + more
