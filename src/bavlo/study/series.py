"""Values by region and period: from a request to a table."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from bavlo import engine
from bavlo.core.combine import MAX, MEAN, MIN, TOTAL
from bavlo.core.measures import CellSample, OverlayIndex, codes_of
from bavlo.core.moving import running, windowed
from bavlo.core.partials import Partial, Result, Unit
from bavlo.core.reductions import CellFirst, RegionFirst
from bavlo.core.stretches import Across, Made, Reducing, Stretch, plan_stretches
from bavlo.core.table import Column, Table, text_column
from bavlo.core.timeaxis import DAY, iso_day
from bavlo.core.units import RATE, convert, depth_in_mm, implausible
from bavlo.engine.units import grouped, plan_units
from bavlo.formats.grids.raw import HasRaw, RawBlock, Totals
from bavlo.formats.grids.source import CellSelection, GridSource, files_of, where
from bavlo.formats.grids.turned import turned
from bavlo.study import memory
from bavlo.study.job import Job, periods_of, prepare, some_of, unit_of
from bavlo.study.listener import Listener
from bavlo.study.provenance import about
from bavlo.study.request import SHARES, Request

RAW_VALUES = 2**23  # cells × steps of a unit whose numbers are added up as they are stored


@dataclass(frozen=True, eq=False)
class SeriesResult:
    """A series table and how it came to be.

    Parameters
    ----------
    table
        Columns as promised for `series`.
    title
        What the values are, in words, for a chart or a heading.
    summary
        What was computed and what was left empty, in sentences.
    about
        Provenance as plain data.
    """

    table: Table
    title: str
    summary: tuple[str, ...]
    about: dict[str, Any]


def series(request: Request, listener: Listener) -> SeriesResult:
    """Aggregate a grid over regions and periods.

    Every unit of steps is read for the cells that the regions use, reduced at once and dropped;
    what is left of it is merged in order of time and finished as soon as its periods are over.
    """
    job = prepare(request, listener)
    if request.measures == (SHARES,):
        return class_shares(job, listener)
    units = units_of(job)
    stretches = plan_stretches(job.folding.fold, units)
    values = SeriesValues(job)
    jobs = memory.fitting_jobs(job, units, values.size)

    def name(stretch: Stretch) -> str:
        return files_of(job.source, stretch.first, stretch.last)

    def told(step: int) -> None:
        listener.progress(step - units[0].first, units[-1].last - units[0].first, "steps")

    with chunks_once(job.source, job.cells, request, listener) as source:
        work = SeriesWork(source, job.cells, tuple(each.reduction for each in job.passes))
        with engine.place(work, jobs, request.cluster, name, told) as place:
            for stretch, made, finished in place.stretches(stretches):
                values.add(stretch, made, finished, place)
    odd = implausible(job.what, *values.ends, difference=job.source.variable.difference)
    if odd:
        listener.warn(f"{where(job.source)}: {odd}")

    job = moved(job, values)
    table = _table(job, values)
    summary = summary_of(job, table)
    return SeriesResult(table, _title(job), summary, about(job, table, summary, listener))


def units_of(job: Job) -> list[Unit]:
    """Runs of steps; larger ones where whole numbers can be added up before they are decoded."""
    cells = job.cells.cells.size
    units = plan_units(job.folding.fold, cells)
    first = job.passes[0].reduction  # the regions' own pass, where there is one
    adds_up = isinstance(first, RegionFirst) and first.sums_first
    if adds_up and isinstance(job.source, HasRaw) and job.source.whole_numbers:
        return grouped(job.folding.fold, units, cells, RAW_VALUES)
    return units


@contextmanager
def chunks_once(
    source: GridSource, cells: CellSelection, request: Request, listener: Listener
) -> Iterator[GridSource]:
    """The grid, walked so that no chunk is inflated twice, as far as others can do that."""
    there = request.cluster is not None
    tell = listener.warn if there else listener.note
    with turned(source, cells, request.memory, request.scratch, tell, there) as same:
        yield same


@dataclass(frozen=True, eq=False)
class SeriesWork:
    """The work on a unit, and what becomes of it; goes to other machines as it is.

    Parameters
    ----------
    reductions
        Each is fed the same blocks.
    """

    source: GridSource
    cells: CellSelection
    reductions: tuple[RegionFirst | CellFirst, ...]

    def each(self, unit: Unit) -> tuple[list[list[Partial | None]], Range]:
        """Read a unit and reduce it at once; its lowest and highest value."""
        raw = self._raw(unit)
        sums = None if raw is None else self._sums(unit, raw)
        made: list[list[Partial | None]] = [[] for _ in self.reductions]
        ends: Range = (np.inf, -np.inf)
        others = list(zip(made, self.reductions, strict=True))
        if sums is not None:
            ends = sums.ends
            for partials, reduction in others:
                if isinstance(reduction, RegionFirst):
                    partials.append(reduction.update_sums(unit, sums.value))
            others = [each for each in others if not isinstance(each[1], RegionFirst)]
        for part in unit.each if others else ():
            if raw is None:
                block = self.source.read(part.first, part.last, self.cells)
            else:
                block = raw.decode(part.first - unit.first, part.last - unit.first)
            ends = wider(ends, range_of(block))
            for partials, reduction in others:
                partials.append(reduction.update(part, block))
        return made, ends

    def _raw(self, unit: Unit) -> RawBlock | None:
        if not unit.parts or not isinstance(self.source, HasRaw):
            return None
        return self.source.read_raw(unit.first, unit.last, self.cells)

    def _sums(self, unit: Unit, raw: RawBlock) -> Totals | None:
        """Whole numbers added up as they are, where a reduction can take them so."""
        for reduction in self.reductions:
            if isinstance(reduction, RegionFirst):
                starts = reduction.plain_runs(unit)
                return None if starts is None else raw.totals(starts)
        return None

    def begin(self, stretch: Stretch) -> SeriesFold:
        """Begin a stretch."""
        return SeriesFold([Reducing(each, stretch) for each in self.reductions])

    def keeps(self, stretch: Stretch) -> bool:
        """Whether a period goes on beyond one of its ends."""
        return stretch.begun is not None or stretch.goes_on is not None

    def finished(self, made: SeriesMade) -> Finished:
        """The results of each reduction, and the range: what is region-sized."""
        return [each.results for each in made.each], made.ends

    def end(self, made: SeriesMade, n: int, which: str) -> Partial | None:
        """What reduction `n` has made of the period at one end of the stretch: first or last."""
        part: Partial | None = getattr(made.each[n], which)
        return part

    def merge(self, n: int, earlier: Partial, later: Partial) -> Partial:
        """Put together what two neighbouring stretches have made of a period."""
        return self.reductions[n].merge(earlier, later)

    def finish(self, n: int, partial: Partial) -> Result:
        """Values of a period that is over."""
        return self.reductions[n].finish(partial)


@dataclass(frozen=True, eq=False)
class SeriesMade:
    """What each reduction has made of a stretch, and the lowest and highest value of its cells."""

    each: list[Made]
    ends: Range


class SeriesFold:
    """A stretch that is being made."""

    def __init__(self, reducing: list[Reducing]) -> None:
        self.reducing = reducing
        self.ends: Range = (np.inf, -np.inf)

    def add(self, outcome: tuple[list[list[Partial | None]], Range]) -> None:
        """Take in the next unit."""
        made, ends = outcome
        for each, partials in zip(self.reducing, made, strict=True):
            for one in partials:
                each.add(one)
        self.ends = wider(self.ends, ends)

    def close(self) -> SeriesMade:
        """All that the stretch has made."""
        return SeriesMade([each.close() for each in self.reducing], self.ends)


class SeriesValues:
    """The table's numbers, filled in as periods end.

    Attributes
    ----------
    value, area_valid : (R, P, M) float64
        NaN where there is none.
    steps : (R, P) float64
        Steps that count.
    start : (P,) int64
        Where each value's time begins.
    """

    def __init__(self, job: Job) -> None:
        shape = (len(job.regions.regions), len(job.periods), len(job.measures))
        self.passes = job.passes
        self.value = np.full(shape, np.nan)
        self.area_valid = np.full(shape, np.nan)
        self.steps = np.zeros(shape[:2])
        self.start = job.periods.start
        self.size = self.value.nbytes + self.area_valid.nbytes + self.steps.nbytes
        self.ends: Range = (np.inf, -np.inf)
        self._across: list[Across[Any]] = []

    def add(self, stretch: Stretch, made: Any, finished: Finished, place: engine.Place) -> None:
        """Take in what the next stretch has made and finished, and what ends with it."""
        results, ends = finished
        self.ends = wider(self.ends, ends)
        if not self._across:
            self._across = [Across(partial(place.call, "merge", n)) for n in range(len(results))]
        for n, across in enumerate(self._across):
            for result in results[n]:
                self._put(n, result)
            first, last = (
                place.call("end", made, n, which) if period is not None else None
                for which, period in (("first", stretch.begun), ("last", stretch.goes_on))
            )
            for whole in across.add(stretch, first, last):
                self._put(n, place.get(place.call("finish", n, whole)))

    def _put(self, n: int, result: Result) -> None:
        each = self.passes[n]
        rows = slice(result.first, result.first + result.steps.shape[0])
        self.value[:, rows, each.place] = result.value.transpose(1, 0, 2)
        self.area_valid[:, rows, each.place] = result.area_valid.T[:, :, None]
        self.steps[:, rows] = result.steps.T


def moved(job: Job, values: SeriesValues) -> Job:
    """Make windows or running values of the regions' own, and drop what only led up to them.

    Returns
    -------
    job
        With the periods that are reported.
    """
    request, periods = job.request, job.periods
    fold = job.folding.fold
    expected = fold.expected
    count = request.windows[0]
    regions, length, measures = values.value.shape
    flat = values.value.transpose(1, 0, 2).reshape(length, -1)
    if request.combine.running:
        around = periods_of(request.rule, job.time)
        flat, values.start = running(flat, periods, around, job.combine, request.min_steps)
    elif count > 1:
        flat, first = windowed(flat, periods.start, periods.end, count, job.combine)
        values.start = periods.start[np.where(first >= 0, first, np.arange(length))]
    else:
        return job
    begin = np.searchsorted(periods.start, values.start)

    def summed(array: np.ndarray) -> np.ndarray:
        """Sums from where each value's time begins."""
        total = np.concatenate([np.zeros_like(array[..., :1]), np.cumsum(array, axis=-1)], axis=-1)
        return np.asarray(total[..., 1:] - total[..., begin])

    whole = (periods.end - periods.start) / DAY
    area = values.area_valid.transpose(0, 2, 1)
    known = np.nan_to_num(area) * whole
    values.area_valid = (summed(known) / summed(np.broadcast_to(whole, area.shape))).transpose(
        0, 2, 1
    )[:, job.lead :]
    values.steps = summed(values.steps)[:, job.lead :]
    values.value = flat.reshape(length, regions, measures).transpose(1, 0, 2)[:, job.lead :].copy()
    values.start = values.start[job.lead :]
    fold = replace(fold, expected=summed(expected)[job.lead :])
    return replace(
        job,
        periods=periods.take(np.arange(job.lead, length)),
        folding=replace(job.folding, fold=fold),
    )


