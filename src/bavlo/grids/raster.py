"""Raster files that rasterio reads: GeoTIFF, ASCII grid and more; a band is a step."""

from __future__ import annotations

import atexit
import contextlib
import itertools
import math
import sys
import threading
import warnings
import zlib
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import field, replace
from functools import cached_property
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.values.kinds import CLASS, Variable
from bavlo.errors import InputError
from bavlo.files import DAMAGE
from bavlo.grids import ascii_grid, cf
from bavlo.grids import urls as addresses
from bavlo.grids.dates import CALENDAR, NamedStep, find_dates
from bavlo.grids.fast import tiff
from bavlo.grids.fast.inflate import unpacked
from bavlo.grids.fast.shared import KeptChunks
from bavlo.grids.formats import GZIP
from bavlo.grids.source import CellSelection, GridFile, RawTimes, ReadOptions
from bavlo.records import dataclass

MOST_OPEN = 8
ASCII = "AAIGrid"
MOST_UNPACKED = 2**29  # bytes of a packed file, which are held in memory
MOST_AT_ONCE = 2**22  # bytes of a file by URL that is fetched in one request
KEPT_UNPACKED = 2**26  # bytes of them that are kept, since steps are looked at in parts

_unpacked = KeptChunks(KEPT_UNPACKED)

# What fields of an attribute table are used for, as GDAL numbers it.
NAME_USAGE, CODE_USAGES = "2", ("5", "3")

_local = threading.local()  # GDAL files belong to the thread that opened them


@contextmanager
def _dataset(path: Path) -> Iterator[Any]:
    """An open raster; each thread keeps its last few open."""
    from rasterio.errors import NotGeoreferencedWarning, RasterioError

    if not hasattr(_local, "files"):
        _local.files = OrderedDict()
    files: OrderedDict[tuple[Path, int, int, int], tuple[Any, Any]] = _local.files
    key = path, *_stamp(path)  # a file that was written anew is opened anew
    data, memory = files.pop(key, (None, None))
    try:
        with warnings.catch_warnings(), _quiet_log():
            warnings.simplefilter("ignore", NotGeoreferencedWarning)
            if data is None:
                data, memory = _opened(path)
            yield data
    except (RasterioError, *DAMAGE) as error:
        if data is not None:
            with contextlib.suppress(RasterioError):
                data.close()
        if addresses.url_of(path) is None and not path.exists():
            raise InputError(path, "there is no such file", "check the path") from error
        raise cf.unreadable(path, error) from error
    files[key] = data, memory
    while len(files) > MOST_OPEN:
        files.popitem(last=False)[1][0].close()


def close_all() -> None:
    """Close what this thread has open.

    The raster library minds files by URL that are still open when the program has ended.
    """
    for data, _ in getattr(_local, "files", OrderedDict()).values():
        data.close()
    _local.files = OrderedDict()


atexit.register(close_all)


def _stamp(path: Path) -> tuple[int, int, int]:
    """What tells a file from another of the same name: its number, time and size."""
    try:
        status = path.stat()
    except OSError:  # a URL, or a file that is gone
        return 0, 0, 0
    return status.st_ino, status.st_mtime_ns, status.st_size


@contextmanager
def _quiet_log() -> Iterator[None]:
    """Without the library's complaint that it cannot write a damaged file's text into its log."""
    before = sys.unraisablehook
    sys.unraisablehook = lambda told: (
        None if isinstance(told.exc_value, UnicodeDecodeError) else before(told)
    )
    try:
        yield
    finally:
        sys.unraisablehook = before


def _opened(path: Path) -> tuple[Any, Any]:
    """An open raster, and what must live as long as it does."""
    import rasterio

    url = addresses.url_of(path)
    if url is not None:
        return rasterio.open(path.name, opener=_opener(path.name, url)), None
    with path.open("rb") as file:
        zipped = file.read(2) == GZIP
    if not zipped:
        data = rasterio.open(path)
        if data.driver == ASCII:
            ascii_grid.check(path.read_bytes())
        return data, None
    content = _unpacked.get((path, *_stamp(path)), lambda: _content(path))
    memory = rasterio.MemoryFile(content, filename=Path(path.stem).name)
    data = memory.open()
    if data.driver == ASCII:
        ascii_grid.check(content)
    return data, memory


