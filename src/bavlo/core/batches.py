"""Large work in batches: memory stays bounded, and no result depends on how large they are."""

from __future__ import annotations

from collections.abc import Iterator

AT_ONCE = 2**19  # numbers of a batch: 4 MB, near the processor; smaller, and threads wait


def batches(count: int, size: int = 1, first: int = 0) -> Iterator[slice]:
    """Things that are worked on together, up to `count` excluded.

    Parameters
    ----------
    size
        Numbers that each of them takes.
    first
        The first thing.

    Examples
    --------
    >>> list(batches(5, AT_ONCE // 2))
    [slice(0, 2, None), slice(2, 4, None), slice(4, 5, None)]
    """
    few = max(1, AT_ONCE // max(size, 1))
    for low in range(first, count, few):
        yield slice(low, min(low + few, count))
