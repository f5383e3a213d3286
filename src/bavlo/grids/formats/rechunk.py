"""Files whose chunks hold many steps, walked in their own order so that each is inflated once.

Where the used cells of a chunk's steps fit in memory they are kept from one run of steps to the
next. Where they do not (one chunk a cell and all times), one pass over the chunks writes the used
cells to a scratch file, which is then read step by step and removed afterwards.
"""

from __future__ import annotations

import shutil
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import cast

import numpy as np

from bavlo.grids.cells import CellSelection
from bavlo.grids.formats.cf_grid import CFGrid
from bavlo.grids.formats.packing import Packing
from bavlo.grids.formats.turned import Fitting, TurnedChunks
from bavlo.grids.source import GridFile, GridSource, OfFile

KEPT_SLABS = 2
SLAB_SHARE = 1 / 12  # of the memory that a slab may take


class _Rechunked(OfFile):
    """A file that is like another, but for how it is read."""

    def __init__(self, inner: CFGrid, cells: CellSelection) -> None:
        self.inner = inner
        self.cells = cells
        self.lock = threading.Lock()

    def __getstate__(self) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != "lock"}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state, lock=threading.Lock())

    def packed(self, packing: Packing) -> GridFile:
        """The file with another understanding of its stored numbers, read in the ordinary way."""
        return self.inner.packed(packing)


class SlabFile(_Rechunked):
    """Keeps the used cells of the last runs of steps that are stored together."""

    def __init__(self, inner: CFGrid, cells: CellSelection) -> None:
        super().__init__(inner, cells)
        self.slabs: OrderedDict[int, np.ndarray] = OrderedDict()

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        if cells is not self.cells:
            return self.inner.read(first, last, cells, into)
        height = self.inner.step_chunk
        parts = []
        for number in range(first // height, (last - 1) // height + 1):
            slab = self._slab(number)
            low, high = max(first, number * height), min(last, (number + 1) * height)
            parts.append(slab[low - number * height : high - number * height])
        return np.concatenate(parts, out=into)

    def _slab(self, number: int) -> np.ndarray:
        with self.lock:
            if number not in self.slabs:
                height = self.inner.step_chunk
                assert self.inner.times is not None
                last = min((number + 1) * height, self.inner.times.stamps.size)
                self.slabs[number] = self.inner.read(number * height, last, self.cells)
                while len(self.slabs) > KEPT_SLABS:
                    self.slabs.popitem(last=False)
            self.slabs.move_to_end(number)
            return self.slabs[number]


class ScratchFile(_Rechunked):
    """The used cells of all steps, in a scratch file that is written when the first are read."""

    def __init__(self, inner: CFGrid, cells: CellSelection, turned: TurnedChunks) -> None:
        super().__init__(inner, cells)
        self.turned = turned
        self.is_written = False

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        if cells is not self.cells:
            return self.inner.read(first, last, cells, into)
        self._write()
        values = np.empty((last - first, cells.size)) if into is None else into
        self.turned.read(first, last, values)
        return values

    def _write(self) -> None:
        """Write the file, unless it is."""
        with self.lock:
            if not self.is_written:
                self.turned.turn()
                self.is_written = True


@dataclass(frozen=True, eq=False)
class Room:
    """What reading may take.

    Parameters
    ----------
    memory
        Bytes that the whole job may take.
    fitting
        Tells how many workers fit.
    elsewhere
        The grid is read on other machines, which do not share scratch files.
    """

    memory: int
    fitting: Fitting
    elsewhere: bool = False

    def holds(self, file: CFGrid, cells: CellSelection) -> bool:
        """Whether the used cells of the steps of a chunk are kept in memory.

        Files that can be read by raw chunks are turned about instead, which all workers share in.
        """
        assert file.times is not None
        if file.is_hdf5 and not self.elsewhere:
            return False
        steps = min(file.step_chunk, file.times.stamps.size)
        return steps * cells.size * 8 <= SLAB_SHARE * self.memory


def chunked_files(source: GridSource) -> list[CFGrid]:
    """The files of a grid whose chunks of many steps must be turned about."""
    return [cast(CFGrid, file) for file in source.files if file.needs_rechunking]


@contextmanager
def rechunked(
    source: GridSource, cells: CellSelection, room: Room, tell: Callable[[str], None]
) -> Iterator[GridSource]:
    """The same grid, its files read so that no chunk is inflated again and again.

    Parameters
    ----------
    cells
        The selection that will be read; any other goes the ordinary way.
    tell
        Hears of scratch files and their size, and of chunks that are inflated again.
    """
    if len(source.tiles) != 1 or not chunked_files(source):
        yield source
        return
    scratch: Path | None = None
    files: list[GridFile] = []
    again: list[Path] = []
    turned: list[TurnedChunks] = []
    size = 0
    try:
        for number, file in enumerate(source.files):
            if not isinstance(file, CFGrid) or not file.needs_rechunking:
                files.append(file)
                continue
            if room.holds(file, cells):
                files.append(cast(GridFile, SlabFile(file, cells)))
                continue
            if room.elsewhere:
                files.append(file)
                again.append(file.path)
                continue
            scratch = scratch or Path(tempfile.mkdtemp(prefix="bavlo-"))
            place = scratch / f"{number}"
            turned.append(TurnedChunks(file, cells, place, room.memory, room.fitting))
            size += turned[-1].size
            files.append(cast(GridFile, ScratchFile(file, cells, turned[-1])))
        if again:
            more = f" and {len(again) - 1} more files" if len(again) > 1 else ""
            tell(
                f"{again[0]}{more}: chunks hold many steps of few cells, and on a cluster every "
                "run of steps inflates them again; without ‹cluster› each is inflated once"
            )
        if size:
            tell(
                f"chunks hold many steps of few cells: {size / 2**20:.0f} MB of used cells go to a "
                f"scratch file in {scratch} first"
            )
        yield replace(source.tiles[0], files=tuple(files))
    finally:
        files.clear()
        for each in turned:
            each.close()
        if scratch is not None:
            shutil.rmtree(scratch, ignore_errors=True)
