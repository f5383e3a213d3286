"""Numbers of periods that are kept from run to run, while the steps behind them stay as they were.

A period is kept where the record up to its last step is what it was: the same steps, with the same
digests of what is stored. Blocks, segments and the order of all additions follow from the record's
beginning on, so what is kept is, to the last bit, what would be computed again.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np

from bavlo import __version__
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.time.assignment import Assignment
from bavlo.core.time.axis import TimeAxis
from bavlo.engine.segments import Segment
from bavlo.grids.digest import step_digests
from bavlo.grids.source import GridSource
from bavlo.jobs.regions import FurtherWeights
from bavlo.kept import keep, load

ORDER_OF_ADDITIONS = 2  # another number whenever sums come to other last digits than before
STAMPS = ("start", "end", "digest")  # by which steps are known again
NUMBERS = ("value", "area_valid", "steps", "place")  # arrays (R, P, …) of a table, some or all


@dataclass(frozen=True, eq=False)
class Kept:
    """Numbers of an earlier run that still hold.

    Parameters
    ----------
    periods : for each table (P,) int64
        Where each period stands among the kept ones; -1 where it is to be computed again.
    changed : (T,) bool
        Steps of periods that are to be computed again.
    arrays
        The entry.
    is_longer
        Whether all steps of the earlier run are as they were.
    """

    periods: list[np.ndarray]
    changed: np.ndarray
    arrays: dict[str, np.ndarray]
    is_longer: bool

    def needed(self, segments: Sequence[Segment]) -> list[Segment]:
        """The blocks that hold changed steps, in their segments.

        Where periods go on from segment to segment, all segments of the run are worked on as a
        whole, so that they merge in the same order.
        """
        out = []
        for chain in _chains(segments):
            if len(chain) > 1 or chain[0].is_open:
                if any(self.changed[s.first : s.last].any() for s in chain):
                    out += chain
                continue
            blocks = [b for b in chain[0].blocks if self.changed[b.first : b.last].any()]
            if blocks:
                out.append(replace(chain[0], blocks=tuple(blocks)))
        return out

    def fill(self, tables: Sequence[Any]) -> None:
        """Put what is kept into the arrays of tables, over what changed steps alone would give."""
        for n, (own, table) in enumerate(zip(self.periods, tables, strict=True)):
            at = np.flatnonzero(own >= 0)
            for name in NUMBERS:
                array = getattr(table, name, None)
                if array is not None:
                    array[:, at] = self.arrays[f"{name}{n}"][:, own[at]]


@dataclass(frozen=True, eq=False)
class Store:
    """Where the numbers of a job are kept, and the steps that they depend on.

    Parameters
    ----------
    path
        The entry; its name is a digest of all that is asked and decided but the steps.
    time, digest : (T,) int64
        All steps of the grid, and digests of what is stored of them.
    assignments, labels
        The steps and the names of the periods of each table.
    """

    path: Path
    time: TimeAxis
    digest: np.ndarray
    assignments: Sequence[Assignment]
    labels: Sequence[Sequence[str]]

    @cached_property
    def _used(self) -> np.ndarray:
        """(N,) the steps that any period has."""
        return np.unique(np.concatenate([each.step for each in self.assignments]))

    @property
    def _stamps(self) -> dict[str, np.ndarray]:
        arrays = self.time.start, self.time.end, self.digest
        return {name: array[self._used] for name, array in zip(STAMPS, arrays, strict=True)}

    def load(self, further: Sequence[str] = ()) -> Kept | None:
        """What still holds; None where nothing does.

        Parameters
        ----------
        further
            Other arrays that the entry must have.
        """
        numbered = [f"{name}{n}" for n in range(len(self.labels)) for name in ("labels", *NUMBERS)]
        arrays = load(self.path, [*STAMPS, *further, *numbered])
        if arrays is None:
            return None
        both = min(self._used.size, arrays["start"].size)
        same = np.ones(both, bool)
        for name, own in self._stamps.items():
            same &= own[:both] == arrays[name][:both]
        common = both if same.all() else int(np.argmin(same))
        if not common:
            return None
        limit = int(self._used[common - 1]) + 1
        periods, changed = [], np.zeros(len(self.time), bool)
        for n, (assignment, labels) in enumerate(zip(self.assignments, self.labels, strict=True)):
            own = np.zeros(len(labels), bool)
            own[assignment.period] = True
            own[assignment.period[assignment.step >= limit]] = False
            place = {label: k for k, label in enumerate(arrays[f"labels{n}"].tolist())}
            found = np.array([place.get(label, -1) for label in labels], np.int64)
            periods.append(np.where(own, found, -1))
            changed[assignment.step[periods[-1][assignment.period] < 0]] = True
        return Kept(periods, changed, arrays, common == arrays["start"].size)

    def keep(self, tables: Sequence[Any], **further: np.ndarray) -> None:
        """Keep the arrays of tables, and others, for the next run."""
        arrays = self._stamps | further
        for n, (table, labels) in enumerate(zip(tables, self.labels, strict=True)):
            arrays[f"labels{n}"] = np.array(labels)
            for name in NUMBERS:
                array = getattr(table, name, None)
                arrays[f"{name}{n}"] = np.zeros(0) if array is None else array
        keep(self.path, arrays, make_room=False)


def needed(kept: Kept | None, segments: Sequence[Segment]) -> Sequence[Segment]:
    """The segments that are worked on: all where nothing is kept."""
    return segments if kept is None else kept.needed(segments)


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


def source_digests(source: GridSource) -> np.ndarray | None:
    """(T,) int64 digests of the steps of a grid; None where they cannot be had."""
    if len(source.tiles) != 1 or source.time is None:
        return None
    (joined,) = source.tiles
    out = np.zeros(len(source.time), np.int64)
    for n, file in enumerate(joined.files):
        own = joined.file_of == n
        steps = 1 if file.times is None else file.times.stamps.size
        found = step_digests(file, steps)
        if found is None:
            return None
        out[own] = found[joined.step_in[own]]
    return out


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
