"""Tables as CSV: shortest numbers that read back exactly, text that no spreadsheet runs."""

from __future__ import annotations

import csv
import hashlib
import io
import itertools
import math
import warnings
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, Any

import numpy as np
import orjson

from bavlo.errors import BavloWarning, InputError
from bavlo.tables.formats import Companions, beside
from bavlo.tables.group import TELLING, AnyTable, parts_of
from bavlo.tables.layouts import laid_out
from bavlo.tables.placed import numbers_of, table_of_rows
from bavlo.tables.schema import schema_of
from bavlo.tables.table import Column, Table

# How the tables that commands write begin.
HEADS = ("region,period,", "region,condition,event,", "region,variable,years,")
RISKY = ("=", "+", "-", "@")
ESCAPE = "'"
SELDOM = 8  # rows for each of what repeats
ROWS_AT_ONCE, BYTES_AT_ONCE = 2**15, 2**22
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
        line = file.readline()
    return line.startswith(HEADS) and schema_of(line.strip().split(",")) is not None


def about(path: Path) -> dict[str, Any] | None:
    """The provenance that stands beside a table; None where it does not."""
    try:
        found = orjson.loads(beside(path).read_bytes())
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) else None


def read(path: Path) -> AnyTable:
    """A table that was written as CSV, with its axes.

    Where its provenance stands beside it, the file is held against what was written.

    Raises
    ------
    InputError
        Where it is none of the known tables, or not a whole one.
    """
    try:
        data = path.read_bytes()
        text = data.decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give a CSV") from error
    try:
        header = plain_text(next(csv.reader(io.StringIO(text, newline="")), []))
        chunks = _chunks_unquoted(data, text, len(header))
        if chunks is None:
            chunks = _chunks(path, text, len(header))
        columns = _columns(path, header, chunks)
    except csv.Error as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give a CSV") from error
    rows = len(next(iter(columns.values()), ()))
    _check_whole(path, data, rows)
    return table_of_rows(path, columns)


Chunk = Sequence[Sequence[str]]  # the columns of some rows


def _columns(
    path: Path, header: list[str], chunks: Iterable[Chunk]
) -> dict[str, list[str] | np.ndarray]:
    """The columns of all rows: numbers where they are no names of places, texts said once."""
    schema = schema_of(header)
    if schema is None:
        return {name: [] for name in header}
    telling = {*TELLING}.union(*(schema.columns_of(axis, header) for axis in schema.axes))
    texts: dict[str, list[str]] = {n: [] for n in header if n in telling or schema.is_text(n)}
    numbers: dict[str, list[np.ndarray]] = {n: [] for n in header if n not in texts}
    plain = _PlainTexts()
    for columns in chunks:
        for name, column in zip(header, columns, strict=True):
            if name in texts:
                texts[name] += map(plain.__getitem__, column)
            else:
                numbers[name].append(numbers_of(path, name, column))
    return {
        name: texts[name] if name in texts else np.concatenate([np.zeros(0), *numbers[name]])
        for name in header
    }


def _chunks_unquoted(data: bytes, text: str, width: int) -> Iterator[Chunk] | None:
    """Columns of some rows after another, where no field is quoted; None where some may be.

    Splitting at all commas and line ends at once takes a quarter of the time of the csv module.
    """
    if b'"' in data or b"\r" in data or not data.endswith(b"\n") or width < 2:
        return None
    signs = np.frombuffer(data, np.uint8)
    ends = np.flatnonzero(signs == ord("\n"))
    commas = np.searchsorted(np.flatnonzero(signs == ord(",")), ends)
    if (np.diff(commas, prepend=0) != width - 1).any():
        return None
    return _split_unquoted(text, width)


def _split_unquoted(text: str, width: int) -> Iterator[Chunk]:
    first = text.index("\n") + 1
    while first < len(text):
        last = text.find("\n", first + BYTES_AT_ONCE)
        last = len(text) - 1 if last < 0 else last
        fields = text[first:last].replace("\n", ",").split(",")
        yield [fields[n::width] for n in range(width)]
        first = last + 1


def _chunks(path: Path, text: str, width: int) -> Iterator[Chunk]:
    """Columns of some rows after another.

    Lines with nothing in them are none; any other that is too short or too long is an error.
    """
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    next(reader, None)
    first = 1
    while rows := list(itertools.islice(reader, ROWS_AT_ONCE)):
        for n, row in enumerate(rows, first):
            if row and len(row) != width:
                raise InputError(
                    path,
                    f"row {n} has {len(row)} of {width} columns",
                    "the file is cut short or damaged: make it again",
                )
        first += len(rows)
        if whole := [row for row in rows if row]:
            yield list(zip(*whole, strict=True))


class _PlainTexts(dict[str, str]):
    """Texts without their escapes; each is held once, however often it comes."""

    def __missing__(self, text: str) -> str:
        (self[text],) = plain_text([text])
        return self[text]


def _check_whole(path: Path, data: bytes, rows: int) -> None:
    """Hold a file against what its provenance tells of it, or at least against its last line."""
    written = (about(path) or {}).get("written", {})
    if "sha256" in written and hashlib.sha256(data).hexdigest() == written["sha256"]:
        return
    if not data.endswith(b"\n"):
        raise InputError(
            path, "its last line has no end", "the file is cut short or damaged: make it again"
        )
    if rows < written.get("rows", 0):
        raise InputError(
            path,
            f"has {rows} of the {written['rows']} rows that were written",
            f"make it again; if rows were taken out on purpose, remove {beside(path).name}",
        )
    if "sha256" in written:
        warnings.warn(f"{path}: was changed after Bavlo wrote it", BavloWarning, stacklevel=2)
