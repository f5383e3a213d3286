"""Tables as Parquet: typed columns, dates as dates, provenance in the metadata."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import InputError
from bavlo.tables.csv import number_text
from bavlo.tables.formats import Companions
from bavlo.tables.group import AnyTable
from bavlo.tables.layouts import laid_out
from bavlo.tables.placed import table_of_rows
from bavlo.tables.table import Column

DATES = ("start", "end")
ABOUT = b"bavlo"


def are_days(values: np.ndarray) -> bool:
    """Whether texts are days that every program knows, or empty."""
    texts = {text for text in values.ravel().tolist() if text}
    try:
        days = np.array(list(texts), "M8[D]")
    except ValueError:
        return False
    return bool(texts) and all(len(text) == 10 for text in texts) and not np.isnat(days).any()


def _type_of(column: Column, arrow: Any) -> Any:
    if not column.is_text:
        return arrow.float64()
    if column.name in DATES and are_days(column.values):
        return arrow.date32()
    return arrow.dictionary(arrow.int32(), arrow.string())


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write a whole table, a chunk of rows at a time."""
    import pyarrow.parquet

    schema, batches = _in_chunks(laid_out(table, companions.layout), companions)
    with pyarrow.parquet.ParquetWriter(path, schema, write_page_checksum=True) as writer:
        for batch in batches:
            writer.write_table(batch)


def as_arrow(table: AnyTable, companions: Companions) -> Any:
    """A whole table as a pyarrow Table, as a file holds it."""
    import pyarrow

    schema, batches = _in_chunks(table, companions)
    return pyarrow.concat_tables([schema.empty_table(), *batches]).unify_dictionaries()


def _in_chunks(table: AnyTable, companions: Companions) -> tuple[Any, Iterator[Any]]:
    """The schema of a table, and its rows as pyarrow Tables."""
    import pyarrow

    types = [_type_of(column, pyarrow) for column in table.columns]
    fields = [
        pyarrow.field(column.name, kind) for column, kind in zip(table.columns, types, strict=True)
    ]
    schema = pyarrow.schema(fields, {ABOUT: companions.about_text.encode()})

    def batches() -> Iterator[Any]:
        for chunk in table.chunks():
            pairs = zip(chunk, types, strict=True)
            arrays = [_array(values, kind, pyarrow) for values, kind in pairs]
            yield pyarrow.Table.from_arrays(arrays, schema=schema)

    return schema, batches()


def _array(values: np.ndarray, kind: Any, arrow: Any) -> Any:
    if kind == arrow.float64():
        return arrow.array(values, kind, mask=np.isnan(values))
    if kind == arrow.date32():
        return arrow.array(np.array([v or "NaT" for v in values.tolist()], "M8[D]"), kind)
    return arrow.array(values.tolist(), arrow.string()).dictionary_encode().cast(kind)


def recognises(path: Path) -> bool:
    """Whether a file is a table rather than shapes."""
    import pyarrow
    import pyarrow.parquet

    try:
        return ABOUT in (pyarrow.parquet.read_schema(path).metadata or {})
    except (OSError, pyarrow.ArrowException):
        return False


def about(path: Path) -> dict[str, Any] | None:
    """The provenance in the metadata; None where it is not there."""
    import pyarrow.parquet

    text = (pyarrow.parquet.read_schema(path).metadata or {}).get(ABOUT)
    return None if text is None else dict(json.loads(text))


def read(path: Path) -> AnyTable:
    """A table that was written as Parquet, with its axes."""
    import pyarrow
    import pyarrow.parquet

    try:
        found = pyarrow.parquet.read_table(path, page_checksum_verification=True)
    except (OSError, pyarrow.ArrowException) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give another") from error
    texts = {
        str(name): [_text(value) for value in found.column(name).to_pylist()]
        for name in found.column_names
    }
    return table_of_rows(path, texts)


def _text(value: Any) -> str:
    if value is None:
        return ""
    return number_text(value) if isinstance(value, float) else str(value)
