"""How a value of a region and period came to be: its steps and cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.region_reducers import CellFirst
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.projection import edges_on_grid
from bavlo.core.space.regions import RegionEdges, Regions
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.measures import SHARES, Measure, parse_measure
from bavlo.core.time.axis import iso_days
from bavlo.core.values.combine import MEAN, MIN, TOTAL
from bavlo.core.values.kinds import CLASS, total_unit_of
from bavlo.core.values.stages import STEP as EACH_STEP
from bavlo.core.values.units import convert
from bavlo.engine.segments import Segment
from bavlo.figures.trace import TracedCells
from bavlo.grids.cells import CellSelection
from bavlo.jobs.opening import each_grid
from bavlo.jobs.periods import rules_of
from bavlo.jobs.series import (
    SeriesJob,
    SeriesPlan,
    compute_segments,
    open_inputs,
    series,
    series_result,
)
from bavlo.jobs.series import (
    plan as plan_job,
)
from bavlo.jobs.trace_lines import (
    CELL,
    NEIGHBOUR,
    NUMBER,
    RULE,
    STEP,
    Line,
    Traced,
    no_such_row,
)
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

PERCENT = 100


def traced_series(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A value of a series, made again from no more steps than it needs, and its parts."""
    if request.grids.make and request.grids.make_on != EACH_STEP:
        rule = Line(RULE, "make", note="made from several grids; trace each of them by itself")
        return Traced(series(request, report), [rule])
    if request.measuring.measure == (SHARES,):
        job, number = _job_of(request, row, report)
        return Traced(series(request, report), _class_cells(job.plans[number], row))
    job, number = _job_of(request, row, report)
    plan = job.plans[number]
    values = compute_segments(job, _needed(job, plan, row), report)[number]
    result = series_result(plan, values, report)
    place = _Place.of(plan, row)
    if place is None:
        return Traced(result)
    return Traced(result, place.lines(row), place.picture(row))


def _class_cells(plan: SeriesPlan, row: Mapping[str, Any]) -> list[Line]:
    """The cells of a region with their classes, those of the row's class first."""
    if row["region"] not in plan.inputs.labels or row["period"] not in plan.chosen.axis.labels:
        raise no_such_row(row["region"], f"period {row['period']}")
    alone = plan.inputs.index.of_region(plan.inputs.labels.index(row["region"]))
    steps = _steps_of(plan, plan.chosen.axis.labels.index(row["period"]), 1)[0]
    first = int(steps[0]) if steps.size else 0
    cells = CellSelection(alone.shape, alone.cells)
    codes = plan.inputs.source.read(first, first + 1, cells)[0]
    flags = dict(plan.inputs.source.variable.flags)
    names = [flags.get(int(c), f"{c:g}") if c == c else "" for c in codes.tolist()]
    area = plan.inputs.source.layout.ellipsoid_areas(alone.cells) * alone.fraction
    lines = _cell_lines(plan, alone, alone.weight, area=area, value=codes, note=names)
    return sorted(lines, key=lambda line: line.note != str(row["class"]))


def _cell_lines(
    plan: SeriesPlan, overlay: Overlay, weight: np.ndarray, **columns: Any
) -> list[Line]:
    """One line a cell of the overlay of one region, the heaviest first.

    Parameters
    ----------
    weight : (C,)
        What cells weigh beside one another.
    columns
        Further columns of the lines by cell, (C,) each.
    """
    row, column = np.divmod(overlay.cells, overlay.shape[1])
    columns["x"], columns["y"] = plan.inputs.source.layout.places(overlay.cells)
    columns["share"], columns["weight"] = (
        overlay.fraction,
        weight / max(float(weight.sum()), 1e-300),
    )
    plain = {name: np.asarray(column).tolist() for name, column in columns.items()}
    return [
        Line(CELL, f"{row[n]}, {column[n]}", **{name: of[n] for name, of in plain.items()})
        for n in np.argsort(-weight, kind="stable").tolist()
    ]


def _job_of(request: Request, row: Mapping[str, Any], report: Reporter) -> tuple[SeriesJob, int]:
    """The job of the grid that the row is about, and the number of its sort of periods."""
    for one in each_grid(request):
        job = plan_job(one, open_inputs(one, report))
        if job.inputs.source.variable.name != row["variable"]:
            continue
        for n, plan in enumerate(job.plans):
            if row.get("every") in (None, "", plan.request.time.every_text):
                return job, n
    raise no_such_row(row["variable"], "no grid of that name")


