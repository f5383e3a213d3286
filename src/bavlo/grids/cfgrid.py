"""Grids in files that follow the CF conventions, whatever library opens them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import field, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.time.steps import is_cycle_without_year
from bavlo.core.values.kinds import RATE, Variable
from bavlo.core.values.units import depth_factor
from bavlo.errors import InputError
from bavlo.grids import cf
from bavlo.grids.fast import chunks
from bavlo.grids.fast.packed import PackedBlock, Part
from bavlo.grids.levels import chosen_levels, level_text
from bavlo.grids.source import CellSelection, GridFile, RawTimes, ReadOptions, Window
from bavlo.records import dataclass

YEAR_ZERO = re.compile(r"since\s+0{1,4}-")

# What variables may be called by their place in a window, from outside in.
AXES = ("time", "y", "x")
KNOWN_LONLAT = ("XLONG", "XLAT", "lon", "lat", "longitude", "latitude", "nav_lon", "nav_lat")
TEXT_TIMES = ("times", "time", "date", "dates")  # names of dates that are written as text
# Dimensions whose parts complete each other, such as early and final versions of a record.
VERSIONS = re.compile(r"^(expver|exp_?ver(sion)?|version|experiment_?version)$", re.IGNORECASE)


@dataclass(frozen=True, eq=False)
class Stored:
    """A variable as it is stored.

    Parameters
    ----------
    name
        With its groups: `model/rain`.
    chunks
        Stored chunk along each dimension; None where it is not chunked.
    read
        From slices and indices to the stored numbers.
    keep
        Told how many bytes of chunks are worth keeping between reads.
    default_fill
        What the format writes where nothing was written.
    is_hdf5
        Whether its file is HDF5.
    by_chunks
        Whether its raw chunks are worth reading even where it is small, as by URL, where every
        byte counts.
    """

    name: str
    dimensions: tuple[str, ...]
    shape: tuple[int, ...]
    dtype: np.dtype | None
    attributes: Mapping[str, Any]
    chunks: tuple[int, ...] | None
    read: Callable[[Any], np.ndarray]
    keep: Callable[[int], None] = field(default=lambda size: None)
    default_fill: float | None = None
    is_hdf5: bool = False
    by_chunks: bool = False

    @property
    def group(self) -> str:
        """The groups around it."""
        return self.name.rpartition("/")[0]

    def text(self, name: str) -> str:
        """An attribute as text, empty where there is none."""
        return str(self.attributes.get(name, "")).strip()


class Container(dict[str, Stored]):
    """The variables of an open file by their full names."""

    def near(self, variable: Stored, name: str) -> Stored | None:
        """A variable by its short name, in the group of another or those around it."""
        group = variable.group
        while True:
            found = self.get(f"{group}/{name}" if group else name)
            if found is not None or not group:
                return found
            group = group.rpartition("/")[0]

    def coordinate(self, variable: Stored, dimension: str) -> Stored | None:
        """The coordinate variable of a dimension."""
        found = self.near(variable, dimension)
        return found if found is not None and found.dimensions == (dimension,) else None

    def times_of(self, variable: Stored, dimension: str) -> Stored | None:
        """What tells the times along a dimension that has no coordinate variable.

        A one-dimensional variable that `coordinates` names, or dates written as text.
        """
        for name in variable.text("coordinates").split():
            other = self.near(variable, name)
            if other is None or other.dimensions != (dimension,):
                continue
            if cf.axis_of("", other.attributes) == "time":
                return other
        for other in self.values():
            is_text = other.dtype is not None and other.dtype.kind == "S"
            short = other.name.rpartition("/")[2].lower()
            if is_text and short in TEXT_TIMES and other.dimensions[:1] == (dimension,):
                return other
        return None

    def curvilinear(self, variable: Stored) -> tuple[Stored, Stored] | None:
        """Two-dimensional longitude and latitude that `coordinates` names, or of known names.

        Model output repeats them for every step; they must not move.
        """
        found: dict[str, Stored] = {}
        for name in (*variable.text("coordinates").split(), *KNOWN_LONLAT):
            other = self.near(variable, name)
            if other is None or other.dtype is None or other.dtype.kind != "f":
                continue
            axis = cf.axis_of(other.name, other.attributes)
            if axis in found or not set(other.dimensions) <= set(variable.dimensions):
                continue
            if len(other.shape) == 2:
                found[axis] = other
            elif len(other.shape) == 3 and other.dimensions[0] == variable.dimensions[0]:
                found[axis] = at_first_step(other)
        lon, lat = found.get("lon"), found.get("lat")
        if lon is None or lat is None or lon.dimensions != lat.dimensions:
            return None
        return (lon, lat) if set(lon.dimensions) <= set(variable.dimensions) else None


def at_first_step(variable: Stored) -> Stored:
    """A variable (T, y, x) as it is at its first step, which must be that of all others."""

    def read(key: Any) -> np.ndarray:
        every = np.asarray(variable.read((slice(None), *_both(key))))
        if not (every == every[:1]).all():
            raise ValueError(f"{variable.name} differs from step to step: its cells move")
        return np.asarray(every[0])

    return replace(
        variable, dimensions=variable.dimensions[1:], shape=variable.shape[1:], read=read
    )


def _both(key: Any) -> tuple[Any, ...]:
    return key if isinstance(key, tuple) else (key, slice(None))


Opener = Callable[[Path], AbstractContextManager[Container]]


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
    is_large
        Whether its values, those of its other files counted in, are worth loading h5py for.
    keeps_slabs
        Whether all chunks of some steps can be kept in memory, so that each is inflated once.
    dtype
        Type of the stored numbers.
    is_hdf5
        Whether its file is HDF5.
    small_whole
        Whether the stored numbers are whole, of at most 32 bits.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    packing: cf.Packing
    order: tuple[str | int, ...]
    chunks: tuple[int, ...]
    opener: Opener
    notes: tuple[str, ...] = ()
    is_large: bool = False
    keeps_slabs: bool = False
    dtype: np.dtype = field(default_factory=lambda: np.dtype(np.float64))
    is_hdf5: bool = False
    small_whole: bool = False

    @property
    def by_chunks(self) -> bool:
        """Whether reading raw chunks is worth a try."""
        return self.is_large and self.keeps_slabs

    @property
    def chunk_size(self) -> int:
        """Bytes of a chunk, inflated."""
        return int(np.prod(self.chunks)) * self.dtype.itemsize

    @property
    def has_large_chunks(self) -> bool:
        """Whether its chunks hold many steps and are larger than the library keeps."""
        return self.is_hdf5 and self.needs_rechunking and self.chunk_size > chunks.LARGE_CHUNK

    @property
    def size(self) -> int:
        """Bytes of its values as they are stored, inflated."""
        steps = 1 if self.times is None else self.times.stamps.size
        return int(steps * np.prod(self.layout.shape) * self.dtype.itemsize)

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values; None where they are packed."""
        return self.dtype if self.packing.is_plain else None

    def packed(self, packing: cf.Packing) -> CFGrid:
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

    def read_packed(self, first: int, last: int, cells: CellSelection) -> PackedBlock | None:
        """The same as whole numbers that are not decoded yet; None where they are none.

        Whether they are follows from how they are stored, and not from the way they are read.
        """
        if not self.whole_numbers:
            return None
        parts = list(self._parts(first, last, cells))
        return PackedBlock(parts, self.packing, (last - first, cells.size))

    @property
    def whole_numbers(self) -> bool:
        """Whether there is something that `read_packed` gives."""
        return self.small_whole and not self.needs_rechunking

    @property
    def needs_rechunking(self) -> bool:
        """Whether chunks of several steps would be inflated again for each run of steps."""
        if self.times is None or self.step_chunk == 1 or not set(AXES) <= set(self.order):
            return False
        return not (self.keeps_slabs and self.order == AXES)

    def _parts(self, first: int, last: int, cells: CellSelection) -> Iterator[Part]:
        """Wanted cells, steps from `first` on and stored numbers (t, size) of rectangles."""
        if self.by_chunks and self.order == AXES:
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
        if self.by_chunks or self.has_large_chunks or (self.is_large and self.needs_rechunking):
            reader = chunks.reader_of(self.path, self.variable.name) if self.is_hdf5 else None
            if reader is not None and self.by_chunks:
                return reader.read(key)
            if reader is not None:
                return reader.read_large(key) if self.has_large_chunks else reader.read_kept(key)
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


