"""From grids to a grid again: joined, cut, brought onto other cells, combined over periods."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.reduce.period_state import CellValues
from bavlo.core.reduce.protocol import Reducer
from bavlo.core.stats.normals import (
    NORMAL,
    TREND,
    VALUE,
    WHOLE_YEARS,
    Base,
    YearlyPeriods,
    normals,
    of_whole_years,
)
from bavlo.core.stats.trends import trends
from bavlo.core.time.axis import iso_day
from bavlo.core.values.kinds import total_unit_of
from bavlo.core.values.units import convert
from bavlo.engine import choices
from bavlo.engine.executor import by_bricks, reduced
from bavlo.engine.memory import size_text
from bavlo.engine.protocol import ArrayRecords, BrickWork, Needs
from bavlo.grids.writing import GridOutput, GridWriter
from bavlo.jobs.grid_bands import band_field
from bavlo.jobs.grid_plan import (
    GridPlan,
    against_normal,
    bands_of,
    grid_output,
    output_variables,
    plan_grid,
)
from bavlo.jobs.opening import each_grid
from bavlo.jobs.provenance import inputs_of_job, provenance_of
from bavlo.jobs.reading import BlockReader, rechunked_source
from bavlo.jobs.wording import counted, some_of
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request, TrendRequest


@dataclass(frozen=True, eq=False)
class GridResult:
    """Grids that are ready to be written, on the same cells and periods.

    Parameters
    ----------
    plans
        One for each grid.
    output
        Everything but the values.
    about
        Provenance as plain data.
    """

    plans: tuple[GridPlan, ...]
    output: GridOutput
    about: dict[str, Any]
    report: Reporter

    def write(self, writers: Sequence[GridWriter]) -> tuple[str, ...]:
        """Compute the values and hand them to writers; says what was written."""
        empty: list[str] = []
        variable = 0
        self.report.stage("reading and writing")
        for plan in self.plans:
            empty += write_grid(plan, writers, variable, self.report)
            variable += len(output_variables(plan))
        return _summary(self.plans, tuple(dict.fromkeys(empty)))


def grid(request: Request, report: Reporter) -> GridResult:
    """Grids of values, normals, anomalies or trends."""
    report.stage("opening")
    plans = tuple(plan_grid(one, report) for one in each_grid(request))
    output = grid_output(plans)
    brought = {p.source.variable.name: p.onto.way.words for p in plans if p.onto is not None}
    own: dict[str, Any] = {"resampled": brought} if brought else {}
    stored = {True: "int32", False: "float32"}
    about = provenance_of(
        request if len(plans) > 1 else plans[0].request,
        report,
        inputs_of_job(request, [plan.source for plan in plans]),
        variables=[
            {"name": one.name, "unit": one.unit, "stored": stored[one.is_class]}
            for one in output.variables
        ],
        combine={plan.source.variable.name: plan.combine for plan in plans},
        base=output.attributes.get("base"),
        **own,
        periods=f"{output.labels[0]}..{output.labels[-1]}",
    )
    return GridResult(plans, output, about, report)


def write_grid(
    plan: GridPlan, writers: Sequence[GridWriter], variable: int, report: Reporter
) -> list[str]:
    """Compute one grid and write it as a variable; the periods without any value."""
    filled = np.zeros(len(plan.written), bool)

    def put(place: int, period: int, field: np.ndarray, rows: slice) -> None:
        for writer in writers:
            writer.put(place, period, field, rows)

    # A field is compressed and written while the next one is read and brought onto its cells.
    with ThreadPoolExecutor(1) as beside:
        writing: Future[None] | None = None
        for rows, band in bands_of(plan):
            for place, n, field in written_fields(band, report):
                filled[n] |= not np.isnan(field).all()
                if writing is not None:
                    writing.result()
                writing = beside.submit(put, variable + place, n, field, rows)
        if writing is not None:
            writing.result()
    return [label for label, found in zip(plan.written.labels, filled, strict=True) if not found]


def written_fields(plan: GridPlan, report: Reporter) -> Iterator[tuple[int, int, np.ndarray]]:
    """The same as `band_fields`, on the cells that are written, as rows and columns."""
    if plan.in_bands:
        yield 0, 0, band_field(plan, report)
        return
    for place, n, values in band_fields(plan, report):
        field = values.reshape(plan.layout.shape)
        if plan.onto is not None:
            field = plan.onto.apply(field, plan.request.measuring.least_area)
        yield place, n, field


def band_fields(plan: GridPlan, report: Reporter) -> Iterator[tuple[int, int, np.ndarray]]:
    """Which of the grid's variables, number of the written period, and values of the cells (C,)."""
    with rechunked_source(plan.source, plan.cells, plan.request.run, report) as source:
        fields = period_fields(plan, BlockReader(source, plan.cells), report)
        if plan.request.gridding.product == TREND:
            for n, slope, p_value in trend_fields(plan, fields, report):
                yield 0, n, slope
                yield 1, n, p_value
            return
        if plan.base is not None:
            fields = fields_against_normals(plan, plan.base, fields, report)
        for n, values in fields:
            yield 0, n, values