def _needed(job: SeriesJob, plan: SeriesPlan, row: Mapping[str, Any]) -> Sequence[Segment]:
    """The segments that the row's number is made of; all where it is not made of its own steps."""
    time = plan.request.time
    if plan.inputs.of_whole.any() or time.window[0] > 1 or time.combine.running or time.same_span:
        return job.segments
    if row["period"] not in plan.chosen.axis.labels:
        return job.segments
    steps = _steps_of(plan, plan.chosen.axis.labels.index(row["period"]), 1)[0]
    if not steps.size:
        return job.segments[:1]
    first, last = int(steps.min()), int(steps.max()) + 1
    inside = [s.first < last and s.last > first for s in job.segments]
    for n in range(1, len(inside)):  # what goes on from segment to segment is merged as a whole
        if inside[n - 1] and job.segments[n].continues_from is not None:
            inside[n] = True
    for n in reversed(range(len(inside) - 1)):
        if inside[n + 1] and job.segments[n + 1].continues_from is not None:
            inside[n] = True
    return [s for s, wanted in zip(job.segments, inside, strict=True) if wanted]


def _steps_of(plan: SeriesPlan, period: int, count: int) -> tuple[np.ndarray, np.ndarray]:
    """The steps of the last `count` periods up to one, and their shares that belong to it."""
    assignment = plan.step_weights.assignment
    own = (assignment.period <= period) & (assignment.period > period - count)
    steps, position = np.unique(assignment.step[own], return_inverse=True)
    return steps, np.bincount(position, assignment.share[own], steps.size)


