"""What reducers of periods have in common: steps into periods, merging, and what is settled."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np

from bavlo.core.reduce.period_state import (
    PeriodState,
    PeriodSums,
    Rules,
    StepWeights,
    find_gaps,
)
from bavlo.core.reduce.protocol import Block
from bavlo.core.sums import WeightedSums
from bavlo.core.values.combine import MAX, MIN, TOTAL

Settled = TypeVar("Settled")

# Pieces in order of time; between them are periods that are settled already.
OpenPeriods = tuple[PeriodState, ...]


@dataclass(frozen=True, eq=False)
class BlockSteps:
    """How the steps of a block fall into periods, as N pairs of step and period.

    Parameters
    ----------
    first
        Number of the first period.
    periods
        How many periods there are, P.
    step, period : (N,) int64
        Counted from the block's first step and from `first`.
    share : (N,) float64
        Part of the step that belongs to the period.
    """

    block: Block
    first: int
    periods: int
    step: np.ndarray
    period: np.ndarray
    share: np.ndarray

    def of(self, by_step: np.ndarray) -> np.ndarray:
        """(N,) values that all steps of the grid (T,) have."""
        return np.asarray(by_step[self.block.first : self.block.last][self.step])

    def matrix(self, amounts: np.ndarray) -> WeightedSums:
        """(P, T) that adds up the block's steps, each times its amount (N,)."""
        shape = (self.periods, self.block.last - self.block.first)
        return WeightedSums.of_entries(amounts, self.period, self.step, shape)

    def added(self, amounts: np.ndarray) -> np.ndarray:
        """(P,) sums of amounts (N,)."""
        return np.bincount(self.period, amounts, self.periods)


class PeriodReducer(ABC, Generic[Settled]):
    """A reducer whose states are sums over the steps of periods.

    Parameters
    ----------
    step_weights
        Which steps belong to which periods, and what they weigh.
    rules
        How steps are combined, and how much must have data.
    """

    def __init__(self, step_weights: StepWeights, rules: Rules) -> None:
        self.step_weights = step_weights
        self.rules = rules

    @abstractmethod
    def state_of(self, block: Block, cells: np.ndarray) -> OpenPeriods:
        """The state of a block with the values (T, C)."""

    @abstractmethod
    def finish(self, state: PeriodState) -> Settled:
        """Values of periods that are over."""

    def update(self, block: Block, cells: np.ndarray) -> list[OpenPeriods]:
        """The state of a block with the values (T, C)."""
        return [self.state_of(block, cells)]

    def merge(self, earlier: OpenPeriods, later: OpenPeriods) -> OpenPeriods:
        """The open periods of two neighbouring runs of steps together."""
        before, after = earlier[-1], later[0]
        overlap = before.stop - after.first
        if overlap <= 0:
            return (*earlier, *later)
        joined = PeriodState(
            before.first,
            before.begin,
            after.end,
            before.sums.joined(after.sums, overlap, self.rules.combine),
            before.coverage.joined(after.coverage, overlap),
        )
        return (*earlier[:-1], joined, *later[1:])

    def settle(self, state: OpenPeriods) -> tuple[list[Settled], OpenPeriods | None]:
        """Values of the periods all of whose steps are in, and the periods that lack some."""
        settled: list[Settled] = []
        rest: list[PeriodState] = []
        for piece in state:
            before, over, after = self._split(piece)
            rest += [part for part in (before, after) if part.stop > part.first]
            if over.stop > over.first:
                settled.append(self.finish(over))
        return settled, tuple(rest) or None

    def close(self, state: OpenPeriods) -> list[Settled]:
        """Values of all periods, with the steps that there are."""
        return [self.finish(piece) for piece in state]

    def _split(self, piece: PeriodState) -> tuple[PeriodState, PeriodState, PeriodState]:
        """Periods that earlier steps belong to, that are over, and that later steps belong to."""
        first, last = self.step_weights.assignment.step_ranges
        part = slice(piece.first, piece.stop)
        over = (first[part] >= piece.begin) & (last[part] <= piece.end)
        begin = piece.stop if not over.any() else piece.first + int(over.argmax())
        end = piece.stop if not over.any() else piece.stop - int(over[::-1].argmax())
        before, others = piece.split(begin)
        return before, *others.split(end)

    def has_steps(self, block: Block) -> bool:
        """Whether any step of a block belongs to a period."""
        low, high = np.searchsorted(self.step_weights.assignment.step, [block.first, block.last])
        return bool(high > low)

    def block_steps(self, block: Block) -> BlockSteps:
        """The steps of a block and the periods that they belong to."""
        assignment = self.step_weights.assignment
        low, high = np.searchsorted(assignment.step, [block.first, block.last])
        period = assignment.period[low:high]
        first = int(period.min())
        return BlockSteps(
            block,
            first,
            int(period.max()) - first + 1,
            assignment.step[low:high] - block.first,
            period - first,
            assignment.share[low:high],
        )

    def period_sums(self, steps: BlockSteps, rows: np.ndarray) -> PeriodSums:
        """Combine the rows (T, K) of a block, NaN where they have no value."""
        weights, rules = self.step_weights, self.rules
        if rules.degrees is not None:
            rows = rules.degrees.of(rows)
        missing = np.isnan(rows)
        days = steps.matrix(steps.share * steps.of(weights.duration))
        by_weight = steps.matrix(steps.share * steps.of(weights.weight))
        if (missing == missing[:1]).all():
            # One mask for all steps: a sum over steps instead of one over cells.
            valid = (~missing[:1]).astype(np.float64)
            covered = days.of_rows()[:, None] * valid
            weight = by_weight.of_rows()[:, None] * valid
        else:
            valid = (~missing).astype(np.float64)
            covered, weight = days @ valid, by_weight @ valid
        if rules.combine in (MIN, MAX):
            choose = np.fmin if rules.combine == MIN else np.fmax
            value = np.full((steps.periods, rows.shape[1]), np.nan)
            present, start = np.unique(steps.period, return_index=True)
            value[present] = choose.reduceat(rows[steps.step], start, axis=0)
            return PeriodSums(value, weight, covered)
        filled = np.where(missing, 0.0, rows) if missing.any() else rows
        by_factor = steps.matrix(steps.share * steps.of(weights.factor))
        value = (by_factor if rules.combine == TOTAL else by_weight) @ filled
        gaps = None
        if rules.most_missing is not None:
            begin = steps.of(weights.step_start)
            end = begin + steps.of(weights.duration)
            gaps = find_gaps(missing[steps.step], begin, end, steps.period, steps.periods)
        return PeriodSums(value, weight, covered, gaps)

    def time_of(self, state: PeriodState) -> tuple[np.ndarray, np.ndarray]:
        """(P,) beginnings and lengths of the periods, days."""
        part = slice(state.first, state.stop)
        return self.step_weights.period_start[part], self.step_weights.period_length[part]
