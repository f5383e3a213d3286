"""Counts of conditions, and indices, by region and period."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace

import numpy as np

from bavlo import engine
from bavlo.core.errors import RequestError
from bavlo.core.measures import CellSample, parse_measure
from bavlo.core.partials import ENOUGH, Unit
from bavlo.core.table import Column, Table, text_column
from bavlo.core.timeaxis import DAY, iso_day
from bavlo.core.units import STATE, convert
from bavlo.formats.grids.source import files_of
from bavlo.study.events import events_table
from bavlo.study.extremesjob import (
    CELL,
    REGION,
    ExtremesJob,
    check_output_unit,
    prepare_extremes,
)
from bavlo.study.extremesresults import Results
from bavlo.study.listener import Listener
from bavlo.study.memory import fitting
from bavlo.study.provenance import about_extremes
from bavlo.study.records import by_bricks, met_of_record, record_values
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, chunks_once, counted, empty_rows
from bavlo.study.stream import (
    in_stream,
    read_values,
    units_of,
)


def extremes(request: Request, listener: Listener) -> tuple[SeriesResult, Table | None]:
    """Counts or indices as a table, and the events where they are asked for."""
    job = prepare_extremes(request, listener)
    results = Results(job)
    with ExitStack() as stack:
        sources = {
            name: stack.enter_context(chunks_once(source, job.cells, job.request, listener))
            for name, source in job.aligned.sources.items()
        }
        reading = replace(job, aligned=replace(job.aligned, sources=sources))
        if not job.on_cells:
            _regions_first(reading, results, listener)
        elif job.whole_records:
            by_bricks(reading, results, listener)
        else:
            in_stream(reading, results, listener)
    table = _table(job, results)
    summary = _summary(job, table)
    events = events_table(job, results.daily) if request.events is not None else None
    title = _title(job)
    return SeriesResult(
        table, title, summary, about_extremes(job, table, summary, listener)
    ), events


def _regions_first(job: ExtremesJob, results: Results, listener: Listener) -> None:
    """Make the regions' series, and test those."""
    steps, regions = job.last - job.first, len(job.regions.regions)
    if len(job.request.measures) > 1:
        raise RequestError("--measure", "a region's series is of one measure", "choose one")
    measure = parse_measure(job.request.measures[0])
    names = list(job.aligned.sources)
    series = {name: np.full((steps, regions), np.nan) for name in names}
    area = np.zeros((steps, regions))
    units = units_of(job)
    size = max(u.last - u.first for u in units) * job.cells.cells.size * 8 * 4 * len(names)
    jobs = fitting(job.request, size, results.size + (len(names) + 1) * area.nbytes * 4)

    def work(unit: Unit) -> dict[str, tuple[np.ndarray, np.ndarray]]:
        out = {}
        for name, block in read_values(job, unit).items():
            sample = CellSample(job.index, block)
            enough = sample.area_valid >= job.request.min_area - ENOUGH
            out[name] = np.where(enough, measure.compute(sample), np.nan), sample.area_valid
        return out

    def read_by(unit: Unit) -> str:
        return files_of(job.aligned.sources[names[0]], unit.first, unit.last)

    outcomes = engine.run(work, units, jobs, job.request.cluster, read_by)
    for unit, made in zip(units, outcomes, strict=True):
        part = slice(unit.first - job.first, unit.last - job.first)
        for name, (values, valid) in made.items():
            series[name][part] = values
            if name == names[0]:
                area[part] = valid
        listener.progress(unit.last - job.first, steps, "steps")
    for n, (values, valid, _) in enumerate(record_values(job, series)):
        results.put_regions(n, values, valid)
    for p, (begin, end) in enumerate(zip(job.places.begin, job.places.end, strict=True)):
        if end > begin:
            results.area_valid[:, p] = area[begin:end].mean(axis=0)[:, None]
    results.area_valid[np.abs(results.area_valid - 1) < 1e-12] = 1.0
    for ready, daily in zip(job.ready, results.daily, strict=False):
        met = met_of_record(job, ready, series, ())
        own = series[ready.tests[0].tested.name]
        share = np.where(np.broadcast_to(met.valid, met.met.shape), met.met, np.nan)
        daily.put(0, share, own)


def _units_of_counts(job: ExtremesJob) -> list[str]:
    """(conditions × counts) units."""
    steps = "days" if job.time.length == DAY else "steps"
    out = []
    for ready in job.ready:
        tested = ready.tests[0].tested
        excess = tested.unit or "1"
        if tested.what.kind == STATE and tested.unit:
            excess = f"{tested.unit} day" if steps == "days" else tested.unit
        units = {
            "days": steps,
            "share": "1",
            "spells": "spells",
            "longest": steps,
            "total": tested.unit,
            "excess": excess,
            "first": "day" if job.time.at_most_daily else "step",
            "last": "day" if job.time.at_most_daily else "step",
        }
        out += [units[name] for name in job.request.counts]
    return out or [index.unit for index in job.indices]


