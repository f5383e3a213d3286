"""Events: each spell of a condition in each region, with its dates and its peak."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.time.axis import steps_text
from bavlo.core.values.kinds import STATE
from bavlo.core.values.units import convert
from bavlo.tables.schema import EVENTS
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from bavlo.jobs.conditions import BoundCondition
    from bavlo.jobs.extremes_plan import ExtremesPlan


class Daily:
    """What happened on each step in each region.

    Attributes
    ----------
    share : (T, R) float64
        Share of the region's area that meets the condition; 0 or 1 for regions that are tested
        themselves; NaN where there is too little data.
    met : (T, R) float64
        Weight of the cells that meet it; all 0 where regions are tested themselves.
    mean : (T, R) float64
        The region's value.
    """

    def __init__(self, steps: int, regions: int) -> None:
        self.share = np.full((steps, regions), np.nan)
        self.mean = np.full((steps, regions), np.nan)
        self.met = np.zeros((steps, regions))
        self._sums = np.zeros(0)

    @property
    def nbytes(self) -> int:
        """What it takes in memory."""
        return self.share.nbytes * 7

    def put(
        self, first: int, share: np.ndarray, mean: np.ndarray, met: np.ndarray | None = None
    ) -> None:
        """Steps from `first` on."""
        if met is not None:
            self.met[first : first + len(met)] = met
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
            enough = valid / region_weight >= min_area - ENOUGH
            self.share = np.where(enough & (valid > 0), met / valid, np.nan)
            self.mean = np.where(weight > 0, total / weight, np.nan)
        self.met = np.asarray(met)
        self._sums = np.zeros(0)


def events_table(plan: ExtremesPlan, daily: Sequence[Daily]) -> Table:
    """All events of all conditions, region by region in order of time."""
    events: list[Event] = []
    for r, region in enumerate(plan.regions.regions.labels):
        for bound, record in zip(plan.bound, daily, strict=True):
            events += _of_region(plan, bound, record, r, region)
    names = [each.name for each in fields(Event)]
    columns = {name: [getattr(event, name) for event in events] for name in names}
    return EVENTS.table(
        {
            name: values if EVENTS.is_text(name) else np.array(values, np.float64)
            for name, values in columns.items()
        }
    )


@dataclass(frozen=True)
class Event:
    """One spell in one region; the fields are the columns of the table."""

    region: str
    condition: str
    event: int
    start: str
    end: str
    steps: int
    variable: str
    peak: float
    peak_on: str
    unit: str
    total: float
    total_unit: str
    area_share: float
    open: str


def _of_region(
    plan: ExtremesPlan, bound: BoundCondition, record: Daily, r: int, region: str
) -> Iterator[Event]:
    """The events of one condition in one region."""
    share = record.share[:, r]
    least = plan.request.conditions.area_share if plan.on_cells else 0.5
    inside = (share >= least - 1e-12) & (share > 0)
    follows = plan.period_steps.follows
    number = 0
    for begin, stop in _runs(inside, follows):
        if stop - begin < bound.condition.least or not _reported(plan, begin, stop):
            continue
        number += 1
        values = record.mean[begin:stop, r]
        peak = _peak(values, above=bound.tests[0].test.above)
        steps = plan.first + np.array([begin, stop - 1, begin + peak])
        starts, ends = steps_text(plan.time, steps)
        variable = bound.tests[0].variable
        unit = plan.request.measuring.unit or variable.unit
        known = convert(values, variable.unit, unit, difference=False)
        amounts = variable.what.kind != STATE
        yield Event(
            region,
            str(bound.condition),
            number,
            starts[0],
            ends[1],
            stop - begin,
            variable.name,
            float(known[peak]),
            starts[2],
            unit,
            float(np.nansum(known)) if amounts else np.nan,
            unit if amounts else "",
            float(share[begin:stop].mean()) if plan.on_cells else np.nan,
            "yes" if _is_open(share, follows, begin, stop) else "no",
        )


def _peak(values: np.ndarray, *, above: bool) -> int:
    """Position of the highest value, of the lowest where the condition is below a threshold."""
    if np.isnan(values).all():
        return 0
    return int(np.nanargmax(values if above else -values))


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


def _reported(plan: ExtremesPlan, begin: int, stop: int) -> bool:
    """Whether an event touches the time that is reported."""
    if plan.request.time.during is None:
        return True
    low, high = plan.request.time.during.instants(plan.time.calendar)
    first, last = plan.time.start[plan.first + begin], plan.time.end[plan.first + stop - 1]
    return bool(first < high and last > low)
