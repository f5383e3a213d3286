"""Tests of conditions on blocks of values: units settled, thresholds ready."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from bavlo.core.conditions import (
    ALL_DAYS,
    BY_DAY,
    OPERATORS,
    OPTION,
    WET_DAYS,
    Condition,
    Fixed,
    Named,
    Percentile,
    Test,
)
from bavlo.core.counting import Met
from bavlo.core.errors import RequestError
from bavlo.core.normals import Base
from bavlo.core.percentiles import CalendarDays, at_steps, by_calendar_day, of_days
from bavlo.core.units import AMOUNT, RATE, STATE, Quantity, convert, is_rate_unit, suits
from bavlo.formats.grids.source import GridSource


@dataclass(frozen=True, eq=False)
class Tested:
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
        return block * self.amounts[first : first + len(block), None]

    @property
    def is_float32(self) -> bool:
        """Whether its numbers are stored as float32 and tested as they are."""
        kinds = {getattr(file, "stored", None) for file in self.source.files}
        scaled = getattr(self.source, "scale", 1.0) != 1.0 or getattr(self.source, "offset", 0.0)
        return self.amounts is None and not scaled and kinds == {np.dtype(np.float32)}


@dataclass(frozen=True, eq=False)
class ReadyTest:
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
    tested: Tested
    limit: np.ndarray | float | None = None
    per_day: bool = False
    grid: str | None = None


@dataclass(frozen=True, eq=False)
class ReadyCondition:
    """A condition whose tests are ready."""

    condition: Condition
    tests: tuple[ReadyTest, ...]

    @property
    def variable(self) -> str:
        """The variables that it tests, in words."""
        return " and ".join(dict.fromkeys(test.tested.name for test in self.tests))


def make_ready(
    condition: Condition,
    tested: Mapping[str, Tested],
    limits: Mapping[str, np.ndarray],
    grids: Mapping[str, Quantity],
) -> ReadyCondition:
    """Settle which variables a condition is about, and its thresholds in their units.

    Parameters
    ----------
    tested
        The variables there are.
    limits
        (K,) thresholds by name, in the unit of what they are compared with.
    grids
        Grids with time that may be thresholds.
    """
    return ReadyCondition(
        condition, tuple(_ready(t, condition, tested, limits, grids) for t in condition.tests)
    )


def variable_of(test: Test, condition: Condition, names: list[str]) -> str:
    """The variable that a test is about."""
    if test.variable is not None:
        if test.variable not in names:
            raise RequestError(
                OPTION,
                f"'{condition}': there is no grid {test.variable}",
                f"there is: {', '.join(names)}; name one as {test.variable}=PATH",
            )
        return test.variable
    if len(names) > 1:
        raise RequestError(
            OPTION,
            f"'{condition}' does not say which variable it tests",
            f"name it: {', '.join(names)}",
        )
    return names[0]


def _ready(
    test: Test,
    condition: Condition,
    tested: Mapping[str, Tested],
    limits: Mapping[str, np.ndarray],
    grids: Mapping[str, Quantity],
) -> ReadyTest:
    of = tested[variable_of(test, condition, list(tested))]
    threshold = test.threshold
    if isinstance(threshold, Percentile):
        if threshold.of is None and of.what.kind in (AMOUNT, RATE):
            raise RequestError(
                OPTION,
                f"'{condition}': of which days is p{threshold.percent:g} of {of.name}",
                f"say p{threshold.percent:g} of {WET_DAYS}, of {ALL_DAYS} or by {BY_DAY}",
            )
        if threshold.of == WET_DAYS and of.what.kind not in (AMOUNT, RATE):
            raise RequestError(
                OPTION, f"'{condition}': {of.name} has no wet days", f"say p… by {BY_DAY}"
            )
        return ReadyTest(test, of)
    if isinstance(threshold, Named):
        if threshold.name in limits:
            return ReadyTest(test, of, limits[threshold.name])
        if threshold.name in grids:
            return ReadyTest(test, of, grid=threshold.name)
        known = [*limits, *grids]
        raise RequestError(
            OPTION,
            f"'{condition}': there is no grid or table {threshold.name}",
            f"there is: {', '.join(known)}; name one as {threshold.name}=PATH",
        )
    return _fixed(test, condition, of, threshold)


def _fixed(test: Test, condition: Condition, of: Tested, threshold: Fixed) -> ReadyTest:
    if not threshold.unit and of.unit not in ("", "1"):
        raise RequestError(
            OPTION,
            f"'{condition}': {threshold.value:g} has no unit",
            f"write it with its unit, as {threshold.value:g} {of.unit}",
        )
    if not threshold.unit:
        return ReadyTest(test, of, _as_stored(threshold.value, of))
    if of.what.kind in (AMOUNT, RATE) and is_rate_unit(threshold.unit):
        per_day = float(
            convert(np.array(threshold.value), threshold.unit, "mm day-1", difference=False)
        )
        limit = float(convert(np.array(per_day), "mm", of.unit, difference=False))
        return ReadyTest(test, of, limit, per_day=True)
    if not suits(threshold.unit, of.unit):
        raise RequestError(
            OPTION,
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
    return ReadyTest(test, of, _as_stored(limit, of))


def _as_stored(limit: float, of: Tested) -> float:
    """The limit as the file would have stored it, so that a value of 0.9 is at least 0.9."""
    return float(np.float32(limit)) if of.is_float32 else limit


def limit_values(
    ready: ReadyTest,
    first: int,
    steps: int,
    grids: Mapping[str, np.ndarray],
    percentiles: np.ndarray | None,
) -> np.ndarray:
    """What values are compared with: a number, (K,) or (T, K)."""
    if percentiles is not None:
        return percentiles
    if ready.grid is not None:
        return grids[ready.grid]
    assert ready.limit is not None
    if ready.per_day:
        return np.asarray(ready.limit * ready.tested.days[first : first + steps, None])
    # A plain number would be rounded to the precision of the values.
    return np.asarray(ready.limit, np.float64)


def gaps_in(values: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Where each variable (T, K) has no data; (1, K) where that is so on every step alike."""
    return {name: _alike(np.isnan(own)) for name, own in values.items()}


