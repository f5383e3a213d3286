"""Accumulated values as amounts of their steps: a grid of differences, read like any other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.time.axis import TimeAxis, iso_minute
from bavlo.core.values.accumulation import ROUNDING, TOGETHER, Differences
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.derived import read_steps
from bavlo.grids.source import CellSelection, GridSource, OfSource, files_of


@dataclass(frozen=True, eq=False)
class DifferencedGrid(OfSource):
    """The differences of the accumulated values of another grid.

    Parameters
    ----------
    source
        With the accumulated values.
    steps
        Which of its steps are subtracted from which.
    variable
        As that of the source, but an amount of each step.
    may_fall
        By how much an accumulation may fall: by rounding, and by what goes the other way.
    """

    source: GridSource
    steps: Differences
    variable: Variable
    may_fall: float
    notes: tuple[str, ...] = ()

    @property
    def time(self) -> TimeAxis:
        """What each difference covers."""
        return self.steps.time

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64.

        Raises
        ------
        InputError
            Where most cells fall at a step at which no accumulation begins.
        """
        later, earlier = self.steps.later[first:last], self.steps.earlier[first:last]
        needed = np.unique(np.concatenate([later, earlier[earlier >= 0]]))
        values = read_steps(self.source, needed, cells)
        block = values[np.searchsorted(needed, later)]
        goes_on = np.flatnonzero(earlier >= 0)
        before = values[np.searchsorted(needed, earlier[goes_on])]
        block[goes_on] -= before
        slack = np.maximum(np.abs(np.nan_to_num(before)) * ROUNDING, self.may_fall * 1.01)
        # Counted upward or downward, a beginning brings it nearer to 0.
        fell = np.abs(values[np.searchsorted(needed, later[goes_on])]) < np.abs(before) - slack
        wet = np.abs(before) > slack
        odd = np.flatnonzero(fell.sum(axis=1) > TOGETHER * np.maximum(wet.sum(axis=1), 1))
        if odd.size:
            step = first + int(goes_on[odd[0]])
            raise InputError(
                files_of(self.source, int(self.steps.later[step]), int(self.steps.later[step]) + 1),
                f"falls at {iso_minute(int(self.time.end[step]), self.time.calendar)}, where no "
                "accumulation begins by the rule of the others",
                "give the files of each run of the model by themselves, or bounds that tell when "
                "each value began",
            )
        return block
