"""From grids to a grid again: joined, cut, brought onto other cells, combined over periods."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.combine import MAX, MEAN, MIN, TOTAL
from bavlo.core.errors import RequestError
from bavlo.core.layout import CurvilinearLayout, GridLayout
from bavlo.core.normals import Base, default_base, in_years, normals
from bavlo.core.partials import Partial, Unit
from bavlo.core.periods import PeriodAxis, fold
from bavlo.core.reductions import CellsAlone
from bavlo.core.regrid import Regrid, regrid_onto
from bavlo.core.stretches import InOrder
from bavlo.core.timeaxis import STATIC, TimeAxis, iso_day, to_dates
from bavlo.core.units import CLASS, Quantity, convert
from bavlo.engine import local
from bavlo.engine.units import plan_units
from bavlo.formats.grids import open_grid
from bavlo.formats.grids.source import CellSelection, GridSource, where
from bavlo.formats.grids.writing import GridOutput, GridWriter
from bavlo.study.job import (
    check_complete,
    check_unit,
    choose_combine,
    choose_periods,
    folding_of,
    is_temperature,
    open_source,
    overlay_of,
    regions_of,
    rules_of,
    some_of,
    unit_of,
)
from bavlo.study.listener import Listener
from bavlo.study.memory import size_text
from bavlo.study.provenance import grid_about
from bavlo.study.request import Request, expand
from bavlo.study.series import counted

VALUE, NORMAL, ANOMALY, PERCENT, SCORE = "value", "normal", "anomaly", "percent", "score"
KINDS = (VALUE, NORMAL, ANOMALY, PERCENT, SCORE)
METHODS = {TOTAL: "sum", MEAN: "mean", MIN: "minimum", MAX: "maximum"}  # CF cell methods
BRICK_VALUES = 2**22  # periods × cells that normals are made of at once
KEPT_SHARE = 0.25  # of --memory that values may take before they go to a scratch file


@dataclass(frozen=True, eq=False)
class GridJob:
    """A request for a grid, with its files opened and its choices made.

    Parameters
    ----------
    layout
        Cells that are written, before they are brought onto others.
    cells
        The same cells of the source, row by row.
    inside : (C,) bool or None
        Cells that regions cover, where the rest becomes missing.
    """

    request: Request
    source: GridSource
    what: Quantity
    combine: str
    periods: PeriodAxis
    left_out: tuple[str, ...]
    reduction: CellsAlone
    layout: GridLayout
    cells: CellSelection
    inside: np.ndarray | None
    onto: tuple[GridLayout, Regrid] | None

    @property
    def unit(self) -> str:
        """Of the values."""
        return self.request.unit or unit_of(self.what, self.combine)


def prepare_grid(request: Request, listener: Listener) -> GridJob:
    """Open the grid, and settle cells, periods and rules."""
    source, what = open_source(request, listener)
    if what.kind == CLASS and source.time is not None and request.every not in (None, "step"):
        raise RequestError("--every", "class codes are not combined over time", "use --every step")
    if source.time is None and request.kind != VALUE:
        raise RequestError("--as", f"{where(source)} has no time axis", "leave it out")
    if request.every is None and source.time is not None and request.kind == VALUE:
        request = replace(request, every="step", rule=replace(request.rule, kind="step"))
    time = source.time or STATIC
    combine = choose_combine(request, what, source)
    wanted = request if request.kind == VALUE else replace(request, during=None)
    periods, left_out, _ = choose_periods(
        wanted, time, where(source), is_static=source.time is None
    )
    check_complete(request, time)
    check_unit(request, what, combine)
    folding = folding_of(
        time,
        what,
        periods,
        fold(time, periods, may_share=combine in (TOTAL, MEAN)),
        request.combine.degree_days,
    )
    layout, cells, inside = _cut(request, source, listener)
    onto = None
    if request.onto is not None:
        if what.kind == CLASS:
            raise RequestError("--onto", "class codes are not averaged", "leave it out")
        target = open_grid(expand(str(request.onto))).layout
        onto = target, regrid_onto(layout, target)
    return GridJob(
        request,
        source,
        what,
        combine,
        periods,
        tuple(left_out),
        CellsAlone(folding, rules_of(request, combine, what)),
        layout,
        cells,
        inside,
        onto,
    )


def _cut(
    request: Request, source: GridSource, listener: Listener
) -> tuple[GridLayout, CellSelection, np.ndarray | None]:
    """The rectangle of cells that is written, and which of them regions cover."""
    layout = source.layout
    ny, nx = layout.shape
    if request.regions is None:
        if request.outside is not None:
            raise RequestError("--outside", "goes with --regions", "name a file of regions")
        return layout, CellSelection((ny, nx), np.arange(ny * nx)), None
    regions = regions_of(request, listener)
    shared = overlay_of(regions.regions, layout, "cell")
    if not shared.cells.size:
        raise RequestError("--regions", "no region lies on the grid", "check the files")
    covered = np.zeros((ny, nx), bool)
    covered.ravel()[shared.cells] = True
    outside = request.outside or "both"
    rows, columns = slice(0, ny), slice(0, nx)
    if outside in ("crop", "both"):
        if isinstance(layout, CurvilinearLayout):
            raise RequestError("--outside", "this grid cannot be cropped", "use --outside missing")
        r, c = np.flatnonzero(covered.any(axis=1)), np.flatnonzero(covered.any(axis=0))
        rows, columns = slice(int(r[0]), int(r[-1]) + 1), slice(int(c[0]), int(c[-1]) + 1)
        layout = GridLayout(
            layout.x_edges[columns.start : columns.stop + 1],
            layout.y_edges[rows.start : rows.stop + 1],
            layout.crs,
        )
    number = np.arange(ny * nx).reshape(ny, nx)[rows, columns].ravel()
    inside = covered[rows, columns].ravel() if outside in ("missing", "both") else None
    return layout, CellSelection((ny, nx), number), inside


def values_of(job: GridJob, listener: Listener) -> Iterator[tuple[int, np.ndarray]]:
    """Number and values (C,) of one period after the other, in the output's unit."""
    reduction = job.reduction
    units = plan_units(reduction.folding.fold, job.cells.cells.size)

    def work(unit: Unit) -> Partial | None:
        return reduction.update(unit, job.source.read(unit.first, unit.last, job.cells))

    order = InOrder(reduction.merge)
    own = unit_of(job.what, job.combine)
    done = 0
    total = units[-1].last - units[0].first if units else 0

    def converted(partials: list[Partial]) -> Iterator[tuple[int, np.ndarray]]:
        nonlocal done
        for partial in partials:
            values = convert(
                reduction.cells(partial), own, job.unit, difference=job.source.variable.difference
            )
            if job.inside is not None:
                values = np.where(job.inside, values, np.nan)
            for n, row in enumerate(values):
                # A period without any step at all has no values either.
                for empty in range(done, partial.first + n):
                    yield empty, np.full(row.shape, np.nan)
                yield partial.first + n, row
                done = partial.first + n + 1

    for unit, partial in zip(units, local.run(work, units, job.request.jobs), strict=True):
        yield from converted(order.add(partial))
        listener.progress(unit.last - units[0].first, total, "steps")
    yield from converted(order.close())
    for empty in range(done, len(job.periods)):
        yield empty, np.full(job.cells.cells.size, np.nan)


