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
from dataclasses import replace
from pathlib import Path

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.values.kinds import Variable
from bavlo.grids.cf import Packing
from bavlo.grids.cfgrid import CFGrid
from bavlo.grids.join import JoinedGrid
from bavlo.grids.source import CellSelection, GridFile, GridSource, RawTimes

KEPT_SLABS = 2
SLAB_SHARE = 1 / 12  # of the memory that a slab may take
AT_ONCE = 2**26  # bytes of a rectangle that is read in the pass over the chunks


class _Rechunked:
    """A file that is like another, but for how it is read."""

    def __init__(self, inner: CFGrid, cells: CellSelection) -> None:
        self.inner = inner
        self.cells = cells
        self.lock = threading.Lock()

    def __getstate__(self) -> dict[str, object]:
        return {name: value for name, value in self.__dict__.items() if name != "lock"}

    def __setstate__(self, state: dict[str, object]) -> None:
        self.__dict__.update(state, lock=threading.Lock())

    @property
    def path(self) -> Path:
        """Where it is."""
        return self.inner.path

    @property
    def variable(self) -> Variable:
        """As the file describes it."""
        return self.inner.variable

    @property
    def layout(self) -> GridLayout:
        """Its cells."""
        return self.inner.layout

    @property
    def times(self) -> RawTimes | None:
        """Its time stamps."""
        return self.inner.times

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return self.inner.step_chunk

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values."""
        return self.inner.stored

    @property
    def dtype(self) -> np.dtype:
        """Type of the stored numbers."""
        return self.inner.dtype

    @property
    def packing(self) -> Packing:
        """How stored numbers become values."""
        return self.inner.packing

    def packed(self, packing: Packing) -> GridFile:
        """The file with another understanding of its stored numbers, read in the ordinary way."""
        return self.inner.packed(packing)

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed."""
        return self.inner.notes


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
    """The used cells of all steps, in a scratch file."""

    def __init__(self, inner: CFGrid, cells: CellSelection, folder: Path, name: str) -> None:
        super().__init__(inner, cells)
        assert inner.times is not None
        kind = np.float32 if inner.stored == np.dtype(np.float32) else np.float64
        self.shape = inner.times.stamps.size, cells.cells.size
        self.size = self.shape[0] * self.shape[1] * np.dtype(kind).itemsize
        self.file = folder / name
        self.kind = kind
        self.values: np.ndarray | None = None

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64."""
        if cells is not self.cells:
            return self.inner.read(first, last, cells, into)
        with self.lock:
            if self.values is None:
                self.values = self._walked()
        if into is None:
            return self.values[first:last].astype(np.float64)
        into[:] = self.values[first:last]
        return into

    def _walked(self) -> np.ndarray:
        """One pass over the chunks, rectangle by rectangle."""
        values = np.lib.format.open_memmap(self.file, "w+", self.kind, self.shape)
        sizes = dict(zip(self.inner.order, self.inner.chunks, strict=True))
        cy, cx = int(sizes["y"]), int(sizes["x"])
        width = self.cells.shape[1]
        row, column = np.divmod(self.cells.cells, width)
        item = 8 * self.shape[0]
        # Whole chunks side by side, as many as are read at once.
        beside = max(1, AT_ONCE // max(item * cy * cx, 1)) * cx
        key = (row // cy) * (width // beside + 1) + column // beside
        order = np.argsort(key, kind="stable")
        for position in np.split(order, np.flatnonzero(np.diff(key[order])) + 1):
            if position.size:
                rows = slice(int(row[position].min()), int(row[position].max()) + 1)
                columns = slice(int(column[position].min()), int(column[position].max()) + 1)
                block = self.inner.read_rectangle(rows, columns)
                height = columns.stop - columns.start
                within = (row[position] - rows.start) * height + column[position] - columns.start
                values[:, position] = block[:, within]
        return values


@contextmanager
def rechunked(
    source: GridSource,
    cells: CellSelection,
    memory: int,
    folder: Path | None,
    tell: Callable[[str], None],
    elsewhere: bool = False,
) -> Iterator[GridSource]:
    """The same grid, its files read so that no chunk is inflated again and again.

    Parameters
    ----------
    cells
        The selection that will be read; any other goes the ordinary way.
    memory
        Bytes that the whole job may take.
    folder
        For scratch files; None for the system's own place.
    tell
        Hears of scratch files and their size, and of chunks that are inflated again.
    elsewhere
        The grid is read on other machines, which do not share scratch files.
    """
    if not isinstance(source, JoinedGrid) or not any(
        isinstance(file, CFGrid) and file.needs_rechunking for file in source.files
    ):
        yield source
        return
    scratch: Path | None = None
    files: list[GridFile] = []
    again: list[Path] = []
    size = 0
    try:
        for number, file in enumerate(source.files):
            if not isinstance(file, CFGrid) or not file.needs_rechunking:
                files.append(file)
                continue
            assert file.times is not None
            steps = min(file.step_chunk, file.times.stamps.size)
            if steps * cells.cells.size * 8 <= SLAB_SHARE * memory:
                files.append(SlabFile(file, cells))
                continue
            if elsewhere:
                files.append(file)
                again.append(file.path)
                continue
            scratch = scratch or Path(tempfile.mkdtemp(prefix="bavlo-", dir=folder))
            walked = ScratchFile(file, cells, scratch, f"{number}.npy")
            size += walked.size
            files.append(walked)
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
        yield replace(source, files=tuple(files))
    finally:
        files.clear()
        if scratch is not None:
            shutil.rmtree(scratch, ignore_errors=True)
