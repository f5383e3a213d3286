"""How units are read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import Unit
from bavlo.engine.memory import fitting_jobs
from bavlo.engine.needs import Needs
from bavlo.engine.protocol import Resources
from bavlo.engine.threads import in_order
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.rechunk import Room, rechunked
from bavlo.grids.scratch import worker_bytes
from bavlo.grids.source import CellSelection, GridSource, files_of
from bavlo.request.reporter import Reporter


@contextmanager
def rechunked_source(
    source: GridSource, cells: CellSelection, run: Resources, report: Reporter
) -> Iterator[GridSource]:
    """The grid, read so that no chunk is inflated twice, as far as its readers can do that."""
    elsewhere = run.cluster is not None
    tell = report.warn if elsewhere else report.note

    def fitting(size: float, held: float) -> int:
        # What is held is in use already, and becomes part of the first units.
        return fitting_jobs(run.jobs, run.memory, Needs(size, -held))

    room = Room(run.memory, fitting, run.scratch, elsewhere)
    with rechunked(source, cells, room, tell) as same:
        yield same


def prepare_large_chunks(source: GridSource, run: Resources) -> None:
    """Refuse chunks of which not even one fits into memory, before any is looked into.

    Where two fit, a second is inflated while the first is looked into.

    Raises
    ------
    RequestError
        Which names the least memory that is enough.
    """
    large = _with_large_chunks(source)
    if large is None:
        return
    jobs = fitting_jobs(run.jobs, run.memory, turning_needs(source, run))
    if jobs > 1 and run.cluster is None and large.reader is not None:
        large.reader.held.look_ahead(large.order.index("time"))


def forget_large_chunks(source: GridSource) -> None:
    """Let go of what was inflated to look into a grid, before others are looked into."""
    large = _with_large_chunks(source)
    if large is not None and large.reader is not None:
        large.reader.forget()


def _with_large_chunks(source: GridSource) -> CFGrid | None:
    """The first file of such chunks, whose first ones are looked into."""
    files = (f for f in source.files if isinstance(f, CFGrid) and f.has_large_chunks)
    return next(files, None)


def turning_needs(source: GridSource, run: Resources) -> Needs:
    """What each worker takes to turn chunks about into a scratch file; nothing where none are.

    Chunks that are held already are in use and become part of that, so they are taken off `kept`.
    """
    turned = [f for f in source.files if isinstance(f, CFGrid) and f.needs_rechunking]
    if not turned:
        return Needs(0.0, 0.0)
    largest = max(turned, key=lambda file: file.chunk_size)
    held = 0 if largest.reader is None else largest.reader.held_bytes
    return Needs(worker_bytes(largest, run.memory), -float(held))


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

    def read(self, unit: Unit) -> np.ndarray:
        """(T, C) float64 values of a unit, NaN where there is no data."""
        return self.source.read(unit.first, unit.last, self.cells)

    def files(self, first: int, last: int) -> str:
        """The files that hold some steps, for messages."""
        return files_of(self.source, first, last)
