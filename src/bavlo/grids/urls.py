"""Files by URL: what stands for one, and byte ranges of it."""

from __future__ import annotations

import bisect
import re
import threading
import time
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.files import DAMAGE
from bavlo.grids import cf

SCHEMES = ("http", "https", "s3", "gs", "gcs", "az", "abfs", "memory")
# A path has one slash where a URL has two.
ADDRESS = re.compile(rf"({'|'.join(SCHEMES)}):/+(?=[^/])(.+)$", re.IGNORECASE | re.DOTALL)
PATTERN = ("*", "[")  # but no question mark, which begins a query
MOST_OPEN = 8
LATELY = 30  # seconds
ASKED_AT_ONCE = 16  # questions that are under way together
BY_URL = "NetCDF, GeoTIFF and Zarr"
MOST_AHEAD = 2**25  # bytes that are fetched before they are read
MOST_BETWEEN, MOST_OF_PART = 2**15, 2**21  # bytes of a gap that is fetched too, and of a request
BLOCK = 2**14  # bytes that are fetched at once for metadata; kept, since they are read again

_lock = threading.RLock()
_open: OrderedDict[str, tuple[Any, Any]] = OrderedDict()
_sizes_ahead: dict[tuple[str, ...], tuple[list[threading.Thread], dict[str, int | None]]] = {}


def url_of(path: object) -> str | None:
    """The URL that a path stands for; None for a file of this machine."""
    match = ADDRESS.match(str(path))
    return f"{match.group(1).lower()}://{match.group(2)}" if match else None


@lru_cache(maxsize=256)
def filesystem(url: str) -> tuple[Any, str]:
    """The store that holds a URL, and its place there."""
    try:
        from fsspec.core import url_to_fs
    except ImportError:
        raise InputError(
            url, "is read with a further library", "pip install 'bavlo[remote]'"
        ) from None
    try:
        store, key = url_to_fs(url)
    except (ImportError, ValueError) as error:
        raise InputError(url, f"cannot be reached ({error})", "pip install 'bavlo[remote]'") from (
            error
        )
    return store, str(key)


def information(url: str) -> dict[str, Any]:
    """Size and, where the store tells it, the tag of what is at a URL."""
    store, key = filesystem(url)
    try:
        return dict(store.info(key))
    except FileNotFoundError:
        raise InputError(url, "there is no such file", "check the address") from None
    except Exception as error:
        raise InputError(url, f"cannot be reached ({error})", "check the address") from error


