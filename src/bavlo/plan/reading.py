"""How units are read: as they are stored, decoded when somebody needs the values themselves."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from bavlo.core.reduce.protocol import Unit
from bavlo.engine.memory import Needs, fitting_jobs
from bavlo.engine.protocol import Resources
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.fast.packed import HasPacked, PackedBlock, Totals
from bavlo.grids.rechunk import Room, rechunked
from bavlo.grids.scratch import BESIDE, PIECES, band_size
from bavlo.grids.source import CellSelection, GridSource, files_of
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

    def totals(self, starts: np.ndarray | None) -> Totals | None:
        """Sums over runs of steps that begin with `starts` (P,); None where they cannot be had."""
        return None if self.packed is None or starts is None else self.packed.totals(starts)

    def blocks(self) -> Iterator[tuple[Unit, np.ndarray]]:
        """Each part of the unit with its values (T, C)."""
        for part in self.unit.each:
            if self.packed is None:
                yield part, self.reader.read(part)
            else:
                first = self.unit.first
                yield part, self.packed.decode(part.first - first, part.last - first)


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