@contextmanager
def _plainly(path: Path, about: int | None = None) -> Iterator[tiff.Fetch]:
    """What gives bytes of a TIFF file, unpacked where it is packed.

    Parameters
    ----------
    about
        Fetch all of a file by URL, which has about so many bytes, in one request.
    """
    url = addresses.url_of(path)
    content = None
    if url is not None and about is not None:
        content = addresses.fetch_small(url, about)
    elif url is None and path.suffix.lower() == ".gz":
        content = _unpacked.get((path, *_stamp(path)), lambda: _content(path))
    if content is None:
        with tiff.opened(path) as fetch:
            yield fetch
    else:
        yield lambda position, size: content[position : position + size]


def _content(path: Path) -> bytes:
    """What a gzip file holds.

    Unpacked here and not by the raster library: this looks at the checksum, and is three times as
    fast.
    """
    try:
        return unpacked(path.read_bytes(), MOST_UNPACKED)
    except OverflowError as error:
        raise InputError(
            path, f"unpacks to more than {MOST_UNPACKED >> 20} MB", "unpack it first, with gunzip"
        ) from error


def _opener(name: str, url: str) -> Any:
    """Gives the raster library a file by URL, and none of those that it looks for beside it."""

    def opened(wanted: str, mode: str = "rb") -> Any:
        if wanted != name:
            raise FileNotFoundError(wanted)
        return addresses.open_file(url)

    return opened


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
    signature
        Of a plain TIFF: files with the same are read without the raster library.
    remote_size
        Bytes of a file by URL, or of the one that it is like; None of files of this machine.
    """

    path: Path
    variable: Variable
    layout: GridLayout
    times: RawTimes | None
    bands: tuple[int, ...]
    packing: cf.Packing
    shape: tuple[int, int]
    notes: tuple[str, ...] = ()
    checked: bool = True
    grid_crs: str | None = None
    step_chunk: int = 1
    dtype: np.dtype = field(default_factory=lambda: np.dtype(np.float64))
    signature: bytes | None = None
    remote_size: int | None = None

    @property
    def stored(self) -> np.dtype | None:
        """Type of the stored numbers where these are the values; None where they are packed."""
        return self.dtype if self.packing.is_plain else None

    def packed(self, packing: cf.Packing) -> RasterGrid:
        """The same with another understanding of its stored numbers."""
        return replace(self, packing=packing)

    def read(
        self, first: int, last: int, cells: CellSelection, into: np.ndarray | None = None
    ) -> np.ndarray:
        """Values of the steps `first` to `last` (excluded) as (T, C) float64, NaN for no data.

        They go `into` an array of that shape where one is given.
        """
        from rasterio.windows import Window

        block = np.empty((last - first, cells.size)) if into is None else into
        if self.signature is not None and self._read_plainly(cells, block):
            return block
        with _dataset(self.path) as data:
            if not self.checked:
                self._check(data)
            checks = _Checksums.of(data, self.path)
            for window in cells.windows:
                rows, columns = window.rows, window.columns
                if checks is not None:
                    checks.verify(self.bands[first:last], rows, columns)
                stored = data.read(
                    list(self.bands[first:last]),
                    window=Window.from_slices(rows, columns),
                )
                flat = stored.reshape(last - first, -1)
                window.subset.decode(flat, self.packing.decode, block)
        return block

    def _read_plainly(self, cells: CellSelection, block: np.ndarray) -> bool:
        """Read the one band of a plain file like the first one; whether it is one."""
        try:
            about = self._fetched_at_once(cells)
            with _plainly(self.path, about) as fetch:
                directory = tiff.read_directory(fetch)
                if directory is None or directory.signature != self.signature:
                    return False
                fill = self.packing.missing[0] if self.packing.missing else 0.0
                url = addresses.url_of(self.path)
                if url is not None and about is None:
                    ranges = [tiff.ranges_of(directory, window) for window in cells.windows]
                    fetch = addresses.Ahead(url, itertools.chain(*ranges))
                for window in cells.windows:
                    place = self.path, fetch, directory, window, fill
                    if window.subset.is_whole and not directory.is_one_piece:
                        whole = block[0, window.subset.position].reshape(window.shape)
                        for r, c, part in tiff.blocks_of(*place):  # while it is near
                            self.packing.decode(part, whole[r, c])
                        continue
                    stored = tiff.read_window(*place)
                    window.subset.decode(stored.reshape(1, -1), self.packing.decode, block)
        except DAMAGE as error:
            raise cf.unreadable(self.path, error) from error
        return True

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
        found = _layout(self.path, data, self.grid_crs)
        if not found.same_cells(self.layout):
            raise InputError(
                self.path, "has other cells than the first file", "give files of one grid only"
            )
        declared = replace(self.packing, marks=(), watched=())
        if data.count != len(self.bands) or _packing(data) != declared:
            raise InputError(
                self.path,
                "has other bands, scale or missing value than the first file",
                "give files of one grid only",
            )

    def on_trust(self, path: Path) -> RasterGrid:
        """Another file that is taken to be like this one until it is read."""
        packing = replace(self.packing, where=str(path))
        return replace(self, path=path, packing=packing, checked=False)

    def dated(self, times: RawTimes) -> RasterGrid:
        """The same with steps that its name tells."""
        note = "dates from the names of files"
        return replace(self, times=times, notes=tuple(dict.fromkeys((*self.notes, note))))

    @cached_property
    def name(self) -> str:
        """Name of the file without its endings."""
        return plain_name(self.path)


@dataclass(frozen=True, eq=False)
class _Checksums:
    """The checksums of deflated blocks, which the raster library does not always look at."""

    data: Any
    path: Path
    block: tuple[int, int]

    @classmethod
    def of(cls, data: Any, path: Path) -> _Checksums | None:
        """Of a deflated TIFF; None of any other file."""
        if data.driver != "GTiff" or str(
            data.tags(ns="IMAGE_STRUCTURE").get("COMPRESSION", "")
        ) != ("DEFLATE"):
            return None
        # A file that was unpacked in memory had a checksum of its own.
        return None if data.name.startswith("/vsimem/") else cls(data, path, data.block_shapes[0])

    def verify(self, bands: tuple[int, ...], rows: slice, columns: slice) -> None:
        """Inflate the blocks of a window to their end, where the checksum stands."""
        height, width = self.block
        seen: set[int] = set()
        with tiff.opened(self.path) as fetch:
            for band in bands:
                for y in range(rows.start // height, (rows.stop - 1) // height + 1):
                    for x in range(columns.start // width, (columns.stop - 1) // width + 1):
                        offset = self.data.get_tag_item(f"BLOCK_OFFSET_{x}_{y}", "TIFF", bidx=band)
                        size = self.data.get_tag_item(f"BLOCK_SIZE_{x}_{y}", "TIFF", bidx=band)
                        if offset is None or size is None or int(offset) in seen:
                            continue
                        seen.add(int(offset))
                        inflater = zlib.decompressobj()
                        inflater.decompress(fetch(int(offset), int(size)))
                        if not inflater.eof:
                            raise zlib.error("a block ends too soon")


def plain_name(path: Path) -> str:
    """A file's name without `.gz` and its ending, which may hold dots of a date."""
    name = path.name
    for ending in (".gz", ".tif", ".tiff", ".asc", ".img"):
        if name.lower().endswith(ending):
            name = name[: -len(ending)]
    return name


