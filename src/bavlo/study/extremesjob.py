"""A request for counts or indices, with its files opened and its choices made."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from bavlo.core.conditions import OPTION, Named
from bavlo.core.counting import Counting, StepPlaces, step_places
from bavlo.core.errors import RequestError
from bavlo.core.indices import Index, find_index
from bavlo.core.measures import CellSample, OverlayIndex
from bavlo.core.normals import Base, default_base
from bavlo.core.periods import Fold, PeriodAxis, PeriodRule, fold, periods_between
from bavlo.core.timeaxis import DAY, STATIC, TimeAxis
from bavlo.core.units import AMOUNT, RATE, convert, quantity, step_amounts, suits
from bavlo.formats.grids.made import Aligned, align
from bavlo.formats.grids.source import CellSelection, GridSource, where
from bavlo.formats.regions import RegionFile
from bavlo.study.grids import open_grids, tell
from bavlo.study.job import (
    check_overlap,
    choose_periods,
    further_weights,
    is_temperature,
    overlay_of,
    regions_of,
)
from bavlo.study.limits import split_tables
from bavlo.study.listener import Listener
from bavlo.study.request import Request
from bavlo.study.testing import (
    ReadyCondition,
    Tested,
    check_sums,
    make_ready,
    variable_of,
)

CELL, REGION = "cell", "region"

# How variables are recognised that indices need.
ROLES = {
    "rain": ("rain", "pr", "precip", "precipitation", "prcp", "tp", "rr"),
    "tmax": ("tmax", "tasmax", "tx"),
    "tmin": ("tmin", "tasmin", "tn"),
}


@dataclass(frozen=True, eq=False)
class ExtremesJob:
    """A request with its files opened and its choices made.

    Parameters
    ----------
    tested
        Variables by name.
    aligned
        They and the grids that are thresholds, on common steps.
    first, last
        Steps that are needed, the last excluded.
    places, months
        Where these steps lie in the periods, and in calendar months.
    ready, indices
        What is asked: one of them is empty.
    """

    request: Request
    tested: dict[str, Tested]
    aligned: Aligned
    time: TimeAxis
    regions: RegionFile
    index: OverlayIndex
    cells: CellSelection
    periods: PeriodAxis
    left_out: tuple[str, ...]
    fold: Fold
    first: int
    last: int
    places: StepPlaces
    months: StepPlaces
    ready: tuple[ReadyCondition, ...]
    indices: tuple[Index, ...]
    roles: dict[str, str]
    base: Base | None

    @property
    def on_cells(self) -> bool:
        """Whether cells are tested rather than regions."""
        return self.request.test_on == CELL

    @property
    def whole_records(self) -> bool:
        """Whether each column's whole record is needed at once."""
        return bool(self.indices) or any(
            r.condition.has_percentiles or not counting_of(self, r).mergeable for r in self.ready
        )

    @property
    def base_text(self) -> str:
        """The base in words; empty where none is used."""
        return "" if self.base is None else str(self.base)


def prepare_extremes(request: Request, listener: Listener) -> ExtremesJob:
    """Open the files, overlay regions and grids, and settle conditions, periods and rules."""
    if bool(request.when) == bool(request.indices):
        raise RequestError(
            "--when", "say what to look for", 'with --when "rain >= 20 mm" or --index TX90p'
        )
    request, tables = split_tables(request)
    found = open_grids(request, listener)
    for source in found.values():
        tell(source, request, listener)
    timed = {name: source for name, source in found.items() if source.time is not None}
    if not timed:
        raise RequestError("", "conditions need a grid with time", "give one")
    names = _tested_names(request, timed, tables, found)
    roles: dict[str, str] = {}
    if request.indices:
        roles = _roles(request, timed)
        names = list(dict.fromkeys(roles.values()))
    others = {
        test.threshold.name
        for condition in request.when
        for test in condition.tests
        if isinstance(test.threshold, Named) and test.threshold.name in timed
    }
    aligned = align({n: s for n, s in timed.items() if n in names or n in others})
    if aligned.left_out:
        listener.warn(
            f"{aligned.left_out} steps are left out, since not all of "
            f"{', '.join(aligned.sources)} have them"
        )
    time = aligned.time or STATIC
    tested = {name: tested_of(name, timed[name], time, aligned) for name in names}
    regions = regions_of(request, listener)
    shared = overlay_of(regions.regions, aligned.layout, request.at_points)
    first_source = timed[names[0]]
    check_overlap(first_source, regions, shared, listener)
    extra, is_count = further_weights(request, first_source, shared, listener)
    index = OverlayIndex(shared, None, extra, is_count)
    cells = CellSelection(shared.shape, shared.cells)

    wanted = request
    if request.indices and request.every is None:
        wanted = replace(request, every="year", rule=replace(request.rule, kind="year"))
    periods, left_out, _ = choose_periods(wanted, time, where(first_source), is_static=False)
    folded = fold(time, periods, may_share=True)
    indices = tuple(find_index(name) for name in request.indices)
    _check_steps(wanted, time, indices)
    base = _base(wanted, time, indices, listener)
    first, last = _needed(wanted, time, periods, base)
    adjoin = bool((periods.start[1:] == periods.end[:-1]).all())
    cut = request.spell_edge == "cut" or not adjoin
    places = step_places(time, folded, cut=cut, first=first, last=last)
    months = periods_between(
        PeriodRule("month"), time.calendar, int(time.start[first]), int(time.end[last - 1])
    )
    month_fold = fold(time, months, may_share=True) if time.at_most_daily else folded
    job = ExtremesJob(
        wanted,
        tested,
        aligned,
        time,
        regions,
        index,
        cells,
        periods,
        tuple(left_out),
        folded,
        first,
        last,
        places,
        step_places(time, month_fold, cut=False, first=first, last=last),
        (),
        indices,
        roles,
        base,
    )
    _hemisphere(job, listener)
    limits = {name: _region_limits(table, job) for name, table in tables.items()}
    limits |= _cell_limits(request, found, job)
    grids = {name: quantity(timed[name].variable, name) for name in others}
    ready = tuple(make_ready(c, tested, limits, grids) for c in request.when)
    for one in ready:
        if request.unit is not None:
            check_output_unit(request.unit, one.tests[0].tested)
        check_sums(one, request.counts)
        if one.condition.has_percentiles:
            listener.note(f"{one.condition}: percentiles of {base}, without a bootstrap")
    return replace(job, ready=ready)


