"""Areas of class codes in regions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo.core.stats.cell_sample import OverlayIndex, check_codes

MOST_DENSE = 2**16  # between the lowest and the highest code, for codes to be found by counting


@dataclass(frozen=True, eq=False)
class ClassAreas:
    """Areas of K class codes in R regions.

    Parameters
    ----------
    codes : (K,) float64
        Ascending.
    weight, square_km : (R, K) float64
        By the areas that means are weighted with, and km² on the ellipsoid.
    """

    codes: np.ndarray
    weight: np.ndarray
    square_km: np.ndarray

    @classmethod
    def of(cls, index: OverlayIndex, values: np.ndarray) -> ClassAreas:
        """Those of one step.

        Parameters
        ----------
        index
            With the areas of the cells on the ellipsoid.
        values : (C,) float64
            Codes, NaN where there is no data.

        Raises
        ------
        RequestError
            Where a value is no whole number.
        """
        held = values[index.overlay.index]
        owner, areas = index.owner, [index.weight, index.square_km.weight]
        known = ~np.isnan(held)
        if not known.all():
            held, owner, areas = held[known], owner[known], [each[known] for each in areas]
        codes, place = codes_in(held)
        shape = index.overlay.regions, codes.size
        sums = (np.bincount(owner * codes.size + place, a, shape[0] * shape[1]) for a in areas)
        return cls(codes, *(each.reshape(shape) for each in sums))

    @classmethod
    def added(cls, parts: Sequence[ClassAreas]) -> ClassAreas:
        """The areas of several parts, added up in their order."""
        codes = np.unique(np.concatenate([part.codes for part in parts]))
        out = [np.zeros((len(parts[0].weight), codes.size)) for _ in range(2)]
        for part in parts:
            at = np.searchsorted(codes, part.codes)
            out[0][:, at] += part.weight
            out[1][:, at] += part.square_km
        return cls(codes, *out)


def codes_in(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The different codes of values (N,) without NaN, ascending, and the place of each value's.

    Raises
    ------
    RequestError
        Where a value is no whole number.

    Examples
    --------
    >>> codes_in(np.array([3.0, -2.0, 3.0]))
    (array([-2.,  3.]), array([1, 0, 1]))
    """
    if not values.size:
        return np.zeros(0), np.zeros(0, np.int64)
    low, high = float(values.min()), float(values.max())
    if not high - low < MOST_DENSE:
        codes, place = np.unique(values, return_inverse=True)
        return check_codes(codes), place
    offset = values - np.floor(low)
    dense = offset.astype(np.int64)
    if (dense != offset).any():
        check_codes(values)
    found = np.flatnonzero(np.bincount(dense))
    place = np.zeros(int(found[-1]) + 1, np.int64)
    place[found] = np.arange(found.size)
    return found + np.floor(low), place[dense]
