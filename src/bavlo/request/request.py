"""What is asked: the request that command line, study files and Python calls fill in alike.

A request is made by `bavlo.request.filling.make_request`, whose table says what each field means
and what it is where nobody gives it.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bavlo.core.time.date_range import DateRange
from bavlo.core.time.periods import PeriodRule, parse_every
from bavlo.core.values.combine import Combine
from bavlo.engine.protocol import Resources
from bavlo.errors import RequestError
from bavlo.grids.source import ReadOptions
from bavlo.regions.read import RegionFile, RegionOptions, points_as_regions, read_regions

if TYPE_CHECKING:
    from bavlo.core.conditions.conditions import Condition
    from bavlo.core.stats.normals import Base
    from bavlo.core.values.formula import Formula

MONTH = "month"
# What may be said as NAME=VALUE of what is no grid of the request, and the field that it fills.
OF_OTHERS = {
    ("input_crs", "regions"): "regions.reading.region_crs",
    ("kind", "weight"): "measuring.weight_kind",
}


@dataclass(frozen=True)
class GridArgument:
    """The files of one grid.

    Parameters
    ----------
    name
        What the user calls it; None where the file's own name will do.
    paths
        In the order given, patterns and folders expanded.
    is_source
        The name is that of a source which is compared with others, not of its variable.
    """

    name: str | None
    paths: tuple[Path, ...]
    is_source: bool = False


@dataclass(frozen=True)
class GridRequest:
    """Which grids, how their files are read, and what is derived from them.

    Parameters
    ----------
    by_grid
        What is said of one grid only, as (field, grid, value).
    make_on
        Whether formulas are worked out at each step, on cells' or on regions' values of periods.
    columns
        Columns of tables of others, as (what it is, its name).
    at
        Longitude and latitude of a place whose values are told.
    """

    arguments: tuple[GridArgument, ...]
    by_grid: tuple[tuple[str, str, Any], ...]
    make: tuple[Formula, ...]
    make_on: str
    reading: ReadOptions
    columns: tuple[tuple[str, str], ...]
    at: tuple[float, float] | None


@dataclass(frozen=True)
class RegionRequest:
    """Which regions, and how their file is read.

    Parameters
    ----------
    regions
        A file, or longitudes and latitudes of points; empty where nothing is asked for.
    """

    regions: Path | tuple[tuple[float, float], ...]
    reading: RegionOptions

    @property
    def file(self) -> Path | None:
        """The file, where one is asked for."""
        return self.regions if isinstance(self.regions, Path) else None

    def read(self) -> RegionFile:
        """The regions that are asked for."""
        if isinstance(self.regions, tuple):
            return points_as_regions(self.regions)
        return read_regions(self.regions, self.reading)


@dataclass(frozen=True)
class TimeRequest:
    """Which periods, and when they have a value."""

    during: DateRange | None
    every: tuple[str, ...]
    year_start: int
    combine: Combine
    window: tuple[int, ...]
    min_steps: float | str | None
    same_span: bool

    @property
    def rule(self) -> PeriodRule:
        """Which steps are put together; months where nothing is said, else the first."""
        return parse_every(self.every_text, self.year_start)

    @property
    def every_text(self) -> str:
        """The same in words."""
        return self.every[0] if self.every else MONTH

    @property
    def least_share(self) -> float:
        """Share of its steps that a period must have; all where no other is asked for."""
        return self.min_steps if isinstance(self.min_steps, float) else 1.0


@dataclass(frozen=True)
class MeasureRequest:
    """How cells become one number for each region.

    Parameters
    ----------
    weight_kind
        What the weights are, count or state, where their unit does not tell.
    place
        Also tell where the cell is that holds a lowest or highest value.
    """

    measure: tuple[str, ...]
    order: str | None
    weight: Path | None
    weight_kind: str | None
    place: bool
    min_area: float | None
    unit: str | None

    @property
    def least_area(self) -> float:
        """Share of a region's area that a step must have; half of it where nothing is said."""
        return 0.5 if self.min_area is None else self.min_area


@dataclass(frozen=True)
class ClimateRequest:
    """Normals, and what is held against them.

    Parameters
    ----------
    base
        Years that things are held against.
    bases
        Those that normals are made of, which may be several.
    normals_from
        periods, whole-years or months: which values of the base normals are made from.
    """

    base: Base | None
    bases: tuple[Base, ...]
    statistic: tuple[str, ...]
    smooth: int
    score: str
    normals_from: str


