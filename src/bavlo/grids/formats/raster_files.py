"""Raster files opened, by the raster library or as plain bytes, and what is in them looked at."""

from __future__ import annotations

import atexit
import contextlib
import io
import os
import re
import sys
import threading
import warnings
import zlib
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from bavlo.errors import InputError
from bavlo.files import DAMAGE, unreadable
from bavlo.grids import urls as addresses
from bavlo.grids.cells import Window
from bavlo.grids.formats import GZIP
from bavlo.grids.formats.stored import unpacked
from bavlo.grids.formats.tiff import Fetch
from bavlo.remembered import INFLATED, OPEN_FILES, Cache

ASCII = "AAIGrid"
HEAD_BYTES = 4096  # in which decimal commas are looked for
MOST_UNPACKED = 2**29  # bytes of a packed file, which are held in memory

_of_thread = threading.local()  # open rasters, which belong to the thread that opened them


@contextmanager
def dataset(path: Path) -> Iterator[Any]:
    """An open raster, which is kept open for the same thread, as the library wants it."""
    from rasterio.errors import NotGeoreferencedWarning, RasterioError

    if not hasattr(_of_thread, "open"):
        _of_thread.open = Cache(OPEN_FILES.most)
    key = path, *_stamp(path)
    opened: OpenRaster | None = _of_thread.open.take(key)
    try:
        with warnings.catch_warnings(), _quiet_log():
            warnings.simplefilter("ignore", NotGeoreferencedWarning)
            if opened is None:
                opened = _opened(path)
            yield opened.data
    except (RasterioError, *DAMAGE) as error:
        if opened is not None:
            opened.close()
        if addresses.url_of(path) is None and not path.exists():
            raise InputError(path, "there is no such file", "check the path") from error
        raise unreadable(path, error) from error
    _of_thread.open.put(key, opened)


@contextmanager
def stored_bytes(path: Path, about: int | None = None) -> Iterator[tuple[BinaryIO, Fetch]]:
    """An open file, unpacked where it is packed, and what gives its bytes by place and number.

    Parameters
    ----------
    about
        Fetch all of a file by URL, which has about so many bytes, in one request.
    """
    url = addresses.url_of(path)
    content: bytes | bytearray | None = None
    if url is not None and about is not None:
        content = addresses.fetch_small(url, about)
    elif url is None and path.suffix.lower() == ".gz":
        content = _content(path)
    if content is not None:
        view = memoryview(content)
        yield io.BytesIO(content), lambda place, size: view[place : place + size]
    elif url is not None:
        with addresses.open_file(url) as remote:
            yield remote, partial(addresses.fetch, url)
    else:
        with path.open("rb") as file:
            yield file, lambda place, size: os.pread(file.fileno(), size, place)


def close_all() -> None:
    """Close what this thread has open.

    The raster library minds files by URL that are still open when the program has ended.
    """
    if hasattr(_of_thread, "open"):
        _of_thread.open.clear()


atexit.register(close_all)


@dataclass(frozen=True, eq=False)
class OpenRaster:
    """A raster that the library has open.

    Parameters
    ----------
    memory
        What must live as long as it does, such as an unpacked file in memory.
    """

    data: Any
    memory: Any = None

    def close(self) -> None:
        """Close it."""
        from rasterio.errors import RasterioError

        with contextlib.suppress(RasterioError):
            self.data.close()


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


def _opened(path: Path) -> OpenRaster:
    import rasterio

    url = addresses.url_of(path)
    if url is not None:
        return OpenRaster(rasterio.open(path.name, opener=_opener(path.name, url)))
    with path.open("rb") as file:
        head = file.read(HEAD_BYTES)
    content = _content(path) if head.startswith(GZIP) else None
    if has_decimal_commas(head if content is None else content[:HEAD_BYTES]):
        content = bytes(content or path.read_bytes()).replace(b",", b".")
    memory = None
    if content is not None:
        name = Path(path.stem).name if head.startswith(GZIP) else path.name
        memory = rasterio.MemoryFile(bytes(content), filename=name)
    data = rasterio.open(path) if memory is None else memory.open()
    if data.driver == ASCII:
        check(path.read_bytes() if content is None else content)
    return OpenRaster(data, memory)


