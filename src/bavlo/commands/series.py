"""Values by region and period: from a request to a table."""

from __future__ import annotations

from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.regions import RegionFirst
from bavlo.core.stats.measures import SHARES
from bavlo.core.stats.spatial import SORTED_AT_ONCE
from bavlo.core.values.formula import REGION
from bavlo.core.values.kinds import implausible
from bavlo.engine.executor import executor
from bavlo.engine.memory import Needs
from bavlo.engine.segments import VALUES_AT_ONCE, group_units, plan_segments, plan_units
from bavlo.grids.fast.packed import HasPacked
from bavlo.grids.source import where
from bavlo.plan.inspection import check_range
from bavlo.plan.provenance import about_series
from bavlo.plan.reading import BlockReader, UnitReader, rechunked_source
from bavlo.plan.result import TableResult, shapes_of
from bavlo.plan.series import SeriesPlan, plan_series
from bavlo.plan.series_reducer import SeriesReducer
from bavlo.plan.series_table import (
    SeriesArrays,
    apply_windows,
    drop_partial_sums,
    series_summary,
    series_table,
    series_title,
)
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

UNIT_VALUES = VALUES_AT_ONCE
PACKED_VALUES = 2**23  # cells × steps of a unit whose numbers are added up as they are stored
COPIES_OF_CELLS = 8  # decoded, masked, filled and transposed copies of a unit's cells
COPIES_SORTED = 8  # ranks, orders, weights and their sums of cells that are sorted together
STORED_SIZE = 4  # bytes of a number that is kept as it is stored
KEPT_PER_CELL = 9  # value, weight and cover of a period's cells: open, arriving and merged
KEPT_IN_TREE = 9  # the same where what segments leave open waits to be merged


def series(request: Request, report: Reporter) -> TableResult:
    """Aggregate a grid over regions and periods."""
    if request.grids.make and request.grids.make_on == REGION:
        from bavlo.commands.made_series import made_of_regions

        return made_of_regions(request, report, series)
    plan = plan_series(request, report)
    if request.measuring.measure == (SHARES,):
        from bavlo.commands.shares import class_shares

        return class_shares(plan, report)
    units = series_units(plan)
    segments = plan_segments(plan.step_weights.assignment, units)
    values = SeriesArrays(plan)
    needs = series_needs(plan, units, values.nbytes, trees=any(s.is_open for s in segments))
    reducer = SeriesReducer(
        tuple(group.reducer for group in plan.groups), bool(plan.of_whole.any())
    )
    with (
        rechunked_source(plan.source, plan.cells, request.run, report) as source,
        executor(request.run, needs, report.progress, report.note) as engine,
    ):
        reader = UnitReader(BlockReader(source, plan.cells))
        for settled in engine.reduce(reader, reducer, segments):
            values.store(settled)
    check_range(plan.source, values.value_range.low, values.value_range.high)
    odd = implausible(
        plan.what,
        values.value_range.low,
        values.value_range.high,
        difference=plan.source.variable.difference,
    )
    if odd:
        report.warn(f"{where(plan.source)}: {odd}")
    drop_partial_sums(plan, values)
    plan = apply_windows(plan, values)
    table = series_table(plan, values)
    summary = series_summary(plan, table)
    return TableResult(
        table,
        series_title(plan),
        summary,
        about_series(plan, table, summary, report),
        shapes=shapes_of(plan.regions),
    )


def series_units(plan: SeriesPlan) -> list[Unit]:
    """Runs of steps; larger ones where whole numbers can be added up before they are decoded."""
    cells, assignment = plan.cells.cells.size, plan.step_weights.assignment
    units = plan_units(assignment, cells, UNIT_VALUES)
    reducer = plan.groups[0].reducer  # that of regions first, where there is one
    adds_up = isinstance(reducer, RegionFirst) and reducer.sums_first
    if adds_up and isinstance(plan.source, HasPacked) and plan.source.whole_numbers:
        return group_units(assignment, units, cells, PACKED_VALUES)
    return units


def series_needs(plan: SeriesPlan, units: list[Unit], kept: int, *, trees: bool) -> Needs:
    """What units take in memory, and what is kept beside them.

    Parameters
    ----------
    kept
        Bytes of the table's numbers.
    trees
        Whether periods go on from segment to segment.
    """
    steps = max((part.last - part.first for unit in units for part in unit.each), default=0)
    stored = max((unit.last - unit.first for unit in units if unit.parts), default=0)
    largest = int(plan.overlay.entries.max(initial=0))
    sorting = max(SORTED_AT_ONCE, largest) * 8 * COPIES_SORTED
    window = sum(w.shape[0] * w.shape[1] for w in plan.cells.windows)
    cells = plan.cells.cells.size
    per_step = window * 8 * 2 + cells * 8 * COPIES_OF_CELLS
    beside = stored * window * STORED_SIZE
    for group in plan.groups:
        sorts = any(measure.percent is not None for measure in group.measures)
        if group.order == "region":
            others = any(not m.linear and m.percent is None for m in group.measures)
            per_step += plan.overlay.index.size * 8 * 2 * others
            beside += sorting * sorts
        else:
            kept += cells * 8 * (KEPT_PER_CELL + KEPT_IN_TREE * trees) + sorting * sorts
    return Needs(steps * per_step + beside, kept)
