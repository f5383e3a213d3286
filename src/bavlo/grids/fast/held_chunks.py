"""Large chunks that were inflated to look at a sample, held for whoever wants them next.

Inflating one takes a second, and only one of them may be in memory beside what work needs. So the
last one that was looked at is held; where two fit, the one after it is inflated meanwhile, since
another core does nothing then.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from concurrent.futures import Future

Chunk = tuple[int, ...]  # its number along every dimension
Inflated = bytes | bytearray | None  # of a chunk; None where it was never written


class HeldChunks:
    """The chunks of one variable that are held.

    Parameters
    ----------
    inflated
        Gives the bytes of a chunk.
    counts
        How many chunks there are along every dimension.
    """

    def __init__(self, inflated: Callable[[Chunk], Inflated], counts: tuple[int, ...]) -> None:
        self._inflated, self._counts = inflated, counts
        self._held: dict[Chunk, Future[Inflated]] = {}
        self._lock = threading.Lock()
        self._ahead: int | None = None

    def __len__(self) -> int:
        return len(self._held)

    @property
    def numbers(self) -> set[Chunk]:
        """Those that are held, or are being inflated."""
        return set(self._held)

    def look_ahead(self, axis: int) -> None:
        """Inflate the chunk after the next that is looked at, along a dimension, beside it."""
        self._ahead = axis

    def look(self, chunk: Chunk) -> Inflated:
        """The bytes of a chunk, which takes the place of what was held unless it was."""
        from concurrent.futures import Future

        with self._lock:
            if chunk not in self._held:
                self._let_go()
                self._begin_ahead(chunk)
                own: Future[Inflated] = Future()
                own.set_result(self._inflated(chunk))
                self._held[chunk] = own
            return self._held[chunk].result()

    def taken(self, chunk: Chunk) -> Inflated:
        """The bytes of a chunk, which is not held any more; inflated where it was not."""
        held = None
        if self._held:
            with self._lock:
                held = self._held.pop(chunk, None)
        return self._inflated(chunk) if held is None else held.result()

    def forget(self) -> None:
        """Let go of all of them."""
        with self._lock:
            self._let_go()

    def _let_go(self) -> None:
        for each in self._held.values():
            each.exception()  # once it is done
        self._held.clear()

    def _begin_ahead(self, chunk: Chunk) -> None:
        axis, self._ahead = self._ahead, None
        if axis is None or chunk[axis] + 1 == self._counts[axis]:
            return
        from concurrent.futures import ThreadPoolExecutor

        after = tuple(n + (place == axis) for place, n in enumerate(chunk))
        pool = ThreadPoolExecutor(1)
        self._held[after] = pool.submit(self._inflated, after)
        pool.shutdown(wait=False)