def _content(path: Path) -> bytes | bytearray:
    """What a gzip file holds, kept for a while, since steps are read in parts.

    Unpacked here and not by the raster library: this looks at the checksum, and is three times as
    fast.
    """
    try:
        found: bytes | bytearray = INFLATED.get(
            ("gzip", path, *_stamp(path)), lambda: unpacked(path.read_bytes(), MOST_UNPACKED)
        )
    except OverflowError as error:
        raise InputError(
            path, f"unpacks to more than {MOST_UNPACKED >> 20} MB", "unpack it first, with gunzip"
        ) from error
    return found


def _opener(name: str, url: str) -> Any:
    """Gives the raster library a file by URL, and none of those that it looks for beside it."""

    def opened(wanted: str, mode: str = "rb") -> Any:
        if wanted != name:
            raise FileNotFoundError(wanted)
        return addresses.open_file(url)

    return opened


def verify_checksums(data: Any, path: Path, bands: Sequence[int], window: Window) -> None:
    """Inflate the blocks of a deflated TIFF to their end, where the checksum stands.

    The raster library, which reads those of several bands, does not always look at it.
    """
    stored = data.tags(ns="IMAGE_STRUCTURE").get("COMPRESSION")
    if data.driver != "GTiff" or stored != "DEFLATE" or data.name.startswith("/vsimem/"):
        return  # a file that was unpacked in memory had a checksum of its own
    height, width = data.block_shapes[0]
    seen: set[int] = set()
    with stored_bytes(path) as (_, fetch):
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


def has_decimal_commas(head: bytes | bytearray) -> bool:
    """Whether the numbers of an ASCII grid that begins so have commas, and none has a point."""
    has_commas = re.search(rb"\d,\d", head) is not None and re.search(rb"\d\.\d", head) is None
    return has_commas and head[:5].lower() == b"ncols"


def comma_notes(path: Path) -> list[str]:
    """What to say of an ASCII grid whose numbers have decimal commas."""
    with stored_bytes(path) as (file, _):
        commas = has_decimal_commas(file.read(HEAD_BYTES))
    return [f"{path.name}: its numbers have decimal commas"] if commas else []


HEADER = re.compile(rb"\s*([A-Za-z_]+)[ \t]+(\S+)[ \t]*(?:\r\n|\r|\n)")
NUMBER = rb"[+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:[eEdD][+-]?[0-9]+)?"
NO_NUMBER = re.compile(rb"(?<!\S)(?!(?:" + NUMBER + rb"|[+-]?(?i:nan|inf))(?!\S))\S+")
SPACE = np.isin(np.arange(256), list(b" \t\r\n\f\v"))


def check(content: bytes | bytearray) -> None:
    """Hold an ASCII grid against its header.

    Raises
    ------
    ValueError
        Where a token is no number, or there are not as many as rows times columns.
    """
    head: dict[bytes, bytes] = {}
    start = 0
    while found := HEADER.match(content, start):
        head[found.group(1).lower()] = found.group(2)
        start = found.end()
    try:
        rows, columns = int(head[b"nrows"]), int(head[b"ncols"])
        for key, value in head.items():
            if key not in (b"nrows", b"ncols", b"byteorder"):
                float(value)
    except (KeyError, ValueError) as error:
        raise ValueError(f"its header is not that of an ASCII grid: {error}") from error
    wrong = NO_NUMBER.search(content, start)
    if wrong is not None:
        line = content.count(b"\n", 0, wrong.start()) + 1
        text = wrong.group()[:20].decode("ascii", "backslashreplace")
        raise ValueError(f"'{text}' in line {line} is no number")
    space = SPACE[np.frombuffer(content, np.uint8, offset=start)]
    count = int((space[:-1] & ~space[1:]).sum()) + int(space.size > 0 and not space[0])
    if count != rows * columns:
        raise ValueError(f"it has {count} numbers for {rows} × {columns} cells")