@dataclass(frozen=True)
class ContainerFormat:
    """A format whose files hold variables on named dimensions, as CF has them.

    Parameters
    ----------
    opener
        Gives the variables of a file.
    """

    opener: Opener
    named_by_file = False

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The gridded variables of a file; those with a time axis where there are any."""
        with self.opener(path) as container:
            found = [(v, "time" in order) for v, order in _gridded(container)]
            timed = any(has_time for _, has_time in found)
            return [_describe(v) for v, has_time in found if has_time == timed]

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> GridFile:
        """Read the metadata of one variable."""
        with self.opener(path) as container:
            for stored, axes in _gridded(container):
                if stored.name == variable:
                    return self._open(path, container, stored, axes, options)
        raise InputError(path, f"has no gridded variable '{variable}'")

    def _open(
        self,
        path: Path,
        container: Container,
        stored: Stored,
        axes: tuple[str, ...],
        options: ReadOptions,
    ) -> GridFile:
        """One variable, its versions put together where none is chosen."""
        for dimension, axis, size in zip(stored.dimensions, axes, stored.shape, strict=True):
            chosen = any(text.startswith(f"{dimension}=") for text in options.level)
            if axis in AXES or size == 1 or not VERSIONS.match(dimension) or chosen:
                continue
            values = _further(container, stored, dimension, size)
            parts = [
                replace(options, level=(*options.level, f"{dimension}={value:g}"))
                for value in values
            ]
            grids = [_grid(path, container, stored, axes, one, self.opener) for one in parts]
            return VersionsGrid(grids, dimension, [f"{value:g}" for value in values])
        return _grid(path, container, stored, axes, options, self.opener)


class VersionsGrid:
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

    @property
    def path(self) -> Path:
        """Where it is."""
        return self.parts[0].path

    @property
    def variable(self) -> Variable:
        """As the file describes it."""
        return replace(self.parts[0].variable, level="")

    @property
    def layout(self) -> GridLayout:
        """Its cells."""
        return self.parts[0].layout

    @property
    def times(self) -> RawTimes | None:
        """Its time stamps."""
        return self.parts[0].times

    @property
    def step_chunk(self) -> int:
        """Steps that are stored together."""
        return self.parts[0].step_chunk

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values."""
        return self.parts[0].stored

    @property
    def dtype(self) -> np.dtype:
        """Type of the stored numbers."""
        return self.parts[0].dtype

    @property
    def packing(self) -> cf.Packing:
        """How stored numbers become values."""
        return self.parts[0].packing

    def packed(self, packing: cf.Packing) -> VersionsGrid:
        """The same with another understanding of its stored numbers."""
        parts = [part.packed(packing) for part in self.parts]
        return VersionsGrid(parts, self.dimension, self.names)

    @property
    def notes(self) -> tuple[str, ...]:
        """What the reader noticed."""
        listed = " and ".join(self.names)
        return (*self.parts[0].notes, f"{self.dimension} {listed} put together")

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
        block = self.parts[0].read(first, last, cells, into)
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


