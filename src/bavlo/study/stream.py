"""Counting cells as the steps go by, with only the counts of open periods held."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np

from bavlo import engine
from bavlo.core.counting import NEVER, Counting, Met, Tally, joined_counts
from bavlo.core.measures import CellSample
from bavlo.core.partials import ENOUGH, Unit
from bavlo.core.periods import Fold
from bavlo.core.stretches import Across, Stretch, plan_stretches
from bavlo.core.timeaxis import DAY
from bavlo.engine.units import plan_units
from bavlo.formats.grids.source import files_of
from bavlo.study.extremesjob import ExtremesJob, counting_of, in_unit_of_test, tested_of
from bavlo.study.listener import Listener
from bavlo.study.memory import fitting
from bavlo.study.testing import ReadyCondition, gaps_in, try_out

if TYPE_CHECKING:
    from bavlo.study.extremes import Results

UNIT_VALUES = 2**22  # cells × steps of a unit
COPIES_OF_UNIT = 4.0  # values, tests and counts of a unit, as often as its values

Counts = dict[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class CellMeans:
    """Counts of cells as means over regions, in periods `first` and following.

    Parameters
    ----------
    value : (counts, P, R) float64
        NaN where there is none.
    area_valid, steps : (P, R) float64
    """

    first: int
    value: np.ndarray
    area_valid: np.ndarray
    steps: np.ndarray


def cell_means(job: ExtremesJob, first: int, counts: Counts) -> CellMeans:
    """Means over the cells of each region, of counts (P, C) in periods from `first` on."""
    values, valid = count_values(job, counts, first)
    there = ~np.isnan(values[0])
    if job.request.counts[0] in ("first", "last"):
        there = valid >= least_steps(job, slice(first, first + len(valid)))[:, None]
    sample = CellSample(job.index, np.where(there, 1.0, np.nan))
    area = np.broadcast_to(sample.area_valid, (len(valid), job.index.overlay.regions))
    enough = (area >= job.request.min_area - ENOUGH) & (area > 0)
    means = [np.where(enough, CellSample(job.index, each).mean, np.nan) for each in values]
    steps = CellSample(job.index, np.where(valid > 0, valid, np.nan)).mean
    return CellMeans(first, np.stack(means), area, np.nan_to_num(steps))


def least_steps(job: ExtremesJob, periods: slice) -> np.ndarray:
    """(P,) steps from which a period has a value."""
    if not job.ready:
        return np.zeros(periods.stop - periods.start)
    return np.maximum((job.request.min_steps - ENOUGH) * job.fold.expected[periods], 1e-9)


def count_values(
    job: ExtremesJob, counts: dict[str, np.ndarray], first: int
) -> tuple[np.ndarray, np.ndarray]:
    """From counts by period to (counts, P, K) values, NaN where too few steps have data."""
    valid = counts["valid"].astype(np.float64)
    enough = valid >= least_steps(job, slice(first, first + len(valid)))[:, None]
    out = []
    for name in job.request.counts:
        if name == "share":
            with np.errstate(invalid="ignore", divide="ignore"):
                values = counts["days"] / valid
        elif name in ("first", "last"):
            values = _day_of_period(job, counts[name], first)
        else:
            values = counts[name].astype(np.float64)
        out.append(np.where(enough, values, np.nan))
    return np.stack(out), valid


def _day_of_period(job: ExtremesJob, steps: np.ndarray, first: int) -> np.ndarray:
    """Days (steps, where these are longer) from the period's beginning, its first being 1."""
    there = (steps >= 0) & (steps != NEVER)
    number = np.where(there, steps, 0) + job.first
    start = job.periods.start[first : first + len(steps), None]
    if isinstance(job.time.length, str) or job.time.length > DAY:
        begin = job.places.begin[first : first + len(steps), None] + job.first
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
class CountingWork:
    """Counting on a unit, and what becomes of it; goes to other machines as it is."""

    job: ExtremesJob
    countings: tuple[Counting, ...]
    wants_daily: bool

    def each(self, unit: Unit) -> list[tuple[Tally | None, Any]]:
        """Read a unit and count each condition in it."""
        values = read_values(self.job, unit)
        known = gaps_in(values)
        out = []
        for ready, counting in zip(self.job.ready, self.countings, strict=True):
            met = try_out(ready, unit.first, values, tuple(counting.sums), known=known)
            daily = None
            if self.wants_daily:
                daily = unit.first, _daily_of_cells(self.job, ready, met, values)
            out.append((counting.update(unit.first - self.job.first, met), daily))
        return out

    def begin(self, stretch: Stretch) -> CountingFold:
        """Begin a stretch."""
        return CountingFold([_Counted(self.job, each, stretch) for each in self.countings])

    def finished(
        self, made: list[_Counted]
    ) -> list[tuple[list[CellMeans], list[Tally], list[Any]]]:
        """Of each condition what is region-sized, and what only its neighbours can finish."""
        return [(each.results, each.tallies, each.daily) for each in made]

    def end(self, made: list[_Counted], n: int, which: str) -> Counts | None:
        """Counts of the period at one end of the stretch: first or last."""
        counts: Counts | None = getattr(made[n], which)
        return counts

    def merge(self, earlier: Counts, later: Counts) -> Counts:
        """Put together what two neighbouring stretches have counted in a period."""
        return joined_counts(earlier, later)

    def finish(self, period: int, counts: Counts) -> CellMeans:
        """Means of a period that is over."""
        return cell_means(self.job, period, counts)


