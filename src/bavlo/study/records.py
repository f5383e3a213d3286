"""Counts of conditions, and indices, on whole records, which for cells are had by bricks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import sparse

from bavlo import engine
from bavlo.core.counting import Counting, Counts, Met
from bavlo.core.errors import RequestError
from bavlo.core.indices import Record, index_values
from bavlo.core.partials import ENOUGH, Unit
from bavlo.core.percentiles import CalendarDays, calendar_days
from bavlo.core.units import STATE, convert, suits
from bavlo.engine import local
from bavlo.formats.grids.source import files_of
from bavlo.formats.scratch import BrickStore, Piece, bricks_of, cut_into_bricks, joined_brick
from bavlo.study.extremesjob import ExtremesJob, counting_of
from bavlo.study.extremesresults import BrickSums, Results
from bavlo.study.listener import Listener
from bavlo.study.memory import fitting, size_text
from bavlo.study.stream import count_values, least_steps, read_values, units_of
from bavlo.study.testing import ReadyCondition, percentile_limits, try_out

BRICK_VALUES = 2**22  # cells × steps of a brick
COPIES_OF_BRICK = 12.0
KEPT_SHARE = 0.3  # of --memory that records may take before they go to disk
CUT_VALUES = 2**26  # cells × steps that are cut into bricks together on a cluster, at most
LEAST_RUNS = 16  # of steps that are cut, so that there is work for all workers

OfSteps = tuple[np.ndarray, ...]  # what happened on each step, (T, K) each


def by_bricks(job: ExtremesJob, results: Results, listener: Listener) -> None:
    """Go by bricks of cells with their whole record, after one pass that reads the grids."""
    cells, steps = job.cells.cells.size, job.last - job.first
    work = RecordWork(job, tuple(bricks_of(cells, steps, BRICK_VALUES)), bool(results.daily))
    units = units_of(job)

    if job.request.cluster is None:
        made = _here(work, units, results, listener)
    else:
        made = _there(work, units, job.request.cluster, listener)
    for number, each in enumerate(made):
        for n, sums in enumerate(each):
            results.add_brick(n, sums)
        listener.progress(steps + steps * (number + 1) // len(work.bricks), 2 * steps, "steps")
    results.close_bricks()


@dataclass(frozen=True, eq=False)
class RecordWork:
    """The work on units and on bricks; goes to other machines as it is."""

    job: ExtremesJob
    bricks: tuple[slice, ...]
    wants_daily: bool

    @cached_property
    def _by_cells(self) -> tuple[sparse.csc_array, sparse.csc_array]:
        """Weights and areas (R, C), of which a few columns are had without a look at all."""
        return self.job.index.matrix.tocsc(), self.job.index.areas.tocsc()

    def read(self, unit: Unit) -> dict[str, np.ndarray]:
        """Values (T, C) of all variables."""
        return read_values(self.job, unit)

    def cut(self, units: Sequence[Unit]) -> list[Piece]:
        """What each brick has of a run of units."""
        return cut_into_bricks((self.read(unit) for unit in units), self.bricks)

    def join(self, number: int, pieces: Sequence[Piece]) -> list[BrickSums]:
        """The sums of a brick, from its pieces in order of time."""
        cells = self.bricks[number]
        return self.brick(number, joined_brick(pieces, cells.stop - cells.start))

    def brick(self, number: int, values: dict[str, np.ndarray]) -> list[BrickSums]:
        """The sums of a brick for each condition or index, from its whole record (T, b)."""
        cells = self.bricks[number]
        matrix, areas = (each[:, cells].tocsr() for each in self._by_cells)
        regions = np.flatnonzero(np.diff(matrix.indptr) + np.diff(areas.indptr))
        matrix, areas = matrix[regions], areas[regions]
        least = least_steps(self.job, np.arange(len(self.job.periods)))[:, None]
        out = []
        for found, valid, daily in record_values(self.job, values, self.wants_daily):
            there = valid >= least if self.job.ready else ~np.isnan(found[0])
            known = valid > 0
            sums = [areas @ np.where(there, 1.0, 0.0).T]
            sums += [matrix @ part.T for part in (np.where(known, valid, 0.0), _number(known))]
            for values_of_count in found:
                has = ~np.isnan(values_of_count)
                sums.append(matrix @ np.where(has, values_of_count, 0.0).T)
                sums.append(matrix @ _number(has).T)
            of_steps = None
            if daily is not None:
                of_steps = np.stack([(matrix @ _number(part).T).T for part in daily])
            out.append(BrickSums(regions, np.stack(sums), of_steps))
        return out


def _number(flags: np.ndarray) -> np.ndarray:
    return flags.astype(np.float64, copy=False)


def _here(
    work: RecordWork, units: list[Unit], results: Results, listener: Listener
) -> Iterator[list[BrickSums]]:
    """Bricks computed by the threads of this process, one after the other."""
    job, names = work.job, list(work.job.aligned.sources)
    cells, steps = job.cells.cells.size, job.last - job.first
    room = KEPT_SHARE * job.request.memory
    unit_size = max(u.last - u.first for u in units) * cells * 8 * 3 * len(names)
    brick_size = max(b.stop - b.start for b in work.bricks) * steps * 8
    kept = results.size * 2 + min(room, steps * cells * 8.0 * len(names))
    copies = COPIES_OF_BRICK + len(names)
    jobs = fitting(job.request, max(unit_size, brick_size * copies), kept)
    with BrickStore(list(work.bricks), names, room, job.request.scratch) as store:

        def fetch(numbered: tuple[int, Unit]) -> Unit:
            number, unit = numbered
            for name, block in work.read(unit).items():
                store.put(number, name, block)
            return unit

        for unit in local.run(fetch, list(enumerate(units)), jobs):
            listener.progress(unit.last - job.first, 2 * steps, "steps")
        if store.on_disk:
            listener.note(f"{size_text(store.on_disk)} of records went to a scratch file")

        def whole(number: int) -> list[BrickSums]:
            return work.brick(number, {name: store.take(number, name) for name in names})

        yield from local.run(whole, list(range(len(work.bricks))), jobs)


def _there(
    work: RecordWork, units: list[Unit], cluster: str, listener: Listener
) -> Iterator[list[BrickSums]]:
    """Bricks computed by the workers of a cluster, which pass what they have read to each other."""
    job = work.job
    steps, source = job.last - job.first, next(iter(job.aligned.sources.values()))
    names = len(job.aligned.sources)
    per_step = max(job.cells.cells.size * names, 1)
    most = max(1, min(CUT_VALUES // per_step, -(-steps // LEAST_RUNS)))
    runs: list[tuple[Unit, ...]] = []
    for unit in units:
        if runs and unit.last - runs[-1][0].first <= most:
            runs[-1] += (unit,)
        else:
            runs.append((unit,))

    def name(run: tuple[Unit, ...]) -> str:
        return files_of(source, run[0].first, run[-1].last)

    def told(run: tuple[Unit, ...]) -> None:
        listener.progress(run[-1].last - job.first, 2 * steps, "steps")

    parts = len(work.bricks)
    yield from engine.shuffled(work, runs, parts, job.request.jobs, cluster, name, told)


def record_values(
    job: ExtremesJob, values: dict[str, np.ndarray], wants_daily: bool = False
) -> Iterator[tuple[np.ndarray, np.ndarray, OfSteps | None]]:
    """Each condition, or each index, on whole records (T, K).

    Yields
    ------
    found : (counts, P, K) float64
    valid : (P, K) float64
        Steps with data.
    daily
        Whether the condition is met and whether there is data to tell; the value, 0 where there
        is none, and whether there is one.
    """
    if job.indices:
        for found, valid in _index_values(job, values):
            yield found, valid, None
        return
    for ready in job.ready:
        counting = counting_of(job, ready)
        met = met_of_record(job, ready, values, tuple(counting.sums))
        counts = _whole_counts(job, counting, met)
        daily = None
        if wants_daily:
            valid = np.broadcast_to(met.valid, met.met.shape)
            own = values[ready.tests[0].tested.name]
            there = ~np.isnan(own)
            daily = met.met & valid, valid, np.where(there, own, 0.0), there
        yield *count_values(job, counts, np.arange(len(job.periods))), daily


def _whole_counts(job: ExtremesJob, counting: Counting, met: Met) -> Counts:
    """Counts of a whole record in all periods, those without any step included."""
    tally = counting.close(counting.update(0, met))
    counts = counting.empty(len(job.periods), met.met.shape[1])
    for name, array in tally.counts.items():
        counts[name][tally.periods] = array
    return counts


def met_of_record(
    job: ExtremesJob, ready: ReadyCondition, values: dict[str, np.ndarray], sums: tuple[str, ...]
) -> Met:
    """Whether a condition is met on each step of whole records (T, K)."""
    limits = None
    if ready.condition.has_percentiles:
        assert job.base is not None
        limits = percentile_limits(ready, values, _days(job), job.base, _wet(job))
    return try_out(ready, job.first, values, sums, limits)


def _days(job: ExtremesJob) -> CalendarDays:
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
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
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
        yield found[None], valid
