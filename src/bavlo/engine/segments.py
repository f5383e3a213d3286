"""How work is cut into blocks and segments: from the data and the request alone.

All cuts are counted from the record's beginning on, and a period that is still incomplete is cut as
it will be once it is whole, so that steps that are appended change no cut before them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import Block
from bavlo.core.time.assignment import Assignment


@dataclass(frozen=True)
class Segment:
    """A run of blocks that is reduced in order, in one place.

    Parameters
    ----------
    continues_from, continues_into
        Number of the period that has begun in an earlier segment, and of the one that goes on in
        the next; None where there is none.
    follows_spells
        Whether spells run on from one segment to the next, whatever the periods.
    """

    blocks: tuple[Block, ...]
    continues_from: int | None = None
    continues_into: int | None = None
    follows_spells: bool = False

    @property
    def first(self) -> int:
        """The first step."""
        return self.blocks[0].first

    @property
    def last(self) -> int:
        """The step after the last."""
        return self.blocks[-1].last

    @property
    def is_open(self) -> bool:
        """Whether a neighbour has to finish some of it."""
        return (
            self.follows_spells
            or self.continues_from is not None
            or self.continues_into is not None
        )

    @property
    def ends_chain(self) -> bool:
        """Whether nothing of it goes on in the next segment."""
        return not self.follows_spells and self.continues_into is None


def plan_blocks(assignment: Assignment, cells: int, values: int) -> list[Block]:
    """Runs of steps, cut where periods begin.

    Short periods are put together up to `values`. A long one is cut into runs of like length,
    counted from its own first step, so that its sums do not depend on what stands before it.

    Parameters
    ----------
    assignment
        The steps that are needed and the periods that they belong to.
    cells
        Number of used cells.
    values
        Cells × steps of a block.
    """
    if not assignment.step.size:
        return []
    most = max(1, values // max(cells, 1))
    blocks: list[Block] = []
    filled = 0  # steps of the last block, all of its periods taken as whole
    for start, stop, whole in _period_runs(assignment):
        if blocks and blocks[-1].last == start and filled + whole <= most:
            blocks[-1] = Block(blocks[-1].first, stop)
            filled += whole
            continue
        even = -(-whole // -(-whole // most))
        blocks.extend(Block(s, min(s + even, stop)) for s in range(start, stop, even))
        filled = whole if whole <= most else most
    return blocks


def common_assignment(assignments: Sequence[Assignment]) -> Assignment:
    """Steps by the pieces into which the edges of several sorts of periods cut them together.

    A piece that is still incomplete is expected to last until the first of its periods ends.
    """
    if len(assignments) == 1:
        return assignments[0]
    step = np.unique(np.concatenate([each.step for each in assignments]))
    number = np.zeros((len(assignments), step.size), np.int64)
    end = np.full(step.size, np.iinfo(np.int64).max)
    for n, each in enumerate(assignments):
        own, first = np.unique(each.step, return_index=True)  # a shared step goes with the first
        at = np.searchsorted(step, own)
        period = each.period[first]
        number[n] = -1
        number[n, at] = period
        whole = each.step_ranges[0][period] + np.rint(each.expected[period]).astype(np.int64)
        end[at] = np.minimum(end[at], np.maximum(whole, own + 1))
    begins = (np.diff(number, axis=1) != 0).any(axis=0) | (np.diff(step) != 1)
    piece = np.concatenate([[0], np.cumsum(begins)])
    start = np.flatnonzero(np.diff(piece, prepend=-1))
    last = np.append(step[start[1:] - 1], step[-1])
    expected = np.maximum(end[start], last + 1) - step[start]
    return Assignment(step, piece, np.ones(step.size), expected.astype(np.float64))


def _period_runs(assignment: Assignment) -> list[tuple[int, int, int]]:
    """First step, the one after the last, and number of steps once whole, of each run of a period.

    A step that several periods share goes with the first of them.
    """
    used = np.unique(assignment.step)
    period = assignment.period[np.searchsorted(assignment.step, used)]
    breaks = (np.diff(used) != 1) | (np.diff(period) != 0)
    starts = np.concatenate([[0], np.flatnonzero(breaks) + 1])
    stops = np.append(starts[1:], used.size)
    first, last = used[starts], used[stops - 1] + 1
    expected = np.rint(assignment.expected[period[starts]]).astype(np.int64)
    whole = np.maximum(last - first, expected)
    return list(zip(first.tolist(), last.tolist(), whole.tolist(), strict=True))


def plan_segments(
    assignments: Sequence[Assignment],
    blocks: Sequence[Block],
    sizes: tuple[int, int],
    *,
    follows_spells: bool = False,
) -> list[Segment]:
    """Put blocks together.

    Parameters
    ----------
    assignments
        Of each sort of periods.
    sizes
        Blocks from which a segment ends with a period, and from which it ends in any case.
    """
    least, most = sizes
    segments: list[Segment] = []
    held: list[Block] = []
    continued = None
    for n, block in enumerate(blocks):
        held.append(block)
        following = blocks[n + 1] if n + 1 < len(blocks) else None
        shared = None
        if following is not None:
            both = (shared_period(each, block, following) for each in assignments)
            shared = next((period for period in both if period is not None), None)
        if following is None or len(held) >= (least if shared is None else most):
            segments.append(Segment(tuple(held), continued, shared, follows_spells))
            held, continued = [], shared
    return segments


def shared_period(assignment: Assignment, block: Block, following: Block) -> int | None:
    """The period that two neighbouring blocks both have steps of."""
    before, after = (_periods(assignment, each) for each in (block, following))
    return int(before[-1]) if before.size and after.size and before[-1] == after[0] else None


def _periods(assignment: Assignment, block: Block) -> np.ndarray:
    low, high = np.searchsorted(assignment.step, [block.first, block.last])
    return assignment.period[low:high]