Range = tuple[float, float]
Finished = tuple[list[list[Result]], Range]

IN_CACHE = 2**16  # values that are still near when they are looked at again


def wider(one: Range, other: Range) -> Range:
    """The range that holds two."""
    return min(one[0], other[0]), max(one[1], other[1])


def range_of(block: np.ndarray) -> Range:
    """Lowest and highest value; (inf, -inf) where there is none."""
    flat = block.reshape(-1)
    parts = [flat[n : n + IN_CACHE] for n in range(0, flat.size, IN_CACHE)]
    low = min((np.fmin.reduce(part, initial=np.inf) for part in parts), default=np.inf)
    high = max((np.fmax.reduce(part, initial=-np.inf) for part in parts), default=-np.inf)
    return float(low), float(high)


def _table(job: Job, values: SeriesValues) -> Table:
    own_unit = unit_of(job.what, job.combine)
    units = []
    for n, measure in enumerate(job.measures):
        if measure.name == "volume":  # depth in the own unit times km²
            values.value[:, :, n] *= depth_in_mm(own_unit) * 1e3
        if measure.unit is not None:
            units.append(measure.unit)
            continue
        unit = job.request.unit or own_unit
        values.value[:, :, n] = convert(
            values.value[:, :, n],
            own_unit,
            unit,
            difference=measure.difference or job.source.variable.difference,
        )
        units.append(unit)

    starts, ends = replace(job.periods, start=values.start).bounds_text()
    m, rp, rpm = ("measure",), ("region", "period"), ("region", "period", "measure")
    columns = [
        text_column("region", ("region",), job.regions.regions.labels),
        text_column("period", ("period",), job.periods.labels),
        text_column("start", ("period",), starts),
        text_column("end", ("period",), ends),
        text_column("variable", (), [job.source.variable.name]),
        text_column("measure", m, [measure.name for measure in job.measures]),
        Column("value", rpm, values.value),
        text_column("unit", m, units),
        text_column("combine", (), [_combine_text(job)]),
        text_column("order", m, job.orders),
        Column("area_valid", rpm, values.area_valid),
        Column("steps", rp, values.steps),
        Column("steps_expected", ("period",), job.folding.fold.expected),
        Column("note", rpm, _notes(job, values)),
    ]
    if not job.time.is_gregorian:
        columns.append(text_column("calendar", (), [job.time.calendar]))
    axes = dict(zip(rpm, values.value.shape, strict=True))
    return Table("series", axes, tuple(columns))


