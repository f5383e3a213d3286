"""The numbers of a series and the table that they become."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.reduce.series import SeriesSettled, ValueRange, either
from bavlo.core.stats.bands import SumsSample
from bavlo.core.stats.cell_sample import WHOLE_WITHIN
from bavlo.core.stats.measures import VOLUMES
from bavlo.core.stats.windows import over_windows, running, windowed
from bavlo.core.time.axis import DAY, PERIOD, iso_day
from bavlo.core.values.kinds import total_unit_of
from bavlo.core.values.units import convert, depth_in_mm
from bavlo.jobs.bands import measured
from bavlo.jobs.periods import periods_of
from bavlo.jobs.wording import counted, empty_rows, outside_notes, row_count, some_of
from bavlo.tables.schema import SERIES
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from bavlo.jobs.series import SeriesPlan


class SeriesArrays:
    """The table's numbers, filled in as periods end.

    Attributes
    ----------
    value, area_valid : (R, P, M) float64
        NaN where there is none.
    steps : (R, P) float64
        Steps that count.
    start : (P,) int64
        Microseconds since 1970: start of the time that each value covers; differs from the
        period's start with windows and running values.
    place : (R, P, M) int64 or None
        Number of the used cell that holds each value, -1 for none; None where nobody asks.
    value_range
        Lowest and highest value of all cells.
    has_data : (C,) bool or None
        Which cells had data at any step, where a measure needs to know.
    never_valid : (R,) float64 or None
        Share of each region's area whose cells never have data, where a measure needs to know.
    """

    def __init__(self, plan: SeriesPlan) -> None:
        shape = (len(plan.inputs.labels), len(plan.chosen.axis), len(plan.inputs.measures))
        self.groups = plan.groups
        self.value = np.full(shape, np.nan)
        self.area_valid = np.full(shape, np.nan)
        self.steps = np.zeros(shape[:2])
        self.start = plan.chosen.axis.start
        self.place: np.ndarray | None = None
        if plan.request.measuring.place:
            self.place = np.full(shape, -1)
        self.value_range = ValueRange()
        self.has_data: np.ndarray | None = None
        self.never_valid: np.ndarray | None = None

    @property
    def nbytes(self) -> int:
        """What it takes in memory."""
        return self.value.nbytes + self.area_valid.nbytes + self.steps.nbytes

    def store(self, settled: SeriesSettled) -> None:
        """Take in the values of periods that are over."""
        self.value_range = self.value_range.wider(settled.value_range)
        self.has_data = either(self.has_data, settled.has_data)
        for group, values in zip(self.groups, settled.groups, strict=True):
            for each in values:
                rows = slice(each.first, each.first + each.steps.shape[0])
                self.value[:, rows, group.positions] = each.value.transpose(1, 0, 2)
                self.area_valid[:, rows, group.positions] = each.area_valid.T[:, :, None]
                if group is self.groups[-1]:  # whose steps count, whichever is settled last
                    self.steps[:, rows] = each.steps.T
                if self.place is not None and each.place is not None:
                    self.place[:, rows, group.positions] = each.place.transpose(1, 0, 2)

    def store_sums(self, plan: SeriesPlan, sample: SumsSample, value_range: ValueRange) -> None:
        """Take in the values of a grid without time that was added up by bands."""
        self.value_range = value_range
        asked = plan.request.measuring.least_area
        least = [0.0 if of_whole else asked for of_whole in plan.inputs.of_whole]
        value, enough = measured(sample, plan.inputs.measures, least)
        self.value[:, 0], self.area_valid[:, 0] = value, sample.area_valid[0][:, None]
        # As where cells are listed: the last sort of measures tells which steps count.
        last = max(
            range(len(least)), key=lambda m: (plan.inputs.orders[m] == "cell", least[m] == asked)
        )
        self.steps[:, 0] = enough[:, last]
        if plan.inputs.of_whole.any():
            self.never_valid = sample.never_valid


def drop_partial_sums(plan: SeriesPlan, values: SeriesArrays) -> None:
    """Sums over cells have no value where cells lack data that have some at other times.

    Cells that never have data, such as the sea, are left out of that.
    """
    if values.has_data is not None:
        index = plan.inputs.by_cells
        never = (~values.has_data).astype(np.float64)
        values.never_valid = (index.areas @ never) / index.region_weight
    if values.never_valid is None:
        return
    whole = 1 - values.never_valid[:, None, None] - WHOLE_WITHIN
    partial = (values.area_valid < whole) & plan.inputs.of_whole
    values.value[partial] = np.nan


def apply_windows(plan: SeriesPlan, values: SeriesArrays) -> SeriesPlan:
    """Make windows or running values of the regions' own, and drop the periods before them.

    Returns
    -------
    plan
        With the periods that are reported.
    """
    request, periods, lead = plan.request, plan.chosen.axis, plan.chosen.lead
    assignment = plan.step_weights.assignment
    count = request.time.window[0]
    regions, length, measures = values.value.shape
    flat = values.value.transpose(1, 0, 2).reshape(length, -1)
    if request.time.combine.running:
        around = periods_of(request.time.rule, plan.time)
        flat, values.start = running(flat, periods, around, plan.combine, request.time.least_share)
    elif count > 1:
        flat, first = windowed(flat, periods.start, periods.end, count, plan.combine)
        values.start = periods.start[np.where(first >= 0, first, np.arange(length))]
    else:
        return plan
    begin = np.searchsorted(periods.start, values.start)
    whole = (periods.end - periods.start) / DAY
    area = values.area_valid.transpose(0, 2, 1)
    known = np.nan_to_num(area) * whole
    share = over_windows(known, begin) / over_windows(whole, begin)
    values.area_valid = share.transpose(0, 2, 1)[:, lead:]
    values.steps = over_windows(values.steps, begin)[:, lead:]
    values.value = flat.reshape(length, regions, measures).transpose(1, 0, 2)[:, lead:].copy()
    values.start = values.start[lead:]
    assignment = replace(assignment, expected=over_windows(assignment.expected, begin)[lead:])
    return replace(
        plan,
        chosen=replace(plan.chosen, axis=periods.take(np.arange(lead, length))),
        step_weights=replace(plan.step_weights, assignment=assignment),
    )


def series_table(plan: SeriesPlan, values: SeriesArrays) -> Table:
    """The table of a series, its values in the unit of the output."""
    own_unit = total_unit_of(plan.inputs.what, plan.combine)
    units = []
    for n, measure in enumerate(plan.inputs.measures):
        if measure.made_of == VOLUMES:  # depth in the own unit times km²
            values.value[:, :, n] *= depth_in_mm(own_unit) * 1e3
        if measure.unit is not None:
            units.append(measure.unit)
            continue
        unit = plan.request.measuring.unit or own_unit
        values.value[:, :, n] = convert(
            values.value[:, :, n],
            own_unit,
            unit,
            difference=measure.difference or plan.inputs.source.variable.difference,
        )
        units.append(unit)

    starts, ends = replace(plan.chosen.axis, start=values.start).bounds_text()
    x, y = _places(plan, values)
    return SERIES.table(
        {
            "region": plan.inputs.labels,
            "period": plan.chosen.axis.labels,
            "start": starts,
            "end": ends,
            "variable": plan.inputs.source.variable.name,
            "measure": [measure.name for measure in plan.inputs.measures],
            "value": values.value,
            "unit": units,
            "combine": _combine_text(plan),
            "window": plan.request.time.window[0] if max(plan.request.time.window) > 1 else None,
            "order": plan.inputs.orders,
            "area_valid": values.area_valid,
            "steps": values.steps,
            "steps_expected": plan.step_weights.assignment.expected,
            "note": _notes(plan, values),
            "calendar": None if plan.time.is_gregorian else plan.time.calendar,
            "weight": plan.inputs.weights.name,
            "level": plan.inputs.source.variable.level or None,
            "x": x,
            "y": y,
        }
    )


def _places(plan: SeriesPlan, values: SeriesArrays) -> tuple[np.ndarray | None, np.ndarray | None]:
    """(R, P, M) longitudes and latitudes of the cells that hold the values, where asked for."""
    if values.place is None:
        return None, None
    lon, lat = plan.inputs.source.layout.places(plan.inputs.by_cells.overlay.cells)
    none = (values.place < 0) | np.isnan(values.value)
    return tuple(np.where(none, np.nan, a[values.place]) for a in (lon, lat))  # type: ignore[return-value]


def _combine_text(plan: SeriesPlan) -> str:
    """How steps were combined, as in the column."""
    if plan.inputs.source.time is None:
        return ""
    if plan.request.time.combine.degree_days is not None:
        return str(plan.request.time.combine)
    if plan.time.length == PERIOD:
        return plan.inputs.source.how_combined
    return f"running {plan.combine}" if plan.request.time.combine.running else plan.combine


def _notes(plan: SeriesPlan, values: SeriesArrays) -> np.ndarray:
    """Why a value is empty, in a few words; (R, P, M)."""
    notes = np.full(values.value.shape, "", object)
    outside = outside_notes(plan.inputs.regions.regions, plan.inputs.index.overlay.entries)
    expected = plan.step_weights.assignment.expected
    for region, period, measure in np.argwhere(np.isnan(values.value)).tolist():
        steps, wanted = values.steps[region, period], expected[period]
        area = values.area_valid[region, period, measure]
        if outside[region]:
            note = outside[region]
        elif area < 1 and (steps == 0 or steps >= wanted):
            note = f"area_valid {area:.2f}"
        elif steps >= wanted:  # the record begins within the window
            note = "window not complete"
        else:
            note = f"{steps:.6g} of {wanted:.6g} {plan.time.steps_name}"
        notes[region, period, measure] = note
    never = np.zeros(0) if values.never_valid is None else values.never_valid
    for region in np.flatnonzero(never > WHOLE_WITHIN).tolist():
        share = f"{100 * never[region]:.3g} % of the area never has data"
        known = ~np.isnan(values.value[region]) & plan.inputs.of_whole
        notes[region][known] = share
    return notes


def series_summary(plan: SeriesPlan, table: Table) -> tuple[str, ...]:
    """What was computed and what was left empty, in sentences."""

    lines = [
        f"{row_count(table)}: {' × '.join(counted(n, noun) for noun, n in table.axes.items())}"
    ]
    if plan.inputs.source.time is not None:
        calendar = plan.time.calendar
        first, last = int(plan.chosen.axis.start[0]), int(plan.chosen.axis.end[-1]) - 1
        lines[0] += f", {iso_day(first, calendar)}..{iso_day(last, calendar)}"
    lines += empty_rows(table)
    if plan.chosen.left_out:
        lines.append(
            f"left out, since {plan.request.time.during} cuts "
            f"{'it' if len(plan.chosen.left_out) == 1 else 'them'}: {some_of(plan.chosen.left_out)}"
        )
    return tuple(lines)