@dataclass(frozen=True, eq=False)
class _Place:
    """Where a value stands in its plan, with the values of its steps and cells.

    Parameters
    ----------
    steps, shares : (T,)
        Its steps, and the share of each that belongs to it.
    index
        Of the one region.
    by_step, area : (T,) float64
        The measure of each step and the share of the area that has data.
    by_cell, days : (K,) float64
        Each cell's value of the period, and the share of time that it has data.
    """

    plan: SeriesPlan
    region: int
    measure: Measure
    order: str
    steps: np.ndarray
    shares: np.ndarray
    index: OverlayIndex
    by_step: np.ndarray
    area: np.ndarray
    by_cell: np.ndarray
    days: np.ndarray

    @classmethod
    def of(cls, plan: SeriesPlan, row: Mapping[str, Any]) -> _Place | None:
        """Read the steps of the row again, the cells of its region only; None where not plain."""
        labels = plan.chosen.axis.labels
        names = [measure.name for measure in plan.inputs.measures]
        if row["period"] not in labels or row["region"] not in plan.inputs.labels:
            raise no_such_row(row["region"], f"period {row['period']}")
        r, m = plan.inputs.labels.index(row["region"]), names.index(row["measure"])
        alone = plan.inputs.index.of_region(r)
        if not alone.cells.size or alone.shape != plan.inputs.source.layout.shape:
            return None
        areas = None
        if any(measure.needs_areas for measure in plan.inputs.measures):
            areas = plan.inputs.source.layout.ellipsoid_areas(alone.cells)
        extra, is_count = None, False
        if plan.inputs.weights.values is not None:
            shared = plan.inputs.by_cells.overlay
            part = slice(int(shared.indptr[r]), int(shared.indptr[r + 1]))
            extra, is_count = (
                plan.inputs.weights.values[shared.index[part]],
                plan.inputs.weights.is_count,
            )
        index = OverlayIndex(alone, areas, extra, is_count)
        window = plan.request.time.window[0]
        steps, shares = _steps_of(plan, labels.index(row["period"]), window)
        measure, order = plan.inputs.measures[m], plan.inputs.orders[m]
        shown = measure if order == "region" else parse_measure("mean")
        parts = _replayed(plan, steps, shares, index, shown)
        return cls(plan, r, measure, order, steps, shares, index, *parts)

    def lines(self, row: Mapping[str, Any]) -> list[Line]:
        """Rules, steps and cells, the heaviest cells first."""
        return [
            *self._together(row),
            *self._rules(row),
            *self._neighbours(row),
            *self._steps(row),
            *self._cells(row),
        ]

    def picture(self, row: Mapping[str, Any]) -> TracedCells:
        """The cells with their values."""
        regions = self.plan.inputs.regions.regions
        outline: RegionEdges | None = None
        if regions.outlines is not None:
            alone = regions.outlines[[self.region]]
            outline = edges_on_grid(
                Regions((regions.labels[self.region],), alone, regions.crs),
                self.plan.inputs.source.layout,
            )
        overlay = self.index.overlay
        return TracedCells(
            self.plan.inputs.source.layout,
            overlay.cells,
            overlay.fraction,
            self._converted(self.by_cell, str(row["unit"])),
            str(row["unit"]) if not self.measure.unit else self._own_unit,
            outline,
        )

    @property
    def _own_unit(self) -> str:
        return total_unit_of(self.plan.inputs.what, self.plan.combine)

    def _converted(self, values: np.ndarray, unit: str) -> np.ndarray:
        """Values in the unit of the output, where the measure has the unit of the values."""
        if self.measure.unit or self.plan.inputs.what.kind == CLASS:
            return values
        difference = self.measure.difference or self.plan.inputs.source.variable.difference
        return convert(values, self._own_unit, unit, difference=difference)

    def _together(self, row: Mapping[str, Any]) -> list[Line]:
        """The number put together from the parts shown, by plain sums in another order."""
        asked = self.plan.request.time.combine
        if asked.degree_days is not None or asked.running:
            return []
        if self.order == "cell" or self.plan.inputs.source.time is None:
            sample = CellSample(self.index, self.by_cell[None])
            found = float(self.measure.compute(sample)[0, 0])
        else:
            enough = self.area >= self.plan.request.measuring.least_area - 1e-9
            found = combined(
                self.by_step[enough],
                self.shares[enough],
                self.plan.step_weights.weight[self.steps][enough],
                self.plan.combine,
            )
        value = float(self._converted(np.array([found]), str(row["unit"]))[0])
        note = "from the steps and cells below, added up in their order"
        return [Line(NUMBER, "put together", value=value, unit=str(row["unit"]), note=note)]

    def _rules(self, row: Mapping[str, Any]) -> list[Line]:
        plan, variable = self.plan, self.plan.inputs.source.variable
        lines = [
            Line(RULE, "kind", note=f"{plan.inputs.what.kind}, told by {plan.inputs.what.why}")
        ]
        order = {
            "region": f"each step is measured over the region ({self.measure.name}), then combined",
            "cell": f"each cell is combined over the period, then measured ({self.measure.name})",
        }
        if plan.inputs.source.time is not None:
            lines.append(Line(RULE, "combine", note=f"{plan.combine} of the steps"))
            lines.append(Line(RULE, "order", note=order[self.order]))
            share = plan.request.time.least_share
            lines.append(Line(RULE, "min_steps", value=share, note="share of steps that is needed"))
        least = plan.request.measuring.least_area
        lines.append(Line(RULE, "min_area", value=least, note="share of the area that is needed"))
        factor = plan.step_weights.factor[self.steps] if self.steps.size else np.ones(1)
        if plan.combine == TOTAL and (factor != 1).any():
            note = f"{variable.unit} of a step to {self._own_unit}: times its length"
            lines.append(Line(RULE, "rate", value=float(factor[0]), note=note))
        unit = str(row["unit"])
        if unit != self._own_unit and not self.measure.unit:
            zero, one = self._converted(np.array([0.0, 1.0]), unit)
            note = f"{self._own_unit} to {unit}: times this"
            note += f", plus {zero:.10g}" if zero else ""
            lines.append(Line(RULE, "unit", value=float(one - zero), note=note))
        if plan.inputs.weights.name:
            kind = "count" if plan.inputs.weights.is_count else "density"
            lines.append(Line(RULE, "weight", note=f"{plan.inputs.weights.name}, a {kind}"))
        lines += [Line(RULE, "repaired", note=text) for text in plan.inputs.regions.repairs]
        return lines

    def _steps(self, row: Mapping[str, Any]) -> list[Line]:
        """One line a step: the value that it adds, or that is combined."""
        if self.plan.inputs.source.time is None:
            return []
        time, unit = self.plan.time, str(row["unit"])
        starts = iso_days(time.start[self.steps], time.calendar)
        ends = iso_days(time.end[self.steps] - 1, time.calendar)
        values = self._converted(self.by_step, unit)
        rows = zip(starts, ends, self.shares, self.area, values, strict=True)
        part = "of it belongs to the period"
        return [
            Line(
                STEP, start, start, end, valid=float(area), value=float(value), unit=unit,
                note="" if share == 1 else f"{share:.6g} {part}",
            )
            for start, end, share, area, value in rows
        ]  # fmt: skip

    def _cells(self, row: Mapping[str, Any]) -> list[Line]:
        """One line a cell, the heaviest first."""
        overlay, unit = self.index.overlay, str(row["unit"])
        return _cell_lines(
            self.plan,
            overlay,
            self.index.weight,
            area=overlay.weight,
            valid=self.days,
            value=self._converted(self.by_cell, unit),
            unit=[self._own_unit if self.measure.unit else unit] * overlay.cells.size,
        )

    def _neighbours(self, row: Mapping[str, Any]) -> list[Line]:
        """Of a percentile of cells the two between which it lies."""
        if self.measure.percent is None or self.order != "cell":
            return []
        known = np.flatnonzero(~np.isnan(self.by_cell) & (self.index.weight > 0))
        if not known.size:
            return []
        weight = self.index.weight[known]
        order = known[np.lexsort((weight, self.by_cell[known]))]
        weight = self.index.weight[order]
        stands = (np.cumsum(weight) - weight / 2) / weight.sum() * PERCENT
        above = int(np.searchsorted(stands, self.measure.percent))
        lon, lat = self.plan.inputs.source.layout.places(self.index.overlay.cells)
        values = self._converted(self.by_cell, str(row["unit"]))
        return [
            Line(
                NEIGHBOUR, "below" if n < above else "above", x=float(lon[order[n]]),
                y=float(lat[order[n]]), value=float(values[order[n]]), unit=str(row["unit"]),
                note=f"stands at {stands[n]:.4f} % of the weight",
            )
            for n in (above - 1, above)
            if 0 <= n < order.size
        ]  # fmt: skip