def _combine_text(job: Job) -> str:
    """How steps were combined, as in the column."""
    if job.source.time is None:
        return ""
    if job.request.combine.degree_days is not None:
        return str(job.request.combine)
    return f"running {job.combine}" if job.request.combine.running else job.combine


def _notes(job: Job, values: SeriesValues) -> np.ndarray:
    """Why a value is empty, in a few words; (R, P, M)."""
    notes = np.full(values.value.shape, "", object)
    outside = job.overlay.entries == 0
    expected = job.folding.fold.expected
    for region, period, measure in np.argwhere(np.isnan(values.value)).tolist():
        steps, wanted = values.steps[region, period], expected[period]
        area = values.area_valid[region, period, measure]
        if outside[region]:
            note = "outside the grid"
        elif area < 1 and (steps == 0 or steps >= wanted):
            note = f"area_valid {area:.2f}"
        else:
            note = f"{steps:.6g} of {wanted:.6g} {job.time.steps_name}"
        notes[region, period, measure] = note
    return notes


def counted(number: int, noun: str) -> str:
    """`1 region`, `3 classes`."""
    plural = {"class": "classes"}.get(noun, noun + "s")
    return f"{number} {noun if number == 1 else plural}"


def summary_of(job: Job, table: Table) -> tuple[str, ...]:
    """What was computed and what was left empty, in sentences."""

    lines = [f"{len(table)} rows: {' × '.join(counted(n, noun) for noun, n in table.axes.items())}"]
    if job.source.time is not None:
        calendar = job.time.calendar
        first, last = int(job.periods.start[0]), int(job.periods.end[-1]) - 1
        lines[0] += f", {iso_day(first, calendar)}..{iso_day(last, calendar)}"
    lines += empty_rows(table)
    if job.left_out:
        lines.append(
            f"left out, since --during {job.request.during} cuts "
            f"{'it' if len(job.left_out) == 1 else 'them'}: {some_of(job.left_out)}"
        )
    return tuple(lines)


