"""Tables as CSV: shortest numbers that read back exactly, text that no spreadsheet runs."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import numpy as np
import orjson

from bavlo.errors import InputError
from bavlo.tables.schema import TableSchema, schema_of
from bavlo.tables.table import Column, Table, text_column

RISKY = ("=", "+", "-", "@")
ESCAPE = "'"
OF_A_ROW = ("value", "note")  # columns that mean nothing where there is no row
SELDOM = 8  # rows for each of what repeats
SAMPLE = 1024  # numbers that tell whether a column repeats a few


def write_file(table: Table, path: Path) -> None:
    """Write a whole table to a file."""
    with path.open("w", encoding="utf-8", newline="") as file:
        write(table, file)


def write(table: Table, file: IO[str]) -> None:
    """Write all rows, comma-separated with a header."""
    file.write(",".join(map(quoted, table.header)) + "\n")
    # What a column says again and again is put into words once; all else a chunk at a time.
    columns = [
        Column(column.name, column.axes, _texts(column.values))
        if _seldom(column.axes, table.axes)
        else column
        for column in table.columns
    ]
    together = Table(table.name, table.axes, tuple(_neighbours(columns, table.axes)), table.kept)
    for chunk in together.chunks():
        texts = [
            values if _seldom(column.axes, table.axes) else _texts(values)
            for column, values in zip(together.columns, chunk, strict=True)
        ]
        lines = map(",".join, zip(*(values.tolist() for values in texts), strict=True))
        file.write("\n".join(lines) + "\n")


def _seldom(own: tuple[str, ...], axes: Mapping[str, int]) -> bool:
    """Whether what varies along some of the axes is the same in many rows."""
    return math.prod(axes[axis] for axis in own) <= math.prod(axes.values()) / SELDOM


def _neighbours(columns: list[Column], axes: Mapping[str, int]) -> list[Column]:
    """Columns side by side that repeat the same few things, as one: a third less to write."""
    out: list[Column] = []
    for column in columns:
        if out:
            before = out[-1]
            both = tuple(axis for axis in axes if axis in (*before.axes, *column.axes))
            if _seldom(both, axes):
                parts = [_along(each, both) for each in (before, column)]
                out[-1] = Column(before.name, both, parts[0] + "," + parts[1])
                continue
        out.append(column)
    return out


def _along(column: Column, axes: tuple[str, ...]) -> np.ndarray:
    """Its values, bound to be repeated along further axes."""
    shape = iter(np.shape(column.values))
    return np.reshape(column.values, [next(shape) if a in column.axes else 1 for a in axes])


def _texts(values: np.ndarray) -> np.ndarray:
    """The text of each value, bound to stand between commas."""
    flat = values.ravel()
    out = np.empty(flat.shape, object)
    if values.dtype.kind == "O":
        known = {text: quoted(safe_text([text])[0]) for text in set(flat.tolist())}
        out[:] = [known[text] for text in flat.tolist()]
    else:
        out[:] = numbers_text(flat)
    return out.reshape(values.shape)


def quoted(text: str) -> str:
    """In quotes where it holds a comma, a quote or a line's end (RFC 4180)."""
    if any(sign in text for sign in ',"\r\n'):
        return '"' + text.replace('"', '""') + '"'
    return text


def safe_text(values: Iterable[str]) -> list[str]:
    """Text with an apostrophe before what a spreadsheet would take for a formula.

    An apostrophe that is there already is doubled, so that taking one off gives the text back.
    """
    return [ESCAPE + v if v.startswith((*RISKY, ESCAPE)) else v for v in values]


def plain_text(values: Iterable[str]) -> list[str]:
    """Undo `safe_text`."""
    return [v[1:] if v.startswith(ESCAPE) else v for v in values]


def number_text(value: float) -> str:
    """The shortest text that reads back as the same float64; empty for a missing value.

    Examples
    --------
    >>> number_text(31.0), number_text(0.1), number_text(float("nan"))
    ('31', '0.1', '')
    """
    if value != value:
        return ""
    if value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return repr(value)


def numbers_text(values: np.ndarray) -> list[str]:
    """`number_text` of many, at the price of the different ones."""
    few = values[:: max(1, values.size // SAMPLE)]
    if values.size > 64 and np.unique(few).size < few.size / 2:
        different, position = np.unique(values, return_inverse=True)
        if different.size < values.size / 8:
            texts = np.array([number_text(v) for v in different.tolist()], object)
            return list(texts[position].tolist())
    if not values.size:
        return []
    numbers = np.ascontiguousarray(values, np.float64)
    # The same shortest digits several times faster than `repr`; only exponents look different.
    text = orjson.dumps(numbers, option=orjson.OPT_SERIALIZE_NUMPY)
    out = text[1:-1].decode().split(",")
    size = np.abs(numbers)
    other = np.flatnonzero((numbers == np.rint(numbers)) | ~((size >= 1e-3) & (size < 1e15)))
    for n, number in zip(other.tolist(), numbers[other].tolist(), strict=True):
        out[n] = number_text(number)
    return out


def read(path: Path) -> Table:
    """A table that was written as CSV, with its axes.

    Raises
    ------
    InputError
        Where it is none of the known tables, or not a whole one.
    """
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file)
            rows = list(reader)
            header = list(reader.fieldnames or [])
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give a CSV") from error
    schema = schema_of(header)
    if schema is None:
        raise InputError(path, "is no table that Bavlo wrote", "give the CSV that a command wrote")
    if not rows:
        raise InputError(path, "has no rows", "give the CSV that a command wrote")
    axes = schema.axes
    texts = {key: plain_text(row[key] or "" for row in rows) for key in header}
    places = {axis: _places(schema, axis, texts, len(rows)) for axis in axes}
    names = {axis: list(dict.fromkeys(places[axis])) for axis in axes}
    shape = tuple(len(names[axis]) for axis in axes)
    position = tuple(
        np.array([{text: n for n, text in enumerate(names[axis])}[text] for text in places[axis]])
        for axis in axes
    )
    present = np.zeros(shape, bool)
    present[position] = True
    kept = _kept(schema, present)
    if not (present.all() or kept is not None) or int(present.sum()) != len(rows):
        raise InputError(
            path,
            f"its {len(rows)} rows are not "
            + " × ".join(f"{n} {axis}s" for n, axis in zip(shape, axes, strict=True)),
            "give one whole table",
        )
    arrangement = _Arrangement(axes, shape, position, kept)
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


def _places(schema: TableSchema, axis: str, texts: Mapping[str, list[str]], rows: int) -> list[str]:
    """What tells the places of an axis apart, row by row."""
    column = schema.axis_columns.get(axis, axis)
    return texts.get(column, []) if column else [str(n) for n in range(rows)]


@dataclass(frozen=True, eq=False)
class _Arrangement:
    """Where the rows stand along the axes."""

    axes: tuple[str, ...]
    shape: tuple[int, ...]
    position: tuple[np.ndarray, ...]
    kept: Column | None

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
    texts: list[str],
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
        try:
            values[rows.position] = [float(text) if text else np.nan for text in texts]
        except ValueError as error:
            raise InputError(path, f"column {key}: {error}", "repair the table") from error
    rows.fill(key, values)
    kept = list(rows.axes)
    for axis in rows.axes:
        if axis == key:
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
