"""Values of periods that are kept from run to run, while the steps behind them stay as they were.

A period is kept where the record up to its last step is what it was: the same steps, with the same
digests of what is stored. Blocks, segments and the order of all additions follow from the record's
beginning on, so what is kept is, to the last bit, what would be made again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np

from bavlo import __version__
from bavlo.core.reduce.protocol import Block
from bavlo.core.reduce.series import ValueRange
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.time.assignment import Assignment
from bavlo.core.values.kinds import implausible
from bavlo.engine.segments import Segment
from bavlo.grids.digest import step_digests
from bavlo.grids.joined import JoinedGrid
from bavlo.grids.source import GridSource
from bavlo.jobs.regions import FurtherWeights
from bavlo.jobs.series_plan import SeriesPlan
from bavlo.jobs.series_table import SeriesArrays
from bavlo.kept import keep, load

ORDER_OF_ADDITIONS = 2  # another number whenever sums come to other last digits than before
OF_PLAN = ("labels", "value", "area_valid", "steps", "place")


@dataclass(frozen=True, eq=False)
class StepStamps:
    """What steps are known by from run to run.

    Parameters
    ----------
    used : (N,) int64
        The steps that are used.
    start, end, digest : (N,) int64
        Of these.
    """

    NAMES: ClassVar[tuple[str, ...]] = ("start", "end", "digest")

    used: np.ndarray
    start: np.ndarray
    end: np.ndarray
    digest: np.ndarray

    @property
    def arrays(self) -> dict[str, np.ndarray]:
        """By name, as they are kept."""
        return {name: getattr(self, name) for name in self.NAMES}

    def common(self, arrays: Mapping[str, np.ndarray]) -> int:
        """How many of the first steps are what they were."""
        both = min(self.used.size, arrays["start"].size)
        same = np.ones(both, bool)
        for name, own in self.arrays.items():
            same &= own[:both] == arrays[name][:both]
        return both if same.all() else int(np.argmin(same))

    def limit(self, arrays: Mapping[str, np.ndarray]) -> int | None:
        """Steps before this are what they were; None where none is."""
        common = self.common(arrays)
        return int(self.used[common - 1]) + 1 if common else None


def kept_periods(
    assignment: Assignment, labels: Sequence[str], held: Sequence[str], limit: int
) -> np.ndarray:
    """(P,) where each period stands among the held ones; -1 where a step from `limit` on is its."""
    own = np.zeros(len(labels), bool)
    own[assignment.period] = True
    own[assignment.period[assignment.step >= limit]] = False
    place = {label: k for k, label in enumerate(held)}
    return np.where(own, np.array([place.get(label, -1) for label in labels], np.int64), -1)


def changed_steps(
    assignments: Sequence[Assignment], kept: Sequence[np.ndarray], count: int
) -> np.ndarray:
    """(T,) bool steps of periods that are not kept."""
    changed = np.zeros(count, bool)
    for assignment, own in zip(assignments, kept, strict=True):
        changed[assignment.step[own[assignment.period] < 0]] = True
    return changed


def segments_needed(segments: Sequence[Segment], changed: np.ndarray) -> list[Segment]:
    """The blocks that hold changed steps, in their segments.

    Where periods go on from segment to segment, all segments of the run are worked on as a whole,
    so that they merge in the same order.
    """
    out = []
    for chain in _chains(segments):
        if len(chain) > 1 or chain[0].is_open:
            if any(changed[s.first : s.last].any() for s in chain):
                out += chain
            continue
        blocks = [u for u in chain[0].blocks if changed[u.first : u.last].any()]
        if blocks:
            out.append(replace(chain[0], blocks=tuple(blocks)))
    return out


@dataclass(frozen=True, eq=False)
class KeptPeriods:
    """Values of an earlier run that still hold.

    Parameters
    ----------
    plans
        Of the run at hand.
    kept : for each plan (P,) int64
        Where each period stands among the kept ones; -1 where it is to be made again.
    changed : (T,) bool
        Steps of periods that are to be made again.
    arrays
        The entry.
    """

    plans: Sequence[SeriesPlan]
    kept: list[np.ndarray]
    changed: np.ndarray
    arrays: dict[str, np.ndarray]

    def needed(self, segments: Sequence[Segment]) -> list[Segment]:
        """The blocks that hold steps of periods to be made again, in their segments."""
        return segments_needed(segments, self.changed)

    def fill(self, values: Sequence[SeriesArrays]) -> None:
        """Put what is kept where it belongs, over what its steps alone would give."""
        low, high = self.arrays["range"].tolist()
        for n, (kept, each) in enumerate(zip(self.kept, values, strict=True)):
            at = np.flatnonzero(kept >= 0)
            for name in ("value", "area_valid", "steps"):
                getattr(each, name)[:, at] = self.arrays[f"{name}{n}"][:, kept[at]]
            if each.place is not None:
                each.place[:, at] = self.arrays[f"place{n}"][:, kept[at]]
            each.value_range = each.value_range.wider(ValueRange(low, high))
            if self.arrays["has_data"].size:
                own = each.has_data if each.has_data is not None else False
                each.has_data = np.asarray(own | self.arrays["has_data"])


def _chains(segments: Sequence[Segment]) -> Iterator[list[Segment]]:
    """Runs of segments in which periods go on."""
    chain: list[Segment] = []
    for segment in segments:
        chain.append(segment)
        if segment.ends_chain:
            yield chain
            chain = []
    if chain:
        yield chain


@dataclass(frozen=True, eq=False)
class SettledValues:
    """Where the values of a job are kept, and what they depend on.

    Parameters
    ----------
    path
        The entry; its name is a digest of all that is asked and decided but the steps.
    stamps
        The steps that are used.
    """

    path: Path | None
    plans: Sequence[SeriesPlan]
    stamps: StepStamps

    @classmethod
    def of(
        cls, folder: Path, plans: Sequence[SeriesPlan], blocks: Sequence[Block]
    ) -> SettledValues:
        """The entry of a job; one that nothing is kept of where its steps cannot be known again."""
        first = plans[0]
        used = np.unique(np.concatenate([p.step_weights.assignment.step for p in plans]))
        digest = source_digests(first.source)
        time = first.time
        if digest is None or any(plan.request.time.same_span for plan in plans) or not blocks:
            none = np.zeros(0, np.int64)
            return cls(None, plans, StepStamps(used, none, none, none))
        path = folder / f"{_key(plans)}.npz"
        return cls(path, plans, StepStamps(used, time.start[used], time.end[used], digest[used]))

    def load(self) -> KeptPeriods | None:
        """What still holds; None where nothing does."""
        if self.path is None:
            return None
        names = [*StepStamps.NAMES, "range", "has_data"]
        names += [f"{name}{n}" for n in range(len(self.plans)) for name in OF_PLAN]
        arrays = load(self.path, names)
        limit = None if arrays is None else self.stamps.limit(arrays)
        if arrays is None or limit is None:
            return None
        if self.stamps.common(arrays) < arrays["start"].size and self._looks_at_all(arrays):
            return None
        assignments = [plan.step_weights.assignment for plan in self.plans]
        kept = [
            kept_periods(own, plan.periods.labels, arrays[f"labels{n}"].tolist(), limit)
            for n, (own, plan) in enumerate(zip(assignments, self.plans, strict=True))
        ]
        changed = changed_steps(assignments, kept, len(self.plans[0].time))
        return KeptPeriods(self.plans, kept, changed, arrays)

    def _looks_at_all(self, arrays: dict[str, np.ndarray]) -> bool:
        """Whether something else than the periods' values hangs on steps that have changed."""
        plan = self.plans[0]
        low, high = arrays["range"].tolist()
        difference = plan.source.variable.difference
        odd = implausible(plan.what, low, high, difference=difference)
        return bool(odd) or any(bool(each.of_whole.any()) for each in self.plans)

    def keep(self, values: Sequence[SeriesArrays]) -> None:
        """Keep the values for the next run."""
        if self.path is None:
            return
        found = values[0]
        has_data = np.zeros(0, bool) if found.has_data is None else found.has_data
        arrays: dict[str, Any] = {
            **self.stamps.arrays,
            "range": np.array([found.value_range.low, found.value_range.high]),
            "has_data": has_data,
        }
        for n, (plan, each) in enumerate(zip(self.plans, values, strict=True)):
            arrays[f"labels{n}"] = np.array(plan.periods.labels)
            arrays[f"value{n}"] = each.value
            arrays[f"area_valid{n}"] = each.area_valid
            arrays[f"steps{n}"] = each.steps
            arrays[f"place{n}"] = np.zeros(0) if each.place is None else each.place
        keep(self.path, arrays, make_room=False)