def empty_rows(table: Table) -> list[str]:
    """How many rows have no value and why, in a sentence; none where all have one."""
    lines = []
    reasons = {
        "area_valid": "too little area",
        "outside": "regions outside the grid",
        "never": "conditions never met",
        "not": "values that are not defined",
    }
    notes = table.column("note")
    told = np.flatnonzero(notes != "")
    empty = Counter(reasons.get(notes[n].split()[0], "too few steps") for n in told)
    if empty:
        why = ", ".join(f"{n} for {reason}" for reason, n in sorted(empty.items()))
        row = dict(zip(table.header, table.rows(told[0], told[0] + 1), strict=True))
        example = f"{row['region'][0]} {row['period'][0]}: {row['note'][0]}"
        lines.append(
            f"{empty.total()} rows have no value: {why} (such as {example}; see column note)"
        )
    return lines


def listed(names: Sequence[str]) -> str:
    """`mean, p90 and max`."""
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def _title(job: Job) -> str:
    """Such as `Daily rain: total by month, p90 of the cells`."""
    names = [measure.name for measure in job.measures]
    if job.source.time is None:
        return f"{job.source.variable.title}: {listed(names)}"
    step = job.time.step_name
    way = {TOTAL: "total", MEAN: "mean", MIN: f"lowest {step}", MAX: f"highest {step}"}
    if job.request.combine.degree_days is not None:
        way[TOTAL] = str(job.request.combine.degree_days)
    every = (job.request.every or "month").lower()
    span = {"all": "over the whole time"}.get(every, f"by {every}")
    if job.request.rule.kind in ("months", "span"):
        span = f"for {job.request.every}"
    if job.request.combine.running:
        span = f"from the beginning of each {every}"
    elif job.request.windows[0] > 1:
        span = f"of the last {job.request.windows[0]} {every}s"
        if job.request.rule.kind in ("months", "span"):
            span = f"of the last {job.request.windows[0]} periods {job.request.every}"
    of = f", {listed(names)} of the cells" if names != ["mean"] else ""
    rate = " rate" if job.what.kind == RATE and job.combine != TOTAL else ""
    return f"{job.source.variable.title}{rate}: {way[job.combine]} {span}{of}"


