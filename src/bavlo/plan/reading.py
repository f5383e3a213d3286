"""How units are read: as they are stored, decoded when somebody needs the values themselves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TypeGuard

import numpy as np

from bavlo.core.reduce.protocol import Unit
from bavlo.core.reduce.totals import DecodedStep, StepValues, Totals
from bavlo.engine.memory import fitting_jobs
from bavlo.engine.needs import Needs
from bavlo.engine.protocol import Resources
from bavlo.engine.threads import in_order
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.fast.packed import HasPacked, PackedBlock
from bavlo.grids.fast.stored import loops_are_ready
from bavlo.grids.joined import JoinedGrid
from bavlo.grids.rechunk import Room, rechunked
from bavlo.grids.scratch import worker_bytes
from bavlo.grids.source import CellSelection, GridSource, files_of
from bavlo.grids.urls import url_of
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


def reads_single_steps(source: GridSource) -> bool:
    """Whether steps are stored by themselves, and near enough to be read one after the other."""
    if not isinstance(source, JoinedGrid):
        return False
    return source.step_chunk == 1 and url_of(source.files[0].path) is None


def adds_as_stored(source: GridSource) -> TypeGuard[JoinedGrid]:
    """Whether the steps of a grid may be added up as they are stored, by compiled loops."""
    return isinstance(source, JoinedGrid) and source.plain_steps


def will_add_as_stored(source: GridSource, run: Resources) -> bool:
    """The same of what `rechunked_source` makes of a grid."""
    if run.cluster is not None or not isinstance(source, JoinedGrid) or not source.is_plain:
        return adds_as_stored(source)
    turned = all(isinstance(file, CFGrid) and file.turns_plain for file in source.files)
    return turned or adds_as_stored(source)


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

    def steps(self) -> Iterator[StepValues]:
        """The values of each step: as stored where that pays, or decoded.

        Steps are read alone where the files allow it.
        """
        source, unit = self.reader.source, self.unit
        if adds_as_stored(source) and loops_are_ready():
            for step in range(unit.first, unit.last):
                stored = source.read_stored(step, self.reader.cells)
                if stored is not None:
                    yield stored
                else:
                    yield from map(DecodedStep, self.reader.read(Unit(step, step + 1)))
            return
        each = unit.each
        if reads_single_steps(source):
            each = tuple(Unit(step, step + 1) for step in range(unit.first, unit.last))
        for part in each:
            yield from map(DecodedStep, self.reader.read(part))

    def block(self, part: Unit, *, narrow: bool = False) -> np.ndarray:
        """The values (T, C) of a part of the unit.

        Parameters
        ----------
        narrow
            As float32, if that is what they are.
        """
        source = self.reader.source
        if narrow and isinstance(source, JoinedGrid) and source.is_narrow:
            return source.read_narrow(part.first, part.last, self.reader.cells)
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
