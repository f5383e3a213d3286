"""What a process remembers, so that it need not be found, opened or inflated again.

There are four caches, and one of open rasters for each thread, each with a bound. Keys begin with
what they are about and hold the stamp of the file (`stamp_of`), so that a file that was written
anew is looked at anew.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from pathlib import Path
from typing import Any

Stamp = tuple[str, int, int, int, int]  # path, device, inode, time of the last change, bytes


class Cache:
    """The values that were used last, by key; for any number of threads.

    Parameters
    ----------
    most
        Values that are kept.
    most_bytes
        Bytes of the values that have a length in bytes; the last one is always kept.
    """

    def __init__(self, most: int, most_bytes: int | None = None) -> None:
        self.most, self.most_bytes = most, most_bytes
        self._lock = threading.Lock()
        self._kept: OrderedDict[Hashable, Any] = OrderedDict()
        self._found_now: dict[Hashable, threading.Lock] = {}
        self._bytes = 0

    def get(self, key: Hashable, find: Callable[[], Any]) -> Any:
        """The value of a key; where there is none, `find` is called by one thread, others wait."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
            waits = self._found_now.setdefault(key, threading.Lock())
        with waits:
            with self._lock:
                if key in self._kept:
                    return self._kept[key]
            try:
                found = find()
                self.put(key, found)
            finally:
                with self._lock:
                    self._found_now.pop(key, None)
        return found

    def put(self, key: Hashable, value: Any) -> None:
        """Keep a value; those used longest ago are let go of, and closed where they can be."""
        gone = []
        with self._lock:
            if key in self._kept:
                gone.append(self._taken(key))
            self._kept[key] = value
            self._bytes += _bytes_of(value)
            while len(self._kept) > self.most or (
                self.most_bytes is not None
                and self._bytes > self.most_bytes
                and len(self._kept) > 1
            ):
                gone.append(self._taken(next(iter(self._kept))))
        _close(gone)

    def take(self, key: Hashable) -> Any:
        """The value of a key, which is no longer kept, for use by one thread; None without one."""
        with self._lock:
            return self._taken(key) if key in self._kept else None

    def items(self, about: str) -> list[tuple[Any, Any]]:
        """Keys that begin with a word, and their values."""
        with self._lock:
            return [(k, v) for k, v in self._kept.items() if isinstance(k, tuple) and k[0] == about]

    def clear(self) -> None:
        """Let go of everything."""
        with self._lock:
            gone = list(self._kept.values())
            self._kept.clear()
            self._bytes = 0
        _close(gone)

    def __contains__(self, key: Hashable) -> bool:
        with self._lock:
            return key in self._kept

    def _taken(self, key: Hashable) -> Any:
        value = self._kept.pop(key)
        self._bytes -= _bytes_of(value)
        return value


def _bytes_of(value: Any) -> int:
    return len(value) if isinstance(value, bytes | bytearray) else getattr(value, "nbytes", 0)


def _close(values: list[Any]) -> None:
    for value in values:
        if hasattr(value, "close"):
            value.close()


def stamp_of(path: Path) -> Stamp:
    """What the file system tells of a file: where it is the same, the file counts as unchanged."""
    status = path.stat()
    return str(path), status.st_dev, status.st_ino, status.st_mtime_ns, status.st_size


OPEN_FILES = Cache(8)  # that nobody reads from right now; each takes a buffer of its own
FACTS = Cache(20_000)  # small ones of files: digests, sizes, how they begin
INDEXES = Cache(32)  # where what is in a file lies, and grids that were opened
INFLATED = Cache(2**20, 2**27)  # chunks and packed files of which steps are taken one by one