@dataclass(frozen=True, eq=False)
class GridResult:
    """What is written, and in words what it is.

    Parameters
    ----------
    output
        Everything but the values.
    fill
        Hands the values to one or more writers.
    """

    output: GridOutput
    fill: Callable[[list[GridWriter]], tuple[str, ...]]
    about: dict[str, Any]


def grid(request: Request, listener: Listener) -> GridResult:
    """A grid of values, normals or anomalies."""
    job = prepare_grid(request, listener)
    if request.kind == VALUE:
        output = _output(job, job.periods, "", None)
        return GridResult(
            output,
            lambda writers: _fill_values(job, writers, listener),
            grid_about(job, output, listener),
        )
    time = job.source.time
    assert time is not None
    years = _years(job.periods)
    base = request.base or default_base(years)
    if not in_years(years, base).any():
        raise RequestError(
            "--base", f"{base} is outside the data", f"the data have {years.min()}..{years.max()}"
        )
    reported = _reported(request, job, time)
    periods = job.periods.take(reported)
    if request.kind == NORMAL:
        periods = _of_the_year(job.periods, years, base)
    output = _output(job, periods, request.kind, base)
    return GridResult(
        output,
        lambda writers: _fill_against_normals(job, years, base, reported, writers, listener),
        grid_about(job, output, listener),
    )


