"""Counts of conditions, and indices, by region and period."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import replace
from typing import Any

import numpy as np

from bavlo import engine
from bavlo.core.counting import Counting, Met
from bavlo.core.errors import RequestError
from bavlo.core.indices import Record, index_values
from bavlo.core.measures import CellSample, parse_measure
from bavlo.core.partials import ENOUGH, Unit
from bavlo.core.table import Column, Table, text_column
from bavlo.core.timeaxis import DAY, iso_day
from bavlo.core.units import STATE, convert, suits
from bavlo.engine import local
from bavlo.formats.scratch import BrickStore, bricks_of
from bavlo.study.events import Daily, events_table
from bavlo.study.extremesjob import (
    CELL,
    REGION,
    ExtremesJob,
    check_output_unit,
    counting_of,
    prepare_extremes,
)
from bavlo.study.listener import Listener
from bavlo.study.memory import fitting, size_text
from bavlo.study.provenance import about_extremes
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, chunks_once, counted, empty_rows
from bavlo.study.stream import (
    CellMeans,
    count_values,
    in_stream,
    least_steps,
    read_values,
    units_of,
)
from bavlo.study.testing import (
    ReadyCondition,
    percentile_limits,
    try_out,
)

BRICK_VALUES = 2**22  # cells × steps of a brick
COPIES_OF_BRICK = 12.0
KEPT_SHARE = 0.3  # of --memory that records may take before they go to disk
INDEX = "index"


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
            _by_bricks(reading, results, listener)
        else:
            in_stream(reading, results, listener)
    table = _table(job, results)
    summary = _summary(job, table)
    events = events_table(job, results.daily) if request.events is not None else None
    title = _title(job)
    return SeriesResult(
        table, title, summary, about_extremes(job, table, summary, listener)
    ), events


class Results:
    """The table's numbers, filled in as they come.

    Attributes
    ----------
    value : (R, P, conditions, counts) float64
    area_valid, steps : (R, P, conditions) float64
    daily
        What happened on each step in each region, where events are asked for.
    """

    def __init__(self, job: ExtremesJob) -> None:
        self.job = job
        self.names = [str(r.condition) for r in job.ready] or [i.name for i in job.indices]
        self.counts = list(job.request.counts) if job.ready else [INDEX]
        regions, periods = len(job.regions.regions), len(job.periods)
        shape = (regions, periods, len(self.names), len(self.counts))
        self.value = np.full(shape, np.nan)
        self.area_valid = np.zeros(shape[:3])
        self.steps = np.zeros(shape[:3])
        self.daily: list[Daily] = []
        if job.request.events is not None:
            self.daily = [Daily(job.last - job.first, regions) for _ in job.ready]
        # Sums over bricks of cells, in the order of the bricks.
        self._sums: dict[str, np.ndarray] = {}
        self.size = self.value.nbytes * (3 if job.on_cells else 1) + self.area_valid.nbytes * 4
        self.size += sum(d.nbytes for d in self.daily)

    def put_regions(self, n: int, values: np.ndarray, valid: np.ndarray) -> None:
        """(counts, P, R) values of regions that were tested themselves; steps with data (P, R)."""
        self.value[:, :, n] = values.transpose(2, 1, 0)
        self.steps[:, :, n] = valid.T

    def put_cells(self, n: int, means: CellMeans) -> None:
        """Means over the cells of the regions, in some periods."""
        self.value[:, means.periods, n] = means.value.transpose(2, 1, 0)
        self.area_valid[:, means.periods, n] = means.area_valid.T
        self.steps[:, means.periods, n] = means.steps.T

    def add_brick(self, n: int, cells: slice, values: np.ndarray, valid: np.ndarray) -> None:
        """(counts, P, b) values of a brick of cells in all periods; steps with data (P, b)."""
        matrix = self.job.index.matrix[:, cells]
        areas = self.job.index.areas[:, cells]
        there = valid >= least_steps(self.job, np.arange(valid.shape[0]))[:, None]
        if not self.job.ready:
            there = ~np.isnan(values[0])
        self._add(f"area {n}", areas @ np.where(there, 1.0, 0.0).T)
        known = valid > 0
        self._add(f"steps {n}", matrix @ np.where(known, valid, 0.0).T)
        self._add(f"known {n}", matrix @ known.astype(np.float64).T)
        for c, per_count in enumerate(values):
            has = ~np.isnan(per_count)
            self._add(f"value {n} {c}", matrix @ np.where(has, per_count, 0.0).T)
            self._add(f"weight {n} {c}", matrix @ has.astype(np.float64).T)

    def _add(self, name: str, part: np.ndarray) -> None:
        part = np.asarray(part)
        self._sums[name] = part if name not in self._sums else self._sums[name] + part

    def close_bricks(self) -> None:
        """Turn sums over bricks into means."""
        region_weight = self.job.index.region_weight[:, None]
        for n in range(len(self.names)):
            area = np.clip(self._sums[f"area {n}"] / region_weight, 0, 1)
            area = np.where(np.abs(area - 1) < 1e-9, 1.0, area)
            enough = (area >= self.job.request.min_area - ENOUGH) & (area > 0)
            self.area_valid[:, :, n] = area
            with np.errstate(invalid="ignore", divide="ignore"):
                steps = self._sums[f"steps {n}"] / self._sums[f"known {n}"]
                self.steps[:, :, n] = np.nan_to_num(steps)
                for c in range(len(self.counts)):
                    weight = self._sums[f"weight {n} {c}"]
                    mean = self._sums[f"value {n} {c}"] / weight
                    known = enough & (weight > 0)
                    self.value[:, :, n, c] = np.where(known, mean, np.nan)


def _by_bricks(job: ExtremesJob, results: Results, listener: Listener) -> None:
    """Go by bricks of cells with their whole record, after one pass that reads the grids."""
    if job.request.cluster is not None:
        listener.warn("percentiles, indices and cut spells are computed on this machine alone")
    cells, steps = job.cells.cells.size, job.last - job.first
    bricks = bricks_of(cells, steps, BRICK_VALUES)
    names = list(job.aligned.sources)
    units = units_of(job)
    room = KEPT_SHARE * job.request.memory
    unit_size = max(u.last - u.first for u in units) * cells * 8 * 3 * len(names)
    brick_size = max(b.stop - b.start for b in bricks) * steps * 8 * (COPIES_OF_BRICK + len(names))
    kept = results.size * 2 + min(room, steps * cells * 8.0 * len(names))
    jobs = fitting(job.request, max(unit_size, brick_size), kept)
    total = 2 * steps
    with BrickStore(bricks, names, room, job.request.scratch) as store:

        def fetch(numbered: tuple[int, Unit]) -> Unit:
            number, unit = numbered
            for name, block in read_values(job, unit).items():
                store.put(number, name, block)
            return unit

        for unit in local.run(fetch, list(enumerate(units)), jobs):
            listener.progress(unit.last - job.first, total, "steps")
        if store.on_disk:
            listener.note(f"{size_text(store.on_disk)} of records went to a scratch file")

        def work(number: int) -> list[Any]:
            values = {name: store.take(number, name) for name in names}
            if job.indices:
                return list(_index_values(job, values))
            return list(
                _condition_values(job, values, job.index.matrix[:, bricks[number]], results)
            )

        for number, made in enumerate(local.run(work, list(range(len(bricks))), jobs)):
            for n, (values, valid, daily) in enumerate(made):
                results.add_brick(n, bricks[number], values, valid)
                if daily is not None:
                    results.daily[n].add(*daily)
            listener.progress(steps + steps * (number + 1) // len(bricks), total, "steps")
    results.close_bricks()
    for each in results.daily:
        each.divide(job.index.region_weight, job.request.min_area)


def _condition_values(
    job: ExtremesJob, values: dict[str, np.ndarray], matrix: Any, results: Results
) -> Iterator[tuple[np.ndarray, np.ndarray, tuple[np.ndarray, ...] | None]]:
    """Counts of each condition on whole records (T, K)."""
    for ready in job.ready:
        counting = counting_of(job, ready)
        met = _met_of_record(job, ready, values, tuple(counting.sums))
        counts = _whole_counts(job, counting, met)
        daily = None
        if results.daily and matrix is not None:
            valid = np.broadcast_to(met.valid, met.met.shape)
            own = values[ready.tests[0].tested.name]
            there = ~np.isnan(own)
            daily = tuple(
                np.asarray(matrix @ part.T.astype(np.float64)).T
                for part in (met.met & valid, valid, np.where(there, own, 0.0), there)
            )
        yield *count_values(job, counts, np.arange(len(job.periods))), daily


def _whole_counts(job: ExtremesJob, counting: Counting, met: Met) -> dict[str, np.ndarray]:
    """Counts of a whole record in all periods, those without any step included."""
    tally = counting.close(counting.update(0, met))
    counts = counting.empty(len(job.periods), met.met.shape[1])
    for name, array in tally.counts.items():
        counts[name][tally.periods] = array
    return counts


def _met_of_record(
    job: ExtremesJob, ready: ReadyCondition, values: dict[str, np.ndarray], sums: tuple[str, ...]
) -> Met:
    limits = None
    if ready.condition.has_percentiles:
        assert job.base is not None
        limits = percentile_limits(ready, values, _days(job), job.base, _wet(job))
    return try_out(ready, job.first, values, sums, limits)


def _days(job: ExtremesJob) -> Any:
    from bavlo.core.percentiles import calendar_days

    return calendar_days(job.time.take(slice(job.first, job.last)))


def _wet(job: ExtremesJob) -> dict[str, float]:
    """The wet-day limit in the unit of each variable of water."""
    number, _, unit = job.request.wet_day.strip().partition(" ")
    try:
        value = float(number)
    except ValueError:
        value = np.nan
    out = {}
    for name, tested in job.tested.items():
        if tested.what.kind == STATE:
            continue
        if not np.isfinite(value) or not unit or not suits(unit, tested.unit):
            raise RequestError(
                "--wet-day", f"'{job.request.wet_day}' is no depth of water", "write it as 1 mm"
            )
        limit = float(convert(np.array(value), unit, tested.unit, difference=False))
        out[name] = float(np.float32(limit)) if tested.is_float32 else limit
    return out


def _index_values(
    job: ExtremesJob, values: dict[str, np.ndarray]
) -> Iterator[tuple[np.ndarray, np.ndarray, None]]:
    """Each index on whole records."""
    given = {}
    for role in ("rain", "tmax", "tmin"):
        given[role] = np.zeros((0, 0))
        if role in job.roles:
            tested = job.tested[job.roles[role]]
            unit = "mm" if role == "rain" else "degC"
            own = np.asarray(values[tested.name], np.float64)
            given[role] = convert(own, tested.unit, unit, difference=False)
            if tested.unit != unit:  # 298.15 K is 25 degC and not a rounding away from it
                given[role] = np.round(given[role], 9)
    wet = _wet(job).get(job.roles.get("rain", ""), 1.0)
    if "rain" in job.roles:
        unit = job.tested[job.roles["rain"]].unit
        wet = float(convert(np.array(wet), unit, "mm", difference=False))
    record = Record(
        given["rain"],
        given["tmax"],
        given["tmin"],
        job.places,
        job.months,
        _days(job),
        job.base,
        wet,
        job.request.bootstrap,
    )
    for index in job.indices:
        found = index_values(index, record, job.request.rule.kind, job.request.own_rule)
        gaps = np.zeros(record.of(index.needs[0]).shape, bool)
        for role in index.needs:
            gaps |= np.isnan(record.of(role))
        counting = Counting(job.places, ("days",), 1)
        valid = _whole_counts(job, counting, Met(~gaps, ~gaps))["valid"].astype(np.float64)
        if not job.request.own_rule:
            least = np.maximum((job.request.min_steps - ENOUGH) * job.fold.expected, 1e-9)
            found = np.where(valid >= least[:, None], found, np.nan)
        yield found[None], valid, None


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

    outcomes = engine.run(work, units, jobs, job.request.cluster)
    for unit, made in zip(units, outcomes, strict=True):
        part = slice(unit.first - job.first, unit.last - job.first)
        for name, (values, valid) in made.items():
            series[name][part] = values
            if name == names[0]:
                area[part] = valid
        listener.progress(unit.last - job.first, steps, "steps")
    made_values: Iterator[Any]
    if job.indices:
        made_values = _index_values(job, series)
    else:
        made_values = _condition_values(job, series, None, results)
    for n, (values, valid, _) in enumerate(made_values):
        results.put_regions(n, values, valid)
    for p, (begin, end) in enumerate(zip(job.places.begin, job.places.end, strict=True)):
        if end > begin:
            results.area_valid[:, p] = area[begin:end].mean(axis=0)[:, None]
    results.area_valid[np.abs(results.area_valid - 1) < 1e-12] = 1.0
    for ready, daily in zip(job.ready, results.daily, strict=False):
        met = _met_of_record(job, ready, series, ())
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