def grid_needs(plan: GridPlan) -> Needs:
    """What blocks and bricks take in memory, and what is kept beside them."""
    cells, product = plan.cells.size, plan.request.gridding.product
    blocks = choices.blocks_of([plan.reducer.step_weights.assignment], cells)
    if not plan.reducer.combines and product == VALUE:
        return choices.needs_of_blocks(blocks, cells, "single steps", cells * 8.0)
    periods = 0 if product == VALUE else len(plan.periods)
    return choices.needs_of_grid(blocks, cells, periods, plan.request.run.memory)


def period_fields(
    plan: GridPlan, reader: BlockReader, report: Reporter
) -> Iterator[tuple[int, np.ndarray]]:
    """Number and values (C,) of one period after the other, in the output's unit."""
    assignment = plan.reducer.step_weights.assignment
    has_steps = assignment.step_ranges[1] > 0
    blocks = choices.blocks_of([assignment], plan.cells.size)
    segments = choices.segments_of([assignment], blocks)
    own, difference = total_unit_of(plan.what, plan.combine), plan.source.variable.difference
    waiting: dict[int, np.ndarray] = {}
    following = 0
    nothing = np.full(plan.cells.size, np.nan)
    reducer: Reducer[np.ndarray, Any, list[CellValues]] = plan.reducer
    run, needs = plan.request.run, grid_needs(plan)
    for settled in reduced(run, needs, report, reader, reducer, segments):
        for some in settled:
            values = convert(some.value, own, plan.unit, difference=difference)
            if plan.inside is not None:
                values = np.where(plan.inside, values, np.nan)
            waiting |= {some.first + n: row for n, row in enumerate(values)}
        # A period that goes on over several blocks comes after those that do not.
        while following in waiting or (following < len(has_steps) and not has_steps[following]):
            yield following, waiting.pop(following, nothing)
            following += 1
    for n in range(following, len(plan.periods)):
        yield n, waiting.pop(n, nothing)


@dataclass(frozen=True, eq=False)
class NormalsWork:
    """Normals of cells, and what is held against them, from the values of all periods."""

    bricks: tuple[slice, ...]
    periods: YearlyPeriods
    base: Base
    smooth: int
    product: str
    written: tuple[str, ...]
    whole_years: bool = False

    def compute(self, number: int, values: Mapping[str, np.ndarray]) -> np.ndarray:
        """(W, b) normals of the written periods, or (P, b) anomalies of all."""
        value = np.asarray(values["value"])
        of_base = of_whole_years(value, self.periods) if self.whole_years else value
        found = normals(of_base, self.periods, self.base, ("mean", "std"), self.smooth)
        position = {kind: n for n, kind in enumerate(found.cycle)}
        mean, std = found.values["mean"], found.values["std"]
        if self.product == NORMAL:
            return mean[[position[name] for name in self.written]]
        which = np.array([position[kind] for kind in self.periods.cycle])
        return against_normal(self.product, value, mean[which], std[which])


def fields_against_normals(
    plan: GridPlan,
    base: Base,
    fields: Iterator[tuple[int, np.ndarray]],
    report: Reporter,
) -> Iterator[tuple[int, np.ndarray]]:
    """All values first, then normals by bricks of cells, then one period after the other."""
    cells, count = plan.cells.size, len(plan.periods)
    is_normal = plan.request.gridding.product == NORMAL
    with _all_values(plan, fields, report) as values:
        out: np.ndarray = np.empty((len(plan.written), cells)) if is_normal else values
        work = NormalsWork(
            choices.bricks_of(cells, count),
            plan.yearly,
            base,
            plan.request.climate.smooth,
            plan.request.gridding.product,
            plan.written.labels,
            plan.request.climate.normals_from == WHOLE_YEARS,
        )
        _put_bricks(out, plan, values, work, report)
        chosen = np.arange(len(out)) if is_normal else plan.reported
        for n, p in enumerate(chosen.tolist()):
            yield n, np.asarray(out[p])