def _tested_names(
    request: Request,
    timed: dict[str, GridSource],
    tables: dict[str, Any],
    found: dict[str, GridSource],
) -> list[str]:
    """The variables that conditions are about, in the order of the conditions."""
    limits = {
        test.threshold.name
        for condition in request.when
        for test in condition.tests
        if isinstance(test.threshold, Named)
    }
    candidates = [name for name in timed if name not in limits] or list(timed)
    names = [
        variable_of(test, condition, candidates)
        for condition in request.when
        for test in condition.tests
    ]
    for name in limits - found.keys() - tables.keys():
        known = [*found, *tables]
        raise RequestError(
            OPTION, f"there is no grid or table {name}", f"there is: {', '.join(known)}"
        )
    return list(dict.fromkeys(names))


def _roles(request: Request, timed: dict[str, GridSource]) -> dict[str, str]:
    """Which grid is rain, tmax and tmin, for the indices that are asked for."""
    needed = {name for index in request.indices for name in find_index(index).needs}
    roles = {}
    for role in ROLES:
        if role not in needed:
            continue
        fitting_names = [name for name, source in timed.items() if _is_role(role, name, source)]
        if len(fitting_names) != 1:
            wanted = ", ".join(i for i in request.indices if role in find_index(i).needs)
            raise RequestError(
                "--index",
                f"{wanted} needs {role}, and {len(fitting_names) or 'none'} of the grids is that: "
                f"{', '.join(timed)}",
                f"name it as {role}=PATH",
            )
        roles[role] = fitting_names[0]
    return roles


def _is_role(role: str, name: str, source: GridSource) -> bool:
    """Whether a grid is what an index needs, by its name or by CF."""
    if name in ROLES:
        return name == role
    variable = source.variable
    if variable.name.lower() in ROLES[role]:
        return True
    what = quantity(variable, name)
    if role == "rain":
        return what.kind in (AMOUNT, RATE) and "precipitation" in variable.standard_name
    method = {"tmax": "maximum", "tmin": "minimum"}[role]
    return is_temperature(variable.unit) and f"time: {method}" in variable.cell_methods


def tested_of(name: str, source: GridSource, time: TimeAxis, aligned: Aligned) -> Tested:
    """A variable as it is tested: water as the amount of its step."""
    what = quantity(source.variable, where(source))
    days = time.duration / DAY
    if what.kind not in (AMOUNT, RATE):
        return Tested(name, source, what, what.unit, None, days)
    factors = step_amounts(what, time)
    return Tested(
        name, source, what, what.total_unit, None if (factors == 1).all() else factors, days
    )


def _check_steps(request: Request, time: TimeAxis, indices: tuple[Index, ...]) -> None:
    percentiles = any(condition.has_percentiles for condition in request.when)
    if (percentiles or indices) and (isinstance(time.length, str) or time.length != DAY):
        raise RequestError(
            "--index" if indices else OPTION,
            f"indices and percentiles are of days, and the steps are {time.step_name}s",
            "give daily grids",
        )
    daily = [c for c in request.when if c.least > 1 and c.unit == "days"]
    if daily and (isinstance(time.length, str) or time.length != DAY):
        raise RequestError(
            OPTION,
            f"'{daily[0]}' counts days, and the steps are {time.step_name}s",
            "say steps instead of days",
        )
    for index in indices:
        if request.rule.kind not in index.periods:
            raise RequestError(
                "--every",
                f"{index.name} is defined by {' and '.join(index.periods)}, not by {request.every}",
                f"use --every {index.periods[-1]}",
            )


