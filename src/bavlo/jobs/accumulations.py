"""Whether the values of a grid are accumulated, and the amounts between their steps."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.time.axis import TimeAxis
from bavlo.core.time.steps import overlapping
from bavlo.core.values.accumulation import (
    LEAST_RESETS,
    Accumulation,
    differences,
    falls_twice,
    find_accumulation,
    upward,
)
from bavlo.core.values.kinds import AMOUNT, NOT_TOLD, Quantity
from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection
from bavlo.grids.source import GridSource, where
from bavlo.grids.urls import url_of
from bavlo.jobs.missing import squares
from bavlo.jobs.reading import read_side_by_side
from bavlo.request.reporter import Reporter

if TYPE_CHECKING:
    from bavlo.grids.derived import DifferencedGrid


CELLS_LOOKED_AT = 100_000  # spread over the grid, in which rain is looked for
CELLS_COMPARED = 2000
STEPS_COMPARED = (8, 40, 120, 400)  # as many are read as are needed to tell
ENOUGH_RESETS = 5
FEW_CELLS = 256  # of which the whole record is read where new beginnings are rare
DRY_PARTS = 4  # beginnings of so many parts of the record are looked at for rain


def accumulated_text(source: GridSource, what: Quantity, jobs: int = 1) -> tuple[str, str] | None:
    """The question whether depths are accumulated, and how to answer it; None where they are not.

    A sample of the values is read unless somebody said what they are.
    """
    time = source.time
    if source.variable.kind or time is None or what.kind not in (AMOUNT, NOT_TOLD):
        return None
    if url_of(source.files[0].path) is not None or len(time) < LEAST_RESETS:
        return None
    found = _accumulation(source, time, jobs)
    if found is None:
        return None
    when = {"day": "each day", "month": "each month", "year": "each year"}
    if not found.resets:
        again = "never start again"
    elif found.rule is None:
        again = "start again by no common rule"
    else:
        again = f"start again {when.get(found.rule.every, 'after a fixed time')}"
    return (
        f"{source.variable.name} seems to be accumulated: in a sample its values only "
        f"{'fall' if found.downward else 'grow'} and {again}",
        "say ‹kind accumulated› to take the amounts between steps, or ‹kind amount› if each value "
        "is the amount of its own step",
    )


def _accumulation(source: GridSource, time: TimeAxis, jobs: int) -> Accumulation | None:
    """What a sample of steps and cells tells, no more of it read than is needed."""
    raining = _raining(source, len(time), jobs)
    if raining is None:
        return None
    quantum, found, values = quantum_of(source), None, raining.values
    for steps in STEPS_COMPARED:
        first, last = raining.begin + len(values), min(raining.begin + steps, len(time))
        if first < last:
            values = np.concatenate([values, source.read(first, last, raining.cells)])
        if falls_twice(values, quantum):
            return None
        chosen = slice(raining.begin, raining.begin + len(values))
        found = find_accumulation(values, time.take(chosen), quantum)
        if found is not None and found.resets >= ENOUGH_RESETS:
            break
    return found


@dataclass(frozen=True, eq=False)
class RainingCells:
    """Cells with rain, with their values at the first steps of a sample.

    Parameters
    ----------
    begin
        The first step.
    values : (T, C) float64
        Of that step and some after it.
    """

    begin: int
    cells: CellSelection
    values: np.ndarray


def _raining(source: GridSource, steps: int, jobs: int) -> RainingCells | None:
    """Up to 2,000 cells with rain at some steps, the earliest that have any."""
    for begin in np.unique(np.linspace(0, steps, DRY_PARTS, endpoint=False).astype(int)).tolist():
        found, values = [], []
        for area in squares(source):
            every = -(-area.cells.size // CELLS_LOOKED_AT)
            cells = CellSelection(area.shape, area.cells[::every])
            block = read_side_by_side(
                source, begin, min(begin + STEPS_COMPARED[0], steps), cells, jobs
            )
            wet = np.flatnonzero((np.nan_to_num(block) != 0).any(axis=0))
            found.append(cells.cells[wet])
            values.append(block[:, wet])
        wet = np.concatenate(found)
        if wet.size:
            chosen = np.argsort(wet)[:: -(-wet.size // CELLS_COMPARED)]
            block = np.concatenate(values, axis=1)[:, chosen]
            return RainingCells(begin, CellSelection(source.layout.shape, wet[chosen]), block)
    return None


def quantum_of(source: GridSource) -> float:
    """The packing step of a grid's values; 0 where they are not packed."""
    scale = source.tiles[0].scale if source.tiles else 1.0
    return max(abs((file.packing.scale or 0.0) * scale) for file in source.files)


def differenced(source: GridSource, report: Reporter, jobs: int = 1) -> DifferencedGrid:
    """The amounts between the steps of accumulated values.

    Raises
    ------
    InputError
        Where there is no time axis, or values begin anew by no common rule.
    """
    from bavlo.grids.derived import DifferencedGrid

    time = source.time
    if time is None:
        raise InputError(where(source), "has no time axis, and accumulated values grow in time")
    if overlapping(time) is not None:
        beginnings, how = time.start, "bounds in the file, from the beginning of each accumulation"
    else:
        found = _accumulation_of_all(source, time, jobs)
        if found is not None and found.irregular:
            raise InputError(
                where(source),
                "has accumulated values that begin anew at no common hour, date or lead time",
                "give the files of each run by themselves, or bounds that tell when each began",
            )
        if found is None or found.rule is None:
            beginnings = np.full(len(time), np.iinfo(np.int64).min + 1)
            how = "differences of accumulated values that never begin anew"
        else:
            first, last = int(time.start[0]), int(time.end[-1])
            instants = found.rule.instants(first, last, time.calendar)
            position = np.searchsorted(instants, time.end, side="left") - 1
            beginnings = instants[position]
            how = f"differences of accumulated values that begin anew {found.rule}"
    steps = differences(time, beginnings, how)
    if steps.left_out:
        report.note(f"{source.variable.name}: the first step is left out, since it began earlier")
    variable = replace(
        source.variable, kind=AMOUNT, kind_evidence="the request: differences of accumulated values"
    )
    return DifferencedGrid(source, steps, variable, _may_fall(source, time, jobs), source.notes)


def _may_fall(source: GridSource, time: TimeAxis, jobs: int) -> float:
    """By how much an accumulation may fall: by rounding, and by what goes the other way."""
    quantum = quantum_of(source)
    found = _raining(source, len(time), jobs)
    if found is None:
        return quantum
    last = min(found.begin + STEPS_COMPARED[-2], len(time))
    few = CellSelection(source.layout.shape, found.cells.cells[:FEW_CELLS])
    values = source.read(found.begin, last, few)
    if not (values < -quantum).any():
        return quantum
    return max(quantum, float(np.median(upward(values, quantum)[1])))


def _accumulation_of_all(source: GridSource, time: TimeAxis, jobs: int) -> Accumulation | None:
    """What a sample tells, and where it holds few new beginnings the record of some cells."""
    found = _accumulation(source, time, jobs)
    if found is not None and found.resets >= LEAST_RESETS:
        return found
    raining = _raining(source, len(time), jobs)
    if raining is None:
        return None
    few = CellSelection(source.layout.shape, raining.cells.cells[:FEW_CELLS])
    return find_accumulation(source.read(0, len(time), few), time, quantum_of(source))
