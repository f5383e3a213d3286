"""The used cells of a file whose chunks hold many steps, turned about once into a scratch file.

Chunks side by side are a band. Each worker inflates the chunks of a band for one run of steps, puts
their cells beside each other in the order of the selection, and writes them to their place in one
piece. What is kept are the stored numbers; they are decoded when steps are read. Nothing of the
scratch file is mapped into memory, so that it counts against no limit.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection
from bavlo.grids.formats.cf_grid import AXES, CFGrid

BAND, BAND_SHARE = 2**25, 1 / 32  # bytes of a band and a run of steps, and of the memory
PIECES = 3.0  # of that size that a worker holds: cells of a chunk, all of them, and in order
Fitting = Callable[[float], int]
Box = Sequence[int]  # first and last row and column of a rectangle, the last ones excluded
Fill = Callable[[slice, Box, np.ndarray], None]


def band_size(file: CFGrid, memory: int) -> int:
    """Bytes of a band and a run of steps, of which each worker holds some.

    Of a chunk that is larger by itself fewer steps at a time do as well.
    """
    size = int(min(BAND, memory * BAND_SHARE))
    return size // 4 if file.chunk_size > size else size


def worker_bytes(file: CFGrid, memory: int) -> float:
    """What each worker takes that turns the chunks of a file about: one of them, and some cells."""
    reader = file.reader
    as_stored = file.chunk_size if reader is None else reader.largest
    return as_stored + file.chunk_size + PIECES * band_size(file, memory)


@dataclass(frozen=True, eq=False)
class Band:
    """Chunks that are turned about together.

    Parameters
    ----------
    places : (C,) int
        Places of its cells in the selection: chunk by chunk, ascending in each.
    row, column : (C,) int
        Of the grid.
    cuts : (N + 1,) int
        Where the cells of each chunk begin among them.
    before
        Cells of the bands before it.
    shape
        Rows and columns of a chunk.
    """

    places: np.ndarray
    row: np.ndarray
    column: np.ndarray
    cuts: np.ndarray
    before: int
    shape: tuple[int, int]

    @property
    def size(self) -> int:
        """Cells of all its chunks."""
        return self.places.size

    @property
    def count(self) -> int:
        """How many chunks it has."""
        return self.cuts.size - 1

    @cached_property
    def order(self) -> np.ndarray | None:
        """(C,) where each cell stands in the band, ascending by place; None where they do."""
        if (np.diff(self.places) > 0).all():
            return None
        return np.argsort(self.places, kind="stable")

    @cached_property
    def boxes(self) -> tuple[list[list[int]], np.ndarray]:
        """First and last row and column (excluded) of each chunk's cells; and (C,) where in it.

        Numbered row by row within the rectangle.
        """
        begins, count = self.cuts[:-1], np.diff(self.cuts)
        south = np.minimum.reduceat(self.row, begins)
        north = np.maximum.reduceat(self.row, begins) + 1
        west = np.minimum.reduceat(self.column, begins)
        east = np.maximum.reduceat(self.column, begins) + 1
        inside = (self.row - np.repeat(south, count)) * np.repeat(east - west, count)
        inside += self.column - np.repeat(west, count)
        return np.column_stack([south, north, west, east]).tolist(), inside

    @cached_property
    def target(self) -> slice | np.ndarray:
        """Places in the selection, ascending."""
        places = self.places if self.order is None else self.places[self.order]
        low, high = int(places[0]), int(places[-1]) + 1
        return slice(low, high) if high - low == places.size else places


def bands_of(cells: CellSelection, cy: int, cx: int, most: float) -> tuple[Band, ...]:
    """The cells of a selection in bands of chunks: whole rows of chunks where one fits.

    The cells of whole rows of chunks stand together in the selection.

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
    rows = np.append(row[order[cuts[:-1]]] // cy, -1)  # of the chunks, and none after the last
    found, first = [], 0
    while first < cuts.size - 1:
        last = int(np.searchsorted(cuts, cuts[first] + most, side="right")) - 1
        last = max(last, first + 1)
        if rows[last] == rows[last - 1] and rows[last] != rows[first]:
            last = int(np.searchsorted(rows[:-1], rows[last]))
        begin, end = int(cuts[first]), int(cuts[last])
        own = order[begin:end]
        of_chunks = cuts[first : last + 1] - begin
        found.append(Band(own, row[own], column[own], of_chunks, begin, (cy, cx)))
        first = last
    return tuple(found)


class TurnedChunks:
    """The stored numbers of the used cells, step by step in a scratch file.

    Parameters
    ----------
    memory
        Bytes that the whole job may take.
    fitting
        How many workers fit that take so many bytes each; raises where not even one fits.
    """

    def __init__(
        self, inner: CFGrid, cells: CellSelection, file: Path, memory: int, fitting: Fitting
    ) -> None:
        assert inner.times is not None
        self.inner, self.reader, self.cells, self.file = inner, inner.reader, cells, file
        self.steps = inner.times.stamps.size
        self.sizes = dict(zip(inner.order, inner.chunks, strict=True))
        self.height = min(int(self.sizes["time"]), self.steps)
        self.dtype = inner.dtype
        item = self.dtype.itemsize
        self.most = max(1, band_size(inner, memory) // item)  # cells × steps of a piece
        rows, columns = int(self.sizes["y"]), int(self.sizes["x"])
        self.bands = bands_of(cells, rows, columns, self.most / self.height)
        runs = range(-(-self.steps // self.height))
        self.work = [(band, run) for band in self.bands for run in runs]
        if self.reader is None:
            # The library has a chunk twice, and all of its cells are taken at once.
            largest = max((band.size for band in self.bands), default=0)
            self.jobs = fitting(3.0 * inner.chunk_size + largest * self.height * item)
        else:
            self.jobs = fitting(worker_bytes(inner, memory))
        self.buffers = threading.local()
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
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(1 if self.reader is None else self.jobs) as pool:
            for _ in pool.map(lambda each: self._turn(*each), self.work):
                pass

    def _turn(self, band: Band, run: int) -> None:
        """Inflate the chunks of a band for one run of steps, and write their cells."""
        first = run * self.height
        last = min(first + self.height, self.steps)
        if self.reader is not None and self.reader.has_small_chunks:
            self._write(self._of_small_chunks(band, run), self._place(band, first))
            return
        each = self.height
        if self.reader is not None and band.count == 1:
            # A chunk larger than a band is written some steps at a time; it is inflated once.
            each = max(1, self.most // band.size)
        pieces = [slice(low, min(low + each, last)) for low in range(first, last, each)]
        for piece, buffer in zip(pieces, self._by_rectangles(band, pieces), strict=True):
            self._write(buffer, self._place(band, piece.start))

    def _by_rectangles(self, band: Band, pieces: Sequence[slice]) -> Iterator[np.ndarray]:
        """The stored numbers (T, C) of a band for some runs of steps, chunk by chunk."""
        begins, ends = band.cuts[:-1].tolist(), band.cuts[1:].tolist()
        boxes, within = band.boxes
        with self._rectangles() as fill:
            for steps in pieces:
                buffer = self._buffer(steps.stop - steps.start, band.size)
                for begin, end, box in zip(begins, ends, boxes, strict=True):
                    own, size = buffer[:, begin:end], (box[1] - box[0]) * (box[3] - box[2])
                    if size == end - begin:
                        fill(steps, box, own)
                    else:
                        whole = np.empty((len(buffer), size), self.dtype)
                        fill(steps, box, whole)
                        own[...] = np.take(whole, within[begin:end], axis=1, mode="clip")
                if band.order is not None:
                    buffer = np.take(buffer, band.order, axis=1, mode="clip")
                yield buffer

    def _of_small_chunks(self, band: Band, run: int) -> np.ndarray:
        """The stored numbers (T, C) of a band for one run of steps, many chunks at a time."""
        assert self.reader is not None
        index = {"time": np.full(1, run * self.height), "y": band.row, "x": band.column}
        strides = np.cumprod([1, *self.inner.chunks[:0:-1]])[::-1].tolist()
        numbers, offset = [], np.zeros(band.size, np.int64)
        for name, size, stride in zip(self.inner.order, self.inner.chunks, strides, strict=True):
            number, within = np.divmod(index[name] if isinstance(name, str) else name, size)
            offset += within * stride
            numbers.append(np.broadcast_to(number, band.size)[band.cuts[:-1]])
        columns = np.empty(band.size, np.int64)
        columns[slice(None) if band.order is None else band.order] = np.arange(band.size)
        cells, stride = np.stack([offset, columns]), strides[self.inner.order.index("time")]
        buffer = self._buffer(min(self.height, self.steps - run * self.height), band.size)
        self.reader.take_cells(np.column_stack(numbers), band.cuts, cells, stride, buffer)
        return buffer

    def _buffer(self, steps: int, cells: int) -> np.ndarray:
        """A worker's own numbers (T, C), written over by its next ones.

        Memory that was used before needs no clearing, a twentieth of all that turning takes.
        """
        own: np.ndarray | None = getattr(self.buffers, "own", None)
        if own is None or own.size < steps * cells:
            own = self.buffers.own = np.empty(steps * cells, self.dtype)
        return own[: steps * cells].reshape(steps, cells)

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
            "set TMPDIR to a folder with more room",
        )

    @contextmanager
    def _rectangles(self) -> Iterator[Fill]:
        """What fills in the numbers (T, cells) of some steps of a rectangle within one chunk."""
        kept = [name for name in self.inner.order if isinstance(name, str)]
        axes = [AXES.index(name) for name in kept]

        def key(steps: slice, box: Box) -> tuple[slice | int, ...]:
            part = {"time": steps, "y": slice(*box[:2]), "x": slice(*box[2:])}
            return tuple(part[n] if isinstance(n, str) else n for n in self.inner.order)

        def as_stored(out: np.ndarray, box: Box) -> np.ndarray:
            return out.reshape(-1, box[1] - box[0], box[3] - box[2]).transpose(axes)

        if self.reader is not None:
            with self.reader.parts_once() as fill:
                yield lambda steps, box, out: fill(key(steps, box), as_stored(out, box))
        else:
            with self.inner.opener(self.inner.path) as container:
                read = container[self.inner.variable.name].read

                def fill_by_library(steps: slice, box: Box, out: np.ndarray) -> None:
                    as_stored(out, box)[...] = read(key(steps, box))

                yield fill_by_library

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
            stored = self._of_band(band, first, last)
            if isinstance(band.target, slice):
                self.inner.packing.decode(stored, into[:, band.target])
            else:
                into[:, band.target] = self.inner.packing.decode(stored)

    def _of_band(self, band: Band, first: int, last: int) -> np.ndarray:
        """(T, C) the same of the cells of a band."""
        size = (last - first) * band.size * self.dtype.itemsize
        data = os.pread(self._open, size, self._place(band, first))
        return np.frombuffer(data, self.dtype).reshape(last - first, band.size)

    def close(self) -> None:
        """Let go of the file."""
        if self.handle is not None:
            os.close(self.handle)
            self.handle = None
