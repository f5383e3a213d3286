"""Values added up over the steps of periods as they come, before regions are measured.

A step's values are added to those before them while they are near, and go through memory once.
"""

from __future__ import annotations

import numpy as np

from bavlo.records import dataclass


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

    def add(self, row: np.ndarray) -> bool:
        """Take in the values (C,) of the next step, NaN where there is no data.

        Returns
        -------
        False, and nothing is taken in, where it misses other cells than the steps before it.
        """
        low, high, missing = row.min(), row.max(), None
        if np.isnan(low):
            missing = np.isnan(row)
            low, high = np.fmin.reduce(row), np.fmax.reduce(row)
        if self.count and not _same(missing, self._gaps):
            return False
        following = self._run + 1
        if following < len(self.starts) and self.starts[following] == self.count:
            self._run = following
        self._gaps, self.count = missing, self.count + 1
        self._low, self._high = np.fmin(self._low, low), np.fmax(self._high, high)
        self._value[self._run] += row
        return True

    def totals(self) -> Totals:
        """The sums of the runs that were begun."""
        return Totals(self._value[: self._run + 1], (float(self._low), float(self._high)))


def _same(one: np.ndarray | None, other: np.ndarray | None) -> bool:
    """Whether two steps miss the same cells; None for none of them."""
    if one is None or other is None:
        return one is other
    return np.array_equal(one, other)
