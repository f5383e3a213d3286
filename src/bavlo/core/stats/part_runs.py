"""The runs of cells of a few rows, whose sums are made while they are near."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bavlo.core.space.runs import RunOverlay
from bavlo.core.stats.cell_sample import LEAST_COVER

IN_TURN = 4  # sums of a class code in a run, to which its cells are added in turn


@dataclass(frozen=True, eq=False)
class PartRuns:
    """The runs of a few rows.

    Parameters
    ----------
    regions
        How many there are.
    region, fraction : (N,)
        Whose run it is, and the share of its cells that is covered.
    place : (2, N) int64
        Its first cell and the one after its last, counted from the first of these rows.
    """

    regions: int
    region: np.ndarray
    fraction: np.ndarray
    place: np.ndarray

    @classmethod
    def of(cls, overlay: RunOverlay, runs: slice, origin: int) -> PartRuns:
        """Those of an overlay; `origin` is the flat number of the first cell of these rows."""
        place = np.empty((2, runs.stop - runs.start), np.int64)
        np.subtract(overlay.start[runs], origin, out=place[0])
        np.add(place[0], overlay.length[runs], out=place[1])
        return cls(overlay.regions, overlay.region[runs], overlay.fraction[runs], place)

    @cached_property
    def well_covered(self) -> PartRuns:
        """Those whose cells are covered enough to take part in the lowest and the highest."""
        enough = self.fraction >= LEAST_COVER
        if enough.all():
            return self
        place = np.compress(enough, self.place, axis=1)
        return PartRuns(self.regions, self.region[enough], self.fraction[enough], place)