def _replayed(
    plan: SeriesPlan, steps: np.ndarray, shares: np.ndarray, index: OverlayIndex, measure: Measure
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """The plan's own reducer of cells on one region, and what it met on its way.

    Returns
    -------
    by_step, area : (T,)
        The measure of each step and the share of the area that has data.
    by_cell, days : (K,)
        Each cell's value of the period, and the share of time that it has data.
    """
    weights = plan.step_weights.of_one_period(steps, shares)
    rules = rules_of(plan.request, plan.combine, plan.inputs.what, any_area=True)
    reducer = CellFirst(index, weights, (), rules)
    cells = CellSelection(plan.inputs.index.overlay.shape, index.overlay.cells)
    factor = weights.factor if plan.combine == TOTAL else np.ones(weights.factor.size)
    by_step, area = np.full(steps.size, np.nan), np.full(steps.size, np.nan)
    states = []
    for run in _runs(steps, index.overlay.cells.size):
        block = Block(int(steps[run][0]), int(steps[run][-1]) + 1)
        values = plan.inputs.source.read(block.first, block.last, cells)
        sample = CellSample(index, values)
        by_step[run] = measure.compute(sample)[:, 0] * factor[steps[run]]
        area[run] = np.broadcast_to(sample.area_valid, (run.size, 1))[:, 0]
        states.append(reducer.state_of(block, values))
    if not states:
        none = np.full(index.overlay.cells.size, np.nan)
        return by_step, area, none, none
    sums = reduce(reducer.merge, states)[0].sums
    by_cell = sums.combined(rules, weights.period_start, weights.period_length)[0]
    return by_step, area, by_cell, sums.covered[0] / weights.period_length[0]


def _runs(steps: np.ndarray, cells: int) -> list[np.ndarray]:
    """Places of steps that follow one another, as many as are read at once."""
    breaks = np.flatnonzero(np.diff(steps) != 1) + 1
    runs = np.split(np.arange(steps.size), breaks)
    return [run[some] for run in runs for some in batches(run.size, cells)]


def combined(values: np.ndarray, share: np.ndarray, weight: np.ndarray, combine: str) -> float:
    """Values of steps put together in the plain way.

    Parameters
    ----------
    values, share, weight : (T,) float64
        Of the steps, the share of each that belongs to the period, and its weight in a mean.
    """
    known = ~np.isnan(values)
    if not known.any():
        return float("nan")
    values, share, weight = values[known], share[known], (share * weight)[known]
    if combine == TOTAL:
        return float((values * share).sum())
    if combine == MEAN:
        return float((values * weight).sum() / weight.sum())
    return float(values.min() if combine == MIN else values.max())
