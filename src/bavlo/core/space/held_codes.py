"""Which class codes runs of stored whole numbers hold."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.compiled import compiled
from bavlo.core.reduce.totals import Seen
from bavlo.core.space.row_kernels import note_codes

MOST_DENSE = 2**16  # between the lowest and the highest code, for codes to be found by counting


@dataclass(frozen=True, eq=False)
class HeldCodes:
    """Class codes, found without sorting.

    Parameters
    ----------
    low
        The lowest code that may be there.
    codes : (L,) float64
        Those that are there, ascending.
    number_of : (K,) int64
        The place of each code, counted from the lowest, among them; some place for others.
    """

    low: int
    codes: np.ndarray
    number_of: np.ndarray

    @classmethod
    def of(
        cls, numbers: np.ndarray, missing: np.ndarray, seen: Seen, place: np.ndarray
    ) -> HeldCodes | None:
        """Those of whole numbers, by a compiled loop; None without it, or where they are too many.

        Parameters
        ----------
        numbers : (C,)
            As they are stored.
        missing : (C,) uint8
            1 where there is no data.
        seen
            Their range.
        place : (2, N) int64
            First cell of each run and the one after its last.
        """
        note = compiled(note_codes)
        if note is None or not seen.high - seen.low < MOST_DENSE:  # nor of infinite ones
            return None
        low, high = (int(seen.low), int(seen.high)) if seen.low <= seen.high else (0, 0)
        both = np.zeros((high - low + 1, 2), np.uint8)
        note(numbers, missing, low, place, both.ravel())
        held = both[:, 0]
        codes = (np.flatnonzero(held) + low).astype(np.float64)
        return cls(low, codes, np.maximum(np.cumsum(held, dtype=np.int64) - 1, 0))
