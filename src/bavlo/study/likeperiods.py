"""Series of like periods: from grids, or from a table that was written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.errors import InputError, RequestError
from bavlo.core.periods import PeriodAxis, cycle_of
from bavlo.core.table import Table
from bavlo.core.timeaxis import DAY, to_dates, to_instant
from bavlo.formats.regions import RegionOptions, chosen
from bavlo.formats.tables import csv
from bavlo.study.listener import Listener
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, series


@dataclass(frozen=True, eq=False)
class Series:
    """Series of regions and measures over like periods, from grids or from a table.

    Parameters
    ----------
    regions, measures, units, orders
        Names, and unit and order of each measure.
    value, area_valid : (R, P, M) float64
    steps : (R, P) float64
    expected : (P,) float64
    notes : (R, P, M) object
    year : (P,) int
        The year of the last step of each period.
    about
        Provenance.
    """

    regions: list[str]
    periods: PeriodAxis
    measures: list[str]
    variable: str
    units: list[str]
    orders: list[str]
    combine: str
    value: np.ndarray
    area_valid: np.ndarray
    steps: np.ndarray
    expected: np.ndarray
    notes: np.ndarray
    year: np.ndarray
    title: str
    about: dict[str, Any]


def load(request: Request, listener: Listener) -> Series:
    """The series that a request is about: a table that was written, or made from grids.

    Normals need every year, so `--during` selects only what is reported, later on.
    """
    paths = [path for grid in request.grids for path in grid.paths]
    if len(paths) == 1 and paths[0].suffix.lower() == ".csv":
        _refuse_grid_options(request, paths[0])
        return _only(_from_table(paths[0]), paths[0], request.region_reading.only)
    plain = replace(request, command="series", during=None, windows=(1,))
    result = series(plain, listener)
    return _from_result(result)


def _refuse_grid_options(request: Request, path: Path) -> None:
    """Options that say how a series is made mean nothing once it is made."""
    only = RegionOptions(only=request.region_reading.only)
    plain = Request(request.command, region_reading=only)
    allowed = {
        "command",
        "grids",
        "during",
        "base",
        "statistics",
        "smooth",
        "windows",
        "score",
        "outputs",
        "format",
        "replace",
        "jobs",
        "memory",
        "rule",
        "from_months",
    }
    if request.from_months:
        allowed.add("every")
    for each in fields(Request):
        if each.name not in allowed and getattr(request, each.name) != getattr(plain, each.name):
            raise RequestError(
                f"--{_option_name(each.name, request, plain)}",
                f"goes with grids, and {path} is a table",
                "leave it out, or give it to `bavlo series`",
            )


def _option_name(field: str, request: Request, plain: Request) -> str:
    """The option that filled a field of the request."""
    name = {"measures": "measure"}.get(field, field)
    if field in ("reading", "region_reading"):
        given, usual = getattr(request, field), getattr(plain, field)
        name = next(
            f.name for f in fields(given) if getattr(given, f.name) != getattr(usual, f.name)
        )
    return name.replace("_", "-")


def _only(data: Series, path: Path, only: Sequence[str]) -> Series:
    """The wanted regions of a table."""
    keep = chosen(path, data.regions, only)
    return replace(
        data,
        regions=[data.regions[i] for i in keep],
        value=data.value[keep],
        area_valid=data.area_valid[keep],
        steps=data.steps[keep],
        notes=data.notes[keep],
    )


def _from_result(result: SeriesResult) -> Series:
    if "class" in result.table.axes or result.table.labels("period") == ["static"]:
        raise RequestError("", "normals need a grid with time", "give one")
    return _of_table(result.table, result.title, result.about)


def _of_table(table: Table, title: str, about: dict[str, Any]) -> Series:
    """A series table as arrays over its axes."""
    calendar = table.labels("calendar")[0] if "calendar" in table.header else "standard"
    starts, ends = table.along("start", "period"), table.along("end", "period")
    periods = _axis(table.labels("period"), starts, ends, calendar)
    return Series(
        table.labels("region"),
        periods,
        table.labels("measure"),
        table.labels("variable")[0],
        table.along("unit", "measure"),
        table.along("order", "measure"),
        table.labels("combine")[0],
        table.full("value"),
        table.full("area_valid"),
        table.full("steps")[:, :, 0],
        table.full("steps_expected")[0, :, 0],
        table.full("note"),
        _years(periods),
        title,
        about,
    )


def _from_table(path: Path) -> Series:
    """Read a series table back."""
    table = csv.read(path)
    if table.name != "series" or "class" in table.axes:
        raise InputError(
            path,
            f"is a table of {table.name}, not of values by region and period",
            "give what `bavlo series --out` wrote, or grids and --regions",
        )
    variable = table.labels("variable")[0]
    about = {"inputs": [{"file": str(path), "size": path.stat().st_size}]}
    return _of_table(table, variable, about)


def _axis(
    labels: Sequence[str], starts: Sequence[str], ends: Sequence[str], calendar: str
) -> PeriodAxis:
    """Periods from their labels and days."""
    cycle = []
    for label in labels:
        name = cycle_of(label)
        if name is None:
            raise RequestError(
                "--every",
                f"the period '{label}' does not come back every year",
                "use day, pentad, dekad, month, season, year, month initials or MM-DD..MM-DD",
            )
        cycle.append(name)
    if any("T" in text for text in (*starts, *ends)):
        raise RequestError("--every", "normals of parts of a day are not made", "use day or longer")

    def instants(texts: Sequence[str]) -> np.ndarray:
        days = [tuple(int(part) for part in text.split("-")) for text in texts]
        return np.array([to_instant(calendar, *day) for day in days], np.int64)

    return PeriodAxis(tuple(labels), tuple(cycle), instants(starts), instants(ends) + DAY, calendar)


def _years(periods: PeriodAxis) -> np.ndarray:
    return np.array([date.year for date in to_dates(periods.end - 1, periods.calendar)])
