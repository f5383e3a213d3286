"""Series of regions over periods that come back every year, from grids or from a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo import __version__
from bavlo.core.stats.normals import Base, Normals, YearlyPeriods, normals, of_whole_years
from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.time.periods import PeriodAxis, cycle_of
from bavlo.errors import InputError, RequestError
from bavlo.jobs.observed_series import observed_table
from bavlo.jobs.provenance import parent_of
from bavlo.jobs.result import TableResult
from bavlo.jobs.series import series
from bavlo.jobs.sources import VALUES, is_observed
from bavlo.regions.read import chosen
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import ClimateRequest, Request
from bavlo.tables.formats import Shapes, ending_of, is_table, read_table
from bavlo.tables.group import parts_of
from bavlo.tables.table import Table

ONLY_TABLES = (".xlsx", ".parquet", ".json")  # endings that no grid has
# Options that mean something once a series is made.
FOR_TABLES = {
    "command", "grids", "only", "during", "base", "statistic", "smooth", "window", "score",
    "from-months", "whole-years", "year-start",
}  # fmt: skip
FOR_OBSERVATIONS = frozenset((
    "columns", "input-unit", "kind", "missing", "unit", "every", "combine", "min-steps", "complete",
    "by_grid",
))  # fmt: skip


@dataclass(frozen=True, eq=False)
class PeriodSeries:
    """Series of regions and measures over like periods, from grids or from a table.

    Parameters
    ----------
    regions, measures, units, orders
        Names, and unit and order of each measure.
    value, area_valid : (R, P, M) float64
    steps : (R, P) float64
    expected : (P,) float64
    notes : (R, P, M) object
    yearly
        The same periods as parts of years.
    about
        Provenance.
    weight
        Name of what cells weigh besides their areas.
    level
        Which values of further dimensions the grid has.
    every
        The sort of its periods, where it is known.
    conditions, counts
        What was counted, in place of measures, in a table of extremes.
    shapes
        Of the regions, where the series was made from grids.
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
    yearly: YearlyPeriods
    about: dict[str, Any]
    weight: str | None = None
    level: str | None = None
    shapes: Shapes | None = None
    every: str = ""
    conditions: list[str] | None = None
    counts: list[str] | None = None

    def measured(self) -> dict[str, Any]:
        """The columns that tell what was measured, for a schema."""
        if self.conditions is not None:
            return {"condition": self.conditions, "count": self.counts}
        return {"measure": self.measures, "combine": self.combine, "order": self.orders}


def _only(data: PeriodSeries, path: Path, only: Sequence[str]) -> PeriodSeries:
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


def _of_table(table: Table, about: dict[str, Any]) -> PeriodSeries:
    """A series table as arrays over its axes."""
    calendar = table.labels("calendar")[0] if "calendar" in table.header else "standard"
    starts, ends = table.along("start", "period"), table.along("end", "period")
    periods = _axis(table.labels("period"), starts, ends, calendar)
    return PeriodSeries(
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
        YearlyPeriods.of(periods),
        about,
        table.labels("weight")[0] if "weight" in table.header else None,
        table.labels("level")[0] if "level" in table.header else None,
        every=table.labels("every")[0] if "every" in table.header else "",
    )


def _of_extremes(table: Table, about: dict[str, Any]) -> list[PeriodSeries]:
    """A table of extremes as arrays: one for each variable that is tested."""
    calendar = table.labels("calendar")[0] if "calendar" in table.header else "standard"
    starts, ends = table.along("start", "period"), table.along("end", "period")
    periods = _axis(table.labels("period"), starts, ends, calendar)
    conditions, counts = table.labels("condition"), table.labels("count")
    variables = table.along("variable", "condition")
    present = np.ones((len(conditions), len(counts)), bool)
    if table.kept is not None:
        present = table.kept.values > 0
    out = []
    for variable in dict.fromkeys(variables):
        own = [
            (c, n)
            for c, n in zip(*(places.tolist() for places in np.nonzero(present)), strict=True)
            if variables[c] == variable
        ]
        at = tuple(np.array(own).T)
        units = np.broadcast_to(table.full("unit")[0, 0], present.shape)
        out.append(
            PeriodSeries(
                table.labels("region"),
                periods,
                [""] * len(own),
                variable,
                units[at].tolist(),
                [""] * len(own),
                "",
                np.moveaxis(table.full("value")[:, :, at[0], at[1]], -1, -1),
                table.full("area_valid")[:, :, at[0], at[1]],
                table.full("steps")[:, :, 0, 0],
                table.full("steps_expected")[0, :, 0, 0],
                table.full("note")[:, :, at[0], at[1]],
                YearlyPeriods.of(periods),
                about,
                table.labels("weight")[0] if "weight" in table.header else None,
                table.labels("level")[0] if "level" in table.header else None,
                every=table.labels("every")[0] if "every" in table.header else "",
                conditions=[conditions[c] for c, _ in own],
                counts=[counts[n] for _, n in own],
            )
        )
    return out


