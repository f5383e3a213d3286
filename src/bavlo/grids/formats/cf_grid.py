"""One variable of a file that follows the CF conventions: its values by steps and cells."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import ClassVar

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.grids.cells import CellSelection, CellSubset, Window
from bavlo.grids.formats import chunked as chunks
from bavlo.grids.formats.chunked import ChunkReader
from bavlo.grids.formats.container import Opener, Stored
from bavlo.grids.formats.packing import Packing
from bavlo.grids.source import OfFile, RawTimes

# What variables may be called by their place in a window, from outside in.
AXES = ("time", "y", "x")

Part = tuple[CellSubset, slice, np.ndarray]  # wanted cells, steps, and stored numbers (t, size)


@dataclass(frozen=True, eq=False)
class CFGrid:
    """One variable of one file.

    Parameters
    ----------
    order
        For each dimension of the variable: "time", "y", "x", or the index taken of it.
    chunks
        Stored chunk of each dimension.
    opener
        Opens the file again where it is read.
    keeps_slabs
        Whether all chunks of some steps can be kept in memory, so that each is inflated once.
    dtype
        Type of the stored numbers.
    is_hdf5
        Whether its file is HDF5.
    moment
        The one time of a file without a time axis that tells it; used where files are joined.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    packing: Packing
    order: tuple[str | int, ...]
    chunks: tuple[int, ...]
    opener: Opener
    notes: tuple[str, ...] = ()
    keeps_slabs: bool = False
    dtype: np.dtype = field(default_factory=lambda: np.dtype(np.float64))
    is_hdf5: bool = False
    moment: RawTimes | None = None
    is_raster: ClassVar[bool] = False

    @property
    def chunk_size(self) -> int:
        """Bytes of a chunk, inflated."""
        return int(np.prod(self.chunks)) * self.dtype.itemsize

    @property
    def reader(self) -> ChunkReader | None:
        """What reads its raw chunks; None where the library must."""
        return chunks.reader_of(self.path, self.variable.name) if self.is_hdf5 else None

    @property
    def size(self) -> int:
        """Bytes of its values as they are stored, inflated."""
        steps = 1 if self.times is None else self.times.stamps.size
        return int(steps * np.prod(self.layout.shape) * self.dtype.itemsize)

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values; None where they are packed."""
        return self.dtype if self.packing.is_plain else None

    def packed(self, packing: Packing) -> CFGrid:
        """The same with another understanding of its stored numbers."""
        return replace(self, packing=packing)

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return self.chunks[self.order.index("time")] if "time" in self.order else 1

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.
        """
        block = np.empty((last - first, cells.size)) if into is None else into
        for subset, steps, stored in self._parts(first, last, cells):
            # Decoded straight into its rows, while it is near the processor.
            subset.decode(stored, self.packing.decode, block[steps])
        return block

    @property
    def needs_rechunking(self) -> bool:
        """Whether chunks of several steps would be inflated again for each run of steps."""
        if self.times is None or self.step_chunk == 1 or not set(AXES) <= set(self.order):
            return False
        return not (self.keeps_slabs and self.order == AXES)

    def _parts(self, first: int, last: int, cells: CellSelection) -> Iterator[Part]:
        """Wanted cells, steps from `first` on and stored numbers (t, size) of rectangles."""
        if self.keeps_slabs and self.order == AXES:
            reader = chunks.reader_of(self.path, self.variable.name)
            if reader is not None:
                yield from reader.parts(first, last, cells)
                return
        kept = [name for name in self.order if isinstance(name, str)]
        axes = [kept.index(name) for name in AXES if name in kept]
        for window in cells.windows:
            part = {"time": slice(first, last), "y": window.rows, "x": window.columns}
            key = tuple(part[n] if isinstance(n, str) else n for n in self.order)
            stored = self._stored(key, window)
            flat = stored.transpose(axes).reshape(last - first, -1)
            yield window.subset, slice(0, last - first), flat

    def _stored(self, key: tuple[slice | int, ...], window: Window) -> np.ndarray:
        """Stored numbers of a hyperslab: by raw chunks where that is sound, else as usual."""
        if self.keeps_slabs or self.needs_rechunking:
            reader = self.reader
            if reader is not None:
                return reader.read(key)
        with self.opener(self.path) as container:
            variable = container[self.variable.name]
            if self.step_chunk > 1:
                variable.keep(self._chunks_size(variable, window))
            return variable.read(key)

    def _chunks_size(self, variable: Stored, window: Window) -> int:
        """Bytes of the chunks that a run of steps touches, so that the next finds them inflated."""
        rows, columns = window.shape
        assert variable.dtype is not None
        return self.step_chunk * rows * columns * variable.dtype.itemsize


# Names of dimensions whose parts complete each other.
VERSIONS = re.compile(r"^(expver|exp_?ver(sion)?|version|experiment_?version)$", re.IGNORECASE)


class VersionsGrid(OfFile):
    """Versions of one variable that complete each other, as one.

    Parameters
    ----------
    parts
        One for each version; where two of them have data, these must be the same.
    dimension, names
        What tells them apart.
    """

    def __init__(self, parts: Sequence[CFGrid], dimension: str, names: Sequence[str]) -> None:
        self.parts, self.dimension, self.names = tuple(parts), dimension, tuple(names)
        self.inner = self.parts[0]

    @property
    def variable(self) -> Variable:
        """As the file describes it."""
        return replace(self.inner.variable, level="")

    def packed(self, packing: Packing) -> VersionsGrid:
        """The same with another understanding of its stored numbers."""
        parts = [part.packed(packing) for part in self.parts]
        return VersionsGrid(parts, self.dimension, self.names)

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed."""
        listed = " and ".join(self.names)
        return (*self.inner.notes, f"{self.dimension} {listed} put together")

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.

        Raises
        ------
        InputError
            Where two versions have different data.
        """
        block = self.inner.read(first, last, cells, into)
        for part, name in zip(self.parts[1:], self.names[1:], strict=True):
            other = part.read(first, last, cells)
            known = ~np.isnan(other)
            if (known & ~np.isnan(block) & (block != other)).any():
                raise InputError(
                    self.path,
                    f"has values of {self.dimension} {self.names[0]} and {name} that differ where "
                    "both have data",
                    f"choose one with ‹level {self.dimension}={name}›",
                )
            np.copyto(block, other, where=known)
        return block
