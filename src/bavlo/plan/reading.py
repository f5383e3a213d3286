"""How units are read: as they are stored, decoded when somebody needs the values themselves."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.totals import Totals
from bavlo.engine.memory import Needs, fitting_jobs
from bavlo.engine.protocol import Resources
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.fast.packed import HasPacked, PackedBlock
from bavlo.grids.join import JoinedGrid
from bavlo.grids.rechunk import Room, rechunked
from bavlo.grids.scratch import BESIDE, PIECES, band_size
from bavlo.grids.source import CellSelection, GridSource, files_of
from bavlo.grids.urls import url_of
from bavlo.records import dataclass
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

    room = Room(run.memory, fitting, run.scratch, elsewhere)
    with rechunked(source, cells, room, tell) as same:
        yield same


def check_chunks_fit(source: GridSource, run: Resources) -> None:
    """Refuse chunks of which not even one fits into memory, before any is looked into.

    Raises
    ------
    RequestError
        Which names the least memory that is enough.
    """
    large = [f.chunk_size for f in source.files if isinstance(f, CFGrid) and f.has_large_chunks]
    if large:
        needed = BESIDE * max(large) + PIECES * band_size(run.memory)
        fitting_jobs(1, run.memory, Needs(needed, 0.0))


def reads_single_steps(source: GridSource) -> bool:
    """Whether steps are stored by themselves, and near enough to be read one after the other."""
    if not isinstance(source, JoinedGrid):
        return False
    return source.step_chunk == 1 and url_of(source.files[0].path) is None


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


@dataclass(frozen=True, eq=False)
class UnitValues:
    """The values of a unit, decoded part by part when they are asked for.

    Parameters
    ----------
    packed
        The stored whole numbers, where there are any.
    """

    reader: BlockReader
    unit: Unit
    packed: PackedBlock | None

    @property
    def cells(self) -> int:
        """How many values a step has."""
        return self.reader.cells.size

    def totals(self, starts: np.ndarray) -> Totals | None:
        """Sums over runs of steps that begin with `starts` (P,), of whole numbers as stored."""
        return None if self.packed is None else self.packed.totals(starts)

    def rows(self) -> Iterator[np.ndarray]:
        """The values (C,) of each step, read alone where the files allow it."""
        each = self.unit.each
        if reads_single_steps(self.reader.source):
            each = tuple(Unit(step, step + 1) for step in range(self.unit.first, self.unit.last))
        for part in each:
            yield from self.reader.read(part)

    def block(self, part: Unit) -> np.ndarray:
        """The values (T, C) of a part of the unit."""
        if self.packed is None:
            return self.reader.read(part)
        first = self.unit.first
        return self.packed.decode(part.first - first, part.last - first)


@dataclass(frozen=True, eq=False)
class UnitReader:
    """Reads units as they are stored."""

    blocks: BlockReader

    def read(self, unit: Unit) -> UnitValues:
        """The values of a unit."""
        packed, source = None, self.blocks.source
        if unit.parts and isinstance(source, HasPacked):
            packed = source.read_packed(unit.first, unit.last, self.blocks.cells)
        return UnitValues(self.blocks, unit, packed)

    def files(self, first: int, last: int) -> str:
        """The files that hold some steps, for messages."""
        return self.blocks.files(first, last)
