"""Several tables of one sort, one below the other: sorts of periods, grids or levels."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.errors import RequestError, known_words
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Column, Table, text_column

TELLING = ("variable", "every", "level", "base")  # columns that tell the parts of a group apart


@dataclass(frozen=True, eq=False)
class TableGroup:
    """Tables with the same columns; the rows of one follow those of the one before.

    Parameters
    ----------
    parts
        Each with an axis of periods of its own. Made by `group`, which gives all the same columns.
    """

    parts: tuple[Table, ...]

    @property
    def name(self) -> str:
        """series, normals, …"""
        return self.parts[0].name

    @property
    def header(self) -> list[str]:
        """Names of the columns."""
        return self.parts[0].header

    def __len__(self) -> int:
        return sum(map(len, self.parts))

    @cached_property
    def columns(self) -> tuple[Column, ...]:
        """The values that occur in each column, flat: enough to tell types, widths and digits."""
        out = []
        for n, name in enumerate(self.header):
            values = [part.columns[n].values.ravel() for part in self.parts]
            out.append(Column(name, ("row",), np.concatenate(values)))
        return tuple(out)

    def rows(self, first: int, last: int) -> list[np.ndarray]:
        """Columns of the rows `first` to `last` (excluded), each as a flat array."""
        found, start = [], 0
        for part in self.parts:
            stop = start + len(part)
            if start < last and stop > first:
                found.append(part.rows(max(first - start, 0), min(last - start, len(part))))
            start = stop
        return [np.concatenate(columns) for columns in zip(*found, strict=True)]

    def chunks(self) -> Iterator[list[np.ndarray]]:
        """All rows, some at a time."""
        for part in self.parts:
            yield from part.chunks()

    def column(self, name: str) -> np.ndarray:
        """One column with a value for every row."""
        return np.concatenate([part.column(name) for part in self.parts])

    def where(self, name: str, value: str) -> Table | TableGroup:
        """The parts of one value, or each part's rows that have it."""
        if name in TELLING:
            kept = [p for p in self.parts if name in p.header and p.labels(name)[0] == value]
            if not kept:
                raise RequestError(
                    "pick", f"{name} has no {value}", known_words(value, self.different(name))
                )
            return group(kept)
        return group([part.where(name, value) for part in self.parts])

    def different(self, name: str) -> list[str]:
        """The different texts of a column of one value a part."""
        if name not in self.header:
            return []
        return list(dict.fromkeys(str(part.labels(name)[0]) for part in self.parts))


AnyTable = Table | TableGroup


def parts_of(table: AnyTable) -> tuple[Table, ...]:
    """The tables of a group, or the one table."""
    return table.parts if isinstance(table, TableGroup) else (table,)


def group(tables: Sequence[Table]) -> AnyTable:
    """Tables of one sort as one, with the columns that any of them has.

    Raises
    ------
    RequestError
        Where two of them give a period of one variable.
    """
    if len(tables) == 1:
        return tables[0]
    _check_periods(tables)
    schema = schema_by_axes(tables[0])
    names = [c.name for c in schema.columns if any(c.name in t.header for t in tables)]
    return TableGroup(tuple(_with_columns(table, names) for table in tables))


def _with_columns(table: Table, names: Sequence[str]) -> Table:
    """A table with columns that it may not have, empty."""
    columns = []
    for name in names:
        if name in table.header:
            columns.append(table.columns[table.header.index(name)])
        elif schema_by_axes(table).is_text(name):
            columns.append(text_column(name, (), [""]))
        else:
            columns.append(Column(name, (), np.array(np.nan)))
    return Table(table.name, table.axes, tuple(columns), table.kept)


def _check_periods(tables: Sequence[Table]) -> None:
    """No period may be given twice."""
    seen: dict[tuple[str, ...], tuple[int, str]] = {}
    for n, table in enumerate(tables):
        same = tuple(
            str(table.labels(name)[0])
            for name in ("variable", "level", "base")
            if _is_plain(table, name)
        )
        every = str(table.labels("every")[0]) if "every" in table.header else ""
        for label in table.labels("period") if "period" in table.header else ():
            other, other_every = seen.setdefault((*same, label), (n, every))
            if other == n:
                continue
            if other_every == every:
                raise RequestError(
                    "",
                    f"two parts of the table give {' '.join(same)} of {label}",
                    "give each grid a name of its own, as NAME=PATH",
                )
            raise RequestError(
                "every",
                f"{other_every} and {every} both give the period {label}",
                "ask for one of them at a time",
            )


def _is_plain(table: Table, name: str) -> bool:
    return name in table.header and not table.columns[table.header.index(name)].axes


def filtered(table: AnyTable, name: str, values: Sequence[str | float]) -> AnyTable:
    """The rows that have one of some values in a column that varies along one axis at most.

    Raises
    ------
    RequestError
        Where there is no such column or value, or the column belongs to several axes.
    """
    if name not in table.header:
        raise RequestError("", f"the table has no column {name}", known_words(name, table.header))
    wanted, found, kept = {_as_text(value) for value in values}, set(), []
    for part in parts_of(table):
        axes = part.columns[part.header.index(name)].axes
        if len(axes) > 1:
            raise RequestError("", f"{name} differs from row to row", "filter by another column")
        texts = [_as_text(value) for value in part.labels(name)]
        found |= set(texts)
        keep = [n for n, text in enumerate(texts) if text in wanted]
        if keep:
            kept.append(part.take(axes[0], keep) if axes else part)
    missing = sorted(wanted - found)
    if missing:
        hint = known_words(missing[0], sorted(found))
        raise RequestError("", f"{name} has no {missing[0]}", hint)
    return kept[0] if len(kept) == 1 else TableGroup(tuple(kept))


def _as_text(value: object) -> str:
    """A value as people write it."""
    return f"{value:g}" if isinstance(value, float) else str(value)


def only_table(table: AnyTable, field: str) -> Table:
    """The one table of a group of one.

    Raises
    ------
    RequestError
        Where there are several, with the words to choose one.
    """
    if isinstance(table, Table):
        return table
    name = next(n for n in TELLING if len(table.different(n)) > 1)
    several = {"every": "sorts of periods"}.get(name, f"{name}s")
    known = table.different(name)
    raise RequestError(
        field,
        f"the table has several {several}: {', '.join(known)}",
        f"choose one, as ‹pick {name}={known[0]}›",
    )