def source_digests(source: GridSource) -> np.ndarray | None:
    """(T,) int64 digests of the steps of a grid; None where they cannot be had."""
    if not isinstance(source, JoinedGrid) or source.time is None:
        return None
    out = np.zeros(len(source.time), np.int64)
    for n, file in enumerate(source.files):
        own = source.file_of == n
        steps = 1 if file.times is None else file.times.stamps.size
        found = step_digests(file, steps)
        if found is None:
            return None
        out[own] = found[source.step_in[own]]
    return out


def _key(plans: Sequence[SeriesPlan]) -> str:
    """A digest of all that the values of periods depend on but the steps."""
    first = plans[0]
    told: list[Any] = [first.time.calendar, first.time.length, first.time.how, first.what]
    told += [*told_of_source(first.source), first.labels, first.request.measuring]
    for plan in plans:
        told += [replace(plan.request.time, during=None, window=(1,)), plan.combine, plan.orders]
        told += [[measure.name for measure in plan.measures]]
    return key_of(told, first.source.layout, first.by_cells.overlay, first.weights)


def told_of_source(source: GridSource) -> list[Any]:
    """What the values of a grid depend on besides what its files store of each step."""
    packings = {repr((file.dtype.str, replace(file.packing, where=""))) for file in source.files}
    own = [getattr(source, name, None) for name in ("scale", "offset", "takes_all")]
    return [source.variable, *own, sorted(packings)]


def key_of(
    told: Sequence[Any], layout: GridLayout, overlay: Overlay, weights: FurtherWeights
) -> str:
    """The name of an entry: SHA-256 of what is told in words, of cells, overlay and weights."""
    words = [
        __version__,
        ORDER_OF_ADDITIONS,
        *told,
        layout.crs,
        layout.shape,
        weights.name,
        weights.is_count,
    ]
    digest = hashlib.sha256(repr(words).encode())
    arrays = [layout.x_edges, layout.y_edges, overlay.cells, overlay.indptr, overlay.index]
    arrays += [overlay.fraction, overlay.weight, overlay.region_weight]
    if weights.values is not None:
        arrays.append(weights.values)
    for array in arrays:
        digest.update(np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()
