"""Raster files that rasterio reads: GeoTIFF, ASCII grid and more; a band is a step."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.values.kinds import Variable
from bavlo.errors import InputError
from bavlo.files import DAMAGE, unreadable
from bavlo.grids import urls as addresses
from bavlo.grids.cells import CellSelection
from bavlo.grids.dates import find_dates_of_files
from bavlo.grids.formats import tiff
from bavlo.grids.formats.packing import Packing, with_missing
from bavlo.grids.formats.raster_files import (
    ASCII,
    comma_notes,
    dataset,
    stored_bytes,
    verify_checksums,
)
from bavlo.grids.formats.raster_tags import (
    bands_of,
    crs_notes,
    is_masked,
    is_masked_beside,
    layout_of,
    mask_notes,
    packing_of,
    raw_times,
    times_of,
    variable_of,
    with_data,
)
from bavlo.grids.reordered import ReorderedFile, in_order_of
from bavlo.grids.source import GridFile, RawTimes, ReadOptions

MOST_AT_ONCE = 2**22  # bytes of a file by URL that is fetched in one request


@dataclass(frozen=True, eq=False)
class RasterGrid:
    """The bands of one raster file.

    Parameters
    ----------
    bands
        Band of each step, counted from 1.
    packing
        Of each band.
    expected
        The cells that the file must have, where it was not opened yet; else as found.
    likeness
        What a deflated TIFF of one band says of itself; empty of all other files.
    remote_size
        Bytes of a file by URL, or of the one that it is like; None of files of this machine.
    is_masked
        Whether a mask, within the file or beside it, or an alpha band tells which cells have data.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    bands: tuple[int, ...]
    packing: Packing
    shape: tuple[int, int]
    notes: tuple[str, ...] = ()
    checked: bool = True
    input_crs: str | None = None
    step_chunk: int = 1
    dtype: np.dtype = field(default_factory=lambda: np.dtype(np.float64))
    likeness: tuple[Any, ...] = ()
    remote_size: int | None = None
    is_masked: bool = False
    needs_rechunking: ClassVar[bool] = False
    is_raster: ClassVar[bool] = True

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values; None where they are packed."""
        return self.dtype if self.packing.is_plain and not self.is_masked else None

    def packed(self, packing: Packing) -> RasterGrid:
        """The same with another understanding of its stored numbers."""
        return replace(self, packing=packing)

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.
        """
        from rasterio.windows import Window as Place

        block = np.empty((last - first, cells.size)) if into is None else into
        if self.likeness and not is_masked_beside(self.path) and self._read_blocks(cells, block):
            return block
        with dataset(self.path) as data:
            if not self.checked:
                self._check(data)
                found = layout_of(self.path, data, self.input_crs)
                if not found.same_cells(self.layout):
                    return self._reordered(found).read(first, last, cells, block)
            bands = list(self.bands[first:last])
            for window in cells.windows:
                verify_checksums(data, self.path, bands, window)
                place = Place.from_slices(window.rows, window.columns)
                stored = data.read(bands, window=place)
                if self.is_masked:
                    stored = np.where(with_data(data, bands, place), stored, np.nan)
                flat = stored.reshape(last - first, -1)
                window.subset.decode(flat, self.packing.decode, block)
        return block

    def _read_blocks(self, cells: CellSelection, block: np.ndarray) -> bool:
        """Read the one band of a file like the first one by its blocks; whether it is one."""
        about = self._fetched_at_once(cells)
        try:
            with stored_bytes(self.path, about) as (file, fetch):
                blocks = tiff.blocks_of(file)
                if blocks is None or blocks.likeness != self.likeness:
                    return False
                url = addresses.url_of(self.path)
                if url is not None and about is None:
                    places = [blocks.places(window) for window in cells.windows]
                    fetch = addresses.Ahead(url, filter(all, itertools.chain(*places)))
                for window in cells.windows:
                    stored = blocks.read(fetch, window, self._unwritten)
                    window.subset.decode(stored.reshape(1, -1), self.packing.decode, block)
        except DAMAGE as error:
            raise unreadable(self.path, error) from error
        return True

    @property
    def _unwritten(self) -> float:
        """What blocks hold that were never written."""
        return self.packing.missing[0] if self.packing.missing else 0.0

    def _fetched_at_once(self, cells: CellSelection) -> int | None:
        """About how many bytes to fetch, where all of it is sooner there than what is wanted.

        Each request has a delay in which far more could come.
        """
        if self.remote_size is None or self.remote_size > MOST_AT_ONCE:
            return None
        wanted = sum(math.prod(window.shape) for window in cells.windows)
        return self.remote_size if 2 * wanted >= math.prod(self.shape) else None

    def _check(self, data: Any) -> None:
        """A file that was taken on trust when the folder was opened must keep its promise."""
        declared = replace(self.packing, marks=(), watched=())
        alike = bands_of(data) == list(self.bands) and is_masked(data) == self.is_masked
        if not alike or packing_of(data) != declared:
            raise InputError(
                self.path,
                "has other bands, scale, mask or missing value than the first file",
                "give files of one grid only",
            )

    def _reordered(self, layout: GridLayout) -> ReorderedFile:
        """Itself with the cells that it was found to have, in the order that it must keep."""
        found = in_order_of(replace(self, layout=layout, checked=True), self.layout)
        if found is None:
            raise InputError(
                self.path, "has other cells than the first file", "give files of one grid only"
            )
        return found

    def on_trust(self, path: Path) -> RasterGrid:
        """Another file that is taken to be like this one until it is read."""
        packing = replace(self.packing, where=str(path))
        return replace(self, path=path, packing=packing, checked=False)

    def dated(self, times: RawTimes, note: str) -> RasterGrid:
        """The same with steps that its name tells; what tells them."""
        return replace(self, times=times, notes=tuple(dict.fromkeys((*self.notes, note))))