def _axis(
    labels: Sequence[str], starts: Sequence[str], ends: Sequence[str], calendar: str
) -> PeriodAxis:
    """Periods from their labels and days."""
    cycle = []
    for label in labels:
        name = cycle_of(label)
        if name is None:
            raise RequestError(
                "every",
                f"the period '{label}' does not come back every year",
                "use day, pentad, dekad, month, season, year, month initials or MM-DD..MM-DD",
            )
        cycle.append(name)
    if any("T" in text for text in (*starts, *ends)):
        raise RequestError("every", "normals of parts of a day are not made", "use day or longer")

    def instants(texts: Sequence[str]) -> np.ndarray:
        out = []
        for text in texts:
            try:
                year, month, day = (int(part) for part in text.split("-"))
                out.append(to_instant(calendar, year, month, day))
            except (ValueError, OverflowError) as error:
                raise RequestError(
                    "",
                    f"the table has a period that begins or ends on '{text}', which is no date",
                    "make the table again",
                ) from error
        return np.array(out, np.int64)

    return PeriodAxis(tuple(labels), tuple(cycle), instants(starts), instants(ends) + DAY, calendar)


def load_series(request: Request, report: Reporter) -> list[PeriodSeries]:
    """The series that a request is about: a table that was written, or made from grids.

    One for each grid and sort of periods.

    Normals need every year, so `during` selects only what is reported, later on.
    """
    paths = [path for grid in request.grids.arguments for path in grid.paths]
    only = request.regions.reading.only
    if len(paths) == 1 and (is_table(paths[0]) or ending_of(paths[0]) in ONLY_TABLES):
        _refuse_grid_options(request, paths[0])
        return [_only(data, paths[0], only) for data in _from_table(request, paths[0])]
    if len(paths) > 1 and all(is_table(path) for path in paths):
        raise RequestError("", f"{request.command} takes one table", "give one at a time")
    if len(paths) == 1 and is_observed(paths[0]):
        _refuse_grid_options(request, paths[0], FOR_OBSERVATIONS)
        name = request.grids.arguments[0].name
        table, about = observed_table(request, paths[0], report, name)
        return [_only(_of_table(table, about), paths[0], only)]
    time = replace(request.time, during=None, window=(1,))
    result = series(replace(request, command="series", time=time), report)
    return _from_result(request, result)


def _refuse_grid_options(
    request: Request, path: Path, further: frozenset[str] = frozenset()
) -> None:
    """Options that say how a series is made mean nothing once it is made."""
    allowed = FOR_TABLES | further | ({"every"} if request.climate.from_months else set())
    for name in asked(request):
        if name not in allowed:
            raise RequestError(
                name.replace("-", "_"),
                f"goes with grids, and {path} is a table",
                "leave it out, or give it to `bavlo series`",
            )


def _from_result(request: Request, result: TableResult) -> list[PeriodSeries]:
    about = {**result.about, "request": asked(request)}
    found = []
    for table in parts_of(result.table):
        if "class" in table.axes or table.labels("period") == ["static"]:
            raise RequestError("", "normals need a grid with time", "give one")
        data = replace(_of_table(table, about), shapes=result.shapes)
        found.append(data if data.every else replace(data, every=result.every))
    return found


def _from_table(request: Request, path: Path) -> list[PeriodSeries]:
    """Read a series table back."""
    table = read_table(path)
    if table.name not in VALUES or "class" in parts_of(table)[0].axes:
        raise InputError(
            path,
            f"is a table of {table.name}, not of values by region and period",
            "give what `bavlo series` or `bavlo extremes` wrote, or grids and ‹regions›",
        )
    about = {
        "bavlo": __version__,
        "request": asked(request),
        "inputs": [parent_of(path)],
    }
    if table.name == "extremes":
        return [data for part in parts_of(table) for data in _of_extremes(part, about)]
    return [_of_table(part, about) for part in parts_of(table)]


def normals_of(
    data: PeriodSeries, climate: ClimateRequest, base: Base, statistics: Sequence[str]
) -> Normals:
    """Normals of series; their columns are regions × measures."""
    flat = data.value.transpose(1, 0, 2).reshape(len(data.periods), -1)
    if climate.whole_years:
        flat = of_whole_years(flat, data.yearly)
    return normals(flat, data.yearly, base, statistics, climate.smooth)