def _base(
    request: Request, time: TimeAxis, indices: tuple[Index, ...], listener: Listener
) -> Base | None:
    """The base years, where anything needs them."""
    wanted = any(c.has_percentiles for c in request.when) or any(i.has_base for i in indices)
    if not wanted:
        return None
    from bavlo.core.percentiles import calendar_days

    years = np.unique(calendar_days(time).year)
    base = request.base or default_base(years)
    there = int(((years >= base.first) & (years <= base.last)).sum())
    if not there:
        raise RequestError(
            "--base", f"{base} is outside the data", f"the data have {years[0]}..{years[-1]}"
        )
    if there < len(base):
        listener.warn(f"only {there} of the {len(base)} years of the base {base} are in the data")
    return base


def _needed(
    request: Request, time: TimeAxis, periods: PeriodAxis, base: Base | None
) -> tuple[int, int]:
    """Steps to look at: spells run on beyond what is reported, and the base may lie outside."""
    if request.during is None:
        return 0, len(time)
    runs = (
        request.events is not None
        or any(c.least > 1 for c in request.when)
        or bool({"spells", "longest"} & set(request.counts))
        or bool(request.indices)
        or base is not None
    )
    if runs:
        return 0, len(time)
    low = int(np.searchsorted(time.end, periods.start[0], side="right"))
    high = int(np.searchsorted(time.start, periods.end[-1], side="left"))
    return low, max(high, low + 1)


def _hemisphere(job: ExtremesJob, listener: Listener) -> None:
    """A growing season that runs over the year's end is cut by years that begin in January."""
    if not any(index.name == "GSL" for index in job.indices) or not job.aligned.layout.is_lonlat:
        return
    rows = np.unique(job.cells.cells // job.cells.shape[1])
    latitudes = job.aligned.layout.y_centres[rows]
    start = 7 if latitudes.max() <= 0 else 1
    if latitudes.max() > 0 > latitudes.min():
        listener.warn("GSL: the regions lie in both hemispheres; run each with its own years")
    elif job.request.rule.year_start != start:
        listener.warn(
            "GSL: on this side of the equator years of the growing season begin in "
            f"{'July' if start == 7 else 'January'}: use --year-start {start}"
        )


def _region_limits(table: Any, job: ExtremesJob) -> np.ndarray:
    """(R,) thresholds from a table, in the unit of what they are compared with."""
    if job.on_cells:
        raise RequestError(
            "--test-on", "a table of thresholds is of regions", "use --test-on region"
        )
    labels = job.regions.regions.labels
    missing = [name for name in labels if name not in table.values]
    if missing:
        raise RequestError(OPTION, f"the table of thresholds has no region {missing[0]}", "")
    numbers = np.array([table.values[name] for name in labels])
    return in_unit_of_test(table.name, table.unit, numbers, job)


def in_unit_of_test(name: str, unit: str, numbers: np.ndarray, job: ExtremesJob) -> np.ndarray:
    """Thresholds by name in the unit of what they are compared with."""
    for condition in job.request.when:
        for test in condition.tests:
            if isinstance(test.threshold, Named) and test.threshold.name == name:
                of = job.tested[variable_of(test, condition, list(job.tested))]
                if unit and not suits(unit, of.unit):
                    raise RequestError(
                        OPTION, f"{name} is in {unit}, {of.name} in {of.unit or 'no unit'}", ""
                    )
                return convert(numbers, unit or of.unit, of.unit, difference=False)
    return numbers


def _cell_limits(
    request: Request, found: dict[str, GridSource], job: ExtremesJob
) -> dict[str, np.ndarray]:
    """(C,) thresholds from grids without time; means of them for regions."""
    out = {}
    for condition in request.when:
        for test in condition.tests:
            if not isinstance(test.threshold, Named):
                continue
            source = found.get(test.threshold.name)
            if source is None or source.time is not None:
                continue
            if not source.layout.same_cells(job.aligned.layout):
                raise RequestError(
                    OPTION, f"{test.threshold.name} has other cells than what it is compared with"
                )
            values = source.read(0, 1, job.cells)
            name = test.threshold.name
            values = in_unit_of_test(name, source.variable.unit, values, job)
            out[name] = values[0] if job.on_cells else CellSample(job.index, values).mean[0]
    return out


def counting_of(job: ExtremesJob, ready: ReadyCondition) -> Counting:
    """The reduction that counts a condition."""
    return Counting(job.places, job.request.counts, ready.condition.least)


def check_output_unit(unit: str, tested: Tested) -> None:
    """Refuse a unit that the values cannot be told in."""
    if not suits(tested.unit, unit):
        raise RequestError(
            "--unit", f"{tested.name} is in {tested.unit or 'no unit'}, not convertible to {unit}"
        )