@dataclass(frozen=True, eq=False)
class TrendWork:
    """Trends of cells by period of the year, from the values of all periods."""

    bricks: tuple[slice, ...]
    periods: YearlyPeriods
    written: tuple[str, ...]
    asked: TrendRequest

    def compute(self, number: int, values: Mapping[str, np.ndarray]) -> np.ndarray:
        """(2, W, b) slopes a decade and p values of the written periods of the year."""
        value = np.asarray(values["value"])
        years = np.arange(self.periods.year.min(), self.periods.year.max() + 1)
        kinds = np.array(self.periods.cycle, object)
        out = np.full((2, len(self.written), value.shape[1]), np.nan)
        for n, kind in enumerate(self.written):
            like = kinds == kind
            block = np.full((years.size, value.shape[1]), np.nan)
            block[self.periods.year[like] - years[0]] = value[like]
            found = trends(block, years, self.asked.method, self.asked.confidence)
            out[0, n], out[1, n] = found.slope, found.p_value
        return out


def trend_fields(
    plan: GridPlan, fields: Iterator[tuple[int, np.ndarray]], report: Reporter
) -> Iterator[tuple[int, np.ndarray, np.ndarray]]:
    """All values first, then trends by bricks of cells: number, slopes and p values (C,)."""
    cells, count = plan.cells.size, len(plan.periods)
    with _all_values(plan, fields, report) as values:
        work = TrendWork(
            choices.bricks_of(cells, count),
            plan.yearly,
            plan.written.labels,
            plan.request.trends,
        )
        out = np.empty((2, len(plan.written), cells))
        _put_bricks(out, plan, values, work, report)
        for n in range(len(plan.written)):
            yield n, out[0, n], out[1, n]


def _put_bricks(
    out: np.ndarray,
    plan: GridPlan,
    values: np.ndarray,
    work: BrickWork[np.ndarray],
    report: Reporter,
) -> None:
    """Fill (…, C) with the results (…, b) of all bricks of the values (P, C) of all periods."""
    needs = Needs(grid_needs(plan).block, 0.0)  # all else is in memory already
    records = ArrayRecords({"value": values})
    results = by_bricks(plan.request.run, needs, report, records, work)
    for part, found in zip(work.bricks, results, strict=True):
        out[..., part] = found


@contextmanager
def _all_values(
    plan: GridPlan, fields: Iterator[tuple[int, np.ndarray]], report: Reporter
) -> Iterator[np.ndarray]:
    """(P, C) values of all periods: in memory, or in a scratch file when they are many."""
    run, shape = plan.request.run, (len(plan.periods), plan.cells.size)
    size, folder = shape[0] * shape[1] * 8, None
    values = np.empty(shape) if size <= choices.RECORDS_SHARE * run.memory else None
    try:
        if values is None:
            folder = Path(
                tempfile.mkdtemp(
                    prefix="bavlo-",
                )
            )
            report.note(f"{size_text(size)} of values go to a scratch file in {folder}")
            values = np.lib.format.open_memmap(folder / "values.npy", "w+", np.float64, shape)
        for n, row in fields:
            values[n] = row
        yield values
    finally:
        if folder is not None:
            shutil.rmtree(folder, ignore_errors=True)


def _summary(plans: Sequence[GridPlan], empty: Sequence[str]) -> tuple[str, ...]:
    plan = plans[0]
    periods = plan.written
    ny, nx = plan.written_layout.shape
    lines = [f"{counted(len(periods), 'period')} on {ny} rows × {nx} columns"]
    if plan.source.time is not None and len(periods):
        first = iso_day(int(periods.start[0]), periods.calendar)
        lines[0] += f", {first}..{iso_day(int(periods.end.max()) - 1, periods.calendar)}"
    for one in plans:
        if one.onto is not None:
            name = "" if len(plans) == 1 else f"{one.source.variable.name} "
            lines.append(f"{name}brought onto other cells by {one.onto.way.words}")
    if empty:
        lines.append(
            f"{counted(len(empty), 'period')} without a value anywhere, not being complete: "
            f"{some_of(empty)}"
        )
    if plan.left_out:
        lines.append(
            f"left out, since {plan.request.time.during} cuts them: {some_of(plan.left_out)}"
        )
    return tuple(lines)
