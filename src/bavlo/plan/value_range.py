"""The range of the values of a grid, as far as they were read."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

IN_CACHE = 2**16  # values that are still near when they are looked at again


@dataclass(frozen=True)
class ValueRange:
    """Lowest and highest value; ∞ and -∞ where there is none."""

    low: float = np.inf
    high: float = -np.inf

    def wider(self, other: ValueRange) -> ValueRange:
        """The range that holds two."""
        return ValueRange(min(self.low, other.low), max(self.high, other.high))

    @classmethod
    def of(cls, block: np.ndarray) -> ValueRange:
        """Of an array of any shape, leaving out NaN."""
        flat = block.reshape(-1)
        parts = [flat[n : n + IN_CACHE] for n in range(0, flat.size, IN_CACHE)]
        low = min((np.fmin.reduce(part, initial=np.inf) for part in parts), default=np.inf)
        high = max((np.fmax.reduce(part, initial=-np.inf) for part in parts), default=-np.inf)
        return cls(float(low), float(high))