class RasterFormat:
    """All that the raster library reads."""

    named_by_file = True

    def variables(self, path: Path, options: ReadOptions) -> list[Variable]:
        """The one variable of a raster."""
        with _dataset(path) as data:
            return [_variable(path, data)]

    def open_file(self, path: Path, variable: str, options: ReadOptions) -> RasterGrid:
        """Read the metadata of a raster file."""
        return open_file(path, variable, options)


FORMAT = RasterFormat()


def open_file(path: Path, variable: str, options: ReadOptions) -> RasterGrid:
    """Read the metadata of a raster file."""
    url = addresses.url_of(path)
    with _dataset(path) as data:
        bands = list(range(1, data.count + 1))
        times, notes = _times(path, data, bands, options)
        return RasterGrid(
            path,
            _variable(path, data),
            _layout(path, data, options.grid_crs),
            times,
            tuple(bands),
            cf.with_missing(_packing(data), np.dtype(data.dtypes[0]), options.missing, path),
            (data.height, data.width),
            tuple(notes + _crs_notes(path, data, options.grid_crs)),
            grid_crs=options.grid_crs,
            dtype=np.dtype(data.dtypes[0]),
            signature=_signature(path) if data.count == 1 and data.driver == "GTiff" else None,
            remote_size=None if url is None else addresses.information_lately(url).get("size"),
        )


def _signature(path: Path) -> bytes | None:
    """What a plain TIFF says of its image; None for any other file."""
    with _plainly(path) as fetch:
        directory = tiff.read_directory(fetch)
    return None if directory is None else directory.signature


