"""The formats of tables: a row each, behind one small interface."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Protocol

from bavlo.errors import RequestError

if TYPE_CHECKING:
    from pathlib import Path

    from bavlo.tables.table import Table

# Ending, and the module that reads and writes it.
FORMATS = {".csv": "bavlo.tables.csv"}
ENDINGS = tuple(FORMATS)


class TableFormat(Protocol):
    """What the module of a format provides."""

    def write_file(self, table: Table, path: Path) -> None:
        """Write a whole table, in chunks of rows."""

    def read(self, path: Path) -> Table:
        """A table that was written, with its axes."""


def format_of(path: Path) -> TableFormat:
    """The format that a file's ending names.

    Raises
    ------
    RequestError
        Where it names none.
    """
    module = FORMATS.get(path.suffix.lower())
    if module is None:
        raise RequestError(
            "out", f"{path}: the ending '{path.suffix}' is not known", f"use {' '.join(ENDINGS)}"
        )
    found: TableFormat = import_module(module)
    return found