def class_shares(job: Job, listener: Listener) -> SeriesResult:
    """Share and area of every class code in every region, step by step."""
    fold = job.folding.fold
    seen: list[tuple[int, np.ndarray, np.ndarray, np.ndarray]] = []
    square_km = OverlayIndex(job.overlay, job.source.layout.ellipsoid_areas(job.overlay.cells))
    for step, period in zip(fold.step.tolist(), fold.period.tolist(), strict=True):
        block = job.source.read(step, step + 1, job.cells)
        sample = CellSample(job.index, block)
        codes = codes_of(block)
        held = np.ascontiguousarray((block == codes[:, None]).T).astype(np.float64)
        with np.errstate(invalid="ignore", divide="ignore"):
            share = (job.index.matrix @ held).T / sample.valid_weight
        enough = sample.area_valid >= job.request.min_area - 1e-9
        share = np.where(enough & (sample.area_valid > 0), share, np.nan)
        area = np.where(np.isnan(share), np.nan, (square_km.square_km @ held).T)
        seen.append((period, codes, np.stack([share, area], axis=-1), sample.area_valid[0]))
    return _class_table(job, seen, listener)


def _class_table(
    job: Job,
    seen: list[tuple[int, np.ndarray, np.ndarray, np.ndarray]],
    listener: Listener,
) -> SeriesResult:
    """Rows by region, period and class, with share and area as measures."""
    codes = np.unique(np.concatenate([np.zeros(0), *(found for _, found, _, _ in seen)]))
    regions, periods = len(job.regions.regions), len(job.periods)
    value = np.full((regions, periods, codes.size, 2), np.nan)
    area_valid = np.full((regions, periods), np.nan)
    steps = np.zeros((regions, periods))
    for period, found, both, area in seen:
        known = ~np.isnan(both).all(axis=(0, 2)) if found.size else np.zeros(regions, bool)
        value[known, period] = 0.0  # a class that is not there has no area
        place = np.searchsorted(codes, found)
        value[:, period, place] = both.transpose(1, 0, 2)
        area_valid[:, period], steps[:, period] = area, known
    notes = np.full(value.shape[:2], "", object)
    notes[steps == 0] = [f"area_valid {a:.2f}" for a in area_valid[steps == 0]]
    notes[job.overlay.entries == 0] = "outside the grid"
    meanings = dict(job.source.variable.flags)
    starts, ends = job.periods.bounds_text()
    rp, rpcm = ("region", "period"), ("region", "period", "class", "measure")
    columns = (
        text_column("region", ("region",), job.regions.regions.labels),
        text_column("period", ("period",), job.periods.labels),
        text_column("start", ("period",), starts),
        text_column("end", ("period",), ends),
        text_column("variable", (), [job.source.variable.name]),
        text_column("measure", ("measure",), ["share", "area"]),
        Column("value", rpcm, value),
        text_column("unit", ("measure",), ["1", "km2"]),
        text_column("combine", (), [""]),
        text_column("order", (), ["region"]),
        Column("area_valid", rp, area_valid),
        Column("steps", rp, steps),
        Column("steps_expected", (), np.array(1.0)),
        Column("note", rp, notes),
        text_column(
            "class", ("class",), [meanings.get(int(code), str(int(code))) for code in codes]
        ),
    )
    table = Table("series", dict(zip(rpcm, value.shape, strict=True)), columns)
    summary = summary_of(job, table)
    title = f"{job.source.variable.title}: shares of classes"
    return SeriesResult(table, title, summary, about(job, table, summary, listener))