def _variable(path: Path, data: Any) -> Variable:
    tags = {**data.tags(), **data.tags(1)}
    name = tags.get("variable") or tags.get("NETCDF_VARNAME") or ""
    if not name:
        stem = plain_name(path)
        name = "".join(c if c.isalpha() else " " for c in stem).split()[:1] or ["band"]
        name = name[0]
    unit = next((u for u in data.units if u), None) or tags.get("units") or ""
    names, colours = _categories(path) or _flags(tags), _colours(data)
    evidence = "category names" if names else "colour table" if colours else ""
    return Variable(
        str(name),
        str(unit),
        str(tags.get("standard_name", "")),
        str(tags.get("long_name", "")),
        str(tags.get("cell_methods", "")),
        names,
        difference="difference" in str(tags.get("units_metadata", "")),
        kind=CLASS if evidence else "",
        kind_evidence=evidence,
        colours=colours,
    )


def _flags(tags: dict[str, Any]) -> tuple[tuple[int, str], ...]:
    """Names of class codes in the tags that Bavlo writes, as CF has them."""
    values, names = (str(tags.get(f"flag_{n}", "")).split() for n in ("values", "meanings"))
    if not values or len(values) != len(names):
        return ()
    with contextlib.suppress(ValueError):
        codes = [int(value) for value in values]
        return tuple(
            (code, name.replace("_", " ")) for code, name in zip(codes, names, strict=True)
        )
    return ()


def _colours(data: Any) -> tuple[tuple[int, str], ...]:
    """The colour table of the first band, as `#rrggbb`; empty where it has none."""
    if np.dtype(data.dtypes[0]).kind not in "iu":
        return ()
    try:
        table = data.colormap(1)
    except ValueError:
        return ()
    return tuple((int(n), f"#{r:02x}{g:02x}{b:02x}") for n, (r, g, b, _) in sorted(table.items()))


def _categories(path: Path) -> tuple[tuple[int, str], ...]:
    """Names of class codes in the file that the raster library keeps beside a raster, if any."""
    beside = path.with_name(f"{path.name}.aux.xml")
    if addresses.url_of(path) is not None or not beside.is_file():
        return ()
    try:
        band = ElementTree.parse(beside).find("PAMRasterBand")
    except ElementTree.ParseError as error:
        raise InputError(beside, f"is no XML ({error})", "repair it, or take it away") from error
    if band is None:
        return ()
    listed = [category.text or "" for category in band.iterfind("CategoryNames/Category")]
    if any(listed):
        return tuple((n, text) for n, text in enumerate(listed) if text)
    table = band.find("GDALRasterAttributeTable")
    return () if table is None else _attribute_table(table)


def _attribute_table(table: ElementTree.Element) -> tuple[tuple[int, str], ...]:
    """Codes and names of a raster attribute table."""
    usages = [field.findtext("Usage", "") for field in table.iterfind("FieldDefn")]
    if NAME_USAGE not in usages or not set(usages) & set(CODE_USAGES):
        return ()
    code = next(n for n, usage in enumerate(usages) if usage in CODE_USAGES)
    name, found = usages.index(NAME_USAGE), []
    for row in table.iterfind("Row"):
        texts = [cell.text or "" for cell in row.iterfind("F")]
        with contextlib.suppress(ValueError, IndexError):
            found.append((int(float(texts[code])), texts[name]))
    return tuple(found)


def _packing(data: Any) -> cf.Packing:
    # NaN is missing by itself, and no two of them are equal.
    nodata = [float(v) for v in data.nodatavals if v is not None and v == v]
    scale, offset = float(data.scales[0]), float(data.offsets[0])
    if len(set(data.scales)) > 1 or len(set(data.offsets)) > 1 or len(set(nodata)) > 1:
        raise ValueError("its bands have different scales or missing values")
    return cf.Packing(
        None if scale == 1 else scale,
        None if offset == 0 else offset,
        tuple(dict.fromkeys(nodata)),
    )


def _layout(path: Path, data: Any, grid_crs: str | None) -> GridLayout:
    transform = data.transform
    if transform.b or transform.d:
        raise InputError(path, "is turned against its axes", "warp it to a grid with straight axes")
    x = transform.c + transform.a * np.arange(data.width + 1)
    y = transform.f + transform.e * np.arange(data.height + 1)
    x, y = _decimal(x), _decimal(y)
    if data.crs is not None and grid_crs is not None:
        _check_same_system(path, data, grid_crs)
    if data.crs is not None:
        if data.crs.is_geographic and not data.crs.is_projected:
            return GridLayout(x, np.clip(y, -90, 90), "lonlat")
        return GridLayout(x, y, data.crs.to_wkt())
    if grid_crs is not None:
        import pyproj

        crs = pyproj.CRS.from_user_input(grid_crs)
        return GridLayout(x, y, "lonlat" if crs.is_geographic else crs.to_wkt())
    if np.abs(y).max() <= 90.0 + 1e-6 and x.min() >= -360 and x.max() <= 540:
        return GridLayout(x, np.clip(y, -90, 90), "lonlat")
    raise InputError(path, "names no reference system", "give it with ‹grid_crs›, as EPSG:32744")


