"""Steps that are added up as they are read give what measuring each of them gives."""

from dataclasses import dataclass

import numpy as np
import pytest

from bavlo.core.reduce.period_state import Rules
from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.regions import CellFirst, RegionFirst
from bavlo.core.stats.cell_sample import OverlayIndex
from bavlo.core.stats.measures import parse_measure
from bavlo.engine.protocol import not_needed
from bavlo.engine.segments import group_units, plan_segments, plan_units
from bavlo.engine.threads import Threads
from bavlo.plan import reading, step_sums
from bavlo.plan.reading import UnitValues
from bavlo.plan.series_reducer import SeriesReducer
from support import daily, some_overlay, step_weights_of

STEPS, CELLS = 400, 12


@dataclass(frozen=True, eq=False)
class ArrayBlocks:
    """Reads blocks out of an array (T, C), and remembers which steps were asked for."""

    values: np.ndarray
    asked: list
    source = None
    cells = np.arange(CELLS)

    def read(self, unit):
        self.asked.extend(range(unit.first, unit.last))
        return self.values[unit.first : unit.last].copy()


@dataclass(frozen=True, eq=False)
class ArrayUnits:
    """The same as values of units."""

    blocks: ArrayBlocks

    def read(self, unit):
        return UnitValues(self.blocks, unit, None)

    def files(self, first, last):
        return "an array"


def gappy(pattern):
    """Values with gaps of some sort."""
    rng = np.random.default_rng(5)
    values = rng.gamma(0.5, 8, (STEPS, CELLS)).astype("f4").astype("f8")
    if pattern == "always the same":
        values[:, [2, 7]] = np.nan
    elif pattern == "from a day on":
        values[133:, 3] = np.nan
    elif pattern == "one day":
        values[200, 5] = np.nan
    elif pattern == "every day others":
        values[rng.random(values.shape) < 0.1] = np.nan
    elif pattern == "nothing for a week":
        values[55:62] = np.nan
    return values


PATTERNS = [
    "none", "always the same", "from a day on", "one day", "every day others", "nothing for a week",
]  # fmt: skip


def reduced(values, reducers, assignment, group, single, monkeypatch):
    """Values, areas and steps of each reducer by period; the range of values; steps asked for."""
    monkeypatch.setattr(reading, "reads_single_steps", lambda _: single)
    blocks = ArrayBlocks(values, [])
    units = plan_units(assignment, CELLS, 7 * CELLS)
    if group:
        units = group_units(assignment, units, group, group)
    segments = plan_segments([assignment], units)
    found = [[] for _ in reducers]
    low, high = np.inf, -np.inf
    threads = Threads(1, 0, None, not_needed, not_needed)
    for settled in threads.reduce(
        ArrayUnits(blocks), SeriesReducer(tuple(reducers), True), segments
    ):
        for own, part in zip(found, settled.groups, strict=True):
            own += part
        low, high = min(low, settled.value_range.low), max(high, settled.value_range.high)
    arrays = []
    for own in found:
        own.sort(key=lambda each: each.first)
        arrays.append([np.concatenate([getattr(e, n) for e in own]) for n in OF_PERIODS])
    return arrays, (low, high), blocks.asked


OF_PERIODS = ("value", "area_valid", "steps")


@pytest.mark.parametrize("pattern", PATTERNS)
@pytest.mark.parametrize("combine", ["total", "mean"])
@pytest.mark.parametrize("single", [True, False])
def test_values_are_those_of_steps_measured_one_by_one(pattern, combine, single, monkeypatch):
    values = gappy(pattern)
    weights = step_weights_of(daily(STEPS), "month")
    index = OverlayIndex(some_overlay(np.random.default_rng(1), 4, CELLS))
    rules = Rules(combine, min_steps=0.5)
    mean = RegionFirst(index, weights, (parse_measure("mean"),), rules)
    given = values, [mean], weights.assignment
    (wanted,), range_of_steps, _ = reduced(*given, 0, False, monkeypatch)
    (found,), range_of_sums, asked = reduced(*given, 50, single, monkeypatch)
    for one, other in zip(found, wanted, strict=True):
        np.testing.assert_allclose(one, other, rtol=1e-12)
    assert range_of_sums == range_of_steps
    if single and pattern != "every day others":
        assert len(asked) <= STEPS + 3  # what is odd is looked at once more


@pytest.mark.parametrize("pattern", PATTERNS)
def test_what_is_measured_beside_changes_no_bit(pattern, monkeypatch):
    values = gappy(pattern)
    weights = step_weights_of(daily(STEPS), "month")
    index = OverlayIndex(some_overlay(np.random.default_rng(1), 4, CELLS))
    rules = Rules("total", min_steps=0.5)
    mean = RegionFirst(index, weights, (parse_measure("mean"),), rules)
    beside = [
        RegionFirst(index, weights, (parse_measure("sum"),), rules),
        CellFirst(index, weights, (parse_measure("p90"),), rules),
    ]
    (alone,), _, _ = reduced(values, [mean], weights.assignment, 50, True, monkeypatch)
    with_others, _, asked = reduced(
        values, [mean, *beside], weights.assignment, 50, True, monkeypatch
    )
    for one, other in zip(alone, with_others[0], strict=True):
        assert one.tobytes() == other.tobytes()
    assert asked == list(range(STEPS))


def test_short_periods_are_measured_at_once(monkeypatch):
    weights = step_weights_of(daily(40), "day")
    index = OverlayIndex(some_overlay(np.random.default_rng(1), 4, CELLS))
    reducer = RegionFirst(index, weights, (parse_measure("mean"),), Rules("total"))
    unit = Unit(0, 40, (Unit(0, 20), Unit(20, 40)))
    assert step_sums.StepSums.of(reducer, unit, CELLS) is None
    monthly = step_weights_of(daily(40), "month")
    reducer = RegionFirst(index, monthly, (parse_measure("mean"),), Rules("total"))
    assert step_sums.StepSums.of(reducer, unit, CELLS) is not None
    assert step_sums.StepSums.of(reducer, Unit(0, 40), CELLS) is None