def _alike(flags: np.ndarray) -> np.ndarray:
    """One row of (T, K), where all rows are the same."""
    first = flags[:1].tobytes()
    return flags[:1] if all(row.tobytes() == first for row in flags[1:]) else flags


def try_out(
    ready: ReadyCondition,
    first: int,
    values: Mapping[str, np.ndarray],
    sums: tuple[str, ...],
    percentiles: Mapping[int, np.ndarray] | None = None,
    known: Mapping[str, np.ndarray] | None = None,
) -> Met:
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
    met, gaps = None, None
    added: dict[str, np.ndarray] = {}
    for n, one in enumerate(ready.tests):
        own = values[one.tested.name]
        limit = limit_values(one, first, len(own), values, (percentiles or {}).get(n))
        passed = OPERATORS[one.test.operator](own, limit)
        met = passed if met is None else met & passed
        missing = known[one.tested.name]
        if limit.ndim:
            missing = missing | np.isnan(limit)
        gaps = missing if gaps is None else gaps | missing
        if n == 0 and "total" in sums:
            added["total"] = np.nan_to_num(own)
        if n == 0 and "excess" in sums:
            away = own - limit if one.test.above else limit - own
            added["excess"] = np.nan_to_num(away)
    assert met is not None
    assert gaps is not None
    return Met(met, ~_alike(gaps), added)


def percentile_limits(
    ready: ReadyCondition,
    values: Mapping[str, np.ndarray],
    days: CalendarDays,
    base: Base,
    wet: Mapping[str, float],
) -> dict[int, np.ndarray]:
    """By number of the test, the percentiles of columns with their whole record."""
    out = {}
    for n, one in enumerate(ready.tests):
        threshold = one.test.threshold
        if not isinstance(threshold, Percentile):
            continue
        own = values[one.tested.name]
        if threshold.of in (WET_DAYS, ALL_DAYS):
            least = wet[one.tested.name] if threshold.of == WET_DAYS else -np.inf
            out[n] = of_days(own, days, base, (threshold.percent,), least)[0]
        else:
            found = by_calendar_day(own, days, base, (threshold.percent,))[0]
            out[n] = at_steps(found, days)
    return out


def check_sums(ready: ReadyCondition, counts: tuple[str, ...]) -> None:
    """A state has no total."""
    of = ready.tests[0].tested
    if "total" in counts and of.what.kind == STATE:
        raise RequestError(
            "--count", f"{of.name} is a state and has no total", "use excess for degree days"
        )
