"""The shapes of tables: one value a row, or periods and regions across."""

from __future__ import annotations

import itertools
from collections.abc import Mapping

import numpy as np

from bavlo.errors import RequestError
from bavlo.tables.schema import TableSchema, schema_by_axes
from bavlo.tables.table import Column, Table, text_column

LONG, BY_TIME, BY_REGION = "long", "by-time", "by-region"
DOWN = {BY_TIME: "period", BY_REGION: "region"}
ACROSS = {BY_TIME: "region", BY_REGION: "period"}
BESIDE = ("start", "end")  # columns that stay beside the periods that go down


def laid_out(table: Table, layout: str) -> Table:
    """A table in another layout.

    Parameters
    ----------
    layout
        LONG as it is; BY_TIME with periods down and regions across; BY_REGION with regions down
        and periods across. The heads of columns say the measure, count, … where there are several.

    Raises
    ------
    RequestError
        Where the table has no regions and periods.
    """
    if layout == LONG:
        return table
    down, across = DOWN[layout], ACROSS[layout]
    if down not in table.axes or across not in table.axes:
        raise RequestError(
            "layout",
            f"{layout} is of regions and periods, which this table has not",
            "leave it out",
        )
    heads, values = wide_values(table, down)
    columns = [text_column(down, ("row",), table.labels(down))]
    if down == "period":
        columns += [
            text_column(name, ("row",), table.along(name, "period"))
            for name in BESIDE
            if name in table.header
        ]
    columns += [Column(head, ("row",), values[:, n]) for n, head in enumerate(heads)]
    return Table(table.name, {"row": table.axes[down]}, tuple(columns))


def wide_values(table: Table, down: str) -> tuple[list[str], np.ndarray]:
    """Heads of columns and (rows, columns) values, all axes but one going across.

    What a table shows is `value`, or the column that its schema names.
    """
    schema = schema_by_axes(table)
    full = np.moveaxis(table.full(shown_column(schema)), list(table.axes).index(down), 0)
    axes = [axis for axis in table.axes if axis != down]
    parts = {axis: names_along(table, schema, axis) for axis in axes}
    varies = [axis for axis in axes if len(parts[axis]) > 1 or axis in ("region", "period")]
    heads = [
        " ".join(part for axis, part in zip(axes, names, strict=True) if axis in varies)
        for names in itertools.product(*(parts[axis] for axis in axes))
    ]
    flat = full.reshape(full.shape[0], -1)
    if table.kept is not None:
        has = np.moveaxis(_kept_full(table), list(table.axes).index(down), 0)
        keep = has.reshape(has.shape[0], -1).any(axis=0)
        heads = [heads[n] for n in np.flatnonzero(keep).tolist()]
        flat = flat[:, keep]
    return heads, flat


def shown_column(schema: TableSchema) -> str:
    """The column whose values a wide table holds."""
    return schema.shown


def names_along(table: Table, schema: TableSchema, axis: str) -> list[str]:
    """What the places along an axis are called."""
    column = schema.axis_columns.get(axis, axis)
    if column and column in table.header:
        return [v if isinstance(v, str) else f"{v:g}" for v in table.along(column, axis)]
    return [str(n + 1) for n in range(table.axes[axis])]


def _kept_full(table: Table) -> np.ndarray:
    assert table.kept is not None
    shape = [table.axes[a] if a in table.kept.axes else 1 for a in table.axes]
    return np.broadcast_to(table.kept.values.reshape(shape) > 0, tuple(table.axes.values()))


def short_names(heads: list[str], most: int) -> Mapping[str, str]:
    """Names of at most so many letters and digits for heads, all different."""
    out: dict[str, str] = {}
    used: set[str] = set()
    for n, head in enumerate(heads, 1):
        plain = "".join(c if c.isascii() and c.isalnum() else "_" for c in head).strip("_")
        name = plain[:most]
        if not name or name.lower() in used or len(plain) > most or name[0].isdigit():
            name = f"v{n}"
        used.add(name.lower())
        out[head] = name
    return out