@dataclass(frozen=True)
class ConditionRequest:
    """Conditions, indices and return levels."""

    when: tuple[Condition, ...]
    count: tuple[str, ...]
    index: tuple[str, ...]
    test_on: str | None
    spell_edge: str
    area_share: float
    wet_day: str
    return_levels: tuple[int, ...]
    fit: str

    @property
    def tested_on(self) -> str:
        """What conditions are tested on: each cell where nothing is said."""
        return self.test_on or "cell"


@dataclass(frozen=True)
class ComparingRequest:
    """How several sources are held against each other.

    Parameters
    ----------
    against
        The source that all others are held against; None for every pair.
    spread
        How far all lie apart, period by period, instead.
    quantity
        value, or anomaly: each minus its own mean of that period of the year.
    """

    against: str | None
    spread: bool
    quantity: str


@dataclass(frozen=True)
class TrendRequest:
    """How trends are estimated and judged."""

    method: str
    confidence: float


@dataclass(frozen=True)
class GriddingRequest:
    """What a grid becomes.

    Parameters
    ----------
    product
        value, normal, anomaly, percent, score or trend.
    min_share
        Share of a cell that regions must cover for it to stay.
    onto
        A grid whose cells values are brought onto.
    crs, cell, box
        Cells to be made: their reference system, and in its units their size and the box that they
        cover, as west, south, east, north.
    resample
        How; None for what suits the values.
    """

    product: str
    outside: str | None
    min_share: float | None
    onto: Path | None
    crs: str | None
    cell: float | None
    box: tuple[float, float, float, float] | None
    resample: str | None

    @property
    def least_share(self) -> float:
        """Share of a cell that regions must cover: half of it where nothing is said."""
        return 0.5 if self.min_share is None else self.min_share


@dataclass(frozen=True)
class FigureRequest:
    """What a figure shows of tables or a grid."""

    figure: str | None
    column: str | None
    period: tuple[str, ...]
    pick: tuple[tuple[str, str], ...]
    classes: str
    classes_of: str
    beneath: Path | None
    mark: str | None
    title: str | None
    size: tuple[int, int] | None
    panels: str


@dataclass(frozen=True)
class TracingRequest:
    """Which row of a table is traced, by what stands in its columns."""

    region: str | None
    period: str | None
    variable: str | None
    measure: str | None


@dataclass(frozen=True)
class OutputRequest:
    """Where results go."""

    out: tuple[Path, ...]
    events: Path | None
    format: str | None
    layout: str
    replace: bool


@dataclass(frozen=True)
class Request:
    """All that is asked for, in groups that commands take as they need them.

    `output` and `run` say where results go and how they are computed, never what they are.
    """

    command: str
    grids: GridRequest
    regions: RegionRequest
    time: TimeRequest
    measuring: MeasureRequest
    climate: ClimateRequest
    conditions: ConditionRequest
    comparing: ComparingRequest
    trends: TrendRequest
    gridding: GriddingRequest
    figure: FigureRequest
    tracing: TracingRequest
    output: OutputRequest
    run: Resources

    def every(self, every: str) -> Request:
        """The same with other periods."""
        return replace(self, time=replace(self.time, every=(every,)))

    def of_each_every(self) -> tuple[Request, ...]:
        """The same by each of its sorts of periods alone."""
        if len(self.time.every) <= 1:
            return (self,)
        return tuple(self.every(one) for one in self.time.every)

    def whole_record(self) -> Request:
        """The same about all periods of the data."""
        return replace(self, time=replace(self.time, during=None))


def for_grid(request: Request, name: str) -> Request:
    """The request as it is for one of several grids: with what is said of that alone.

    What is said of how its files are read is left to their opening.
    """
    own = tuple(each for each in request.grids.by_grid if each[1] == name)
    for field, _, value in own:
        if field == "combine":
            request = replace(request, time=replace(request.time, combine=value))
        elif field in ("unit", "measure"):
            request = replace(request, measuring=replace(request.measuring, **{field: value}))
    of_others = tuple(each for each in request.grids.by_grid if each[:2] in OF_OTHERS)
    reading = tuple(each for each in own if hasattr(request.grids.reading, each[0])) + of_others
    return replace(request, grids=replace(request.grids, by_grid=reading))


def combined_alone(name: str) -> RequestError:
    """That a way to combine one grid of several goes with formulas on values of periods."""
    return RequestError(
        "combine",
        f"of {name} alone goes with formulas on values of periods",
        "add ‹make_on cell› or region",
    )
