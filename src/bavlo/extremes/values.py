"""Values of the variables that conditions test, and of what is counted of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.conditions.counts import COUNTS, NEVER, Counts
from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.stats.cell_sample import CellSample
from bavlo.core.time.assignment import Assignment
from bavlo.core.time.axis import DAY
from bavlo.engine import choices
from bavlo.extremes.arrays import CellMeans
from bavlo.extremes.plan import ExtremesPlan, condition_variable, in_unit_of_test
from bavlo.grids.source import files_of


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