def _check_same_system(path: Path, data: Any, grid_crs: str) -> None:
    """A reference system may be said of a file that states none, or the same."""
    import pyproj

    stated = pyproj.CRS.from_user_input(data.crs.to_wkt())
    if not stated.equals(pyproj.CRS.from_user_input(grid_crs), ignore_axis_order=True):
        raise InputError(
            path,
            f"states the reference system {stated.name}, and ‹grid_crs› says {grid_crs}",
            "leave ‹grid_crs› out, or correct the file",
        )


def _decimal(edges: np.ndarray) -> np.ndarray:
    """Edges without the rounding noise of origin plus n times size."""
    return np.round(edges, 10)


def _crs_notes(path: Path, data: Any, grid_crs: str | None) -> list[str]:
    if data.crs is None and grid_crs is None:
        return [f"{path.name} names no reference system; taken as longitude and latitude"]
    return []


def _times(
    path: Path, data: Any, bands: list[int], options: ReadOptions
) -> tuple[RawTimes | None, list[str]]:
    """Steps from band descriptions or tags; names are looked at for all files."""
    tags = [data.tags(n) for n in bands]
    if all({"start", "end"} <= t.keys() for t in tags):
        return _tagged_times(path, data.tags(), tags), ["dates from the tags of bands"]
    described = [data.descriptions[n - 1] or "" for n in bands]
    for key in ("time", "date", "datetime", "DATE", "TIME", "TIFFTAG_DATETIME"):
        if not all(described) and all(key in t for t in tags) and (len(bands) > 1 or key != "TIME"):
            described = [t[key] for t in tags]
    if all(described):
        steps = find_dates(described, options.dates, path)
        if steps is not None:
            return raw_times(steps), ["dates from the descriptions of bands"]
    if len(bands) > 1:
        raise InputError(
            path,
            f"has {len(bands)} bands that name no dates",
            "write the dates into the descriptions of the bands",
        )
    return None, []


def _tagged_times(path: Path, whole: dict[str, str], tags: list[dict[str, str]]) -> RawTimes:
    """Steps whose first and last days stand in tags, as Bavlo writes them."""
    calendar = whole.get("calendar", CALENDAR)
    try:
        bounds = [
            [to_instant(calendar, *map(int, t[key].split("-"))) for key in ("start", "end")]
            for t in tags
        ]
    except (ValueError, TypeError):
        raise InputError(
            path, "has bands with tags start and end that are no dates", "repair the tags"
        ) from None
    both = np.array(bounds, np.int64) + [0, DAY]
    if whole.get("climatology") == "yes":
        return RawTimes(both[:, 0], None, calendar, True)
    return RawTimes(both[:, 0], both, calendar)


def raw_times(steps: list[NamedStep], *, from_name: bool = False) -> RawTimes:
    """Steps that names tell, as time stamps with bounds where all names tell those.

    Parameters
    ----------
    from_name
        They are told by the name of the file.
    """
    stamps = np.array([step.stamp for step in steps], np.int64)
    ends = [step.end for step in steps]
    bounds = None
    if all(end is not None for end in ends):
        bounds = np.column_stack([stamps, np.array(ends, np.int64)])
    return RawTimes(stamps, bounds, CALENDAR, from_name=from_name)


def dated_by_names(files: list[GridFile], options: ReadOptions) -> list[GridFile]:
    """Rasters of one band that date themselves by nothing else, dated by the names of them all."""
    undated = [
        file
        for file in files
        if isinstance(file, RasterGrid) and file.times is None and len(file.bands) == 1
    ]
    if not undated:
        return files
    names = [file.name for file in undated]
    where = undated[0].path if len(undated) == 1 else undated[0].path.parent
    steps = find_dates(names, options.dates, where)
    if steps is None:
        return files
    dated: dict[Path, GridFile] = {
        file.path: file.dated(raw_times([step], from_name=True))
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
    names = [plain_name(path) for path in paths]
    steps = find_dates(names, options.dates, paths[0].parent)
    if steps is None or len({step.stamp for step in steps}) < len(steps):
        return None
    return [
        first.on_trust(path).dated(raw_times([step], from_name=True))
        for path, step in zip(paths, steps, strict=True)
    ]
