"""Spells of steps that meet something, and what is counted of them in periods."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo import compiled
from bavlo.core.batches import batches

IN_A_COLUMN = 128  # numbers that the loop holds of one

Places = Sequence[tuple[int, int]]


@dataclass(frozen=True, eq=False)
class Spells:
    """The spells of met steps, however short.

    Parameters
    ----------
    occurs : (T, K) bool
    start, end : (T, K) int32
        Where met, the first step of the spell that a step lies in and the one after its last.
    """

    occurs: np.ndarray
    start: np.ndarray
    end: np.ndarray

    @property
    def length(self) -> np.ndarray:
        """(T, K) int32, 0 where not met."""
        return np.asarray((self.end - self.start) * self.occurs)

    @property
    def head(self) -> np.ndarray:
        """(K,) int32 length of the spell at the beginning."""
        return np.where(self.occurs[0], self.end[0], 0).astype(np.int32)

    @property
    def tail(self) -> np.ndarray:
        """(K,) int32 length of the spell at the end."""
        return np.where(self.occurs[-1], len(self.occurs) - self.start[-1], 0).astype(np.int32)


def find_spells(occurs: np.ndarray, breaks: np.ndarray) -> Spells:
    """The spells of (T, K) steps; `breaks` (T,) are steps that do not go on with the one before."""
    steps = len(occurs)
    number = np.arange(steps, dtype=np.int32)
    # A spell begins after the last step that is not met, or at a break in time.
    gap = np.where(occurs, np.int32(-1), number[:, None])
    start = np.maximum.accumulate(gap, axis=0) + np.int32(1)
    gap = np.where(occurs, np.int32(steps), number[:, None])
    end = np.minimum.accumulate(gap[::-1], axis=0)[::-1]
    if breaks[1:].any():
        edges = np.concatenate([[0], np.flatnonzero(breaks[1:]) + 1, [steps]]).astype(np.int32)
        piece = np.searchsorted(edges, number, side="right") - 1
        start = np.maximum(start, edges[piece][:, None])
        end = np.minimum(end, edges[piece + 1][:, None])
    return Spells(occurs, start, end)


@dataclass(frozen=True, eq=False)
class FollowedSpells:
    """The spells of met steps, and what is counted of those that are long enough.

    Parameters
    ----------
    counted : (T, K) bool
        Steps of spells that are long enough.
    head, tail : (K,) int32
        Lengths of the spells at the beginning, 0 where nothing can come before, and at the end.
    spells, longest : (P, K) int32
        Those that are long enough and end in each period, and how long they have run at its steps.
        A spell that closes the steps may go on in the next ones, and the one that opens them may be
        longer than it seems: what joins them settles that. Where spells are cut at the edges of
        periods, each piece counts with its own length.
    """

    counted: np.ndarray
    head: np.ndarray
    tail: np.ndarray
    spells: np.ndarray
    longest: np.ndarray


def follow(
    occurs: np.ndarray,
    breaks: np.ndarray,
    least: int,
    places: Places,
    *,
    opens_record: bool,
    cut: bool,
) -> FollowedSpells:
    """What the spells of met steps come to in periods.

    Parameters
    ----------
    occurs : (T, K) bool
    breaks : (T,) bool
        Steps that do not go on with the one before.
    least
        Steps from which a spell counts.
    places
        First step of each period and the one after its last; none where spells are not asked for.
    opens_record
        Whether nothing can come before the first step.
    cut
        Whether spells are cut at the edges of periods.
    """
    if compiled.in_use() and not cut:
        return _by_kernel(occurs, breaks, least, places, opens_record)
    found = find_spells(occurs, breaks)
    head = np.zeros_like(found.head) if opens_record else found.head
    steps, columns = occurs.shape
    spells, longest = np.zeros((2, len(places), columns), np.int32)
    number = np.arange(steps, dtype=np.int32)[:, None]
    long_enough = found.occurs & (found.end - found.start >= least)
    for row, (low, high) in enumerate(places):
        part = slice(low, high)
        start, end = found.start[part], found.end[part]
        if cut:
            start, end = np.maximum(start, low), np.minimum(end, high)
            marks = long_enough[part] & (number[part] == start)
            length = (end - start) * marks
        else:
            marks = long_enough[part] & (number[part] == end - 1) & (end < steps)
            marks &= end > head  # not the spell that opens the steps
            # How long each has run up to each step, the last of the period included.
            length = (number[part] + 1 - start) * long_enough[part]
        spells[row] = count_true(marks)
        longest[row] = length.max(axis=0)
    return FollowedSpells(long_enough, head, found.tail, spells, longest)


def _by_kernel(
    occurs: np.ndarray,
    breaks: np.ndarray,
    least: int,
    places: Places,
    opens_record: bool,
) -> FollowedSpells:
    """The same by the compiled loop, some columns at a time."""
    from bavlo.core.conditions.spell_kernels import follow_spells

    steps, columns = occurs.shape
    row_of = np.full(steps, -1)
    for row, (low, high) in enumerate(places):
        row_of[low:high] = row
    counted = np.empty(occurs.shape, bool)
    head, tail = np.zeros((2, columns), np.int32)
    spells, longest = np.zeros((2, len(places), columns), np.int32)
    for some in batches(columns, IN_A_COLUMN):
        met = np.ascontiguousarray(occurs[:, some])
        ends = np.zeros((2, met.shape[1]), np.int32)
        own = np.zeros((2, len(places), met.shape[1]), np.int32)
        room = np.zeros((5, met.shape[1]), np.int32)
        so_far, long_enough = np.empty(met.shape, np.int32), np.empty(met.shape, bool)
        follow_spells(
            met, breaks, least, row_of, opens_record, room, so_far, long_enough, *ends, *own
        )
        counted[:, some] = long_enough
        head[some], tail[some] = ends
        spells[:, some], longest[:, some] = own
    return FollowedSpells(counted, head, tail, spells, longest)


def count_true(flags: np.ndarray) -> np.ndarray:
    """(K,) int32 how many of (T, K) bool are true; eight times as fast as a plain sum."""
    out = np.zeros(flags.shape[1], np.int32)
    bytes_ = flags.view(np.uint8)
    for low in range(0, len(flags), 255):
        out += np.add.reduce(bytes_[low : low + 255], axis=0, dtype=np.uint8)
    return out
