"""A request for counts or indices, with its files opened and its choices made."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from bavlo.core.conditions.conditions import FIELD, Named
from bavlo.core.conditions.counting import Counting, PeriodSteps, period_steps
from bavlo.core.conditions.counts import any_count
from bavlo.core.conditions.indices import Index, find_index
from bavlo.core.stats.calendar_percentiles import CalendarDays, calendar_days
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.normals import Base, default_base
from bavlo.core.time.assignment import Assignment, assign_steps
from bavlo.core.time.axis import DAY, STATIC, TimeAxis
from bavlo.core.time.periods import PeriodAxis, PeriodRule, periods_between
from bavlo.core.values.kinds import AMOUNT, RATE, check_told, quantity, step_amounts
from bavlo.core.values.units import convert, is_temperature, suits
from bavlo.errors import RequestError
from bavlo.grids.cells import CellSelection
from bavlo.grids.derived import Aligned, align
from bavlo.grids.source import GridSource, where
from bavlo.jobs.conditions import (
    BoundCondition,
    ConditionVariable,
    bind_condition,
    check_counts,
    variable_of,
)
from bavlo.jobs.opening import open_grids, report_grid
from bavlo.jobs.periods import choose_periods
from bavlo.jobs.regions import (
    FurtherWeights,
    check_overlap,
    further_weights,
    open_regions,
    overlay_of,
)
from bavlo.jobs.thresholds import ThresholdTable, split_tables
from bavlo.regions.read import RegionFile
from bavlo.request.parse import WMO
from bavlo.request.reporter import Reporter
from bavlo.request.request import ConditionRequest, Request

CELL, REGION = "cell", "region"

# How variables are recognised that indices need.
ROLES = {
    "rain": ("rain", "pr", "precip", "precipitation", "prcp", "tp", "rr"),
    "tmax": ("tmax", "tasmax", "tx"),
    "tmin": ("tmin", "tasmin", "tn"),
}


@dataclass(frozen=True, eq=False)
class ExtremesPlan:
    """A request with its files opened and its choices made.

    Parameters
    ----------
    variables
        What is tested, by name.
    aligned
        They and the grids that are thresholds, on common steps.
    assignment
        Which steps belong to which periods.
    first, last
        Steps that are needed, the last excluded.
    period_steps, months
        First and last of these steps in the periods, and in calendar months.
    bound, indices
        Conditions or indices that are asked for: one of them is empty.
    roles
        Names of the grids that are rain, tmax and tmin, for indices.
    weights
        What cells weigh besides their areas.
    """

    request: Request
    variables: dict[str, ConditionVariable]
    aligned: Aligned
    time: TimeAxis
    regions: RegionFile
    index: OverlayIndex
    cells: CellSelection
    periods: PeriodAxis
    left_out: tuple[str, ...]
    assignment: Assignment
    first: int
    last: int
    period_steps: PeriodSteps
    months: PeriodSteps
    bound: tuple[BoundCondition, ...]
    indices: tuple[Index, ...]
    roles: dict[str, str]
    base: Base | None
    weights: FurtherWeights

    @property
    def on_cells(self) -> bool:
        """Whether cells are tested rather than regions."""
        return self.request.conditions.tested_on == CELL

    @property
    def whole_records(self) -> bool:
        """Whether each column's whole record is needed at once."""
        return bool(self.indices) or any(
            each.condition.has_percentiles or not counting_of(self, each).mergeable
            for each in self.bound
        )

    @cached_property
    def days(self) -> CalendarDays:
        """The calendar days of the steps that are needed."""
        return calendar_days(self.time.take(slice(self.first, self.last)))

    @property
    def base_text(self) -> str:
        """The base in words; empty where none is used."""
        return "" if self.base is None else str(self.base)

    @property
    def own_rule(self) -> bool:
        """Whether indices judge missing days by the rule of their definition."""
        return self.request.time.min_steps is None


