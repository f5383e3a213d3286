"""Counting cells as the steps go by, with only the counts of open periods held."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Any

import numpy as np

from bavlo import engine
from bavlo.core.counting import NEVER, SUMS, Counting, Counts, Met, Tally
from bavlo.core.measures import CellSample
from bavlo.core.partials import ENOUGH, Unit
from bavlo.core.periods import Fold
from bavlo.core.stretches import Pairwise, Stretch, plan_stretches
from bavlo.core.timeaxis import DAY
from bavlo.engine.units import plan_units
from bavlo.formats.grids.source import files_of
from bavlo.study.extremesjob import ExtremesJob, counting_of, in_unit_of_test, tested_of
from bavlo.study.extremesresults import CellMeans, Results
from bavlo.study.listener import Listener
from bavlo.study.memory import fitting
from bavlo.study.testing import ReadyCondition, gaps_in, try_out

UNIT_VALUES = 2**22  # cells × steps of a unit
COPIES_OF_UNIT = 4.0  # values, tests and counts of a unit, as often as its values
VALUES_AT_ONCE = 2**20  # cells × periods that are measured together
UNITS_HERE = (1, 1)  # of a stretch: what a unit has counted is merged at once
UNITS_THERE = (8, 16)  # fewer tallies travel, and none holds too many periods

StepValues = tuple[int, np.ndarray, np.ndarray]  # first step, and (T, R) share met and mean


def cell_means(job: ExtremesJob, periods: np.ndarray, counts: Counts) -> list[CellMeans]:
    """Means over the cells of each region, of counts (P, C), a few periods at a time."""
    few = max(1, VALUES_AT_ONCE // max(job.cells.cells.size, 1))
    out = []
    for low in range(0, len(periods), few):
        some = slice(low, low + few)
        here = {name: array[some] for name, array in counts.items()}
        out.append(_cell_means(job, periods[some], here))
    return out


def _cell_means(job: ExtremesJob, periods: np.ndarray, counts: Counts) -> CellMeans:
    values, valid = count_values(job, counts, periods)
    there = ~np.isnan(values[0])
    if job.request.counts[0] in ("first", "last"):
        there = valid >= least_steps(job, periods)[:, None]
    sample = CellSample(job.index, np.where(there, 1.0, np.nan))
    area = np.broadcast_to(sample.area_valid, (len(valid), job.index.overlay.regions))
    enough = (area >= job.request.min_area - ENOUGH) & (area > 0)
    means = [np.where(enough, CellSample(job.index, each).mean, np.nan) for each in values]
    steps = CellSample(job.index, np.where(valid > 0, valid, np.nan)).mean
    return CellMeans(periods, np.stack(means), area, np.nan_to_num(steps))


def least_steps(job: ExtremesJob, periods: np.ndarray) -> np.ndarray:
    """(P,) steps from which a period has a value."""
    if not job.ready:
        return np.zeros(len(periods))
    return np.maximum((job.request.min_steps - ENOUGH) * job.fold.expected[periods], 1e-9)


def count_values(
    job: ExtremesJob, counts: Counts, periods: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """From counts by period to (counts, P, K) values, NaN where too few steps have data."""
    valid = counts["valid"].astype(np.float64)
    enough = valid >= least_steps(job, periods)[:, None]
    out = []
    for name in job.request.counts:
        if name == "share":
            with np.errstate(invalid="ignore", divide="ignore"):
                values = counts["days"] / valid
        elif name in ("first", "last"):
            values = _day_of_period(job, counts[name], periods)
        elif name in SUMS:
            values = counts[name][:, 0]
        else:
            values = counts[name].astype(np.float64)
        out.append(np.where(enough, values, np.nan))
    return np.stack(out), valid


def _day_of_period(job: ExtremesJob, steps: np.ndarray, periods: np.ndarray) -> np.ndarray:
    """Days (steps, where these are longer) from the period's beginning, its first being 1."""
    there = (steps >= 0) & (steps != NEVER)
    number = np.where(there, steps, 0) + job.first
    start = job.periods.start[periods, None]
    if isinstance(job.time.length, str) or job.time.length > DAY:
        begin = job.places.begin[periods, None] + job.first
        return np.where(there, number - begin + 1.0, np.nan)
    middle = job.time.start + job.time.duration // 2
    return np.where(there, (middle[number] - start) // DAY + 1.0, np.nan)


def read_values(job: ExtremesJob, unit: Unit) -> dict[str, np.ndarray]:
    """Values of all variables, in the units in which they are tested; (T, C) each."""
    blocks = job.aligned.read(unit.first, unit.last, job.cells)
    return {
        name: job.tested[name].values(block, unit.first)
        if name in job.tested
        else _limit_grid(job, name, block, unit.first)
        for name, block in blocks.items()
    }


def _limit_grid(job: ExtremesJob, name: str, block: np.ndarray, first: int) -> np.ndarray:
    """A grid that is a threshold, in the unit of what it is compared with."""
    own = tested_of(name, job.aligned.sources[name], job.time, job.aligned)
    values = own.values(block, first)
    return in_unit_of_test(name, own.unit, values, job)


def units_of(job: ExtremesJob) -> list[Unit]:
    """Runs of all needed steps, cut where periods begin."""
    inside = (job.fold.step >= job.first) & (job.fold.step < job.last)
    step, period = np.arange(job.first, job.last), np.full(job.last - job.first, -1)
    period[job.fold.step[inside] - job.first] = job.fold.period[inside]
    # Steps between periods belong to runs of their own.
    label = np.concatenate([[0], np.cumsum(np.diff(period) != 0)])
    every = Fold(step, label, np.ones(step.size), np.zeros(int(label[-1]) + 1))
    return plan_units(every, job.cells.cells.size, UNIT_VALUES)


@dataclass(frozen=True, eq=False)
class Counted:
    """What each condition has made of a run of steps.

    Parameters
    ----------
    means
        Of periods that nothing before or after these steps can change.
    tallies
        All else.
    daily
        What happened on each step, by unit, where it is wanted.
    """

    means: list[list[CellMeans]]
    tallies: list[Tally]
    daily: list[list[StepValues]]


@dataclass(frozen=True, eq=False)
class CountingWork:
    """Counting on a unit, and what becomes of it; goes to other machines as it is."""

    job: ExtremesJob
    countings: tuple[Counting, ...]
    wants_daily: bool

    def each(self, unit: Unit) -> tuple[list[Tally], list[list[StepValues]]]:
        """Read a unit and count each condition in it."""
        values = read_values(self.job, unit)
        known = gaps_in(values)
        tallies: list[Tally] = []
        daily: list[list[StepValues]] = []
        for ready, counting in zip(self.job.ready, self.countings, strict=True):
            met = try_out(ready, unit.first, values, tuple(counting.sums), known=known)
            tallies.append(counting.update(unit.first - self.job.first, met))
            daily.append([])
            if self.wants_daily:
                daily[-1].append((unit.first, *_daily_of_cells(self.job, ready, met, values)))
        return tallies, daily

    def begin(self, stretch: Stretch) -> CountingFold:
        """Begin a stretch."""
        return CountingFold(self)

    def keeps(self, stretch: Stretch) -> bool:
        """Whether neighbours may change what is made of a stretch."""
        open_ends = stretch.begun is not None or stretch.goes_on is not None
        return open_ends or any(each.runs for each in self.countings)

    def settled(self, tallies: list[Tally], daily: list[list[StepValues]]) -> Counted:
        """Turn the periods that are over into means."""
        means, rest = [], []
        for counting, tally in zip(self.countings, tallies, strict=True):
            periods, counts, still = counting.settled(tally)
            means.append(cell_means(self.job, periods, counts))
            rest.append(still)
        return Counted(means, rest, daily)

    def finished(self, made: Counted) -> tuple[list[list[CellMeans]], list[list[StepValues]]]:
        """What is region-sized."""
        return made.means, made.daily

    def merge(self, earlier: Counted, later: Counted) -> Counted:
        """Put together what two neighbouring runs of steps have left."""
        pairs = zip(self.countings, earlier.tallies, later.tallies, strict=True)
        tallies = [counting.merge(before, after) for counting, before, after in pairs]
        return self.settled(tallies, [[] for _ in tallies])

    def close(self, last: Counted) -> Counted:
        """What is left when no step follows."""
        means = []
        for counting, tally in zip(self.countings, last.tallies, strict=True):
            closed = counting.close(tally)
            means.append(cell_means(self.job, closed.periods, closed.counts))
        return Counted(means, [], [])


class CountingFold:
    """A stretch that is being made."""

    def __init__(self, work: CountingWork) -> None:
        self.work = work
        self.tallies: list[Tally] = []
        self.daily: list[list[StepValues]] = []

    def add(self, outcome: tuple[list[Tally], list[list[StepValues]]]) -> None:
        """Take in the next unit."""
        tallies, daily = outcome
        if not self.tallies:
            self.tallies, self.daily = tallies, daily
            return
        pairs = zip(self.work.countings, self.tallies, tallies, strict=True)
        self.tallies = [counting.merge(before, after) for counting, before, after in pairs]
        for held, more in zip(self.daily, daily, strict=True):
            held += more

    def close(self) -> Counted:
        """All that the stretch has made."""
        return self.work.settled(self.tallies, self.daily)


def in_stream(job: ExtremesJob, results: Results, listener: Listener) -> None:
    """Count cells as the steps go by."""
    units = units_of(job)
    countings = tuple(counting_of(job, ready) for ready in job.ready)
    most = max(unit.last - unit.first for unit in units) * job.cells.cells.size * 8
    names = len(job.aligned.sources)
    kept = job.cells.cells.size * 8 * 6 * len(job.ready)
    jobs = fitting(job.request, most * COPIES_OF_UNIT * names, results.size + kept)
    # Tallies merge to the same in any order, so what is held decides how they are put together.
    least_and_most = UNITS_HERE if job.request.cluster is None else UNITS_THERE
    stretches = plan_stretches(job.fold, units, *least_and_most)

    def name(stretch: Stretch) -> str:
        source = next(iter(job.aligned.sources.values()))
        return files_of(source, stretch.first, stretch.last)

    def told(step: int) -> None:
        listener.progress(step - job.first, job.last - job.first, "steps")

    def take(finished: tuple[list[list[CellMeans]], list[list[StepValues]]]) -> None:
        for n, means in enumerate(finished[0]):
            for each in means:
                results.put_cells(n, each)
        for n, daily in enumerate(finished[1]):
            for first, *values in daily:
                results.daily[n].put(first - job.first, *values)

    work = CountingWork(job, countings, bool(results.daily))
    with engine.place(work, jobs, job.request.cluster, name, told) as place:
        waiting: deque[Any] = deque()

        def merge(earlier: Any, later: Any) -> Any:
            merged = place.call("merge", earlier, later)
            waiting.append(place.call("finished", merged))
            return merged

        tree: Pairwise[Any] = Pairwise(merge, place.tree_height)
        for stretch, made, finished in place.stretches(stretches):
            take(finished)
            if work.keeps(stretch):
                tree.add(made)
            while len(waiting) > place.waiting:
                take(place.get(waiting.popleft()))
        if tree:
            waiting.append(place.call("finished", place.call("close", tree.close())))
        for each in waiting:
            take(place.get(each))


def _daily_of_cells(
    job: ExtremesJob, ready: ReadyCondition, met: Met, values: dict[str, np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Share of each region's area that meets a condition, and its mean value, by step."""
    steps = len(met.met)
    valid = np.broadcast_to(met.valid, met.met.shape)
    sample = CellSample(job.index, np.where(valid, met.met, np.nan))
    share = np.broadcast_to(sample.mean, (steps, job.index.overlay.regions))
    area = np.broadcast_to(sample.area_valid, share.shape)
    share = np.where(area >= job.request.min_area - ENOUGH, share, np.nan)
    mean = CellSample(job.index, values[ready.tests[0].tested.name]).mean
    return share, mean
