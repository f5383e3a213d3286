"""Counts of conditions, and indices, of columns with their whole record."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from bavlo.core.conditions.counting import Counting, Occurrence
from bavlo.core.conditions.counts import Counts
from bavlo.core.conditions.indices import (
    Record,
    bootstrapped_variables,
    index_values,
    percents_of,
)
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.values.kinds import STATE
from bavlo.core.values.units import convert, suits
from bavlo.errors import RequestError
from bavlo.extremes.bound import BoundCondition, evaluate_condition, percentile_limits
from bavlo.extremes.plan import ExtremesPlan, counting_of
from bavlo.extremes.values import count_values

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
        bootstrapped_variables(plan.indices) if plan.request.conditions.bootstrap else (),
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
