"""Stretches: runs of units that are reduced in order of time, wherever that is done.

A stretch ends where a period ends, unless a period is so long that it takes several. Within a
stretch units are merged one after the other, and periods are finished as soon as they are over;
what several stretches have made of one long period is merged pair by pair, as a tree. So the order
of all additions follows from the data, whether a stretch is computed here or on another machine,
and of all but long periods only what is finished has to travel.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np

from bavlo.core.partials import Partial, Result, Unit
from bavlo.core.periods import Fold
from bavlo.core.reductions import Reduction

LEAST_UNITS, MOST_UNITS = 32, 128

Part = TypeVar("Part")


@dataclass(frozen=True)
class Stretch:
    """A run of units.

    Parameters
    ----------
    begun
        Number of the period that has begun in an earlier stretch; None where none has.
    goes_on
        Number of the period that goes on in the next one.
    """

    units: tuple[Unit, ...]
    begun: int | None = None
    goes_on: int | None = None

    @property
    def first(self) -> int:
        """The first step."""
        return self.units[0].first

    @property
    def last(self) -> int:
        """The step after the last."""
        return self.units[-1].last


def plan_stretches(
    fold: Fold, units: Sequence[Unit], least: int | None = None, most: int | None = None
) -> list[Stretch]:
    """Put units together, from the data alone.

    Parameters
    ----------
    least, most
        Units of a stretch that could end with a period, and of one that must end.
    """
    least, most = least or LEAST_UNITS, most or MOST_UNITS
    stretches: list[Stretch] = []
    held: list[Unit] = []
    begun = None
    for n, unit in enumerate(units):
        held.append(unit)
        following = units[n + 1] if n + 1 < len(units) else None
        shared = None if following is None else shared_period(fold, unit, following)
        number = sum(len(each.each) for each in held)
        enough = number >= (least if shared is None else most)
        if enough or following is None:
            stretches.append(Stretch(tuple(held), begun, shared))
            held, begun = [], shared
    return stretches


def shared_period(fold: Fold, unit: Unit, following: Unit) -> int | None:
    """The period that two neighbouring units both have steps of."""
    before, after = (_periods(fold, each) for each in (unit, following))
    return int(before[-1]) if before.size and after.size and before[-1] == after[0] else None


def _periods(fold: Fold, unit: Unit) -> np.ndarray:
    low, high = np.searchsorted(fold.step, [unit.first, unit.last])
    return fold.period[low:high]


class InOrder:
    """Merges what units have made in order of time, and gives out periods once they are over."""

    def __init__(self, merge: Callable[[Partial, Partial], Partial]) -> None:
        self.merge = merge
        self._open: Partial | None = None

    def add(self, partial: Partial | None) -> list[Partial]:
        """Take in the next unit; all periods before its last are over."""
        if partial is None:
            return []
        over = []
        if self._open is not None and partial.first < self._open.stop:
            partial = self.merge(self._open, partial)
        elif self._open is not None:
            over.append(self._open)
        done, self._open = partial.split(partial.stop - 1)
        if done.steps.shape[0]:
            over.append(done)
        return over

    def close(self) -> list[Partial]:
        """What is left when no unit follows."""
        return [] if self._open is None else [self._open]


@dataclass(frozen=True, eq=False)
class Made:
    """What one reduction has made of a stretch.

    Parameters
    ----------
    results
        Of the periods that lie in it.
    first, last
        Of the period that has begun earlier, and of the one that goes on later. Where that is one
        and the same, it is `first`.
    """

    results: list[Result]
    first: Partial | None = None
    last: Partial | None = None


class Reducing:
    """One reduction on its way through a stretch."""

    def __init__(self, reduction: Reduction, stretch: Stretch) -> None:
        self.reduction = reduction
        self.stretch = stretch
        self._order = InOrder(reduction.merge)
        self._results: list[Result] = []
        self._first: Partial | None = None
        self._last: Partial | None = None

    def add(self, partial: Partial | None) -> None:
        """Take in the next unit."""
        for over in self._order.add(partial):
            self._take(over)

    def close(self) -> Made:
        """All that the stretch has made."""
        for over in self._order.close():
            self._take(over)
        return Made(self._results, self._first, self._last)

    def _take(self, over: Partial) -> None:
        if over.first == self.stretch.begun:
            self._first, over = over.split(over.first + 1)
        if over.stop - 1 == self.stretch.goes_on and over.steps.shape[0]:
            over, self._last = over.split(over.stop - 1)
        if over.steps.shape[0]:
            self._results.append(self.reduction.finish(over))


class Pairwise(Generic[Part]):
    """Merges neighbours pair by pair, so that many parts are a tree.

    Parameters
    ----------
    highest
        Height of a tree that grows no further: such trees are merged one after the other. 0 takes
        one part after the other, None grows one tree of all.
    """

    def __init__(self, merge: Callable[[Part, Part], Part], highest: int | None = None) -> None:
        self.merge = merge
        self.highest = highest
        self._waiting: list[tuple[int, Part]] = []

    def __bool__(self) -> bool:
        return bool(self._waiting)

    def add(self, part: Part) -> None:
        """Take in the next part; trees of like height grow together."""
        height = 0
        while self._waiting and self._waiting[-1][0] == height:
            part = self.merge(self._waiting.pop()[1], part)
            height += height != self.highest
        self._waiting.append((height, part))

    def close(self) -> Part:
        """All parts in one."""
        _, part = self._waiting.pop()
        while self._waiting:
            part = self.merge(self._waiting.pop()[1], part)
        return part


class Across(Generic[Part]):
    """Long periods, put together from what several stretches have made of them.

    The parts may be partials, or what stands for them on other machines.
    """

    def __init__(self, merge: Callable[[Part, Part], Part]) -> None:
        self.merge = merge
        self._tree: Pairwise[Part] | None = None

    def add(self, stretch: Stretch, first: Part | None, last: Part | None) -> Iterator[Part]:
        """Take in the ends of the next stretch; gives out the period that it ends."""
        if stretch.begun is not None and self._tree is not None:
            assert first is not None
            self._tree.add(first)
            if stretch.goes_on != stretch.begun:
                yield self._tree.close()
                self._tree = None
        if stretch.goes_on is not None and stretch.goes_on != stretch.begun:
            assert last is not None
            self._tree = Pairwise(self.merge)
            self._tree.add(last)
