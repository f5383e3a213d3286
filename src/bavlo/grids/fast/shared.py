"""Inflated chunks that are kept for whoever reads them next."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np


class KeptChunks:
    """What was inflated last, so that it is not inflated again; for any number of threads.

    Parameters
    ----------
    most
        Bytes that are kept.
    """

    def __init__(self, most: int) -> None:
        self.most, self.size = most, 0
        self._lock = threading.Lock()
        self._kept: OrderedDict[Hashable, Any] = OrderedDict()
        self._under_way: dict[Hashable, threading.Lock] = {}

    def get(self, key: Hashable, inflated: Callable[[], Any]) -> Any:
        """What is kept under a key; else what `inflated` gives, in one thread only."""
        with self._lock:
            waits = self._under_way.setdefault(key, threading.Lock())
        with waits:
            with self._lock:
                found = self._kept.get(key)
                if found is not None:
                    self._kept.move_to_end(key)
                    return found
            found = inflated()
            if found is not None:
                with self._lock:
                    self._keep(key, found)
        return found

    def holds(self, key: Hashable) -> bool:
        """Whether something is kept under a key."""
        with self._lock:
            return key in self._kept

    def clear(self) -> None:
        """Let go of everything."""
        with self._lock:
            self.size = 0
            self._kept.clear()

    def keep_nothing(self) -> None:
        """Let go of everything, and keep nothing any more."""
        self.most = 0
        self.clear()

    def _keep(self, key: Hashable, found: Any) -> None:
        if not self.most:
            return
        self._kept[key] = found
        self.size += _bytes_of(found)
        while self.size > self.most and len(self._kept) > 1:
            gone, old = self._kept.popitem(last=False)
            self.size -= _bytes_of(old)
            self._under_way.pop(gone, None)


def _bytes_of(kept: bytes | bytearray | np.ndarray) -> int:
    return kept.nbytes if isinstance(kept, np.ndarray) else len(kept)


_shared: KeptChunks | None = None


@contextmanager
def shared(most: int) -> Iterator[KeptChunks]:
    """While this lasts, inflated chunks of all files are kept for whoever reads them next.

    Parameters
    ----------
    most
        Bytes that are kept.
    """
    global _shared
    before, _shared = _shared, KeptChunks(most)
    try:
        yield _shared
    finally:
        _shared = before


def are_shared() -> bool:
    """Whether inflated chunks are kept for others."""
    return _shared is not None


def inflated_once(key: Hashable, inflated: Callable[[], Any]) -> Any:
    """What `inflated` gives; what was given for the key before, while chunks are shared."""
    return inflated() if _shared is None else _shared.get(key, inflated)