def _gridded(container: Container) -> Iterator[tuple[Stored, tuple[str, ...]]]:
    """Variables with a row and a column dimension, and the axis of each of their dimensions."""
    auxiliary = {
        name
        for v in container.values()
        for key in ("bounds", "coordinates", "ancillary_variables", "climatology")
        for name in v.text(key).split()
    }
    for variable in container.values():
        short = variable.name.rpartition("/")[2]
        if len(variable.shape) < 2 or variable.dtype is None or variable.dtype.kind not in "iuf":
            continue
        if short in auxiliary or short in variable.dimensions:
            continue
        if cf.axis_of(variable.name, variable.attributes) in ("lon", "lat"):
            continue
        axes = [_axis(container, variable, dimension) for dimension in variable.dimensions]
        both = container.curvilinear(variable)
        if both is not None and not {"x", "y"} <= set(axes):
            rows, columns = both[0].dimensions
            axes = [
                {rows: "y", columns: "x"}.get(d, "" if a in ("x", "y") else a)
                for d, a in zip(variable.dimensions, axes, strict=True)
            ]
        if axes.count("y") == 1 and axes.count("x") == 1 and axes.count("time") <= 1:
            yield variable, tuple(axes)


def _axis(container: Container, variable: Stored, dimension: str) -> str:
    coordinate = container.coordinate(variable, dimension)
    if coordinate is None:
        return "time" if container.times_of(variable, dimension) is not None else ""
    axis = cf.axis_of(dimension, coordinate.attributes)
    return {"lat": "y", "lon": "x"}.get(axis, axis)


def _describe(variable: Stored) -> Variable:
    unit, kind, evidence = variable.text("units"), "", ""
    if variable.text("GRIB_stepType") == cf.DAILY_MEANS and depth_factor(unit or "1") is not None:
        unit, kind, evidence = f"{unit} day-1", RATE, "step type avgad, means of daily totals"
    return Variable(
        variable.name,
        unit,
        variable.text("standard_name"),
        variable.text("long_name"),
        variable.text("cell_methods") or cf.STEP_TYPES.get(variable.text("GRIB_stepType"), ""),
        _flags(variable),
        "difference" in variable.text("units_metadata"),
        kind,
        evidence,
    )