def plan_extremes(request: Request, report: Reporter) -> ExtremesPlan:
    """Open the files, overlay regions and grids, and settle conditions, periods and rules."""
    asked = request.conditions
    if bool(asked.when) == bool(asked.index):
        raise RequestError(
            "when", "say what to look for", "with ‹when rain >= 20 mm› or ‹index TX90p›"
        )
    if asked.index and not request.time.every:
        request = request.every("year")
    request, tables = split_tables(request)
    found = _opened(request, report)
    timed = {name: source for name, source in found.items() if source.time is not None}
    roles = _roles(asked, timed) if asked.index else {}
    names = list(dict.fromkeys(roles.values())) or _tested_names(asked, timed, tables, found)
    aligned = _aligned(asked, timed, names, report)
    time = aligned.time or STATIC
    first_source = timed[names[0]]
    regions = open_regions(request.regions, report)
    shared = overlay_of(
        regions.regions, aligned.layout, request.measuring.measure, request.run.jobs
    )
    check_overlap(first_source, regions, shared, report)
    weights = further_weights(request.measuring, first_source, shared, report)

    chosen = choose_periods(request.time, time, where(first_source))
    periods = chosen.axis
    assignment = assign_steps(time, periods, may_share=True)
    indices = tuple(find_index(name) for name in asked.index)
    _check_steps(request, time, indices)
    base = _base(request, time, indices, report)
    first, last = _needed(request, time, periods, base)
    adjoin = bool((periods.start[1:] == periods.end[:-1]).all())
    cut = asked.spell_edge == "cut" or not adjoin
    plan = ExtremesPlan(
        request,
        {name: condition_variable(name, timed[name], time) for name in names},
        aligned,
        time,
        regions,
        OverlayIndex(shared, None, weights.values, weights.is_count),
        CellSelection(shared.shape, shared.cells),
        periods,
        chosen.left_out,
        assignment,
        first,
        last,
        period_steps(time, assignment, cut=cut, first=first, last=last),
        _month_steps(time, assignment, first, last),
        (),
        indices,
        roles,
        base,
        weights,
    )
    _check_hemisphere(plan, report)
    return replace(plan, bound=_bound_conditions(plan, found, tables, report))


def _opened(request: Request, report: Reporter) -> dict[str, GridSource]:
    """The grids by name, of which at least one has time."""
    found = open_grids(request, report)
    for source in found.values():
        report_grid(source, request, report)
    if all(source.time is None for source in found.values()):
        raise RequestError("", "conditions need a grid with time", "give one")
    return found


def _aligned(
    asked: ConditionRequest, timed: dict[str, GridSource], names: list[str], report: Reporter
) -> Aligned:
    """The grids that are tested and those that are thresholds, on common steps."""
    wanted = {*names, *_named_thresholds(asked)}
    aligned = align({name: source for name, source in timed.items() if name in wanted})
    if aligned.left_out:
        report.warn(
            f"{aligned.left_out} steps are left out, since not all of "
            f"{', '.join(aligned.sources)} have them"
        )
    return aligned


def _named_thresholds(asked: ConditionRequest) -> list[str]:
    """Names of the grids and tables that are thresholds."""
    return [
        test.threshold.name
        for condition in asked.when
        for test in condition.tests
        if isinstance(test.threshold, Named)
    ]


def _month_steps(time: TimeAxis, assignment: Assignment, first: int, last: int) -> PeriodSteps:
    """Steps by calendar month, where they are short enough for that."""
    if time.at_most_daily:
        months = periods_between(
            PeriodRule("month"), time.calendar, int(time.start[first]), int(time.end[last - 1])
        )
        assignment = assign_steps(time, months, may_share=True)
    return period_steps(time, assignment, cut=False, first=first, last=last)


def _bound_conditions(
    plan: ExtremesPlan,
    found: dict[str, GridSource],
    tables: dict[str, ThresholdTable],
    report: Reporter,
) -> tuple[BoundCondition, ...]:
    """The conditions with their variables and thresholds settled."""
    asked = plan.request.conditions
    limits = {name: _region_limits(table, plan) for name, table in tables.items()}
    limits |= _cell_limits(found, plan)
    grids = {
        name: quantity(source.variable, name)
        for name, source in plan.aligned.sources.items()
        if name in _named_thresholds(asked)
    }
    bound = tuple(bind_condition(c, plan.variables, limits, grids) for c in asked.when)
    for each in bound:
        if plan.request.measuring.unit is not None:
            check_output_unit(plan.request.measuring.unit, each.tests[0].variable)
        if each.condition.has_percentiles:
            report.note(f"{each.condition}: percentiles of {plan.base}, without a bootstrap")
    for text in check_counts(bound, asked.count):
        report.warn(text)
    return bound


