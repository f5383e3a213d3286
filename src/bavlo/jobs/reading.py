"""How blocks are read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import Block
from bavlo.engine.memory import fitting_jobs
from bavlo.engine.protocol import Needs, Resources
from bavlo.engine.threads import in_order
from bavlo.grids.cells import CellSelection
from bavlo.grids.formats.rechunk import Room, chunked_files, rechunked
from bavlo.grids.formats.turned import worker_bytes
from bavlo.grids.source import GridSource, files_of
from bavlo.request.reporter import Reporter


@contextmanager
def rechunked_source(
    source: GridSource, cells: CellSelection, run: Resources, report: Reporter
) -> Iterator[GridSource]:
    """The grid, read so that no chunk is inflated twice, as far as its readers can do that."""
    elsewhere = run.cluster is not None
    tell = report.warn if elsewhere else report.note

    def fitting(size: float) -> int:
        return fitting_jobs(run.jobs, run.memory, Needs(size, 0.0))

    room = Room(run.memory, fitting, elsewhere)
    with rechunked(source, cells, room, tell) as same:
        yield same


def check_room_for_chunks(source: GridSource, run: Resources) -> None:
    """Refuse chunks of many steps of which not even one fits into memory, before any is read.

    Raises
    ------
    RequestError
        Which names the least memory that is enough.
    """
    turned = chunked_files(source)
    if turned:
        largest = max(turned, key=lambda file: file.chunk_size)
        fitting_jobs(run.jobs, run.memory, Needs(worker_bytes(largest, run.memory), 0.0))


def single_steps(
    source: GridSource, wanted: Sequence[tuple[int, CellSelection]], jobs: int
) -> Iterator[np.ndarray]:
    """The values (1, C) of cells of some steps, in order.

    They are read side by side where each step is stored by itself.
    """

    def read(each: tuple[int, CellSelection]) -> np.ndarray:
        step, cells = each
        return source.read(step, step + 1, cells)

    return in_order(read, wanted, jobs if source.step_chunk == 1 else 1)


def read_side_by_side(
    source: GridSource, first: int, last: int, cells: CellSelection, jobs: int
) -> np.ndarray:
    """The values (T, C) of the steps `first` to `last` (excluded), read as `single_steps` are."""
    if source.step_chunk > 1:  # of which each is inflated once
        return source.read(first, last, cells)
    return np.concatenate(
        list(single_steps(source, [(n, cells) for n in range(first, last)], jobs))
    )


@dataclass(frozen=True, eq=False)
class BlockReader:
    """Reads the used cells of a grid."""

    source: GridSource
    cells: CellSelection

    def read(self, block: Block) -> np.ndarray:
        """(T, C) float64 values of a block, NaN where there is no data."""
        return self.source.read(block.first, block.last, self.cells)

    def files(self, first: int, last: int) -> str:
        """The files that hold some steps, for messages."""
        return files_of(self.source, first, last)
