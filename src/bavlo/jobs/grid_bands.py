"""Large grids without time brought onto other cells of their system, band by band."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import Block, EachAlone
from bavlo.core.space.axis_regrid import AxisShares
from bavlo.core.space.regrid import Majority
from bavlo.core.space.row_sums import RowSums
from bavlo.core.values.kinds import total_unit_of
from bavlo.core.values.units import convert
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.engine.segments import Segment
from bavlo.jobs.bands import RowReader, band_needs
from bavlo.jobs.grid_plan import GridPlan
from bavlo.request.reporter import Reporter

SUMS = 2  # weights and totals of the new rows, whose columns are the old ones


@dataclass(frozen=True, eq=False)
class RowSumsReducer(EachAlone[tuple[int, RowSums]]):
    """Sums of each band; all of them are put together in the end, in order of rows.

    Parameters
    ----------
    origin
        The row of the grid that is the first of those beneath the new cells.
    units
        In which values are stored and written.
    """

    areas: AxisShares
    of_codes: bool
    origin: int
    units: tuple[str, str]
    difference: bool

    def update(self, block: Block, values: np.ndarray) -> list[list[tuple[int, RowSums]]]:
        """The sums of one band, with its first row."""
        if self.units[0] != self.units[1]:
            values = convert(values, *self.units, difference=self.difference)
        first = block.first - self.origin
        return [[(first, self.areas.sums(first, values, of_codes=self.of_codes))]]


def band_field(plan: GridPlan, report: Reporter) -> np.ndarray:
    """(ny', nx') values on the new cells of some rows, whose old rows are read a few at a time."""
    if plan.onto is None or plan.cells.whole_rows is None:
        raise TypeError("only grids that are brought onto other cells are read in bands")
    regrid, rows = plan.onto.regrid, plan.cells.whole_rows
    areas = regrid.areas if isinstance(regrid, Majority) else regrid
    if not isinstance(areas, AxisShares):
        raise TypeError("only grids of one reference system are read in bands")
    own = total_unit_of(plan.what, plan.combine)
    reducer = RowSumsReducer(
        areas,
        isinstance(regrid, Majority),
        rows.start,
        (own, plan.unit),
        plan.source.variable.difference,
    )
    width = plan.cells.shape[1]
    blocks = choices.bands_of(rows.start, rows.stop, width)
    kept = plan.onto.layout.shape[0] * width * 8.0 * SUMS
    needs = band_needs(plan.source, (rows.start, rows.stop), kept)
    found: list[tuple[int, RowSums]] = []
    run = plan.request.run
    reader = RowReader(plan.source)
    segments = [Segment((block,)) for block in blocks]
    for settled in reduced(run, needs, report, reader, reducer, segments):
        found += settled
    sums = [each for _, each in sorted(found, key=lambda one: one[0])]
    field = areas.of_sums(sums, plan.request.measuring.least_area)
    if plan.onto.inside is None:
        return field
    return np.where(plan.onto.inside.reshape(field.shape), field, np.nan)
