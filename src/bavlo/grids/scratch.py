"""The used cells of a file whose chunks hold many steps, turned about once into a scratch file.

Chunks side by side are a band. Each worker inflates the chunks of a band for one run of steps, puts
them beside each other in memory, and writes them to their place in one piece. What is kept are the
stored numbers; they are decoded when steps are read. Nothing of the scratch file is mapped into
memory, so that it counts against no limit.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path

import numpy as np

from bavlo.errors import InputError
from bavlo.grids.cfgrid import AXES, CFGrid
from bavlo.grids.fast.chunks import ChunkReader
from bavlo.grids.source import CellSelection
from bavlo.records import dataclass

BAND = 2**25  # bytes of a band and a run of steps; small enough for several workers
BESIDE = 3.0  # of a chunk's bytes: as it is stored, inflated, and its cells taken out
Fitting = Callable[[float], int]
Rectangle = Callable[[int, int, int, int], np.ndarray]


@dataclass(frozen=True, eq=False)
class Band:
    """Chunks that are turned about together.

    Parameters
    ----------
    places : (C,) int
        Places of its cells in the selection: chunk by chunk, ascending in each.
    cuts : (N + 1,) int
        Where the cells of each chunk begin among them.
    before
        Cells of the bands before it.
    """

    places: np.ndarray
    cuts: np.ndarray
    before: int

    @property
    def size(self) -> int:
        """Cells of all its chunks."""
        return self.places.size

    @cached_property
    def order(self) -> np.ndarray:
        """(C,) where each cell stands in the band, ascending by its place in the selection."""
        return np.argsort(self.places, kind="stable")

    @cached_property
    def target(self) -> slice | np.ndarray:
        """Places in the selection, ascending."""
        places = self.places[self.order]
        low, high = int(places[0]), int(places[-1]) + 1
        return slice(low, high) if high - low == places.size else places


def bands_of(cells: CellSelection, cy: int, cx: int, most: float) -> tuple[Band, ...]:
    """The cells of a selection in bands of chunks.

    Parameters
    ----------
    cy, cx
        Rows and columns of a chunk.
    most
        Cells of a band, which has at least one chunk all the same.
    """
    if not cells.size:
        return ()
    row, column = np.divmod(cells.cells, cells.shape[1])
    chunk = (row // cy) * (cells.shape[1] // cx + 2) + column // cx
    order = np.argsort(chunk, kind="stable")
    cuts = np.concatenate([[0], np.flatnonzero(np.diff(chunk[order])) + 1, [order.size]])
    found, first = [], 0
    while first < cuts.size - 1:
        last = int(np.searchsorted(cuts, cuts[first] + most, side="right")) - 1
        last = max(last, first + 1)
        begin, end = int(cuts[first]), int(cuts[last])
        found.append(Band(order[begin:end], cuts[first : last + 1] - begin, begin))
        first = last
    return tuple(found)


class TurnedChunks:
    """The stored numbers of the used cells, step by step in a scratch file.

    Parameters
    ----------
    reader
        Of the raw chunks; None where the file's own library reads them.
    fitting
        How many workers fit that take so many bytes each; raises where not even one does.
    """

    def __init__(
        self,
        inner: CFGrid,
        reader: ChunkReader | None,
        cells: CellSelection,
        file: Path,
        fitting: Fitting,
    ) -> None:
        assert inner.times is not None
        self.inner, self.reader, self.cells, self.file = inner, reader, cells, file
        self.steps = inner.times.stamps.size
        self.sizes = dict(zip(inner.order, inner.chunks, strict=True))
        self.height = min(int(self.sizes["time"]), self.steps)
        self.dtype = inner.dtype
        item = self.dtype.itemsize
        most = BAND / (self.height * item)
        self.bands = bands_of(cells, int(self.sizes["y"]), int(self.sizes["x"]), most)
        largest = max((band.size for band in self.bands), default=0)
        if reader is not None:
            reader.forget()
        self.jobs = fitting(largest * self.height * item + BESIDE * inner.chunk_size)
        self.handle: int | None = None

    @property
    def size(self) -> int:
        """Bytes of the scratch file."""
        return self.steps * self.cells.size * self.dtype.itemsize

    def turn(self) -> None:
        """Write the file: each chunk is inflated once, by as many workers as fit.

        Raises
        ------
        InputError
            Where the scratch file cannot be written, or a chunk cannot be read.
        """
        try:
            self.handle = os.open(self.file, os.O_RDWR | os.O_CREAT, 0o600)
        except OSError as error:
            raise self._refused(error) from error
        runs = range(-(-self.steps // self.height))
        work = [(band, run) for band in self.bands for run in runs]
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(1 if self.reader is None else self.jobs) as pool:
            for _ in pool.map(lambda each: self._turn(*each), work):
                pass

    def _turn(self, band: Band, run: int) -> None:
        """Inflate the chunks of a band for one run of steps, and write their cells."""
        first = run * self.height
        last = min(first + self.height, self.steps)
        buffer = np.empty((last - first, band.size), self.dtype)
        row, column = np.divmod(self.cells.cells[band.places], self.cells.shape[1])
        begins, count = band.cuts[:-1], np.diff(band.cuts)
        south, north = np.minimum.reduceat(row, begins), np.maximum.reduceat(row, begins) + 1
        west, east = np.minimum.reduceat(column, begins), np.maximum.reduceat(column, begins) + 1
        width = np.repeat(east - west, count)
        within = (row - np.repeat(south, count)) * width + column - np.repeat(west, count)
        boxes = np.column_stack([south, north, west, east]).tolist()
        with self._rectangles(first, last) as rectangle:
            for begin, end, box in zip(begins.tolist(), band.cuts[1:].tolist(), boxes, strict=True):
                part = rectangle(*box)
                if part.shape[1] > end - begin:
                    part = np.take(part, within[begin:end], axis=1, mode="clip")
                buffer[:, begin:end] = part
        self._write(buffer, self._place(band, first))

    def _write(self, buffer: np.ndarray, place: int) -> None:
        view = memoryview(buffer.data).cast("B")
        try:
            while view:
                written = os.pwrite(self._open, view, place)
                view, place = view[written:], place + written
        except OSError as error:
            raise self._refused(error) from error

    def _refused(self, error: OSError) -> InputError:
        return InputError(
            self.file.parent,
            f"cannot take a scratch file ({error.strerror})",
            "choose another folder with ‹scratch›",
        )

    @contextmanager
    def _rectangles(self, first: int, last: int) -> Iterator[Rectangle]:
        """What gives the numbers (T, cells) of a rectangle within one chunk and run of steps."""
        kept = [name for name in self.inner.order if isinstance(name, str)]
        axes = [kept.index(name) for name in AXES]

        def key(south: int, north: int, west: int, east: int) -> tuple[slice | int, ...]:
            part = {"time": slice(first, last), "y": slice(south, north), "x": slice(west, east)}
            return tuple(part[n] if isinstance(n, str) else n for n in self.inner.order)

        if self.reader is not None:
            with self.reader.parts_once() as part:
                yield lambda *box: part(key(*box)).transpose(axes).reshape(last - first, -1)
        else:
            with self.inner.opener(self.inner.path) as container:
                read = container[self.inner.variable.name].read
                yield lambda *box: read(key(*box)).transpose(axes).reshape(last - first, -1)

    @property
    def _open(self) -> int:
        assert self.handle is not None
        return self.handle

    def _place(self, band: Band, step: int) -> int:
        """Where a step of a band begins in the file, bytes."""
        return (band.before * self.steps + step * band.size) * self.dtype.itemsize

    def read(self, first: int, last: int, into: np.ndarray) -> None:
        """Decode the steps `first` to `last` (excluded) into a (T, C) float64 array."""
        for band in self.bands:
            size = (last - first) * band.size * self.dtype.itemsize
            data = os.pread(self._open, size, self._place(band, first))
            stored = np.frombuffer(data, self.dtype).reshape(last - first, band.size)
            stored = np.take(stored, band.order, axis=1, mode="clip")
            if isinstance(band.target, slice):
                self.inner.packing.decode(stored, into[:, band.target])
            else:
                into[:, band.target] = self.inner.packing.decode(stored)

    def close(self) -> None:
        """Let go of the file."""
        if self.handle is not None:
            os.close(self.handle)
            self.handle = None
