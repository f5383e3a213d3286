"""Counts of conditions and indices, from the values of the variables that they test."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.conditions.counting import Counting, Occurrence
from bavlo.core.conditions.counts import COUNTS, NEVER, Counts
from bavlo.core.conditions.indices import (
    Record,
    bootstrapped_variables,
    index_values,
    percents_of,
)
from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.stats.cell_sample import CellSample
from bavlo.core.time.assignment import Assignment
from bavlo.core.time.axis import DAY
from bavlo.core.values.kinds import STATE
from bavlo.core.values.units import convert, suits
from bavlo.engine import choices
from bavlo.errors import RequestError
from bavlo.grids.source import files_of
from bavlo.jobs.conditions import BoundCondition, evaluate_condition, percentile_limits
from bavlo.jobs.count_arrays import CellMeans
from bavlo.jobs.extremes_plan import ExtremesPlan, condition_variable, counting_of, in_unit_of_test


def read_values(plan: ExtremesPlan, block: Block) -> dict[str, np.ndarray]:
    """Values of all variables, in the units in which they are tested; (T, C) each."""
    blocks = plan.aligned.read(block.first, block.last, plan.cells)
    return {
        name: plan.variables[name].values(cells, block.first)
        if name in plan.variables
        else _limit_grid(plan, name, cells, block.first)
        for name, cells in blocks.items()
    }


def _limit_grid(plan: ExtremesPlan, name: str, cells: np.ndarray, first: int) -> np.ndarray:
    """A grid that is a threshold, in the unit of what it is compared with."""
    own = condition_variable(name, plan.aligned.sources[name], plan.time)
    values = own.values(cells, first)
    return in_unit_of_test(name, own.unit, values, plan)


def plan_condition_blocks(plan: ExtremesPlan) -> tuple[Block, ...]:
    """Runs of all needed steps, cut where periods begin."""
    inside = (plan.assignment.step >= plan.first) & (plan.assignment.step < plan.last)
    step, period = np.arange(plan.first, plan.last), np.full(plan.last - plan.first, -1)
    period[plan.assignment.step[inside] - plan.first] = plan.assignment.period[inside]
    # Steps between periods belong to runs of their own.
    label = np.concatenate([[0], np.cumsum(np.diff(period) != 0)])
    every = Assignment(step, label, np.ones(step.size), np.zeros(int(label[-1]) + 1))
    return choices.blocks_of([every], plan.cells.size)


@dataclass(frozen=True, eq=False)
class ConditionReader:
    """Reads the values of all variables, in the units in which they are tested."""

    plan: ExtremesPlan

    def read(self, block: Block) -> dict[str, np.ndarray]:
        """By name, the values (T, C) of a block."""
        return read_values(self.plan, block)

    def files(self, first: int, last: int) -> str:
        """The files that hold some steps, for messages."""
        return files_of(next(iter(self.plan.aligned.sources.values())), first, last)


def cell_means(plan: ExtremesPlan, periods: np.ndarray, counts: Counts) -> list[CellMeans]:
    """Means over the cells of each region, of counts (P, C), a few periods at a time."""
    out = []
    for some in batches(len(periods), plan.cells.size):
        counted = {name: array[some] for name, array in counts.items()}
        out.append(_cell_means(plan, periods[some], counted))
    return out


def _cell_means(plan: ExtremesPlan, periods: np.ndarray, counts: Counts) -> CellMeans:
    values, valid = count_values(plan, counts, periods)
    present = ~np.isnan(values[0])
    if COUNTS[plan.request.conditions.count[0]].is_day:
        present = valid >= least_steps(plan, periods)[:, None]
    sample = CellSample(plan.index, np.where(present, 1.0, np.nan))
    area = np.broadcast_to(sample.area_valid, (len(valid), plan.index.overlay.regions))
    enough = (area >= plan.request.measuring.least_area - ENOUGH) & (area > 0)
    means = [np.where(enough, CellSample(plan.index, each).mean, np.nan) for each in values]
    steps = CellSample(plan.index, np.where(valid > 0, valid, np.nan)).mean
    return CellMeans(periods, np.stack(means), area, np.nan_to_num(steps))


def least_steps(plan: ExtremesPlan, periods: np.ndarray) -> np.ndarray:
    """(P,) steps from which a period has a value."""
    if not plan.bound:
        return np.zeros(len(periods))
    return np.asarray(
        np.maximum(
            (plan.request.time.least_share - ENOUGH) * plan.assignment.expected[periods], 1e-9
        )
    )


def count_values(
    plan: ExtremesPlan, counts: Counts, periods: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """From counts by period to (counts, P, K) values, NaN where too few steps have data."""
    valid = counts["valid"].astype(np.float64)
    enough = valid >= least_steps(plan, periods)[:, None]
    out = []
    for name in plan.request.conditions.count:
        count = COUNTS[name]
        if count.derive is not None:
            with np.errstate(invalid="ignore", divide="ignore"):
                values = count.derive(counts, valid)
        elif count.is_day:
            values = _day_of_period(plan, counts[name], periods)
        elif count.is_sum:
            values = counts[name][:, 0]
        else:
            values = counts[name].astype(np.float64)
        out.append(np.where(enough, values, np.nan))
    return np.stack(out), valid


def _day_of_period(plan: ExtremesPlan, steps: np.ndarray, periods: np.ndarray) -> np.ndarray:
    """Days (steps, where these are longer) from the period's beginning, its first being 1."""
    present = (steps >= 0) & (steps != NEVER)
    number = np.where(present, steps, 0) + plan.first
    start = plan.periods.start[periods, None]
    if isinstance(plan.time.length, str) or plan.time.length > DAY:
        begin = plan.period_steps.begin[periods, None] + plan.first
        return np.where(present, number - begin + 1.0, np.nan)
    middle = plan.time.start + plan.time.duration // 2
    return np.where(present, (middle[number] - start) // DAY + 1.0, np.nan)


OfSteps = tuple[np.ndarray, ...]  # what happened on each step, (T, K) each


def record_values(
    plan: ExtremesPlan, values: Mapping[str, np.ndarray], wants_daily: bool = False
) -> Iterator[tuple[np.ndarray, np.ndarray, OfSteps | None]]:
    """Each condition, or each index, on whole records (T, K).

    Yields
    ------
    found : (counts, P, K) float64
    valid : (P, K) float64
        Steps with data.
    daily
        Whether the condition is met and whether there is data to tell; the value, 0 where there
        is none, and whether there is one.
    """
    if plan.indices:
        for found, valid in _index_values(plan, values):
            yield found, valid, None
        return
    for bound in plan.bound:
        counting = counting_of(plan, bound)
        occurs = occurrence_of_record(plan, bound, values, tuple(counting.sums))
        counts = _whole_counts(plan, counting, occurs)
        daily = None
        if wants_daily:
            valid = np.broadcast_to(occurs.valid, occurs.occurs.shape)
            own = values[bound.tests[0].variable.name]
            present = ~np.isnan(own)
            daily = occurs.occurs & valid, valid, np.where(present, own, 0.0), present
        yield *count_values(plan, counts, np.arange(len(plan.periods))), daily


def _whole_counts(plan: ExtremesPlan, counting: Counting, occurs: Occurrence) -> Counts:
    """Counts of a whole record in all periods, those without any step included."""
    state = counting.close(counting.update(0, occurs))
    counts = counting.empty(len(plan.periods), occurs.occurs.shape[1])
    for name, array in state.counts.items():
        counts[name][state.periods] = array
    return counts


def occurrence_of_record(
    plan: ExtremesPlan,
    bound: BoundCondition,
    values: Mapping[str, np.ndarray],
    sums: tuple[str, ...],
) -> Occurrence:
    """Whether a condition is met on each step of whole records (T, K)."""
    limits = None
    if bound.condition.has_percentiles:
        assert plan.base is not None
        limits = percentile_limits(bound, values, plan.days, plan.base, _wet(plan))
    return evaluate_condition(bound, plan.first, values, sums, limits)


def _wet(plan: ExtremesPlan) -> dict[str, float]:
    """The wet-day limit in the unit of each variable of water."""
    number, _, unit = plan.request.conditions.wet_day.strip().partition(" ")
    try:
        value = float(number)
    except ValueError:
        value = np.nan
    out = {}
    for name, variable in plan.variables.items():
        if variable.what.kind == STATE:
            continue
        if not np.isfinite(value) or not unit or not suits(unit, variable.unit):
            raise RequestError(
                "wet_day",
                f"'{plan.request.conditions.wet_day}' is no depth of water",
                "write it as 1 mm",
            )
        limit = float(convert(np.array(value), unit, variable.unit, difference=False))
        out[name] = float(np.float32(limit)) if variable.is_float32 else limit
    return out


def _index_values(
    plan: ExtremesPlan, values: Mapping[str, np.ndarray]
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Each index on whole records."""
    given = {}
    for role in ("rain", "tmax", "tmin"):
        given[role] = np.zeros((0, 0))
        if role in plan.roles:
            variable = plan.variables[plan.roles[role]]
            unit = "mm" if role == "rain" else "degC"
            own = np.asarray(values[variable.name], np.float64)
            given[role] = convert(own, variable.unit, unit, difference=False)
            if variable.unit != unit:  # 298.15 K is 25 degC and not a rounding away from it
                given[role] = np.round(given[role], 9)
    wet = _wet(plan).get(plan.roles.get("rain", ""), 1.0)
    if "rain" in plan.roles:
        unit = plan.variables[plan.roles["rain"]].unit
        wet = float(convert(np.array(wet), unit, "mm", difference=False))
    record = Record(
        given["rain"],
        given["tmax"],
        given["tmin"],
        plan.period_steps,
        plan.months,
        plan.days,
        plan.base,
        wet,
        percents_of(plan.indices),
        bootstrapped_variables(plan.indices),
    )
    days_valid: dict[tuple[str, ...], np.ndarray] = {}
    for index in plan.indices:
        found = index_values(index, record, plan.request.time.rule.kind, plan.own_rule)
        if index.needs not in days_valid:
            present = ~record.missing(index.needs)
            counting = Counting(plan.period_steps, ("days",), 1)
            counts = _whole_counts(plan, counting, Occurrence(present, present))
            days_valid[index.needs] = counts["valid"].astype(np.float64)
        valid = days_valid[index.needs]
        if plan.request.time.min_steps is not None:
            least = np.maximum(
                (plan.request.time.least_share - ENOUGH) * plan.assignment.expected, 1e-9
            )
            found = np.where(valid >= least[:, None], found, np.nan)
        yield found[None], valid
