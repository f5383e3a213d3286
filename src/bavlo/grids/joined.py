"""Files of the same cells as one grid, in order of time."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.grids.source import CellSelection, GridFile
from bavlo.grids.urls import ASKED_AT_ONCE, url_of


@dataclass(frozen=True, eq=False)
class JoinedGrid:
    """Files with the same cells, one after the other in time.

    Parameters
    ----------
    file_of, step_in : (T,) int64
        The file that holds each step, and its number there.
    scale, offset
        What the user says: value = read × scale + offset.
    takes_all
        The user says that nothing means no data but what the files declare.
    looked_at
        Lowest and highest value of the sample in which marks of no data were looked for, these left
        out; None where nobody looked.
    """

    files: tuple[GridFile, ...]
    layout: GridLayout
    variable: Variable
    time: TimeAxis | None
    file_of: np.ndarray
    step_in: np.ndarray
    notes: tuple[str, ...] = ()
    scale: float = 1.0
    offset: float = 0.0
    takes_all: bool = False
    looked_at: tuple[float, float] | None = None

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return max(f.step_chunk for f in self.files)

    def read(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        block = np.empty((last - first, cells.size))
        file_of, step_in = self.file_of[first:last], self.step_in[first:last]
        new_run = (np.diff(file_of) != 0) | (np.diff(step_in) != 1)
        starts = np.concatenate([[0], np.flatnonzero(new_run) + 1, [last - first]])
        if starts.size == 2:
            low = int(step_in[0])
            self.files[file_of[0]].read(low, low + last - first, cells, block)
        else:

            def read_run(run: tuple[int, int]) -> None:
                start, stop = run
                low = int(step_in[start])
                self.files[file_of[start]].read(low, low + stop - start, cells, block[start:stop])

            runs = list(itertools.pairwise(starts.tolist()))
            if url_of(self.files[file_of[0]].path) is None:
                for run in runs:
                    read_run(run)
            else:  # so that the delays of many files do not add up
                from concurrent.futures import ThreadPoolExecutor

                with ThreadPoolExecutor(min(len(runs), ASKED_AT_ONCE)) as pool:
                    list(pool.map(read_run, runs))
        return self._scaled(block)

    def _scaled(self, block: np.ndarray) -> np.ndarray:
        if self.scale != 1.0:
            block *= self.scale
        if self.offset != 0.0:
            block += self.offset
        return block
