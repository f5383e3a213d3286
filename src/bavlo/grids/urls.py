"""Files by URL: what stands for one, and byte ranges of it."""

from __future__ import annotations

import bisect
import re
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bavlo.errors import InputError
from bavlo.files import DAMAGE, unreadable
from bavlo.remembered import FACTS, OPEN_FILES

SCHEMES = ("http", "https", "s3", "gs", "gcs", "az", "abfs", "memory")
# A path has one slash where a URL has two.
ADDRESS = re.compile(rf"({'|'.join(SCHEMES)}):/+(?=[^/])(.+)$", re.IGNORECASE | re.DOTALL)
PATTERN = ("*", "[")  # but no question mark, which begins a query
LATELY = 30  # seconds
ASKED_AT_ONCE = 16  # questions that are under way together
BY_URL = "NetCDF, GeoTIFF and Zarr"
MOST_AHEAD = 2**25  # bytes that are fetched before they are read
MOST_BETWEEN, MOST_OF_PART = 2**15, 2**21  # bytes of a gap that is fetched too, and of a request
BLOCK = 2**14  # bytes that are fetched at once for metadata; kept, since they are read again

_lock = threading.RLock()


def url_of(path: object) -> str | None:
    """The URL that a path stands for; None for a file of this machine."""
    match = ADDRESS.match(str(path))
    return f"{match.group(1).lower()}://{match.group(2)}" if match else None


def filesystem(url: str) -> tuple[Any, str]:
    """The store that holds a URL, and its place there."""
    found: tuple[Any, str] = FACTS.get(("store", url), lambda: _filesystem(url))
    return found


def _filesystem(url: str) -> tuple[Any, str]:
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
    key = "information", url, int(time.monotonic() // LATELY)
    found: dict[str, Any] = FACTS.get(key, lambda: information(url))
    return found


def stamp_of(url: str) -> object:
    """What tells the file at a URL from what may stand there later: its tag, else its size."""
    told = information_lately(url)
    return told.get("ETag") or told.get("etag") or told.get("size")


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
    threads, found = FACTS.take(("sizes", *urls)) or _asked_for_sizes(urls)
    for thread in threads:
        thread.join()
    return found


def ask_sizes_ahead(urls: Sequence[str]) -> None:
    """Ask for the sizes of files while other work goes on, for whoever calls `sizes_of` next."""
    FACTS.put(("sizes", *urls), _asked_for_sizes(urls))


def _asked_for_sizes(urls: Sequence[str]) -> tuple[list[threading.Thread], dict[str, int | None]]:
    """Threads that ask, which end with the program, and the sizes once they have."""
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


def first_bytes(url: str) -> bytes:
    """How a file begins; nothing where there is no file, as with a store that is a folder."""
    found: bytes = FACTS.get(("first bytes", url), lambda: _first_bytes(url))
    return found


def _first_bytes(url: str) -> bytes:
    store, key = filesystem(url)
    try:
        return bytes(store.cat_file(key, start=0, end=16))
    except FileNotFoundError:
        return b""
    except Exception as error:
        raise InputError(url, f"cannot be reached ({error})", "check the address") from error


def exists(url: str) -> bool:
    """Whether there is a file."""
    store, key = filesystem(url)
    try:
        return bool(FACTS.get(("exists", url), lambda: store.exists(key)))
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
    """The open file; it stays open for a while. One thread at a time."""
    import h5py

    url = url_of(path)
    assert url is not None
    information(url)
    with _lock:
        opened: RemoteHDF5 | None = OPEN_FILES.take(("HDF5", url))
        try:
            if opened is None:
                raw = open_file(url)
                opened = RemoteHDF5(h5py.File(raw, "r"), raw)
            yield opened.data
        except OSError as error:
            if "signature" in str(error):
                raise InputError(
                    url, "is no NetCDF file", f"by URL Bavlo reads {BY_URL}; fetch it first"
                ) from error
            raise unreadable(path, error) from error
        except DAMAGE as error:
            raise unreadable(path, error) from error
        OPEN_FILES.put(("HDF5", url), opened)


@dataclass(frozen=True, eq=False)
class RemoteHDF5:
    """A file by URL that the HDF5 library has open, and what fetches its bytes."""

    data: Any
    raw: Any

    def close(self) -> None:
        """Close both."""
        with _lock:
            self.data.close()
            self.raw.close()