def _flags(variable: Stored) -> tuple[tuple[int, str], ...]:
    """Class codes and their meanings (CF-1.11, section 3.5)."""
    values = np.ravel(variable.attributes.get("flag_values", []))
    meanings = variable.text("flag_meanings").split()
    if not values.size or len(meanings) != values.size:
        return ()
    return tuple((int(v), m.replace("_", " ")) for v, m in zip(values, meanings, strict=True))


def _grid(
    path: Path,
    container: Container,
    variable: Stored,
    axes: tuple[str, ...],
    options: ReadOptions,
    opener: Opener,
) -> CFGrid:
    assert variable.dtype is not None
    further = {
        dimension: _further(container, variable, dimension, size)
        for dimension, axis, size in zip(variable.dimensions, axes, variable.shape, strict=True)
        if axis not in AXES
    }
    levels = chosen_levels(path, variable.name, further, options.level)
    order = tuple(
        axis if axis in AXES else levels[dimension]
        for dimension, axis in zip(variable.dimensions, axes, strict=True)
    )
    _check_sizes(path, container, variable)
    times = None
    if "time" in axes:
        times = _times(path, container, variable, variable.dimensions[axes.index("time")])
    stored_chunks = variable.chunks
    if stored_chunks is None:
        stored_chunks = tuple(
            1 if axis == "time" else n for axis, n in zip(axes, variable.shape, strict=True)
        )
    packing = cf.packing(variable.attributes, variable.dtype, variable.default_fill)
    packing = cf.with_missing(packing, variable.dtype, options.missing, path)
    return CFGrid(
        path,
        replace(_describe(variable), level=level_text(further, levels)),
        _layout(path, container, variable, axes),
        times,
        packing,
        order,
        stored_chunks,
        opener,
        is_large=variable.by_chunks or _size(variable) >= chunks.LEAST_SIZE,
        keeps_slabs=axes[0] == "time" and _keeps_slabs(variable, stored_chunks),
        dtype=variable.dtype.newbyteorder("="),
        is_hdf5=variable.is_hdf5 and variable.chunks is not None,
        small_whole=variable.dtype.kind in "iu" and variable.dtype.itemsize <= 4,
    )


def _check_sizes(path: Path, container: Container, variable: Stored) -> None:
    """Refuse coordinates of other lengths than their dimension, which some formats allow."""
    for dimension, size in zip(variable.dimensions, variable.shape, strict=True):
        coordinate = container.coordinate(variable, dimension)
        if coordinate is not None and coordinate.shape != (size,) and len(coordinate.shape) == 1:
            raise InputError(
                path,
                f"variable {variable.name} has {size} along {dimension}, whose coordinate has "
                f"{coordinate.shape[0]}",
                "the file is damaged: fetch it again",
            )


def read_by_chunks(files: Sequence[GridFile]) -> list[GridFile]:
    """Files of one grid, by their raw chunks where they are large together."""
    own = [file for file in files if isinstance(file, CFGrid)]
    if sum(file.size for file in own) < chunks.LEAST_SIZE:
        return list(files)
    return [replace(file, is_large=True) if isinstance(file, CFGrid) else file for file in files]


def _size(variable: Stored) -> int:
    """Bytes of a variable, inflated."""
    item = 0 if variable.dtype is None else variable.dtype.itemsize
    return int(np.prod(variable.shape, dtype=np.int64)) * item


