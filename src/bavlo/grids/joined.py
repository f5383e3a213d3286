"""Files of the same cells as one grid, in order of time."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property
from typing import cast

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis
from bavlo.core.values.kinds import Variable
from bavlo.grids.fast.packed import HasPacked, PackedBlock
from bavlo.grids.fast.rows import HasStoredRows, StoredRows
from bavlo.grids.fast.stored import HasStoredSteps, StoredStep
from bavlo.grids.source import CellSelection, GridFile
from bavlo.grids.urls import url_of

FILES_AT_ONCE = 16  # that are fetched by URL


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
        return self._scaled(self._read(first, last, cells, np.empty((last - first, cells.size))))

    def read_narrow(self, first: int, last: int, cells: CellSelection) -> np.ndarray:
        """The same as float32, where `is_narrow`: in half of the memory."""
        block = np.empty((last - first, cells.size), np.float32)
        return self._read(first, last, cells, block)

    def _read(self, first: int, last: int, cells: CellSelection, block: np.ndarray) -> np.ndarray:
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

                with ThreadPoolExecutor(min(len(runs), FILES_AT_ONCE)) as pool:
                    list(pool.map(read_run, runs))
        return block

    @cached_property
    def whole_numbers(self) -> bool:
        """Whether all that is stored are whole numbers, of which the values are made at once."""
        return self.is_plain and all(
            isinstance(f, HasPacked) and f.whole_numbers for f in self.files
        )

    def read_packed(self, first: int, last: int, cells: CellSelection) -> PackedBlock | None:
        """The same as whole numbers that are not decoded yet; None where they are none."""
        file_of, step_in = self.file_of[first:last], self.step_in[first:last]
        one_run = file_of[0] == file_of[-1] and (np.diff(step_in) == 1).all()
        file = self.files[file_of[0]]
        if not one_run or not self.whole_numbers or not isinstance(file, HasPacked):
            return None
        return file.read_packed(int(step_in[0]), int(step_in[0]) + last - first, cells)

    @property
    def is_plain(self) -> bool:
        """Whether values are those of its files, without a scale or an offset of the request."""
        return self.scale == 1.0 and self.offset == 0.0

    @cached_property
    def plain_steps(self) -> bool:
        """Whether each step is stored by itself, in floats that are the values."""
        plain = self.time is not None and self.is_plain
        return plain and all(isinstance(f, HasStoredSteps) and f.plain_steps for f in self.files)

    @cached_property
    def is_narrow(self) -> bool:
        """Whether all its values are float32 numbers."""
        return self.plain_steps and all(file.dtype == np.float32 for file in self.files)

    def read_stored(self, step: int, cells: CellSelection) -> StoredStep | None:
        """The stored numbers of a step; None where they are not to be had like that."""
        if not self.plain_steps:
            return None
        file = cast(HasStoredSteps, self.files[self.file_of[step]])  # as all of them are
        return file.read_stored(int(self.step_in[step]), cells)

    def read_rows(self, rows: slice) -> StoredRows | None:
        """Whole rows of a grid without time as they are stored, where they are the values."""
        file = self.files[0]
        plain = self.time is None and self.is_plain
        if not plain or len(self.files) > 1 or not isinstance(file, HasStoredRows):
            return None
        return file.read_rows(rows)

    def _scaled(self, block: np.ndarray) -> np.ndarray:
        if self.scale != 1.0:
            block *= self.scale
        if self.offset != 0.0:
            block += self.offset
        return block
