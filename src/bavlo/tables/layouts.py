"""The shapes of tables: one value a row, or periods and regions across."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from bavlo.errors import RequestError
from bavlo.tables.group import TELLING, AnyTable, TableGroup, parts_of
from bavlo.tables.schema import TableSchema, schema_by_axes
from bavlo.tables.table import Column, Table, text_column

LONG, BY_TIME, BY_REGION = "long", "by-time", "by-region"
DOWN = {BY_TIME: "period", BY_REGION: "region"}
BESIDE = ("start", "end")  # columns that stay beside the periods that go down
SHEET_AXES = ("measure", "count", "statistic")  # each place has a sheet of its own


@dataclass(frozen=True, eq=False)
class Wide:
    """Values with regions or periods down and all else across.

    Parameters
    ----------
    labels
        Of the rows.
    beside
        Further texts of the rows, by column.
    heads
        Of the columns.
    values : (rows, columns) float64
        NaN where there is none.
    """

    labels: list[str]
    beside: dict[str, list[str]]
    heads: list[str]
    values: np.ndarray

    def table(self, name: str, down: str) -> Table:
        """As a table of one row for each label."""
        columns = [text_column(down, ("row",), self.labels)]
        columns += [text_column(key, ("row",), texts) for key, texts in self.beside.items()]
        columns += [Column(head, ("row",), self.values[:, n]) for n, head in enumerate(self.heads)]
        return Table(name, {"row": len(self.labels)}, tuple(columns))


def laid_out(table: AnyTable, layout: str) -> AnyTable:
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
    return wide(table, DOWN[layout]).table(table.name, DOWN[layout])


def sheets(table: AnyTable, layout: str) -> list[tuple[str, AnyTable]]:
    """Tables with names of their own: in the wide layouts one for each measure or count."""
    if layout == LONG:
        return [(table.name, table)]
    axis = next(
        (a for a in SHEET_AXES if any(part.axes.get(a, 1) > 1 for part in parts_of(table))), None
    )
    if axis is None:
        return [(table.name, laid_out(table, layout))]
    names: dict[str, None] = {}
    for part in parts_of(table):
        names |= dict.fromkeys(names_along(part, schema_by_axes(part), axis))
    return [(name, laid_out(_with_place(table, axis, name), layout)) for name in names]


def _with_place(table: AnyTable, axis: str, name: str) -> AnyTable:
    """The table with one place of an axis."""
    kept = []
    for part in parts_of(table):
        own = names_along(part, schema_by_axes(part), axis)
        if name in own:
            kept.append(part.take(axis, [own.index(name)]))
    return kept[0] if len(kept) == 1 else TableGroup(tuple(kept))


def wide(table: AnyTable, down: str) -> Wide:
    """All axes but one going across; parts of a group side by side, or below one another.

    What a table shows is `value`, or the column that its schema names.
    """
    parts = parts_of(table)
    if any(axis not in parts[0].axes for axis in ("region", "period")):
        raise RequestError(
            "layout",
            f"is of regions and periods, which a table of {table.name} has not",
            "leave it out",
        )
    told = [
        name
        for name in TELLING
        if name != "every" and isinstance(table, TableGroup) and len(table.different(name)) > 1
    ]
    rows: dict[str, int] = {}
    beside: dict[str, list[str]] = {}
    heads: dict[str, int] = {}
    found: list[tuple[list[int], list[int], np.ndarray]] = []
    for part in parts:
        prefix = " ".join(str(part.labels(name)[0]) for name in told)
        own_heads, values = _wide_values(part, down)
        labels = part.labels(down)
        texts = {
            key: part.along(key, "period")
            for key in BESIDE
            if key in part.header and down == "period"
        }
        for n, label in enumerate(labels):
            if label not in rows:
                rows[label] = len(rows)
                for key, column in texts.items():
                    beside.setdefault(key, []).append(column[n])
        named = [f"{prefix} {head}".strip() for head in own_heads]
        for head in named:
            heads.setdefault(head, len(heads))
        found.append(([rows[label] for label in labels], [heads[head] for head in named], values))
    full = np.full((len(rows), len(heads)), np.nan)
    for at_rows, at_columns, values in found:
        full[np.ix_(at_rows, at_columns)] = values
    return Wide(list(rows), beside, list(heads), full)


def _wide_values(table: Table, down: str) -> tuple[list[str], np.ndarray]:
    """Heads of columns and (rows, columns) values, all axes but one going across."""
    schema = schema_by_axes(table)
    full = np.moveaxis(table.full(schema.shown), list(table.axes).index(down), 0)
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


def names_along(table: Table, schema: TableSchema, axis: str) -> list[str]:
    """What the places along an axis are called."""
    names = schema.columns_of(axis, table.header)
    if not names:
        return [str(n + 1) for n in range(table.axes[axis])]
    texts = []
    for name in names:
        column = table.columns[table.header.index(name)]
        if axis not in column.axes or (len(names) > 1 and len(set(column.values.ravel())) == 1):
            continue
        texts.append([v if isinstance(v, str) else f"{v:g}" for v in table.along(name, axis)])
    if not texts:
        texts = [[str(v) for v in table.along(names[-1], axis)]]
    return list(map(" ".join, zip(*texts, strict=True)))


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


def unique_names(names: list[str], most: int, forbidden: str = "") -> Iterator[str]:
    """Names of at most so many characters, all different in any case of letters."""
    used: set[str] = set()
    for name in names:
        plain = "".join("-" if c in forbidden else c for c in name)[:most].strip() or "table"
        chosen, n = plain, 2
        while chosen.lower() in used:
            ending = f" {n}"
            chosen, n = plain[: most - len(ending)] + ending, n + 1
        used.add(chosen.lower())
        yield chosen
