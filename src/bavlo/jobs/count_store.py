"""Counts of periods that are kept from run to run, while the steps behind them stay as they were.

Kept are counts of conditions with fixed thresholds, which each period has of its own steps alone.
What looks at the whole record, a base, a neighbouring period or single days is made again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.conditions.conditions import Fixed
from bavlo.core.conditions.counts import COUNTS
from bavlo.core.stats.measures import parse_measure
from bavlo.engine.segments import Segment
from bavlo.jobs.count_arrays import ExtremesArrays
from bavlo.jobs.extremes_plan import ExtremesPlan, counting_of
from bavlo.jobs.store import (
    StepStamps,
    changed_steps,
    kept_periods,
    key_of,
    segments_needed,
    source_digests,
    told_of_source,
)
from bavlo.kept import keep, load

ARRAYS = ("value", "area_valid", "steps")


@dataclass(frozen=True, eq=False)
class KeptCounts:
    """Counts of an earlier run that still hold.

    Parameters
    ----------
    kept : (P,) int64
        Where each period stands among the kept ones; -1 where it is to be counted again.
    changed : (T,) bool
        Steps of periods that are to be counted again.
    arrays
        The entry.
    """

    kept: np.ndarray
    changed: np.ndarray
    arrays: dict[str, np.ndarray]

    def fill(self, counts: ExtremesArrays) -> None:
        """Put what is kept where it belongs."""
        at = np.flatnonzero(self.kept >= 0)
        for name in ARRAYS:
            getattr(counts, name)[:, at] = self.arrays[name][:, self.kept[at]]


@dataclass(frozen=True, eq=False)
class SettledCounts:
    """Where the counts of a job are kept, and the steps that they depend on."""

    path: Path
    plan: ExtremesPlan
    stamps: StepStamps

    @classmethod
    def of(cls, plan: ExtremesPlan) -> SettledCounts | None:
        """The entry of a job; None where nothing can be kept."""
        folder = plan.request.run.store
        if folder is None or not _stands_alone(plan):
            return None
        digest = np.zeros(len(plan.time), np.int64)
        for name, source in plan.aligned.sources.items():
            own = source_digests(source)
            if own is None:
                return None
            digest = digest * 31 + own[plan.aligned.steps[name]]
        used = np.unique(plan.assignment.step)
        stamps = StepStamps(used, plan.time.start[used], plan.time.end[used], digest[used])
        return cls(folder / f"{_key(plan)}.npz", plan, stamps)

    def load(self) -> KeptCounts | None:
        """What still holds; None where nothing does."""
        arrays = load(self.path, [*StepStamps.NAMES, "labels", *ARRAYS])
        limit = None if arrays is None else self.stamps.limit(arrays)
        if arrays is None or limit is None:
            return None
        assignment, labels = self.plan.assignment, self.plan.periods.labels
        kept = kept_periods(assignment, labels, arrays["labels"].tolist(), limit)
        return KeptCounts(kept, changed_steps([assignment], [kept], len(self.plan.time)), arrays)

    def keep(self, counts: ExtremesArrays) -> None:
        """Keep the counts for the next run."""
        arrays: dict[str, Any] = {name: getattr(counts, name) for name in ARRAYS}
        arrays["labels"] = np.array(self.plan.periods.labels)
        keep(self.path, arrays | self.stamps.arrays, make_room=False)


def needed(kept: KeptCounts | None, segments: Sequence[Segment]) -> Sequence[Segment]:
    """The segments that are worked on: all where nothing is kept."""
    return segments if kept is None else segments_needed(segments, kept.changed)


def _stands_alone(plan: ExtremesPlan) -> bool:
    """Whether the counts of a period depend on its own steps and on fixed thresholds only."""
    asked = plan.request
    run_on = not plan.period_steps.cut and any(
        counting_of(plan, b).follows_spells for b in plan.bound
    )
    of_whole = not plan.on_cells and (
        asked.measuring.min_area is None and parse_measure(asked.measuring.measure[0]).of_whole
    )
    fixed = all(isinstance(test.threshold, Fixed) for b in plan.bound for test in b.condition.tests)
    return (
        bool(plan.bound)
        and plan.base is None
        and asked.output.events is None
        and not asked.grids.make
        and not asked.time.same_span
        and not (run_on or of_whole or (plan.on_cells and plan.whole_records))
        and fixed
        and all(name in COUNTS for name in asked.conditions.count)
    )


def _key(plan: ExtremesPlan) -> str:
    """A digest of all that counts depend on but the steps."""
    asked = plan.request
    told: list[Any] = [asked.conditions, asked.measuring, replace(asked.time, during=None)]
    told += [plan.regions.regions.labels, plan.time.calendar, plan.time.length, plan.time.how]
    told += [(name, one.unit, one.what) for name, one in plan.variables.items()]
    told += [told_of_source(source) for source in plan.aligned.sources.values()]
    return key_of(told, plan.aligned.layout, plan.index.overlay, plan.weights)
