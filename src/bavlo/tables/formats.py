"""The formats of tables: a row each, behind one small interface."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from bavlo.errors import InputError, RequestError
from bavlo.files import DAMAGE, check_regular
from bavlo.held import content_of

if TYPE_CHECKING:
    from bavlo.tables.group import AnyTable


@dataclass(frozen=True)
class FormatEntry:
    """One format.

    Parameters
    ----------
    module
        What reads and writes it.
    holds_about
        It has a place for the provenance, which else stands beside it.
    needs
        A library that comes with an extra of the same meaning.
    extra
        The extra.
    most_columns
        How many columns it holds; None for any number.
    of_regions
        It holds the regions themselves, with a column for each period.
    by_period
        It holds only tables of values by region and period, without the regions.
    digits
        Significant digits of its numbers; None where they read back to the last bit.
    """

    module: str
    holds_about: bool = False
    needs: str = ""
    extra: str = ""
    most_columns: int | None = None
    of_regions: bool = False
    by_period: bool = False
    digits: int | None = None


# By ending; the longest that fits a file's name is meant.
FORMATS = {
    ".csv": FormatEntry("bavlo.tables.csv"),
    ".xlsx": FormatEntry("bavlo.tables.xlsx", True, "xlsxwriter", "excel", 16_384, digits=15),
    ".parquet": FormatEntry("bavlo.tables.parquet", True, "pyarrow", "parquet"),
    ".json": FormatEntry("bavlo.tables.json", True),
    ".nc": FormatEntry("bavlo.tables.netcdf", True, by_period=True),
    ".geojson": FormatEntry("bavlo.tables.vector", True, of_regions=True),
    ".gpkg": FormatEntry(
        "bavlo.tables.vector", True, most_columns=1_990, of_regions=True, by_period=True
    ),
    ".shp.zip": FormatEntry(
        "bavlo.tables.vector", True, most_columns=254, of_regions=True, by_period=True, digits=15
    ),
}
ENDINGS = tuple(FORMATS)


@dataclass(frozen=True, eq=False)
class Shapes:
    """The regions of a table, as they were given.

    Parameters
    ----------
    labels
        As in the column `region`.
    geometry : (R,) object array
    fields
        Their own attributes.
    crs
        Reference system.
    """

    labels: tuple[str, ...]
    geometry: np.ndarray
    fields: Mapping[str, np.ndarray]
    crs: str

    def only(self, labels: Iterable[str]) -> Shapes:
        """Those of some regions."""
        wanted = set(labels)
        keep = np.array([n for n, name in enumerate(self.labels) if name in wanted], int)
        fields = {name: values[keep] for name, values in self.fields.items()}
        return Shapes(tuple(self.labels[n] for n in keep), self.geometry[keep], fields, self.crs)


@dataclass(frozen=True, eq=False)
class Companions:
    """What goes with a table into a file.

    Parameters
    ----------
    about
        Provenance as plain data.
    shapes
        Its regions; None where there are none.
    name
        What the file will be called, which is written under another name first.
    layout
        One value a row, or periods or regions across.
    """

    about: Mapping[str, Any] = field(default_factory=dict)
    shapes: Shapes | None = None
    name: str = ""
    layout: str = "long"

    @property
    def about_text(self) -> str:
        """The provenance as text."""
        return json.dumps(self.about, indent=2, ensure_ascii=False)


@dataclass(frozen=True, eq=False)
class HeldTable:
    """A table that a call from Python holds, with its provenance."""

    table: AnyTable
    about: Mapping[str, Any]


class TableFormat(Protocol):
    """What the module of a format provides."""

    def write_file(self, table: AnyTable, path: Path, companions: Companions) -> None:
        """Write a whole table, in chunks of rows."""

    def read(self, path: Path) -> AnyTable:
        """A table that was written, with its axes."""

    def recognises(self, path: Path) -> bool:
        """Whether a file with this ending holds such a table."""

    def about(self, path: Path) -> dict[str, Any] | None:
        """The provenance of a table that was written; None where it is not there."""


def ending_of(path: Path) -> str:
    """The ending of a file's name that names a format; empty for none."""
    name = path.name.lower()
    return next((ending for ending in sorted(FORMATS, key=len)[::-1] if name.endswith(ending)), "")


def is_table(path: Path) -> bool:
    """Whether a file is a table that a command wrote, by its ending and how it begins."""
    if isinstance(content_of(path), HeldTable):
        return True
    ending = ending_of(path)
    if not ending or not path.is_file():
        return False
    try:
        return format_of(path).recognises(path)
    except DAMAGE:
        return False


def holds_rows(path: Path) -> bool:
    """Whether a file holds tables of any sort, not only of values by region and period."""
    entry = FORMATS.get(ending_of(path))
    return entry is not None and not (entry.by_period or entry.of_regions)


def holds_about(path: Path) -> bool:
    """Whether a file has a place for the provenance."""
    ending = ending_of(path)
    return bool(ending) and FORMATS[ending].holds_about


def format_of(path: Path) -> TableFormat:
    """The format that a file's ending names.

    Raises
    ------
    RequestError
        Where it names none, or one that needs a library that is not there.
    """
    entry = FORMATS.get(ending_of(path))
    if entry is None:
        raise RequestError(
            "out", f"{path}: the ending '{path.suffix}' is not known", f"use {' '.join(ENDINGS)}"
        )
    if entry.needs and find_spec(entry.needs) is None:
        raise RequestError(
            "out", f"{path} needs a further library", f"pip install 'bavlo[{entry.extra}]'"
        )
    found: TableFormat = import_module(entry.module)
    return found


def about_of(path: Path) -> dict[str, Any] | None:
    """The provenance of a table that a command wrote; None where it is not there any more."""
    held = content_of(path)
    if isinstance(held, HeldTable):
        return dict(held.about)
    try:
        return format_of(path).about(path)
    except DAMAGE:
        return None


def beside(path: Path) -> Path:
    """The file beside an output that tells how it came to be."""
    return path.with_name(path.name + ".about.json")


def read_table(path: Path) -> AnyTable:
    """A table that a command wrote, in any format that tables are read from."""
    held = content_of(path)
    if isinstance(held, HeldTable):
        return held.table
    check_regular(path)
    try:
        return format_of(path).read(path)
    except DAMAGE as error:
        raise InputError(
            path,
            f"cannot be read as a table ({' '.join(str(error).split()) or type(error).__name__})",
            "the file is damaged or incomplete: make it again",
        ) from error