class CountingFold:
    """A stretch that is being made."""

    def __init__(self, counted: list[_Counted]) -> None:
        self.counted = counted

    def add(self, outcome: list[tuple[Tally | None, Any]]) -> None:
        """Take in the next unit."""
        for each, (tally, daily) in zip(self.counted, outcome, strict=True):
            if daily is not None:
                each.daily.append(daily)
            if tally is not None:
                each.add(tally)

    def close(self) -> list[_Counted]:
        """All that the stretch has made."""
        for each in self.counted:
            each.close()
        return self.counted


class _Counted:
    """One condition in a stretch.

    Attributes
    ----------
    results
        Of the periods that lie in it.
    first, last
        Counts of the period that has begun earlier, and of the one that goes on later.
    tallies
        Instead of all these, where spells are followed over the ends of the stretch.
    daily
        What happened on each step, by unit, where it is wanted.
    """

    def __init__(self, job: ExtremesJob, counting: Counting, stretch: Stretch) -> None:
        self.job = job
        self.counting = counting
        self.stretch = stretch
        self.results: list[CellMeans] = []
        self.first: Counts | None = None
        self.last: Counts | None = None
        self.tallies: list[Tally] = []
        self.daily: list[tuple[int, tuple[np.ndarray, ...]]] = []
        self._open: tuple[int, Counts] | None = None

    def __getstate__(self) -> dict[str, Any]:
        # The job is as large as all the rest, and known wherever this goes.
        return self.__dict__ | {"job": None, "counting": None}

    def add(self, tally: Tally) -> None:
        """Take in the next unit; all periods before its last are over."""
        if self.counting.runs:
            self.tallies.append(tally)
            return
        for n in range(tally.first, tally.stop):
            row = slice(n - tally.first, n - tally.first + 1)
            counts = {name: array[row] for name, array in tally.counts.items()}
            if self._open is not None and self._open[0] == n:
                counts = joined_counts(self._open[1], counts)
            elif self._open is not None:
                self._take(*self._open)
            self._open = n, counts

    def close(self) -> None:
        """What is left when no unit follows."""
        if self._open is not None:
            self._take(*self._open)
            self._open = None

    def _take(self, period: int, counts: Counts) -> None:
        if period == self.stretch.begun:
            self.first = counts
        elif period == self.stretch.goes_on:
            self.last = counts
        else:
            self.results.append(cell_means(self.job, period, counts))


