"""Files by URL: what stands for one, and byte ranges of it."""

from __future__ import annotations

import re
import threading
from collections import OrderedDict
from collections.abc import Iterator
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
MOST_OPEN = 8
BY_URL = "NetCDF-4, GeoTIFF and Zarr"
BLOCK = 2**14  # bytes that are fetched at once for metadata; kept, since they are read again

_lock = threading.RLock()
_open: OrderedDict[str, tuple[Any, Any]] = OrderedDict()


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
                    url, "is no NetCDF-4 file", f"by URL Bavlo reads {BY_URL}; fetch it first"
                ) from error
            raise cf.unreadable(path, error) from error
        except DAMAGE as error:
            raise cf.unreadable(path, error) from error
        _open[url] = entry
        while len(_open) > MOST_OPEN:
            for part in _open.popitem(last=False)[1]:
                part.close()
