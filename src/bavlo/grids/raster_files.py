"""Raster files opened, by the raster library or as plain bytes, and their checksums looked at."""

from __future__ import annotations

import atexit
import contextlib
import os
import sys
import threading
import warnings
import zlib
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.files import DAMAGE
from bavlo.grids import ascii_grid, cf
from bavlo.grids import urls as addresses
from bavlo.grids.fast.inflate import unpacked
from bavlo.grids.fast.shared import KeptChunks
from bavlo.grids.fast.tiff import Fetch
from bavlo.grids.formats import GZIP
from bavlo.grids.source import Window

MOST_OPEN = 8
ASCII = "AAIGrid"
MOST_UNPACKED = 2**29  # bytes of a packed file, which are held in memory
KEPT_UNPACKED = 2**26  # bytes of them that are kept, since steps are looked at in parts

_unpacked = KeptChunks(KEPT_UNPACKED)
_local = threading.local()  # GDAL files belong to the thread that opened them


@contextmanager
def dataset(path: Path) -> Iterator[Any]:
    """An open raster; each thread keeps its last few open."""
    with raster_and_bytes(path) as (data, _):
        yield data


@contextmanager
def raster_and_bytes(path: Path, about: int | None = None) -> Iterator[tuple[Any, Fetch]]:
    """The same, and what gives bytes of the file, unpacked where it is packed.

    Parameters
    ----------
    about
        Fetch all of a file by URL, which has about so many bytes, in one request.
    """
    from rasterio.errors import NotGeoreferencedWarning, RasterioError

    if not hasattr(_local, "files"):
        _local.files = OrderedDict()
    files: OrderedDict[tuple[Path, int, int, int], _Open] = _local.files
    key = path, *_stamp(path)  # a file that was written anew is opened anew
    found = files.pop(key, None)
    try:
        with warnings.catch_warnings(), _quiet_log():
            warnings.simplefilter("ignore", NotGeoreferencedWarning)
            if found is None:
                found = _opened(path, about)
            with _bytes_of(path, found.content) as fetch:
                yield found.data, fetch
    except (RasterioError, *DAMAGE) as error:
        if found is not None:
            with contextlib.suppress(RasterioError):
                found.data.close()
        if addresses.url_of(path) is None and not path.exists():
            raise InputError(path, "there is no such file", "check the path") from error
        raise cf.unreadable(path, error) from error
    files[key] = found
    while len(files) > MOST_OPEN:
        files.popitem(last=False)[1].data.close()


@contextmanager
def _bytes_of(path: Path, content: bytes | None) -> Iterator[Fetch]:
    """What gives bytes of a file by their place and number."""
    url = addresses.url_of(path)
    if content is not None:
        view = memoryview(content)
        yield lambda place, size: view[place : place + size]
    elif url is not None:
        yield partial(addresses.fetch, url)
    else:
        file = os.open(path, os.O_RDONLY)
        try:
            yield lambda place, size: os.pread(file, size, place)
        finally:
            os.close(file)


def close_all() -> None:
    """Close what this thread has open.

    The raster library minds files by URL that are still open when the program has ended.
    """
    for found in getattr(_local, "files", OrderedDict()).values():
        found.data.close()
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


@dataclass(frozen=True, eq=False)
class _Open:
    """An open raster, what must live as long as it does, and all bytes of one held in memory."""

    data: Any
    memory: Any = None
    content: bytes | None = None


def _opened(path: Path, about: int | None) -> _Open:
    import rasterio

    url = addresses.url_of(path)
    content = None
    if url is not None and about is not None:
        content = addresses.fetch_small(url, about)
    if url is not None and content is None:
        return _Open(rasterio.open(path.name, opener=_opener(path.name, url)))
    if content is None:
        with path.open("rb") as file:
            packed = file.read(2) == GZIP
        if not packed:
            data = rasterio.open(path)
            if data.driver == ASCII:
                ascii_grid.check(path.read_bytes())
            return _Open(data)
        content = _unpacked.get((path, *_stamp(path)), lambda: _content(path))
    memory = rasterio.MemoryFile(content, filename=Path(path.stem).name)
    data = memory.open()
    if data.driver == ASCII:
        ascii_grid.check(content)
    return _Open(data, memory, content)


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


def verify_checksums(data: Any, fetch: Fetch, bands: Sequence[int], window: Window) -> None:
    """Inflate the blocks of a deflated TIFF to their end, where the checksum stands.

    The raster library, which reads those of several bands, does not always look at it.
    """
    stored = data.tags(ns="IMAGE_STRUCTURE").get("COMPRESSION")
    if data.driver != "GTiff" or stored != "DEFLATE":
        return
    height, width = data.block_shapes[0]
    seen: set[int] = set()
    for band in bands:
        for y, x in window.blocks((height, width)):
            offset = data.get_tag_item(f"BLOCK_OFFSET_{x}_{y}", "TIFF", bidx=band)
            size = data.get_tag_item(f"BLOCK_SIZE_{x}_{y}", "TIFF", bidx=band)
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