class RasterFormat:
    """All that the raster library reads."""

    named_by_file = True

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The one variable of a raster."""
        with dataset(path) as data:
            return [variable_of(path, data)]

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> RasterGrid:
        """Read the metadata of a raster file."""
        return open_file(path, variable, options)


FORMAT = RasterFormat()


def open_file(path: Path, variable: str, options: ReadOptions) -> RasterGrid:
    """Read the metadata of a raster file."""
    url = addresses.url_of(path)
    with dataset(path) as data:
        bands, masked = bands_of(data), is_masked(data)
        times, notes = times_of(path, data, bands, options)
        return RasterGrid(
            path,
            variable_of(path, data),
            layout_of(path, data, options.input_crs),
            times,
            tuple(bands),
            with_missing(packing_of(data), np.dtype(data.dtypes[0]), options.missing, path),
            (data.height, data.width),
            (
                *notes,
                *crs_notes(path, data, options.input_crs),
                *mask_notes(path, data),
                *(comma_notes(path) if data.driver == ASCII else []),
            ),
            input_crs=options.input_crs,
            dtype=np.dtype(data.dtypes[0]),
            likeness=() if masked or data.count > 1 else _likeness(path),
            is_masked=masked,
            remote_size=None if url is None else addresses.information_lately(url).get("size"),
        )


def _likeness(path: Path) -> tuple[Any, ...]:
    """What a deflated TIFF says of itself; nothing of any other file."""
    with stored_bytes(path) as (file, _):
        blocks = tiff.blocks_of(file)
    return () if blocks is None else blocks.likeness


def dated_by_names(files: list[GridFile], options: ReadOptions) -> list[GridFile]:
    """Rasters of one band that date themselves by nothing else, dated by the names of them all."""
    undated = [
        file
        for file in files
        if isinstance(file, RasterGrid) and file.times is None and len(file.bands) == 1
    ]
    if not undated:
        return files
    where = undated[0].path if len(undated) == 1 else undated[0].path.parent
    steps, note = find_dates_of_files([file.path for file in undated], options.dates, where)
    if steps is None:
        return files
    dated: dict[Path, GridFile] = {
        file.path: file.dated(raw_times([step], from_name=True), note)
        for file, step in zip(undated, steps, strict=True)
    }
    return [dated.get(file.path, file) for file in files]


def opened_by_names(
    paths: Sequence[Path], first: GridFile, options: ReadOptions
) -> list[GridFile] | None:
    """A file a step, dated by the names: only the first is opened until they are read.

    None where the names tell no dates, or the same date twice (then they may be tiles).
    """
    if not isinstance(first, RasterGrid) or len(first.bands) != 1 or first.times is not None:
        return None
    steps, note = find_dates_of_files(paths, options.dates, paths[0].parent)
    if steps is None or len({step.stamp for step in steps}) < len(steps):
        return None
    return [
        first.on_trust(path).dated(raw_times([step], from_name=True), note)
        for path, step in zip(paths, steps, strict=True)
    ]