def _tested_names(
    asked: ConditionRequest,
    timed: dict[str, GridSource],
    tables: dict[str, ThresholdTable],
    found: dict[str, GridSource],
) -> list[str]:
    """The variables that conditions are about, in the order of the conditions."""
    limits = set(_named_thresholds(asked))
    candidates = [name for name in timed if name not in limits] or list(timed)
    names = [
        variable_of(test, condition, candidates)
        for condition in asked.when
        for test in condition.tests
    ]
    for name in limits - found.keys() - tables.keys():
        known = [*found, *tables]
        raise RequestError(
            FIELD, f"there is no grid or table {name}", f"there is: {', '.join(known)}"
        )
    return list(dict.fromkeys(names))


def _roles(asked: ConditionRequest, timed: dict[str, GridSource]) -> dict[str, str]:
    """Which grid is rain, tmax and tmin, for the indices that are asked for."""
    needed = {name for index in asked.index for name in find_index(index).needs}
    roles = {}
    for role in ROLES:
        if role not in needed:
            continue
        fitting_names = [name for name, source in timed.items() if _is_role(role, name, source)]
        if len(fitting_names) != 1:
            wanted = ", ".join(i for i in asked.index if role in find_index(i).needs)
            raise RequestError(
                "index",
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


def condition_variable(name: str, source: GridSource, time: TimeAxis) -> ConditionVariable:
    """A variable as it is tested: water as the amount of its step."""
    what = quantity(source.variable, where(source))
    check_told(what, source.variable, where(source))
    days = time.duration / DAY
    if what.kind not in (AMOUNT, RATE):
        return ConditionVariable(name, source, what, what.unit, None, days)
    factors = step_amounts(what, time)
    return ConditionVariable(
        name, source, what, what.total_unit, None if (factors == 1).all() else factors, days
    )


def _check_steps(request: Request, time: TimeAxis, indices: tuple[Index, ...]) -> None:
    if request.time.min_steps == WMO:
        raise RequestError(
            "min_steps",
            "the WMO rule is about monthly means and totals, not counts",
            "give a share",
        )
    percentiles = any(condition.has_percentiles for condition in request.conditions.when)
    if (percentiles or indices) and (isinstance(time.length, str) or time.length != DAY):
        raise RequestError(
            "index" if indices else FIELD,
            f"indices and percentiles are of days, and the steps are {time.step_name}s",
            "give daily grids",
        )
    daily = [c for c in request.conditions.when if c.least > 1 and c.unit == "days"]
    if daily and (isinstance(time.length, str) or time.length != DAY):
        raise RequestError(
            FIELD,
            f"'{daily[0]}' counts days, and the steps are {time.step_name}s",
            "say steps instead of days",
        )
    for index in indices:
        if request.time.rule.kind not in index.periods:
            raise RequestError(
                "every",
                f"{index.name} is defined by {' and '.join(index.periods)}, "
                f"not by {request.time.every_text}",
                f"use ‹every {index.periods[-1]}›",
            )


def _base(
    request: Request, time: TimeAxis, indices: tuple[Index, ...], report: Reporter
) -> Base | None:
    """The base years, where anything needs them."""
    wanted = any(c.has_percentiles for c in request.conditions.when) or any(
        i.has_base for i in indices
    )
    if not wanted:
        return None
    years = np.unique(calendar_days(time).year)
    base = request.climate.base or default_base(years)
    present = int(((years >= base.first) & (years <= base.last)).sum())
    if not present:
        raise RequestError(
            "base", f"{base} is outside the data", f"the data have {years[0]}..{years[-1]}"
        )
    if present < len(base):
        report.warn(f"only {present} of the {len(base)} years of the base {base} are in the data")
    return base


def _needed(
    request: Request, time: TimeAxis, periods: PeriodAxis, base: Base | None
) -> tuple[int, int]:
    """Steps to look at: spells run on beyond what is reported, and the base may lie outside."""
    if request.time.during is None:
        return 0, len(time)
    runs = (
        request.output.events is not None
        or any(c.least > 1 for c in request.conditions.when)
        or any_count(request.conditions.count, lambda count: count.follows_spells)
        or bool(request.conditions.index)
        or base is not None
    )
    if runs:
        return 0, len(time)
    low = int(np.searchsorted(time.end, periods.start[0], side="right"))
    high = int(np.searchsorted(time.start, periods.end[-1], side="left"))
    return low, max(high, low + 1)


def _check_hemisphere(plan: ExtremesPlan, report: Reporter) -> None:
    """A growing season that runs over the year's end is cut by years that begin in January."""
    if (
        not any(index.seasons_cross_years for index in plan.indices)
        or not plan.aligned.layout.is_lonlat
    ):
        return
    rows = np.unique(plan.cells.cells // plan.cells.shape[1])
    latitudes = plan.aligned.layout.y_centres[rows]
    start = 7 if latitudes.max() <= 0 else 1
    if latitudes.max() > 0 > latitudes.min():
        report.warn("GSL: the regions lie in both hemispheres; run each with its own years")
    elif plan.request.time.rule.year_start != start:
        report.warn(
            "GSL: on this side of the equator years of the growing season begin in "
            f"{'July' if start == 7 else 'January'}: use ‹year_start {start}›"
        )


def _region_limits(table: ThresholdTable, plan: ExtremesPlan) -> np.ndarray:
    """(R,) thresholds from a table, in the unit of what they are compared with."""
    if plan.on_cells:
        raise RequestError("test_on", "a table of thresholds is of regions", "use ‹test_on region›")
    labels = plan.regions.regions.labels
    missing = [name for name in labels if name not in table.values]
    if missing:
        raise RequestError(FIELD, f"the table of thresholds has no region {missing[0]}", "")
    numbers = np.array([table.values[name] for name in labels])
    return in_unit_of_test(table.name, table.unit, numbers, plan)


def in_unit_of_test(name: str, unit: str, numbers: np.ndarray, plan: ExtremesPlan) -> np.ndarray:
    """Thresholds by name in the unit of what they are compared with."""
    for condition in plan.request.conditions.when:
        for test in condition.tests:
            if isinstance(test.threshold, Named) and test.threshold.name == name:
                of = plan.variables[variable_of(test, condition, list(plan.variables))]
                if unit and not suits(unit, of.unit):
                    raise RequestError(
                        FIELD, f"{name} is in {unit}, {of.name} in {of.unit or 'no unit'}", ""
                    )
                return convert(numbers, unit or of.unit, of.unit, difference=False)
    return numbers


def _cell_limits(found: dict[str, GridSource], plan: ExtremesPlan) -> dict[str, np.ndarray]:
    """(C,) thresholds from grids without time; means of them for regions."""
    out = {}
    for condition in plan.request.conditions.when:
        for test in condition.tests:
            if not isinstance(test.threshold, Named):
                continue
            source = found.get(test.threshold.name)
            if source is None or source.time is not None:
                continue
            if not source.layout.same_cells(plan.aligned.layout):
                raise RequestError(
                    FIELD, f"{test.threshold.name} has other cells than what it is compared with"
                )
            values = source.read(0, 1, plan.cells)
            name = test.threshold.name
            values = in_unit_of_test(name, source.variable.unit, values, plan)
            out[name] = values[0] if plan.on_cells else CellSample(plan.index, values).mean[0]
    return out


def counting_of(plan: ExtremesPlan, bound: BoundCondition) -> Counting:
    """The reduction that counts a condition."""
    return Counting(plan.period_steps, plan.request.conditions.count, bound.condition.least)


def check_output_unit(unit: str, variable: ConditionVariable) -> None:
    """Refuse a unit that the values cannot be told in."""
    if not suits(variable.unit, unit):
        raise RequestError(
            "unit", f"{variable.name} is in {variable.unit or 'no unit'}, not convertible to {unit}"
        )


def tested_in_words(plan: ExtremesPlan) -> str:
    """What is tested, and how the cells of a region become one number."""
    if plan.request.conditions.tested_on == REGION:
        return f"the {plan.request.measuring.measure[0]} of each region is tested"
    by = "area" if plan.weights.name is None else plan.weights.name
    return f"each cell is tested, and the mean weighted by {by} is taken"
