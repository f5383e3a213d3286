"""Events: each spell of a condition in each region, with its dates and its peak."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.table import Column, Table, text_column
from bavlo.core.timeaxis import iso_days
from bavlo.core.units import STATE, convert

if TYPE_CHECKING:
    from bavlo.study.extremesjob import ExtremesJob
    from bavlo.study.testing import ReadyCondition


class Daily:
    """What happened on each step in each region.

    Attributes
    ----------
    share : (T, R) float64
        Share of the region's area that meets the condition; 0 or 1 for regions that are tested
        themselves; NaN where there is too little data.
    mean : (T, R) float64
        The region's value.
    """

    def __init__(self, steps: int, regions: int) -> None:
        self.share = np.full((steps, regions), np.nan)
        self.mean = np.full((steps, regions), np.nan)
        self._sums = np.zeros(0)

    @property
    def nbytes(self) -> int:
        """What it takes in memory."""
        return self.share.nbytes * 6

    def put(self, first: int, share: np.ndarray, mean: np.ndarray) -> None:
        """Steps from `first` on."""
        self.share[first : first + len(share)] = share
        self.mean[first : first + len(mean)] = mean

    def add(self, regions: np.ndarray, parts: np.ndarray) -> None:
        """Add up what a brick has in some regions (r,).

        The parts (4, T, r) are weights that meet it, that have data, sums of values, their weights.
        """
        if not self._sums.size:
            self._sums = np.zeros((len(parts), *self.share.shape))
        self._sums[:, :, regions] += parts

    def divide(self, region_weight: np.ndarray, min_area: float) -> None:
        """Turn sums over bricks into shares and means."""
        met, valid, total, weight = self._sums
        with np.errstate(invalid="ignore", divide="ignore"):
            enough = valid / region_weight >= min_area - 1e-9
            self.share = np.where(enough & (valid > 0), met / valid, np.nan)
            self.mean = np.where(weight > 0, total / weight, np.nan)
        self._sums = np.zeros(0)


def events_table(job: ExtremesJob, daily: list[Daily]) -> Table:
    """All events of all conditions, region by region in order of time."""
    rows: dict[str, list[object]] = {name: [] for name in COLUMNS}
    for r, region in enumerate(job.regions.regions.labels):
        for ready, record in zip(job.ready, daily, strict=True):
            _of_region(job, ready, record, r, region, rows)
    count = len(rows["region"])
    columns = tuple(
        text_column(name, ("row",), [str(v) for v in rows[name]])
        if is_text
        else Column(name, ("row",), np.array(rows[name], np.float64))
        for name, is_text in COLUMNS.items()
    )
    return Table("events", {"row": count}, columns)


COLUMNS = {
    "region": True,
    "condition": True,
    "event": False,
    "start": True,
    "end": True,
    "steps": False,
    "variable": True,
    "peak": False,
    "peak_on": True,
    "unit": True,
    "total": False,
    "total_unit": True,
    "area_share": False,
    "open": True,
}


def _of_region(
    job: ExtremesJob,
    ready: ReadyCondition,
    record: Daily,
    r: int,
    region: str,
    rows: dict[str, list[object]],
) -> None:
    share = record.share[:, r]
    least = job.request.area_share if job.on_cells else 0.5
    inside = (share >= least - 1e-12) & (share > 0)
    first = ready.tests[0]
    number = 0
    for begin, stop in _runs(inside, job.places.follows):
        if stop - begin < ready.condition.least or not _reported(job, begin, stop):
            continue
        number += 1
        values = record.mean[begin:stop, r]
        peak = (
            int(np.nanargmax(values if first.test.above else -values))
            if (~np.isnan(values)).any()
            else 0
        )
        amounts = first.tested.what.kind != STATE
        days = iso_days(
            job.time.start[[job.first + begin, job.first + stop - 1, job.first + begin + peak]]
            + job.time.duration[job.first] // 2,
            job.time.calendar,
        )
        rows["region"].append(region)
        rows["condition"].append(str(ready.condition))
        rows["event"].append(number)
        rows["start"].append(days[0])
        rows["end"].append(days[1])
        rows["steps"].append(stop - begin)
        rows["variable"].append(first.tested.name)
        unit = job.request.unit or first.tested.unit
        told = convert(values, first.tested.unit, unit, difference=False)
        rows["peak"].append(told[peak])
        rows["peak_on"].append(days[2])
        rows["unit"].append(unit)
        rows["total"].append(np.nansum(told) if amounts else np.nan)
        rows["total_unit"].append(unit if amounts else "")
        rows["area_share"].append(share[begin:stop].mean() if job.on_cells else np.nan)
        rows["open"].append("yes" if _is_open(share, job.places.follows, begin, stop) else "no")


def _runs(inside: np.ndarray, follows: np.ndarray) -> list[tuple[int, int]]:
    """First step and the one after the last of each run; a gap in time ends it."""
    before = np.concatenate([[False], inside[:-1]]) & follows
    after = np.concatenate([inside[1:] & follows[1:], [False]])
    begins = np.flatnonzero(inside & ~before)
    ends = np.flatnonzero(inside & ~after) + 1
    return list(zip(begins.tolist(), ends.tolist(), strict=True))


def _is_open(share: np.ndarray, follows: np.ndarray, begin: int, stop: int) -> bool:
    """Whether the record has no data right before or after, so that it may have been longer."""
    before = begin == 0 or not follows[begin] or bool(np.isnan(share[begin - 1]))
    after = stop == len(share) or not follows[stop] or bool(np.isnan(share[stop]))
    return before or after


def _reported(job: ExtremesJob, begin: int, stop: int) -> bool:
    """Whether an event touches the time that is reported."""
    if job.request.during is None:
        return True
    low, high = job.request.during.instants(job.time.calendar)
    first, last = job.time.start[job.first + begin], job.time.end[job.first + stop - 1]
    return bool(first < high and last > low)
