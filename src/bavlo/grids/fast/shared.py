"""Inflated chunks that are kept for whoever reads them next."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
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

    def _keep(self, key: Hashable, found: Any) -> None:
        self._kept[key] = found
        self.size += _bytes_of(found)
        while self.size > self.most and len(self._kept) > 1:
            gone, old = self._kept.popitem(last=False)
            self.size -= _bytes_of(old)
            self._under_way.pop(gone, None)


def _bytes_of(kept: bytes | bytearray | np.ndarray) -> int:
    return kept.nbytes if isinstance(kept, np.ndarray) else len(kept)
