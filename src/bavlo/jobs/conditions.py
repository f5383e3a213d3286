"""Tests of conditions on blocks of values: units settled, thresholds bound."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.conditions.conditions import (
    ALL_DAYS,
    BY_DAY,
    FIELD,
    OPERATORS,
    WET_DAYS,
    Condition,
    Fixed,
    Named,
    Percentile,
    Test,
)
from bavlo.core.conditions.counting import Occurrence
from bavlo.core.conditions.counts import COUNTS
from bavlo.core.stats.calendar_percentiles import CalendarDays, at_steps, by_calendar_day, of_days
from bavlo.core.stats.normals import Base
from bavlo.core.values.kinds import AMOUNT, RATE, STATE, Quantity
from bavlo.core.values.units import convert, is_rate_unit, suits
from bavlo.errors import RequestError
from bavlo.grids.source import GridSource


@dataclass(frozen=True, eq=False)
class ConditionVariable:
    """A variable that conditions are about.

    Parameters
    ----------
    source
        Where its values come from.
    what
        What kind of number it is.
    unit
        In which values are tested: of amounts and rates that of the amount of a step.
    amounts : (T,) float64 or None
        What the value of a step is multiplied by to be such an amount; None for states, and where
        it is 1.
    """

    name: str
    source: GridSource
    what: Quantity
    unit: str
    amounts: np.ndarray | None
    days: np.ndarray

    def values(self, block: np.ndarray, first: int) -> np.ndarray:
        """(T, K) values in `unit` of the steps from `first` on."""
        if self.amounts is None:
            return block
        return np.asarray(block * self.amounts[first : first + len(block), None])

    @property
    def is_float32(self) -> bool:
        """Whether its numbers are stored as float32 and tested as they are."""
        kinds = {getattr(file, "stored", None) for file in self.source.files}
        scaled = getattr(self.source, "scale", 1.0) != 1.0 or getattr(self.source, "offset", 0.0)
        return self.amounts is None and not scaled and kinds == {np.dtype(np.float32)}


@dataclass(frozen=True, eq=False)
class BoundTest:
    """A test with its threshold settled as far as it can be before values are read.

    Parameters
    ----------
    limit
        A number, or (K,) numbers; None for percentiles and grids with time.
    per_day
        The limit is a rate: it is multiplied by the length of each step.
    grid
        Name of the grid that is the threshold.
    """

    test: Test
    variable: ConditionVariable
    limit: np.ndarray | float | None = None
    per_day: bool = False
    grid: str | None = None


@dataclass(frozen=True, eq=False)
class BoundCondition:
    """A condition whose tests are bound."""

    condition: Condition
    tests: tuple[BoundTest, ...]

    @property
    def variable(self) -> str:
        """The variables that it tests, in words."""
        return " and ".join(dict.fromkeys(test.variable.name for test in self.tests))


def bind_condition(
    condition: Condition,
    variables: Mapping[str, ConditionVariable],
    limits: Mapping[str, np.ndarray],
    grids: Mapping[str, Quantity],
) -> BoundCondition:
    """Settle which variables a condition is about, and its thresholds in their units.

    Parameters
    ----------
    variables
        Those there are.
    limits
        (K,) thresholds by name, in the unit of what they are compared with.
    grids
        Grids with time that may be thresholds.
    """
    return BoundCondition(
        condition, tuple(_ready(t, condition, variables, limits, grids) for t in condition.tests)
    )


def variable_of(test: Test, condition: Condition, names: list[str]) -> str:
    """The variable that a test is about."""
    if test.variable is not None:
        if test.variable not in names:
            raise RequestError(
                FIELD,
                f"'{condition}': there is no grid {test.variable}",
                f"there is: {', '.join(names)}; name one as {test.variable}=PATH",
            )
        return test.variable
    if len(names) > 1:
        raise RequestError(
            FIELD,
            f"'{condition}' does not say which variable it tests",
            f"name it: {', '.join(names)}",
        )
    return names[0]


def _ready(
    test: Test,
    condition: Condition,
    variables: Mapping[str, ConditionVariable],
    limits: Mapping[str, np.ndarray],
    grids: Mapping[str, Quantity],
) -> BoundTest:
    of = variables[variable_of(test, condition, list(variables))]
    threshold = test.threshold
    if isinstance(threshold, Percentile):
        if threshold.of is None and of.what.kind in (AMOUNT, RATE):
            raise RequestError(
                FIELD,
                f"'{condition}': of which days is p{threshold.percent:g} of {of.name}",
                f"say p{threshold.percent:g} of {WET_DAYS}, of {ALL_DAYS} or by {BY_DAY}",
            )
        if threshold.of == WET_DAYS and of.what.kind not in (AMOUNT, RATE):
            raise RequestError(
                FIELD, f"'{condition}': {of.name} has no wet days", f"say p… by {BY_DAY}"
            )
        return BoundTest(test, of)
    if isinstance(threshold, Named):
        if threshold.name in limits:
            return BoundTest(test, of, limits[threshold.name])
        if threshold.name in grids:
            return BoundTest(test, of, grid=threshold.name)
        known = [*limits, *grids]
        raise RequestError(
            FIELD,
            f"'{condition}': there is no grid or table {threshold.name}",
            f"there is: {', '.join(known)}; name one as {threshold.name}=PATH",
        )
    return _fixed(test, condition, of, threshold)


def _fixed(test: Test, condition: Condition, of: ConditionVariable, threshold: Fixed) -> BoundTest:
    if not threshold.unit and of.unit not in ("", "1"):
        raise RequestError(
            FIELD,
            f"'{condition}': {threshold.value:g} has no unit",
            f"write it with its unit, as {threshold.value:g} {of.unit}",
        )
    if not threshold.unit:
        return BoundTest(test, of, _as_stored(threshold.value, of))
    if of.what.kind in (AMOUNT, RATE) and is_rate_unit(threshold.unit):
        per_day = float(
            convert(np.array(threshold.value), threshold.unit, "mm day-1", difference=False)
        )
        limit = float(convert(np.array(per_day), "mm", of.unit, difference=False))
        return BoundTest(test, of, limit, per_day=True)
    if not suits(threshold.unit, of.unit):
        raise RequestError(
            FIELD,
            f"'{condition}': {of.name} is in {of.unit or 'no unit'}, which "
            f"{threshold.unit} cannot be compared with",
            "use a unit of the same kind",
        )
    difference = of.source.variable.difference
    limit = float(
        convert(np.array(threshold.value), threshold.unit, of.unit, difference=difference)
    )
    # 35 degC is 308.15 K, and the sum must not be a rounding away from it.
    limit = float(f"{limit:.12g}")
    return BoundTest(test, of, _as_stored(limit, of))


def _as_stored(limit: float, of: ConditionVariable) -> float:
    """The limit as the file would have stored it, so that a value of 0.9 is at least 0.9."""
    return float(np.float32(limit)) if of.is_float32 else limit


def limit_values(
    bound: BoundTest,
    first: int,
    steps: int,
    grids: Mapping[str, np.ndarray],
    percentiles: np.ndarray | None,
) -> np.ndarray:
    """What values are compared with: a number, (K,) or (T, K)."""
    if percentiles is not None:
        return percentiles
    if bound.grid is not None:
        return grids[bound.grid]
    assert bound.limit is not None
    if bound.per_day:
        return np.asarray(bound.limit * bound.variable.days[first : first + steps, None])
    # A plain number would be rounded to the precision of the values.
    return np.asarray(bound.limit, np.float64)


def gaps_in(values: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Where each variable (T, K) has no data; (1, K) where that is so on every step alike."""
    return {name: _alike(np.isnan(own)) for name, own in values.items()}