def information_lately(url: str) -> dict[str, Any]:
    """The same, asked for at most once in half a minute."""
    return _information(url, int(time.monotonic() // LATELY))


def stamp_of(url: str) -> object:
    """What tells the file at a URL from what may stand there later: its tag, else its size."""
    told = information_lately(url)
    return told.get("ETag") or told.get("etag") or told.get("size")


@lru_cache(maxsize=4096)
def _information(url: str, span: int) -> dict[str, Any]:
    return information(url)


def size_of(url: str) -> int | None:
    """Bytes of what is at a URL; None where that is no file, as with a store that is a folder."""
    try:
        return information(url).get("size")
    except InputError:
        return None


def sizes_of(urls: Sequence[str]) -> dict[str, int | None]:
    """The same of many, asked for at the same time, so that the delays do not add up.

    What was asked ahead is waited for, and told once.
    """
    if not urls:
        return {}
    begun = _sizes_ahead.pop(tuple(urls), None) or ask_sizes_ahead(urls)
    for thread in begun[0]:
        thread.join()
    _sizes_ahead.pop(tuple(urls), None)
    return begun[1]


def ask_sizes_ahead(urls: Sequence[str]) -> tuple[list[threading.Thread], dict[str, int | None]]:
    """Ask for the sizes of files while other work goes on, for whoever calls `sizes_of` next.

    Returns
    -------
    threads
        They end with the program, whether they are through or not.
    sizes
        Of each URL, once they are.
    """
    left, found = iter(list(urls)), dict.fromkeys(urls)
    taking = threading.Lock()

    def ask() -> None:
        while True:
            with taking:
                url = next(left, None)
            if url is None:
                return
            found[url] = size_of(url)

    count = min(len(found), ASKED_AT_ONCE)
    threads = [threading.Thread(target=ask, name="sizes", daemon=True) for _ in range(count)]
    for thread in threads:
        thread.start()
    _sizes_ahead[tuple(urls)] = threads, found
    return threads, found


def listed(url: str) -> list[str]:
    """The URLs that a pattern stands for, or a folder where it ends with a slash; else itself.

    Raises
    ------
    InputError
        Where there are none, as where a server does not list its files.
    """
    is_pattern = any(mark in url for mark in PATTERN)
    if not is_pattern and not url.endswith("/"):
        return [url]
    store, key = filesystem(url)
    try:
        if is_pattern:
            found = store.glob(key)
        else:
            each = store.ls(key, detail=True)
            found = [one["name"] for one in each if one["type"] == "file"]
    except FileNotFoundError:
        found = []
    except Exception as error:
        raise InputError(url, f"cannot be listed ({error})", "name each file") from error
    if not found:
        what = "no file matches" if is_pattern else "holds no files"
        raise InputError(url, f"{what}, or the server does not list them", "name each file")
    return sorted(str(store.unstrip_protocol(name)) for name in found)


@lru_cache(maxsize=4096)
def first_bytes(url: str) -> bytes:
    """How a file begins; nothing where there is no file, as with a store that is a folder."""
    store, key = filesystem(url)
    try:
        return bytes(store.cat_file(key, start=0, end=16))
    except FileNotFoundError:
        return b""
    except Exception as error:
        raise InputError(url, f"cannot be reached ({error})", "check the address") from error


@lru_cache(maxsize=4096)
def exists(url: str) -> bool:
    """Whether there is a file."""
    store, key = filesystem(url)
    try:
        return bool(store.exists(key))
    except Exception as error:
        raise InputError(url, f"cannot be reached ({error})", "check the address") from error


def open_file(url: str) -> Any:
    """A file object that fetches what is read of it, and keeps that."""
    store, key = filesystem(url)
    return store.open(key, "rb", block_size=BLOCK, cache_type="blockcache")


def fetch(url: str, offset: int, size: int) -> bytes:
    """A range of bytes."""
    store, key = filesystem(url)
    try:
        return bytes(store.cat_file(key, start=offset, end=offset + size))
    except Exception as error:
        raise OSError(f"bytes {offset} to {offset + size} cannot be fetched: {error}") from error


def fetch_small(url: str, about: int) -> bytes | None:
    """All of a file in one request; None where it is more than twice as large as was thought."""
    content = fetch(url, 0, 2 * about)
    return content if len(content) < 2 * about else None


class Ahead:
    """Ranges of bytes that will be read one after the other, fetched many at once.

    What lies side by side is fetched together, and all parts at the same time, so that the delay of
    each does not add up.

    Parameters
    ----------
    ranges
        Offsets and sizes, in the order of reading; others are fetched one by one.
    """

    def __init__(self, url: str, ranges: Iterable[tuple[int, int]]) -> None:
        self.url = url
        self.ranges = list(dict.fromkeys(ranges))
        self.place = {one: n for n, one in enumerate(self.ranges)}
        self.held: dict[tuple[int, int], bytes] = {}

    def __call__(self, offset: int, size: int) -> bytes:
        """The bytes of a range."""
        found = self.held.get((offset, size))
        if found is not None:
            return found
        first = self.place.get((offset, size))
        if first is None:
            return fetch(self.url, offset, size)
        last, total = first + 1, size
        while last < len(self.ranges) and total + self.ranges[last][1] <= MOST_AHEAD:
            total += self.ranges[last][1]
            last += 1
        self.held = fetch_together(self.url, self.ranges[first:last])
        return self.held[offset, size]


def fetch_together(url: str, ranges: Sequence[tuple[int, int]]) -> dict[tuple[int, int], bytes]:
    """Several ranges of bytes at the same time, by offset and size."""
    parts: list[list[int]] = []  # where it begins and ends
    for offset, size in sorted(ranges):
        near = parts and offset - parts[-1][1] <= MOST_BETWEEN
        if near and offset + size - parts[-1][0] <= MOST_OF_PART:
            parts[-1][1] = max(parts[-1][1], offset + size)
        else:
            parts.append([offset, offset + size])
    store, key = filesystem(url)
    starts, ends = ([part[n] for part in parts] for n in (0, 1))
    try:
        found = store.cat_ranges([key] * len(parts), starts, ends, on_error="raise")
    except Exception as error:
        raise OSError(f"bytes from {starts[0]} on cannot be fetched: {error}") from error
    out = {}
    for offset, size in ranges:
        n = bisect.bisect_right(starts, offset) - 1
        out[offset, size] = bytes(found[n][offset - starts[n] : offset - starts[n] + size])
    return out


@contextmanager
def hdf5(path: Path) -> Iterator[Any]:
    """The open file; the last few stay open. One thread at a time."""
    import h5py

    url = url_of(path)
    assert url is not None
    information(url)
    with _lock:
        entry = _open.pop(url, None)
        try:
            if entry is None:
                raw = open_file(url)
                entry = h5py.File(raw, "r"), raw
            yield entry[0]
        except OSError as error:
            if "signature" in str(error):
                raise InputError(
                    url, "is no NetCDF file", f"by URL Bavlo reads {BY_URL}; fetch it first"
                ) from error
            raise cf.unreadable(path, error) from error
        except DAMAGE as error:
            raise cf.unreadable(path, error) from error
        _open[url] = entry
        while len(_open) > MOST_OPEN:
            for part in _open.popitem(last=False)[1]:
                part.close()
