"""How a job is cut into units of work, from the data alone."""

from __future__ import annotations

import numpy as np

from bavlo.core.partials import Unit
from bavlo.core.periods import Fold

VALUES_AT_ONCE = 2**21  # cells × steps of a unit


def plan_units(fold: Fold, cells: int, values: int = VALUES_AT_ONCE) -> list[Unit]:
    """Runs of steps, cut where periods begin.

    Short periods are put together up to `values`. A long one is cut into runs of like length,
    counted from its own first step, so that its sums do not depend on what stands before it.

    Parameters
    ----------
    fold
        The steps that are needed and the periods that they belong to.
    cells
        Number of used cells.
    values
        Cells × steps of a unit.
    """
    if not fold.step.size:
        return []
    most = max(1, values // max(cells, 1))
    used = np.unique(fold.step)
    period = fold.period[np.searchsorted(fold.step, used)]
    breaks = (np.diff(used) != 1) | (np.diff(period) != 0)
    starts = np.concatenate([[0], np.flatnonzero(breaks) + 1])
    stops = np.append(starts[1:], used.size)
    units: list[Unit] = []
    for start, stop in zip(used[starts].tolist(), (used[stops - 1] + 1).tolist(), strict=True):
        if units and units[-1].last == start and stop - units[-1].first <= most:
            units[-1] = Unit(units[-1].first, stop)
        else:
            runs = -(-(stop - start) // most)
            even = -(-(stop - start) // runs)
            units.extend(Unit(s, min(s + even, stop)) for s in range(start, stop, even))
    return units