def _keeps_slabs(variable: Stored, stored_chunks: tuple[int, ...]) -> bool:
    """Whether all chunks of some steps can be kept, so that each is inflated once."""
    if not variable.is_hdf5 or variable.chunks is None:
        return False
    slab = stored_chunks[0] * (_size(variable) // max(variable.shape[0], 1))
    return stored_chunks[0] == 1 or slab <= chunks.MOST_KEPT


def _further(container: Container, variable: Stored, dimension: str, size: int) -> Sequence[float]:
    """The values along a further dimension; its positions, from 1 on, where it has none."""
    coordinate = container.coordinate(variable, dimension)
    if coordinate is None or coordinate.dtype is None or coordinate.dtype.kind not in "iuf":
        return list(range(1, size + 1))
    return [float(n) for n in cf.plain_numbers(np.asarray(coordinate.read(slice(None))))]


def _layout(
    path: Path, container: Container, variable: Stored, axes: tuple[str, ...]
) -> GridLayout:
    dimensions = dict(zip(axes, variable.dimensions, strict=True))
    x = container.coordinate(variable, dimensions["x"])
    y = container.coordinate(variable, dimensions["y"])
    mapping = _mapping(path, container, variable)
    both = container.curvilinear(variable)
    lonlat = x is not None and cf.axis_of(x.name, x.attributes) == "lon"
    if both is not None and not lonlat and (mapping is None or x is None or y is None):
        return _curvilinear(path, container, *both)
    if x is None or y is None:
        raise InputError(path, f"variable {variable.name} lacks coordinates of its rows or columns")
    if not lonlat and mapping is None:
        raise InputError(
            path,
            f"variable {variable.name} is not on longitude and latitude and has no grid mapping",
            "add a grid mapping with its reference system to the file",
        )
    # Longitudes and latitudes are what they say, even with a grid mapping beside them.
    scales = [1.0, 1.0] if lonlat else [_metres(path, x), _metres(path, y)]
    return GridLayout(
        _edges(path, container, x) * scales[0],
        _edges(path, container, y) * scales[1],
        "lonlat" if lonlat else str(mapping),
    )


def _metres(path: Path, coordinate: Stored) -> float:
    """What projected coordinates are multiplied by to be in metres; 1 for rotated degrees."""
    unit = coordinate.text("units")
    if unit in ("", "m", "metre", "meter", "metres", "meters") or unit.startswith("deg"):
        return 1.0
    from bavlo.core.values.units import read_unit

    return float(read_unit(unit, path).convert(1.0, "m"))


def _edges(path: Path, container: Container, coordinate: Stored) -> np.ndarray:
    axis = cf.axis_of(coordinate.name, coordinate.attributes)
    centres = cf.plain_numbers(np.asarray(coordinate.read(slice(None))))
    bounds = None
    named = container.near(coordinate, coordinate.text("bounds"))
    if named is not None and named.shape == (centres.size, 2):
        bounds = cf.plain_numbers(np.asarray(named.read(slice(None))).ravel()).reshape(-1, 2)
    return cf.cell_edges(centres, bounds, axis, path)


def _curvilinear(path: Path, container: Container, lon: Stored, lat: Stored) -> GridLayout:
    """Cells by their own corners: from bounds where given, else between the centres."""
    corners = []
    for coordinate in (lon, lat):
        values = np.asarray(coordinate.read(slice(None)), np.float64)
        named = container.near(coordinate, coordinate.text("bounds"))
        if named is not None and named.shape == (*values.shape, 4):
            corners.append(np.asarray(named.read(slice(None)), np.float64))
        else:
            corners.append(values)
    if corners[0].ndim != corners[1].ndim:
        raise InputError(path, f"only one of {lon.name} and {lat.name} has bounds")
    return CurvilinearLayout.from_centres_or_corners(corners[0], corners[1])


def _times(path: Path, container: Container, variable: Stored, dimension: str) -> RawTimes:
    coordinate = container.coordinate(variable, dimension)
    coordinate = coordinate or container.times_of(variable, dimension)
    assert coordinate is not None
    if coordinate.dtype is not None and coordinate.dtype.kind == "S":
        texts = np.asarray(coordinate.read(slice(None)))
        return RawTimes(cf.written_times(texts, path), None, "standard")
    unit = coordinate.text("units")
    given = coordinate.text("calendar").lower()
    calendar = cf.CALENDARS.get(given, given)
    if calendar == "standard" and YEAR_ZERO.search(unit):
        calendar = "proleptic_gregorian"  # the standard calendar has no year 0
    stamps = cf.decode_times(np.asarray(coordinate.read(slice(None))), unit, calendar, path)
    bounds = None
    named = container.near(coordinate, coordinate.text("bounds"))
    if named is not None and named.shape == (stamps.size, 2):
        numbers = np.asarray(named.read(slice(None)))
        bounds = cf.decode_times(numbers, named.text("units") or unit, calendar, path)
    return RawTimes(
        stamps,
        bounds,
        calendar,
        bool(coordinate.text("climatology")) or is_cycle_without_year(stamps, calendar),
        variable.text("GRIB_stepType") == "accum",
    )


def _mapping(path: Path, container: Container, variable: Stored) -> str | None:
    """The reference system that the grid mapping names, as WKT."""
    name = variable.text("grid_mapping").split(":")[0].strip()
    mapping = container.near(variable, name) if name else None
    if mapping is None:
        return None
    import pyproj

    try:
        return str(pyproj.CRS.from_cf(dict(mapping.attributes)).to_wkt())
    except (pyproj.exceptions.CRSError, KeyError, TypeError) as error:
        raise InputError(path, f"the grid mapping {name} cannot be read: {error}") from error
