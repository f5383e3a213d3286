"""Tables as JSON: provenance, the schema, and a record a row."""

from __future__ import annotations

from pathlib import Path
from typing import IO, Any

import orjson

from bavlo.errors import InputError
from bavlo.tables.csv import number_text, numbers_text
from bavlo.tables.formats import Companions
from bavlo.tables.group import AnyTable
from bavlo.tables.layouts import laid_out
from bavlo.tables.placed import table_of_rows


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write a whole table to a file."""
    with path.open("w", encoding="utf-8", newline="") as file:
        write(laid_out(table, companions.layout), file, companions)


def write(table: AnyTable, file: IO[str], companions: Companions) -> None:
    """Write all rows, a chunk at a time."""
    columns = [{"name": c.name, "type": "text" if c.is_text else "number"} for c in table.columns]
    head = {"table": table.name, "columns": columns, "about": dict(companions.about)}
    file.write(orjson.dumps(head).decode()[:-1] + ',"rows":[')
    keys = [f"{orjson.dumps(name).decode()}:" for name in table.header]
    between = "\n"
    for chunk in table.chunks():
        texts = []
        for column, key, values in zip(table.columns, keys, chunk, strict=True):
            if column.is_text:
                found = [orjson.dumps(text).decode() for text in values.tolist()]
            else:
                found = [text or "null" for text in numbers_text(values)]
            texts.append([key + text for text in found])
        rows = ("{" + ",".join(parts) + "}" for parts in zip(*texts, strict=True))
        file.write(between + ",\n".join(rows))
        between = ",\n"
    file.write("\n]}\n")


def recognises(path: Path) -> bool:
    """Whether a file begins as a table."""
    with path.open("rb") as file:
        return file.read(9) == b'{"table":'


def about(path: Path) -> dict[str, Any] | None:
    """The provenance in the file; None where it is not there."""
    try:
        return dict(orjson.loads(path.read_bytes())["about"])
    except (OSError, ValueError, KeyError, TypeError):
        return None


def read(path: Path) -> AnyTable:
    """A table that was written as JSON, with its axes."""
    try:
        found = orjson.loads(path.read_bytes())
        names = [column["name"] for column in found["columns"]]
        texts = {name: [_text(row[name]) for row in found["rows"]] for name in names}
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give another") from error
    return table_of_rows(path, texts)


def _text(value: object) -> str:
    if value is None:
        return ""
    return value if isinstance(value, str) else number_text(float(str(value)))