def _years(periods: PeriodAxis) -> np.ndarray:
    return np.array([date.year for date in to_dates(periods.end - 1, periods.calendar)])


def _reported(request: Request, job: GridJob, time: TimeAxis) -> np.ndarray:
    if request.during is None:
        return np.arange(len(job.periods))
    first, last = request.during.instants(time.calendar)
    inside = np.flatnonzero((job.periods.start >= first) & (job.periods.end <= last))
    if not inside.size:
        raise RequestError(
            "--during",
            f"{request.during} holds no whole period of --every {request.every or 'month'}",
            f"the data have {job.periods.labels[0]}..{job.periods.labels[-1]}",
        )
    return inside


def _of_the_year(periods: PeriodAxis, years: np.ndarray, base: Base) -> PeriodAxis:
    """The periods of the year, each from its first to its last occurrence in the base."""
    cycle = tuple(dict.fromkeys(periods.cycle))
    if len(cycle) > 100:
        cycle = tuple(sorted(cycle))
    inside = in_years(years, base)
    names = np.array(periods.cycle, object)
    at = [np.flatnonzero(inside & (names == kind)) for kind in cycle]
    kept = [n for n, place in enumerate(at) if place.size]
    return PeriodAxis(
        tuple(cycle[n] for n in kept),
        tuple(cycle[n] for n in kept),
        np.array([periods.start[at[n][0]] for n in kept], np.int64),
        np.array([periods.end[at[n][-1]] for n in kept], np.int64),
        periods.calendar,
    )


def _output(job: GridJob, periods: PeriodAxis, kind: str, base: Base | None) -> GridOutput:
    variable = job.source.variable
    way = {TOTAL: "sum"}.get(
        job.combine, {"min": "minimum", "max": "maximum"}.get(job.combine, "mean")
    )
    name, long_name, unit = variable.name, variable.title, job.unit
    methods = f"time: {way}" if job.source.time is not None else ""
    difference = variable.difference or (kind == ANOMALY and is_temperature(unit))
    if kind:
        name = f"{name}_{kind}"
        long_name = {
            NORMAL: f"{long_name}, normal of {base}",
            ANOMALY: f"{long_name}, anomaly against {base}",
            PERCENT: f"{long_name}, percent of the normal of {base}",
            SCORE: f"{long_name}, anomaly in standard deviations of {base}",
        }[kind]
        unit = {PERCENT: "%", SCORE: "1"}.get(kind, unit)
    if kind == NORMAL:
        methods = f"time: {way} within years time: mean over years"
    layout = job.layout if job.onto is None else job.onto[0]
    attributes = {"title": long_name, "source": f"made by Bavlo from {where(job.source)}"}
    if base is not None:
        attributes["base"] = str(base)
    return GridOutput(
        name.replace("/", "_"),
        long_name,
        unit,
        methods,
        layout,
        periods.labels,
        periods.start,
        periods.end,
        periods.calendar,
        kind == NORMAL,
        attributes,
        difference,
    )


def _put(job: GridJob, writers: list[GridWriter], period: int, values: np.ndarray) -> bool:
    """Write one period everywhere; whether it has any value."""
    field = values.reshape(job.layout.shape)
    if job.onto is not None:
        field = job.onto[1].apply(field, job.request.min_area)
    for writer in writers:
        writer.put(period, field)
    return not np.isnan(field).all()


