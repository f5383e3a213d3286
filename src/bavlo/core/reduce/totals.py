"""Values added up over the steps of periods as they come, before regions are measured.

A step's values are added to those before them while they are near, and go through memory once.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np


@dataclass(frozen=True, eq=False)
class Totals:
    """Sums over runs of steps.

    Parameters
    ----------
    value : (P, C) float64
        NaN where the steps have no data.
    value_range
        Lowest and highest value of all steps; (inf, -inf) where there is none.
    """

    value: np.ndarray
    value_range: tuple[float, float]


@dataclass(frozen=True, eq=False)
class Seen:
    """What a step holds.

    Parameters
    ----------
    low, high
        Its range; (inf, -inf) where no cell has data.
    missing : (C,) bool
        Where there is no data; None where there is everywhere.
    """

    low: float
    high: float
    missing: np.ndarray | None


class StepValues(Protocol):
    """The values of the C cells of one step, decoded or as they are stored."""

    @property
    def seen(self) -> Seen:
        """What they are."""

    def add_to(self, total: np.ndarray) -> None:
        """Add them to a row (C,) of totals; what becomes of cells without data is of no matter."""

    def decoded(self) -> np.ndarray:
        """(C,) float64, NaN where there is no data."""


@dataclass(frozen=True, eq=False)
class DecodedStep:
    """Values (C,) float64, NaN where there is no data."""

    values: np.ndarray

    @cached_property
    def seen(self) -> Seen:
        """Their range and gaps."""
        low, high = self.values.min(), self.values.max()
        if not np.isnan(low):
            return Seen(float(low), float(high), None)
        low = np.fmin.reduce(self.values, initial=np.inf)
        high = np.fmax.reduce(self.values, initial=-np.inf)
        return Seen(float(low), float(high), np.isnan(self.values))

    def add_to(self, total: np.ndarray) -> None:
        """Add them up."""
        total += self.values

    def decoded(self) -> np.ndarray:
        """The values themselves."""
        return self.values


class RunningTotals:
    """Sums over runs of steps that come one by one, as long as all of them miss the same cells.

    Parameters
    ----------
    starts : (P,) int
        The first step of each run, from 0 on; each ends where the next begins.
    cells
        How many values a step has.
    """

    def __init__(self, starts: np.ndarray, cells: int) -> None:
        self.starts = starts
        self.count = 0
        self._value = np.zeros((len(starts), cells))
        self._run = -1
        self._gaps: np.ndarray | None = None
        self._low, self._high = np.inf, -np.inf

    def add(self, step: StepValues) -> bool:
        """Take in the next step.

        Returns
        -------
        False, and nothing is taken in, where it misses other cells than the steps before it.
        """
        seen = step.seen
        if self.count and not _same(seen.missing, self._gaps):
            return False
        following = self._run + 1
        if following < len(self.starts) and self.starts[following] == self.count:
            self._run = following
        self._gaps, self.count = seen.missing, self.count + 1
        self._low, self._high = min(self._low, seen.low), max(self._high, seen.high)
        step.add_to(self._value[self._run])
        return True

    def totals(self) -> Totals:
        """The sums of the runs that were begun."""
        value = self._value[: self._run + 1]
        if self._gaps is not None:
            value[:, self._gaps] = np.nan
        return Totals(value, (self._low, self._high))


def _same(one: np.ndarray | None, other: np.ndarray | None) -> bool:
    """Whether two steps miss the same cells; None for none of them."""
    if one is None or other is None:
        return one is other
    return np.array_equal(one, other)
