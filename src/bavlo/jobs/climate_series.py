"""Series of regions over periods that come back every year, from grids or from a table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from bavlo import __version__
from bavlo.core.stats.normals import (
    WHOLE_YEARS,
    Base,
    Normals,
    YearlyPeriods,
    normals,
    of_whole_years,
)
from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.time.periods import PeriodAxis, cycle_of
from bavlo.errors import RequestError
from bavlo.jobs.sources import Source, load_sources
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import ClimateRequest, Request
from bavlo.tables.formats import Shapes
from bavlo.tables.group import parts_of
from bavlo.tables.table import Table


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


def load_series(request: Request, report: Reporter) -> list[PeriodSeries]:
    """The series that a request is about, one for each grid, variable and sort of periods.

    Normals need every year, so `during` selects only what is reported, later on.
    """
    found = load_sources(request, report)
    if len(found) > 1 and all("made_of" not in source.input for source in found):
        raise RequestError("", f"{request.command} takes one table", "give one at a time")
    return [data for source in found for data in _of_source(request, source)]


def _of_source(request: Request, source: Source) -> Iterator[PeriodSeries]:
    """The tables of a source as arrays."""
    about = {"bavlo": __version__, **source.about, "request": asked(request)}
    for table in parts_of(source.table):
        if "class" in table.axes or table.labels("period") == ["static"]:
            raise RequestError("", "normals need a grid with time", "give one")
        yield from _of_table(table, about, source)


def _of_table(table: Table, about: dict[str, Any], source: Source) -> Iterator[PeriodSeries]:
    """A table as arrays over its regions, periods and what was measured of each variable."""
    starts, ends = table.along("start", "period"), table.along("end", "period")
    periods = _axis(table.labels("period"), starts, ends, table.text_at("calendar", {}))
    further = [axis for axis in table.axes if axis not in ("region", "period")]
    present = np.ones([table.axes[axis] for axis in further], bool)
    if table.kept is not None:
        present = table.kept.values > 0
    by_variable: dict[str, list[dict[str, int]]] = {}
    for numbers in np.argwhere(present).tolist():
        place = dict(zip(further, numbers, strict=True))
        by_variable.setdefault(table.text_at("variable", place), []).append(place)
    for variable, places in by_variable.items():
        at = slice(None), slice(None), *np.array([list(p.values()) for p in places]).T

        def along(name: str, places: Sequence[dict[str, int]] = places) -> list[str]:
            return [table.text_at(name, place) for place in places]

        counted = "condition" in table.header
        yield PeriodSeries(
            table.labels("region"),
            periods,
            along("measure"),
            variable,
            along("unit"),
            along("order"),
            table.text_at("combine", {}),
            table.full("value")[at],
            table.full("area_valid")[at],
            table.full("steps")[at][:, :, 0],
            table.full("steps_expected")[at][0, :, 0],
            table.full("note")[at],
            YearlyPeriods.of(periods),
            about,
            table.text_at("weight", {}) or None,
            table.text_at("level", {}) or None,
            source.shapes,
            table.text_at("every", {}) or source.every,
            along("condition") if counted else None,
            along("count") if counted else None,
        )


def _axis(
    labels: Sequence[str], starts: Sequence[str], ends: Sequence[str], calendar: str
) -> PeriodAxis:
    """Periods from their labels and days; without a calendar that of daily life."""
    calendar = calendar or "standard"
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


def normals_of(
    data: PeriodSeries, climate: ClimateRequest, base: Base, statistics: Sequence[str]
) -> Normals:
    """Normals of series; their columns are regions × measures."""
    flat = data.value.transpose(1, 0, 2).reshape(len(data.periods), -1)
    if climate.normals_from == WHOLE_YEARS:
        flat = of_whole_years(flat, data.yearly)
    return normals(flat, data.yearly, base, statistics, climate.smooth)
