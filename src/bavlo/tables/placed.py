"""Rows of text as a table with its axes: what all formats that hold rows are read by."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import orjson

from bavlo.errors import InputError
from bavlo.files import number_in
from bavlo.tables.group import TELLING, AnyTable, group
from bavlo.tables.schema import TableSchema, schema_of
from bavlo.tables.table import Column, Table, text_column

BETWEEN = "\x1f"  # between the columns that tell a place
OTHER_SIGN = re.compile(r"[^0-9eE+.-]")
OF_A_ROW = ("value", "note")  # columns that mean nothing where there is no row


def table_of_rows(path: Path, texts: Mapping[str, list[str] | np.ndarray]) -> AnyTable:
    """A table that a command wrote, from the texts or numbers of its columns.

    Rows of several variables, sorts of periods or levels make a group.

    Parameters
    ----------
    path
        Where they come from.
    texts
        By name of the column, in the order of the header; empty texts, or NaN, for missing values.
        Columns that tell places apart come as texts.

    Raises
    ------
    InputError
        Where they are none of the known tables, or not a whole one.
    """
    header = list(texts)
    schema = schema_of(header)
    if schema is None:
        raise InputError(path, "is no table that Bavlo wrote", "give the file that a command wrote")
    known = [column.name for column in schema.columns if not column.optional]
    told = [schema.columns_of(axis, known) for axis in schema.axes]
    needed = [schema.shown, *(names[0] for names in told if names)]
    lacking = [name for name in needed if name in known and name not in header]
    if lacking:
        raise InputError(
            path,
            f"has no column {', '.join(lacking)}, as its other columns ask for",
            "give the whole table as the command wrote it",
        )
    rows = len(next(iter(texts.values()), []))
    if not rows:
        raise InputError(path, "has no rows", "give the file that a command wrote")
    telling = [
        name
        for name in TELLING
        if name in header and (column := schema.column(name)) is not None and not column.axes
    ]
    kinds = list(zip(*(texts[name] for name in telling), strict=True))
    different = list(dict.fromkeys(kinds))
    if len(different) <= 1:
        return _one_table(path, schema, texts, rows)
    position: dict[tuple[str, ...], list[int]] = {kind: [] for kind in different}
    for n, kind in enumerate(kinds):
        position[kind].append(n)
    parts = []
    for own in position.values():
        some = {
            name: column[own] if isinstance(column, np.ndarray) else [column[n] for n in own]
            for name, column in texts.items()
        }
        parts.append(_one_table(path, schema, some, len(own)))
    return group(parts)


def numbers_of(path: Path, name: str, texts: Sequence[str]) -> np.ndarray:
    """(N,) numbers from texts in the spelling that CSV has; NaN where there is none.

    Raises
    ------
    InputError
        Where a text is no number, such as one with other digits or with marks between them.
    """
    if OTHER_SIGN.search("".join(texts)) is None:
        with suppress(orjson.JSONDecodeError):  # numbers of JSON are read several times faster
            found = orjson.loads("[" + ",".join([text or "null" for text in texts]) + "]")
            return np.array(found, np.float64)
    out = np.full(len(texts), np.nan)
    for n, text in enumerate(texts):
        if text:
            try:
                out[n] = number_in(text)
            except ValueError as error:
                raise InputError(path, f"column {name}: {error}", "repair the table") from error
    return out


def _one_table(
    path: Path, schema: TableSchema, texts: Mapping[str, list[str] | np.ndarray], rows: int
) -> Table:
    """A table of one variable, sort of periods and level."""
    header = list(texts)
    axes = schema.axes
    places = {axis: _places(schema, axis, texts, rows) for axis in axes}
    names = {axis: list(dict.fromkeys(places[axis])) for axis in axes}
    shape = tuple(len(names[axis]) for axis in axes)
    number = {axis: {text: n for n, text in enumerate(names[axis])} for axis in axes}
    position = tuple(np.array(list(map(number[axis].__getitem__, places[axis]))) for axis in axes)
    present = np.zeros(shape, bool)
    present[position] = True
    kept = _kept(schema, present)
    if not (present.all() or kept is not None) or int(present.sum()) != rows:
        raise InputError(
            path,
            f"its {rows} rows are not "
            + " × ".join(f"{n} {axis}s" for n, axis in zip(shape, axes, strict=True)),
            "give one whole table",
        )
    naming = {axis: schema.columns_of(axis, header) for axis in axes}
    arrangement = _Arrangement(axes, shape, position, kept, naming)
    columns = (
        _column(path, key, texts[key], arrangement, is_text=schema.is_text(key)) for key in header
    )
    return Table(schema.name, dict(zip(axes, shape, strict=True)), tuple(columns), kept)


def _kept(schema: TableSchema, present: np.ndarray) -> Column | None:
    """The pairs of axes that have rows, where some have none and the schema allows that."""
    sparse = [schema.axes.index(axis) for axis in schema.sparse]
    if present.all() or not sparse:
        return None
    others = tuple(n for n in range(present.ndim) if n not in sparse)
    pairs = present.any(axis=others, keepdims=True)
    if (present != pairs).any():
        return None
    shape = [present.shape[n] for n in sparse]
    return Column("", schema.sparse, pairs.reshape(shape).astype(float))


def _places(
    schema: TableSchema, axis: str, texts: Mapping[str, list[str] | np.ndarray], rows: int
) -> Sequence[str]:
    """What tells the places of an axis apart, row by row."""
    names = schema.columns_of(axis, list(texts))
    if not names:
        return [str(n) for n in range(rows)]
    if len(names) == 1:
        return list(texts[names[0]])
    return list(map(BETWEEN.join, zip(*(texts[name] for name in names), strict=True)))


@dataclass(frozen=True, eq=False)
class _Arrangement:
    """Where the rows stand along the axes, and the columns that tell the places of each apart."""

    axes: tuple[str, ...]
    shape: tuple[int, ...]
    position: tuple[np.ndarray, ...]
    kept: Column | None
    naming: Mapping[str, list[str]]

    def fill(self, key: str, values: np.ndarray) -> None:
        """Give pairs without rows what stands in a row beside them, so that columns stay short."""
        if self.kept is None or key in OF_A_ROW:
            return
        along = [self.axes.index(axis) for axis in self.kept.axes]
        view = np.moveaxis(values, along, (-2, -1))
        present = self.kept.values > 0
        for one, row in enumerate(present):
            for other in np.flatnonzero(~row).tolist():
                beside = (one, int(row.argmax()))
                if key == self.kept.axes[1]:
                    beside = (int(present[:, other].argmax()), other)
                view[..., one, other] = view[..., beside[0], beside[1]]


def _column(
    path: Path,
    key: str,
    texts: list[str] | np.ndarray,
    rows: _Arrangement,
    *,
    is_text: bool,
) -> Column:
    """A column along the axes that it varies along."""
    values: np.ndarray
    if is_text:
        values = np.full(rows.shape, "", object)
        values[rows.position] = texts
    else:
        values = np.full(rows.shape, np.nan)
        values[rows.position] = (
            texts if isinstance(texts, np.ndarray) else numbers_of(path, key, texts)
        )
    rows.fill(key, values)
    kept = list(rows.axes)
    for axis in rows.axes:
        if key in rows.naming[axis]:
            continue
        n = kept.index(axis)
        first = values.take([0], axis=n)
        same = values == first
        if values.dtype.kind == "f":
            same |= np.isnan(values) & np.isnan(first)
        if same.all():
            values = values.take(0, axis=n)
            kept.remove(axis)
    if is_text and not kept:
        return text_column(key, (), [str(values)])
    return Column(key, tuple(kept), values)
