"""Counting cells as the steps go by, with only the counts of open periods held."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from bavlo.core.conditions.counting import Counting, CountState, Occurrence
from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.stats.cell_sample import CellSample
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.extremes.arrays import CellMeans, ExtremesArrays
from bavlo.extremes.bound import BoundCondition, evaluate_condition, gaps_in
from bavlo.extremes.plan import ExtremesPlan, counting_of
from bavlo.extremes.settled import KeptCounts, needed
from bavlo.extremes.values import ConditionReader, cell_means, plan_condition_blocks
from bavlo.request.reporter import Reporter

StepValues = tuple[int, np.ndarray, np.ndarray, np.ndarray]  # first step; see `_daily_of_cells`


@dataclass(frozen=True, eq=False)
class CountingState:
    """What is counted of each condition in a run of steps.

    Parameters
    ----------
    counts
        Of periods that are open.
    daily
        What happened on each step, by condition and block, where it is wanted.
    """

    counts: list[CountState]
    daily: list[list[StepValues]]


@dataclass(frozen=True, eq=False)
class CountingSettled:
    """By condition, means over regions in periods that are over, and what happened on each step."""

    means: list[list[CellMeans]]
    daily: list[list[StepValues]]


@dataclass(frozen=True, eq=False)
class CountingReducer:
    """Counts each condition in each block."""

    plan: ExtremesPlan
    countings: tuple[Counting, ...]
    wants_daily: bool

    @property
    def follows_spells(self) -> bool:
        """Whether spells have to be followed from block to block."""
        return any(counting.follows_spells for counting in self.countings)

    def update(self, block: Block, values: Mapping[str, np.ndarray]) -> list[CountingState]:
        """Count each condition in the values (T, C) of a block."""
        known = gaps_in(values)
        counts: list[CountState] = []
        daily: list[list[StepValues]] = []
        for bound, counting in zip(self.plan.bound, self.countings, strict=True):
            occurs = evaluate_condition(
                bound, block.first, values, tuple(counting.sums), known=known
            )
            counts.append(counting.update(block.first - self.plan.first, occurs))
            daily.append([])
            if self.wants_daily:
                daily[-1].append((block.first, *_daily_of_cells(self.plan, bound, occurs, values)))
        return [CountingState(counts, daily)]

    def merge(self, earlier: CountingState, later: CountingState) -> CountingState:
        """The counts of two neighbouring runs of steps together."""
        pairs = zip(self.countings, earlier.counts, later.counts, strict=True)
        daily = [one + other for one, other in zip(earlier.daily, later.daily, strict=True)]
        return CountingState(
            [counting.merge(before, after) for counting, before, after in pairs], daily
        )

    def settle(self, state: CountingState) -> tuple[CountingSettled, CountingState | None]:
        """Means of the periods that are over, and the counts of the others."""
        means, rest = [], []
        for counting, counts in zip(self.countings, state.counts, strict=True):
            periods, over, still = counting.settled(counts)
            means.append(cell_means(self.plan, periods, over))
            rest.append(still)
        nothing: list[list[StepValues]] = [[] for _ in rest]
        is_open = self.follows_spells or any(counts.periods.size for counts in rest)
        return (
            CountingSettled(means, state.daily),
            CountingState(rest, nothing) if is_open else None,
        )

    def close(self, state: CountingState) -> CountingSettled:
        """Means of all periods, once no step follows."""
        means = []
        for counting, counts in zip(self.countings, state.counts, strict=True):
            closed = counting.close(counts)
            means.append(cell_means(self.plan, closed.periods, closed.counts))
        return CountingSettled(means, state.daily)


def count_by_stream(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: KeptCounts | None
) -> None:
    """Count cells as the steps go by."""
    blocks = plan_condition_blocks(plan)
    countings = tuple(counting_of(plan, bound) for bound in plan.bound)
    reducer = CountingReducer(plan, countings, bool(arrays.daily))
    segments = choices.segments_of(
        [plan.assignment], blocks, "counts", follows_spells=reducer.follows_spells
    )
    cells, run = plan.cells.size, plan.request.run
    states = cells * 8 * choices.KEPT_OF_CELL["counts"] * len(plan.bound)
    names = len(plan.aligned.sources)
    needs = choices.needs_of_blocks(blocks, cells, "counts", arrays.nbytes + states, names)
    steps = sum(block.last - block.first for block in blocks)
    follows = sum(counting.follows_spells for counting in countings)
    needs = choices.with_loops(run, needs, "spells", follows * steps * cells)
    left = needed(kept, segments)
    for settled in reduced(run, needs, report, ConditionReader(plan), reducer, left):
        for n, means in enumerate(settled.means):
            for each in means:
                arrays.put_cells(n, each)
        for n, daily in enumerate(settled.daily):
            for first, *parts in daily:
                arrays.daily[n].put(first - plan.first, *parts)


def _daily_of_cells(
    plan: ExtremesPlan, bound: BoundCondition, occurs: Occurrence, values: Mapping[str, np.ndarray]
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Share of each region's area on which a condition holds, its mean value and the weight of
    the cells that meet it, by step.
    """
    steps = len(occurs.occurs)
    valid = np.broadcast_to(occurs.valid, occurs.occurs.shape)
    sample = CellSample(plan.index, np.where(valid, occurs.occurs, np.nan))
    share = np.broadcast_to(sample.mean, (steps, plan.index.overlay.regions))
    area = np.broadcast_to(sample.area_valid, share.shape)
    share = np.where(area >= plan.request.measuring.least_area - ENOUGH, share, np.nan)
    mean = CellSample(plan.index, values[bound.tests[0].variable.name]).mean
    met = sample.summed(plan.index.matrix)
    return share, mean, met