def _alike(flags: np.ndarray) -> np.ndarray:
    """One row of (T, K), where all rows are the same."""
    parts = (flags[some] for some in batches(len(flags), flags.shape[1]))
    return flags[:1] if all((part == flags[:1]).all() for part in parts) else flags


def evaluate_condition(
    bound: BoundCondition,
    first: int,
    values: Mapping[str, np.ndarray],
    sums: tuple[str, ...],
    percentiles: Mapping[int, np.ndarray] | None = None,
    known: Mapping[str, np.ndarray] | None = None,
) -> Occurrence:
    """Whether a condition is met on each step and column.

    Parameters
    ----------
    first
        Number of the first step.
    values
        (T, K) of each variable, in its unit, and of grids that are thresholds.
    sums
        Of total and excess, those that are wanted.
    percentiles
        By number of the test, (K,) or (T, K).
    known
        Where the variables have no data, if that was looked for.
    """
    known = gaps_in(values) if known is None else known
    occurs, gaps = None, None
    added: dict[str, np.ndarray] = {}
    for n, one in enumerate(bound.tests):
        own = values[one.variable.name]
        limit = limit_values(one, first, len(own), values, (percentiles or {}).get(n))
        passed = OPERATORS[one.test.operator](own, limit)
        occurs = passed if occurs is None else occurs & passed
        missing = known[one.variable.name]
        if limit.ndim:
            missing = missing | np.isnan(limit)
        gaps = missing if gaps is None else gaps | missing
        if n == 0 and "total" in sums:
            added["total"] = np.nan_to_num(own)
        if n == 0 and "excess" in sums:
            away = own - limit if one.test.above else limit - own
            added["excess"] = np.nan_to_num(away)
    assert occurs is not None
    assert gaps is not None
    return Occurrence(occurs, ~_alike(gaps), added)


def percentile_limits(
    bound: BoundCondition,
    values: Mapping[str, np.ndarray],
    days: CalendarDays,
    base: Base,
    wet: Mapping[str, float],
) -> dict[int, np.ndarray]:
    """By number of the test, the percentiles of columns with their whole record."""
    out = {}
    for n, one in enumerate(bound.tests):
        threshold = one.test.threshold
        if not isinstance(threshold, Percentile):
            continue
        own = values[one.variable.name]
        if threshold.of in (WET_DAYS, ALL_DAYS):
            least = wet[one.variable.name] if threshold.of == WET_DAYS else -np.inf
            out[n] = of_days(own, days, base, (threshold.percent,), least)[0]
        else:
            found = by_calendar_day(own, days, base, (threshold.percent,))[0]
            out[n] = at_steps(found, days)
    return out


def applicable_counts(bound: BoundCondition, counts: tuple[str, ...]) -> tuple[str, ...]:
    """The counts that apply to a condition: a state has no total."""
    is_state = bound.tests[0].variable.what.kind == STATE
    return tuple(name for name in counts if not (COUNTS[name].of_amounts and is_state))


def check_counts(bound: Sequence[BoundCondition], counts: tuple[str, ...]) -> list[str]:
    """What is left out, where a count applies to some conditions only.

    Raises
    ------
    RequestError
        Where it applies to none.
    """
    left_out = []
    for name in counts:
        without = [each for each in bound if name not in applicable_counts(each, counts)]
        if without and len(without) == len(bound):
            of = without[0].tests[0].variable
            raise RequestError(
                "count", f"{of.name} is a state and has no {name}", "use excess for degree days"
            )
        left_out += [
            f"{name} is left out of '{each.condition}': {each.tests[0].variable.name} is a state "
            f"and has no {name}"
            for each in without
        ]
    return left_out
