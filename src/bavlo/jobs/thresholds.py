"""Tables of thresholds: one for each region."""

from __future__ import annotations

import csv
from dataclasses import dataclass, replace
from pathlib import Path

from bavlo.errors import InputError
from bavlo.files import number_in
from bavlo.grids.formats import format_of
from bavlo.request.request import Request


@dataclass(frozen=True)
class ThresholdTable:
    """Thresholds by region.

    Parameters
    ----------
    name
        What conditions call it.
    values
        By region.
    unit
        Of all values; empty where the table has no unit.
    """

    name: str
    values: dict[str, float]
    unit: str


def split_tables(request: Request) -> tuple[Request, dict[str, ThresholdTable]]:
    """Take tables out of the grids of a request."""
    grids, tables = [], {}
    for argument in request.grids.arguments:
        path = argument.paths[0]
        is_table = len(argument.paths) == 1 and path.suffix.lower() == ".csv"
        if argument.name is not None and is_table and format_of(path) is None:
            tables[argument.name] = _read(argument.name, path)
        else:
            grids.append(argument)
    arguments = tuple(grids)
    return replace(request, grids=replace(request.grids, arguments=arguments)), tables


def _read(name: str, path: Path) -> ThresholdTable:
    """A table with the columns region and value, and perhaps unit."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            rows = list(csv.DictReader(file))
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give a CSV") from error
    if not rows or not {"region", "value"} <= rows[0].keys():
        raise InputError(
            path, "is no table of thresholds", "give a CSV with the columns region, value and unit"
        )
    units = {(row.get("unit") or "").strip() for row in rows}
    if len(units) > 1:
        raise InputError(path, f"has several units: {', '.join(sorted(units))}", "use one")
    try:
        values = {row["region"]: number_in(row["value"]) for row in rows}
    except ValueError as error:
        raise InputError(path, f"column value: {error}", "repair the table") from error
    if len(values) < len(rows):
        raise InputError(path, "names a region twice", "give one threshold a region")
    return ThresholdTable(name, values, units.pop())
