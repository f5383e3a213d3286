"""Tables as CSV: shortest numbers that read back exactly, text that no spreadsheet runs."""

from __future__ import annotations

import csv
import math
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import IO, Any

import numpy as np
import orjson

from bavlo.errors import InputError
from bavlo.tables.formats import Companions, beside
from bavlo.tables.group import AnyTable, parts_of
from bavlo.tables.layouts import laid_out
from bavlo.tables.placed import table_of_rows
from bavlo.tables.schema import schema_of
from bavlo.tables.table import Column, Table

# How the tables that commands write begin.
HEADS = ("region,period,", "region,condition,event,", "region,variable,years,")
RISKY = ("=", "+", "-", "@")
ESCAPE = "'"
SELDOM = 8  # rows for each of what repeats
SAMPLE = 1024  # numbers that tell whether a column repeats a few


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write a whole table to a file; what goes with it stands beside."""
    with path.open("w", encoding="utf-8", newline="") as file:
        write(laid_out(table, companions.layout), file)


def write(table: AnyTable, file: IO[str]) -> None:
    """Write all rows, comma-separated with a header."""
    file.write(",".join(map(quoted, safe_text(table.header))) + "\n")
    for part in parts_of(table):
        _write_rows(part, file)


def _write_rows(table: Table, file: IO[str]) -> None:
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


def recognises(path: Path) -> bool:
    """Whether a file begins as a table that a command wrote."""
    with path.open(encoding="utf-8-sig", errors="replace") as file:
        return file.readline().startswith(HEADS)


def about(path: Path) -> dict[str, Any] | None:
    """The provenance that stands beside a table; None where it does not."""
    try:
        found = orjson.loads(beside(path).read_bytes())
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) else None


def read(path: Path) -> AnyTable:
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
    if header and rows and schema_of(header) is not None:
        texts = {key: plain_text(row[key] or "" for row in rows) for key in header}
    else:
        texts = {key: [] for key in header}
    return table_of_rows(path, texts)
