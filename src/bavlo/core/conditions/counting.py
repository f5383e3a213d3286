"""Counts of a condition by period, and its spells: a reduction that merges in order of time.

Columns are cells or regions. The state of a run of steps is a `CountState`: counts by period, and
for spells the ones at its beginning and its end, since what comes before and after decides how
long these are. Whole numbers add up to the same in any order, and of
sums what rounding loses is carried along (Knuth, The Art of Computer Programming, vol. 2, §4.2.2),
so that states may be merged as a tree of any shape.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from bavlo.core.conditions.counts import COUNTS, NEVER, Counts, add_exactly, any_count
from bavlo.core.conditions.spells import count_true, follow
from bavlo.core.time.assignment import Assignment
from bavlo.core.time.axis import TimeAxis
from bavlo.errors import RequestError


@dataclass(frozen=True, eq=False)
class PeriodSteps:
    """Where steps lie.

    Parameters
    ----------
    period : (T,) int64
        The period of each step, -1 for none.
    begin, end : (P,) int64
        First step of each period and the one after its last.
    follows : (T,) bool
        Whether a step begins where the one before it ends; a gap in time ends a spell.
    cut
        Spells are cut at the edges of periods.
    record : int
        The first step of all that are looked at; no spell can have begun before it.
    expected : (P,) float64 or None
        How many steps each period has when none is missing.
    """

    period: np.ndarray
    begin: np.ndarray
    end: np.ndarray
    follows: np.ndarray
    cut: bool
    record: int = 0
    expected: np.ndarray | None = None


def period_steps(
    time: TimeAxis, assignment: Assignment, *, cut: bool, first: int, last: int
) -> PeriodSteps:
    """Where the steps `first` to `last` (excluded) lie in the periods.

    Steps are numbered from `first`.

    Raises
    ------
    RequestError
        Where a step lies in two periods, which conditions cannot share out.
    """
    if (assignment.share < 1).any():
        raise RequestError(
            "every", "a step lies in two periods, and a condition is not shared out", ""
        )
    periods = assignment.expected.size
    period = np.full(last - first, -1, np.int64)
    inside = (assignment.step >= first) & (assignment.step < last)
    period[assignment.step[inside] - first] = assignment.period[inside]
    known = np.flatnonzero(period >= 0)
    begin = np.searchsorted(period[known], np.arange(periods), side="left")
    end = np.searchsorted(period[known], np.arange(periods), side="right")
    places = np.append(known, last - first)
    follows = np.ones(last - first, bool)
    follows[1:] = time.start[first + 1 : last] == time.end[first : last - 1]
    stops = np.where(end > begin, places[np.maximum(end - 1, 0)] + 1, places[begin])
    return PeriodSteps(period, places[begin], stops, follows, cut, 0, assignment.expected)


@dataclass(frozen=True, eq=False)
class Occurrence:
    """A condition on a run of steps.

    Parameters
    ----------
    occurs, valid : (T, K) bool
        Whether it is met, and whether there is data to tell; `valid` may be (1, K) where all steps
        have data in the same columns.
    sums
        What is added up over the steps that count: total, excess; (T, K) float64 each.
    """

    occurs: np.ndarray
    valid: np.ndarray
    sums: dict[str, np.ndarray] = field(default_factory=dict)


@dataclass(eq=False)
class CountState:
    """What a run of steps has made.

    Parameters
    ----------
    periods : (P,) int64
        Numbers of the periods, rising.
    begin, end
        Steps that went in, the last excluded.
    counts
        (P, K) by name: valid, days, spells, longest, first, last. Sums (total, excess) are
        (P, 2, K): the sum, and what rounding has lost of it.
    head, tail : (K,) int32
        Length of the spell of met steps at the beginning and at the end; (0,) where spells are not
        followed.
    head_sums, tail_sums
        Sums (2, K) of these spells that are not counted yet, by name and period.
    """

    periods: np.ndarray
    begin: int
    end: int
    counts: Counts
    head: np.ndarray
    tail: np.ndarray
    head_sums: dict[tuple[str, int], np.ndarray]
    tail_sums: dict[tuple[str, int], np.ndarray]

    def row(self, period: int) -> int:
        """The row of a period that must be there."""
        row = int(np.searchsorted(self.periods, period))
        if row == len(self.periods) or self.periods[row] != period:
            raise ValueError(f"period {period} has been given out too early")
        return row


class Counting:
    """Counts of one condition.

    Parameters
    ----------
    places
        Where the steps lie.
    wanted
        Names of counts, as in `count`.
    least
        Steps in a row from which a spell counts.
    """

    def __init__(self, period_steps: PeriodSteps, wanted: Sequence[str], least: int) -> None:
        self.period_steps = period_steps
        self.least = least
        needed = {need for name in wanted if name in COUNTS for need in COUNTS[name].needs}
        names = {"days", *needed, *wanted}
        counted = [n for n, count in COUNTS.items() if n in names and count.derive is None]
        self.sums = [name for name in counted if COUNTS[name].is_sum]
        self.names = ["valid", *(name for name in counted if name not in self.sums)]
        spells = any_count(counted, lambda count: count.follows_spells)
        self.follows_spells = least > 1 or spells
        # Pieces of spells that are cut at edges are not merged: they need the whole record at once.
        self.mergeable = not (period_steps.cut and spells)

    def update(self, begin: int, part: Occurrence) -> CountState:
        """Count a run of steps that begins with step `begin`."""
        steps, columns = part.occurs.shape
        period = self.period_steps.period[begin : begin + steps]
        inside = np.flatnonzero(period >= 0)
        periods, starts = _periods_of(period, inside)
        counts = self.empty(len(periods), columns)
        head = tail = np.zeros(0, np.int32)
        head_sums: dict[tuple[str, int], np.ndarray] = {}
        tail_sums: dict[tuple[str, int], np.ndarray] = {}
        counted = part.occurs
        if self.follows_spells:
            spells = follow(
                part.occurs,
                ~self.period_steps.follows[begin : begin + steps],
                self.least,
                starts if {"spells", "longest"} & counts.keys() else [],
                opens_record=begin == self.period_steps.record,
                cut=self.period_steps.cut,
            )
            counted, head, tail = spells.counted, spells.head, spells.tail
            if "spells" in counts:
                counts["spells"] += spells.spells
            if "longest" in counts:
                np.maximum(counts["longest"], spells.longest, out=counts["longest"])
            if self.least > 1 and self.sums:
                short_head = np.arange(steps)[:, None] < np.where(head < self.least, head, 0)
                from_end = np.arange(steps)[::-1, None] < np.where(tail < self.least, tail, 0)
                for name in self.sums:
                    for p in np.unique(period[inside]).tolist():
                        rows = np.flatnonzero(period == p)
                        for where, into in ((short_head, head_sums), (from_end, tail_sums)):
                            if where[rows].any():
                                values = np.where(where[rows], part.sums[name][rows], 0.0)
                                into[name, p] = np.zeros((2, columns))
                                into[name, p][0] = values.sum(axis=0)
        for row, (low, high) in enumerate(starts):
            self._add_rows(counts, row, begin, slice(low, high), counted, part)
        return CountState(periods, begin, begin + steps, counts, head, tail, head_sums, tail_sums)

    def empty(self, periods: int, columns: int) -> Counts:
        """Counts of periods in which nothing has happened."""
        counts = {name: np.full((periods, columns), _empty(name), np.int32) for name in self.names}
        return counts | {name: np.zeros((periods, 2, columns)) for name in self.sums}

    def _add_rows(
        self,
        counts: Counts,
        row: int,
        begin: int,
        steps: slice,
        counted: np.ndarray,
        part: Occurrence,
    ) -> None:
        """Add the steps of one period."""
        chosen = counted[steps]
        number = steps.stop - steps.start
        if part.valid.shape[0] == 1:
            counts["valid"][row] += part.valid[0] * np.int32(number)
        else:
            counts["valid"][row] += count_true(part.valid[steps])
        counts["days"][row] += count_true(chosen)
        any_met = chosen.any(axis=0) if {"first", "last"} & counts.keys() else np.zeros(1, bool)
        if "first" in counts:
            at = chosen.argmax(axis=0) + begin + steps.start
            counts["first"][row] = np.where(any_met, at, NEVER)
        if "last" in counts:
            at = begin + steps.stop - 1 - chosen[::-1].argmax(axis=0)
            counts["last"][row] = np.where(any_met, at, -1)
        for name in self.sums:
            counts[name][row, 0] += np.where(chosen, part.sums[name][steps], 0.0).sum(axis=0)

    def merge(self, earlier: CountState, later: CountState) -> CountState:
        """Put together what two neighbouring runs of steps have made.

        Where no run has to be followed, all periods of the steps between them may have been given
        out already.
        """
        if earlier.end != later.begin and (self.follows_spells or earlier.end > later.begin):
            raise ValueError("runs of steps must follow one another")
        periods = np.union1d(earlier.periods, later.periods)
        before, after = (np.searchsorted(periods, part.periods) for part in (earlier, later))
        counts = self.empty(len(periods), earlier.counts["valid"].shape[1])
        for name, array in counts.items():
            array[before] = earlier.counts[name]
            join = COUNTS[name].join if name in COUNTS else np.add
            array[after] = join(array[after], later.counts[name])
        merged = CountState(
            periods,
            earlier.begin,
            later.end,
            counts,
            earlier.head,
            later.tail,
            earlier.head_sums,
            later.tail_sums,
        )
        if self.follows_spells:
            self._join_spells(merged, earlier, later)
        return merged

    def _join_spells(self, merged: CountState, earlier: CountState, later: CountState) -> None:
        """Join the spell that closes the earlier steps and the one that opens the later ones."""
        goes_on = bool(self.period_steps.follows[later.begin])
        whole_a = earlier.tail == earlier.end - earlier.begin
        if earlier.begin == self.period_steps.record:
            whole_a = np.zeros_like(whole_a)  # it opens the record, so its beginning is known
        whole_b = later.head == later.end - later.begin
        if not goes_on:
            end = np.full(earlier.tail.shape, earlier.end)
            self._spell_ends(merged, earlier.tail, end, ~whole_a)
            self._spell_ends(merged, later.head, later.begin + later.head, ~whole_b)
            # A spell over all of the earlier steps stays what opens the whole, and is at its end.
            return
        length = earlier.tail + later.head
        qualifies = length >= self.least
        grows = qualifies & (earlier.tail > 0) & (later.head > 0)
        self._run_up_to(merged, earlier.end - earlier.tail, later.begin + later.head, grows)
        if self.least > 1:
            late = qualifies & (earlier.tail < self.least) & (earlier.tail > 0)
            self._count(merged, earlier.end - earlier.tail, earlier.end, late, earlier.tail_sums)
            late = qualifies & (later.head < self.least) & (later.head > 0)
            self._count(merged, later.begin, later.begin + later.head, late, later.head_sums)
            keep_a = whole_a & ~qualifies
            keep_b = whole_b & ~qualifies
            merged.head_sums = _joined_sums(
                earlier.head_sums, ~whole_a, (earlier.tail_sums, later.head_sums), keep_a
            )
            merged.tail_sums = _joined_sums(
                later.tail_sums, ~whole_b, (earlier.tail_sums, later.head_sums), keep_b
            )
        over = ~whole_a & ~whole_b & (length > 0)
        self._spell_ends(merged, length, later.begin + later.head, over)
        merged.head = np.where(whole_a, earlier.head + later.head, earlier.head)
        merged.tail = np.where(whole_b, later.tail + earlier.tail, later.tail)

    def _spell_ends(
        self, state: CountState, length: np.ndarray, end: np.ndarray, over: np.ndarray
    ) -> None:
        """Count spells in the period of their last step."""
        if self.period_steps.cut or "spells" not in state.counts:
            return
        over = over & (length >= max(self.least, 1))
        if not over.any():
            return
        period = self.period_steps.period[end - 1]
        for p in np.unique(period[over]).tolist():
            if p < 0:
                continue
            state.counts["spells"][state.row(p)] += over & (period == p)

    def _run_up_to(
        self, state: CountState, begin: np.ndarray, end: np.ndarray, which: np.ndarray
    ) -> None:
        """Take in how long spells have run at the last step that each period has of them.

        A period that is not in the state has been given out, and had that already.
        """
        if self.period_steps.cut or "longest" not in state.counts or not which.any():
            return
        for row, p in enumerate(state.periods.tolist()):
            high = np.minimum(end, self.period_steps.end[p])
            chosen = which & (high > np.maximum(begin, self.period_steps.begin[p]))
            if chosen.any():
                longest = state.counts["longest"][row]
                np.maximum(longest, (high - begin) * chosen, out=longest)

    def _count(
        self,
        state: CountState,
        begin: np.ndarray | int,
        end: np.ndarray | int,
        which: np.ndarray,
        sums: dict[tuple[str, int], np.ndarray],
    ) -> None:
        """Count the steps of spells that turn out to be long enough after all."""
        if not which.any():
            return
        begin, end = (np.broadcast_to(a, which.shape) for a in (begin, end))
        steps = np.arange(int(begin[which].min()), int(end[which].max()))
        for p in np.unique(self.period_steps.period[steps]).tolist():
            low = np.maximum(begin, self.period_steps.begin[p])
            high = np.minimum(end, self.period_steps.end[p])
            chosen = which & (high > low)
            if p < 0 or not chosen.any():
                continue
            counts, row = state.counts, state.row(p)
            counts["days"][row] += np.where(chosen, high - low, 0).astype(np.int32)
            if "first" in counts:
                counts["first"][row] = np.where(
                    chosen, np.minimum(counts["first"][row], low), counts["first"][row]
                )
            if "last" in counts:
                counts["last"][row] = np.where(
                    chosen, np.maximum(counts["last"][row], high - 1), counts["last"][row]
                )
            for name in self.sums:
                if (name, p) in sums:
                    more = np.where(chosen, sums[name, p], 0.0)
                    counts[name][row] = add_exactly(counts[name][row], more)

    def close(self, state: CountState) -> CountState:
        """Settle the spells that touch the end of the record: they are as long as is known."""
        if not self.follows_spells:
            return state
        end = np.full(state.tail.shape, state.end)
        self._spell_ends(state, state.tail, end, state.tail > 0)
        return state

    def settled(self, state: CountState) -> tuple[np.ndarray, Counts, CountState]:
        """What steps before and after those of a state can no longer change.

        Returns
        -------
        periods : (P,) int64
        counts
            Of these periods.
        rest
            The state without them.
        """
        # Earlier steps may tell how long the spell is that opens the state, and later ones whether
        # the one that closes it is long enough; a spell counts in the period of its last step.
        first = state.begin + int(state.head.max(initial=0))
        last = state.end - (self.least if self.follows_spells else 0)
        begin, end = self.period_steps.begin[state.periods], self.period_steps.end[state.periods]
        over = (begin >= first) & (end <= last)
        counts = {name: array[over] for name, array in state.counts.items()}
        still = {name: array[~over] for name, array in state.counts.items()}
        return (
            state.periods[over],
            counts,
            replace(state, periods=state.periods[~over], counts=still),
        )


def _empty(name: str) -> int:
    return COUNTS[name].empty if name in COUNTS else 0


def _joined_sums(
    own: dict[tuple[str, int], np.ndarray],
    keep_own: np.ndarray,
    others: tuple[dict[tuple[str, int], np.ndarray], ...],
    keep_others: np.ndarray,
) -> dict[tuple[str, int], np.ndarray]:
    """Sums of a spell: its own where it stays as it was, those of both parts where it grew."""
    out = {key: np.where(keep_own, value, 0.0) for key, value in own.items()}
    for part in others:
        for key, value in part.items():
            kept = np.where(keep_others, value, 0.0)
            out[key] = add_exactly(out[key], kept) if key in out else kept
    return {key: value for key, value in out.items() if value.any()}


def _periods_of(period: np.ndarray, inside: np.ndarray) -> tuple[np.ndarray, list[tuple[int, int]]]:
    """Periods of a run of steps and where the steps of each lie."""
    if not inside.size:
        return np.zeros(0, np.int64), []
    own = period[inside]
    at = np.concatenate([[0], np.flatnonzero(np.diff(own)) + 1])
    stops = np.append(at[1:], own.size)
    return own[at], [
        (int(inside[a]), int(inside[b - 1]) + 1) for a, b in zip(at, stops, strict=True)
    ]
