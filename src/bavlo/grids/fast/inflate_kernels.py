"""A loop that looks for members of a gzip file, which numba compiles: see `bavlo.compiled`."""

from __future__ import annotations

import numpy as np


def holds_member(content: np.ndarray) -> bool:
    """Whether bytes (N,) hold, anywhere but in front, what the members of a gzip file begin with.

    Source: RFC 1952, ID1, ID2 and CM = 8.
    """
    found = False
    for x in range(1, content.size - 2):
        found |= (content[x] == 0x1F) & (content[x + 1] == 0x8B) & (content[x + 2] == 8)
    return bool(found)