def _convert_sums(job: ExtremesJob, results: Results, units: np.ndarray) -> None:
    """Totals and excesses in the unit that is asked for; those of states are differences."""
    wanted = str(job.request.unit)
    for n, ready in enumerate(job.ready):
        tested = ready.tests[0].tested
        check_output_unit(wanted, tested)
        for c, name in enumerate(results.counts):
            if name in ("total", "excess"):
                difference = tested.what.kind == STATE
                results.value[..., n, c] = convert(
                    results.value[..., n, c], tested.unit, wanted, difference=difference
                )
                units[n, c] = units[n, c].replace(tested.unit, wanted, 1)


def _variables(job: ExtremesJob) -> list[str]:
    if job.ready:
        return [ready.variable for ready in job.ready]
    return [" and ".join(job.roles[n] for n in index.needs) for index in job.indices]


def _table(job: ExtremesJob, results: Results) -> Table:
    near = np.abs(results.steps - np.rint(results.steps)) < 1e-9 * (1 + results.steps)
    results.steps = np.where(near, np.rint(results.steps), results.steps)
    axes = ("region", "period", "condition", "count")
    units = np.empty((len(results.names), len(results.counts)), object)
    units.ravel()[:] = _units_of_counts(job)
    if job.request.unit is not None:
        _convert_sums(job, results, units)
    steps = ["steps" if n == "days" and job.time.length != DAY else n for n in results.counts]
    starts, ends = job.periods.bounds_text()
    columns = [
        text_column("region", axes[:1], job.regions.regions.labels),
        text_column("period", axes[1:2], job.periods.labels),
        text_column("start", axes[1:2], starts),
        text_column("end", axes[1:2], ends),
        text_column("condition", axes[2:3], results.names),
        text_column("variable", axes[2:3], _variables(job)),
        text_column("tested_on", (), [job.request.test_on]),
        text_column("count", axes[3:], steps),
        Column("value", axes, results.value),
        Column("unit", axes[2:], units),
        Column("area_valid", axes[:3], results.area_valid),
        Column("steps", axes[:3], results.steps),
        Column("steps_expected", axes[1:2], job.fold.expected),
        Column("note", axes, _notes(job, results)),
    ]
    if not job.time.is_gregorian:
        columns.append(text_column("calendar", (), [job.time.calendar]))
    return Table("extremes", dict(zip(axes, results.value.shape, strict=True)), tuple(columns))


def _notes(job: ExtremesJob, results: Results) -> np.ndarray:
    """Why a value is empty, in a few words."""
    notes = np.full(results.value.shape, "", object)
    outside = job.index.overlay.entries == 0
    for r, p, n, c in np.argwhere(np.isnan(results.value)).tolist():
        steps, wanted = results.steps[r, p, n], job.fold.expected[p]
        area = results.area_valid[r, p, n]
        if outside[r]:
            notes[r, p, n, c] = "outside the grid"
        elif results.counts[c] in ("first", "last") and steps >= wanted - ENOUGH:
            notes[r, p, n, c] = "never met"
        elif steps >= wanted - ENOUGH and area < job.request.min_area - ENOUGH:
            notes[r, p, n, c] = f"area_valid {area:.2f}"
        elif steps >= wanted - ENOUGH:
            notes[r, p, n, c] = "not defined"
        else:
            notes[r, p, n, c] = f"{steps:.6g} of {wanted:.6g} {job.time.steps_name}"
    return notes


def _summary(job: ExtremesJob, table: Table) -> tuple[str, ...]:
    calendar = job.time.calendar
    first, last = int(job.periods.start[0]), int(job.periods.end[-1]) - 1
    lines = [
        f"{len(table)} rows: {' × '.join(counted(n, noun) for noun, n in table.axes.items())}, "
        f"{iso_day(first, calendar)}..{iso_day(last, calendar)}"
    ]
    tested = {
        CELL: "each cell is tested, and the mean over the area is taken",
        REGION: f"the {job.request.measures[0]} of each region is tested",
    }
    lines.append(f"tested on {job.request.test_on}s: {tested[job.request.test_on]}")
    if job.base is not None:
        how = ""
        if job.ready:
            how = ", no bootstrap: days of the base are part of what they are judged by"
        elif any(i.name in ("TN10p", "TX10p", "TN90p", "TX90p") for i in job.indices):
            how = ", with the bootstrap" if job.request.bootstrap else ", without the bootstrap"
        lines.append(f"percentiles of {job.base}{how}")
    lines += empty_rows(table)
    if job.left_out:
        lines.append(
            f"left out, since --during {job.request.during} cuts them: {', '.join(job.left_out)}"
        )
    return tuple(lines)


def _title(job: ExtremesJob) -> str:
    names: Sequence[str] = [str(r.condition) for r in job.ready] or [i.name for i in job.indices]
    text = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    if len(job.indices) == 1:
        text += f" ({job.indices[0].title})"
    counts = f", {' and '.join(job.request.counts)}" if job.ready else ""
    return f"{text}{counts} by {(job.request.every or 'month').lower()}"