def in_stream(job: ExtremesJob, results: Results, listener: Listener) -> None:
    """Count cells as the steps go by."""
    units = units_of(job)
    countings = tuple(counting_of(job, ready) for ready in job.ready)
    spells = [_Spells(job, each) for each in countings]
    most = max(unit.last - unit.first for unit in units) * job.cells.cells.size * 8
    names = len(job.aligned.sources)
    kept = job.cells.cells.size * 8 * 6 * len(job.ready)
    jobs = fitting(job.request, most * COPIES_OF_UNIT * names, results.size + kept)
    # Where spells are followed, what a unit has counted waits for its neighbours.
    least_and_most = (1, 1) if any(each.runs for each in countings) else ()
    stretches = plan_stretches(job.fold, units, *least_and_most)

    def name(stretch: Stretch) -> str:
        source = next(iter(job.aligned.sources.values()))
        return files_of(source, stretch.first, stretch.last)

    def told(step: int) -> None:
        listener.progress(step - job.first, job.last - job.first, "steps")

    work = CountingWork(job, countings, bool(results.daily))
    with engine.place(work, jobs, job.request.cluster, name, told) as place:
        across: list[Across[Any]] = [Across(partial(place.call, "merge")) for _ in countings]
        for stretch, made, finished in place.stretches(stretches):
            for n, (means, tallies, daily) in enumerate(finished):
                for each in means:
                    results.put_cells(n, each)
                for tally in tallies:
                    for each in spells[n].add(tally):
                        results.put_cells(n, each)
                for first, values in daily:
                    results.daily[n].put(first - job.first, *values)
                if countings[n].runs:
                    continue
                ends = [
                    place.call("end", made, n, which) if period is not None else None
                    for which, period in (("first", stretch.begun), ("last", stretch.goes_on))
                ]
                for whole in across[n].add(stretch, *ends):
                    found = place.get(place.call("finish", stretch.begun, whole))
                    results.put_cells(n, found)
    for n, each_spells in enumerate(spells):
        for each in each_spells.close():
            results.put_cells(n, each)


class _Spells:
    """Counts of a condition whose spells run on from unit to unit, merged in order of time."""

    def __init__(self, job: ExtremesJob, counting: Counting) -> None:
        self.job = job
        self.counting = counting
        self._held: Tally | None = None

    def add(self, tally: Tally) -> Iterator[CellMeans]:
        """Take in the next unit; gives out what can no longer change."""
        if self._held is not None:
            tally = self.counting.merge(self._held, tally)
        first = tally.first
        over, self._held = tally.split(self.counting.settled(tally))
        yield from self._means(first, over)

    def close(self) -> Iterator[CellMeans]:
        """What is left when no unit follows."""
        if self._held is not None:
            yield from self._means(self._held.first, self.counting.close(self._held).counts)

    def _means(self, first: int, counts: Counts) -> Iterator[CellMeans]:
        if len(counts["valid"]):
            yield cell_means(self.job, first, counts)


def _daily_of_cells(
    job: ExtremesJob, ready: ReadyCondition, met: Met, values: dict[str, np.ndarray]
) -> tuple[np.ndarray, ...]:
    """Share of each region's area that meets a condition, and its mean value, by step."""
    steps = len(met.met)
    valid = np.broadcast_to(met.valid, met.met.shape)
    sample = CellSample(job.index, np.where(valid, met.met, np.nan))
    share = np.broadcast_to(sample.mean, (steps, job.index.overlay.regions))
    area = np.broadcast_to(sample.area_valid, share.shape)
    share = np.where(area >= job.request.min_area - ENOUGH, share, np.nan)
    mean = CellSample(job.index, values[ready.tests[0].tested.name]).mean
    return share, mean