def _fill_values(job: GridJob, writers: list[GridWriter], listener: Listener) -> tuple[str, ...]:
    empty = [
        job.periods.labels[n]
        for n, values in values_of(job, listener)
        if not _put(job, writers, n, values)
    ]
    return _summary(job, job.periods, empty)


def _fill_against_normals(
    job: GridJob,
    years: np.ndarray,
    base: Base,
    reported: np.ndarray,
    writers: list[GridWriter],
    listener: Listener,
) -> tuple[str, ...]:
    """All values first, then normals by bricks of cells, then one period after the other."""
    cells, count = job.cells.cells.size, len(job.periods)
    with _kept((count, cells), job.request, listener) as values:
        for n, row in values_of(job, listener):
            values[n] = row
        brick = max(1, BRICK_VALUES // count)
        cycle = job.periods.cycle
        out: np.ndarray = values
        if job.request.kind == NORMAL:
            names = _of_the_year(job.periods, years, base).labels
            out = np.empty((len(names), cells))
        for first in range(0, cells, brick):
            part = slice(first, first + brick)
            found = normals(
                np.asarray(values[:, part]),
                cycle,
                years,
                base,
                ("mean", "std"),
                job.periods.calendar,
                job.request.smooth,
            )
            place = {kind: n for n, kind in enumerate(found.cycle)}
            mean, std = found.values["mean"], found.values["std"]
            if job.request.kind == NORMAL:
                out[:, part] = mean[[place[name] for name in names]]
                continue
            which = np.array([place[kind] for kind in cycle])
            values[:, part] = _against(job.request.kind, values[:, part], mean[which], std[which])
        chosen = np.arange(len(out)) if job.request.kind == NORMAL else reported
        periods = (
            _of_the_year(job.periods, years, base)
            if job.request.kind == NORMAL
            else job.periods.take(reported)
        )
        empty = [
            periods.labels[n]
            for n, p in enumerate(chosen.tolist())
            if not _put(job, writers, n, np.asarray(out[p]))
        ]
    return _summary(job, periods, empty)


def _against(kind: str, value: np.ndarray, mean: np.ndarray, std: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore", divide="ignore"):
        if kind == PERCENT:
            return np.where(mean != 0, value / mean * 100, np.nan)
        if kind == SCORE:
            return np.where(std > 0, (value - mean) / std, np.nan)
    return value - mean


@contextmanager
def _kept(shape: tuple[int, int], request: Request, listener: Listener) -> Iterator[np.ndarray]:
    """Room for the values of all periods: in memory, or in a scratch file when they are many."""
    size = shape[0] * shape[1] * 8
    if size <= KEPT_SHARE * request.memory:
        yield np.empty(shape)
        return
    folder = Path(tempfile.mkdtemp(prefix="bavlo-", dir=request.scratch))
    listener.note(f"{size_text(size)} of values go to a scratch file in {folder}")
    try:
        yield np.lib.format.open_memmap(folder / "values.npy", "w+", np.float64, shape)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _summary(job: GridJob, periods: PeriodAxis, empty: list[str]) -> tuple[str, ...]:
    ny, nx = job.layout.shape if job.onto is None else job.onto[0].shape
    lines = [f"{counted(len(periods), 'period')} on {ny} rows × {nx} columns"]
    if job.source.time is not None and len(periods):
        first = iso_day(int(periods.start[0]), periods.calendar)
        lines[0] += f", {first}..{iso_day(int(periods.end.max()) - 1, periods.calendar)}"
    if empty:
        lines.append(
            f"{len(empty)} periods have no value anywhere, since they are not complete: "
            f"{some_of(empty)}"
        )
    if job.left_out:
        lines.append(
            f"left out, since --during {job.request.during} cuts them: {some_of(job.left_out)}"
        )
    return tuple(lines)
