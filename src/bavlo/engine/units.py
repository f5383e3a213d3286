"""How a job is cut into units of work, from the data alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from bavlo.core.partials import Unit
from bavlo.core.periods import Fold
from bavlo.core.stretches import shared_period

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


def grouped(fold: Fold, units: Sequence[Unit], cells: int, values: int) -> list[Unit]:
    """Units that are read as one, up to a number of values.

    The units of a period that all fit stay together; of a longer one they are grouped from its own
    first step, so that a group does not depend on what stands before it.

    Parameters
    ----------
    values
        Cells × steps of a group.
    """
    most = values // max(cells, 1)
    runs: list[list[Unit]] = []
    for unit in units:
        if runs and shared_period(fold, runs[-1][-1], unit) is not None:
            runs[-1].append(unit)
        else:
            runs.append([unit])
    groups: list[list[Unit]] = []
    for run in runs:
        fits = run[-1].last - run[0].first <= most
        for n, unit in enumerate(run):
            end = run[-1].last if fits else unit.last
            joins = (n > 0 or fits) and bool(groups) and groups[-1][-1].last == unit.first
            if joins and (end - groups[-1][0].first <= most):
                groups[-1].append(unit)
            else:
                groups.append([unit])
    return [Unit(group[0].first, group[-1].last, tuple(group)) for group in groups]
