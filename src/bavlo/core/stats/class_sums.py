"""Areas of class codes in regions, added up over runs of cells."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from bavlo.compiled import compiled
from bavlo.core.reduce.totals import Seen
from bavlo.core.space.held_codes import MOST_DENSE, HeldCodes
from bavlo.core.space.row_areas import CellAreas
from bavlo.core.stats.cell_sample import check_codes
from bavlo.core.stats.part_runs import PartRuns
from bavlo.core.stats.strip_kernels import add_codes
from bavlo.records import dataclass


@dataclass(frozen=True, eq=False)
class ClassSums:
    """Areas of K class codes in R regions.

    Parameters
    ----------
    codes : (K,) float64
        Ascending.
    weight, square_km : (R, K) float64
        By the areas that means are weighted with, and on the ellipsoid.
    """

    codes: np.ndarray
    weight: np.ndarray
    square_km: np.ndarray

    @classmethod
    def together(cls, parts: Sequence[ClassSums]) -> ClassSums:
        """The sums of several parts, added up in their order."""
        codes = np.unique(np.concatenate([part.codes for part in parts]))
        out = [np.zeros((len(parts[0].weight), codes.size)) for _ in range(2)]
        for part in parts:
            at = np.searchsorted(codes, part.codes)
            out[0][:, at] += part.weight
            out[1][:, at] += part.square_km
        return cls(codes, *out)


def class_sums(
    values: np.ndarray, runs: PartRuns, area: np.ndarray, square_km: np.ndarray
) -> ClassSums:
    """Those of a few rows.

    Parameters
    ----------
    values, area, square_km : (n, nx) float64
        Codes, NaN where there is no data, and the areas of all cells.
    """
    length = runs.place[1] - runs.place[0]
    owner = np.repeat(np.arange(length.size), length)
    first = runs.place[0] - (np.cumsum(length) - length)
    cell = np.arange(owner.size) + first[owner]
    values = values.ravel()[cell]
    known = ~np.isnan(values)
    cell, owner, values = cell[known], owner[known], values[known]
    codes, place = _codes(values)
    key = runs.region[owner].astype(np.int64) * codes.size + place
    shape = runs.regions, codes.size
    fraction = runs.fraction[owner]
    sums = [
        np.bincount(key, fraction * of.ravel()[cell], shape[0] * shape[1]).reshape(shape)
        for of in (area, square_km)
    ]
    return ClassSums(codes, *sums)


def stored_class_sums(
    numbers: np.ndarray,
    missing: np.ndarray,
    seen: Seen,
    runs: PartRuns,
    areas: tuple[CellAreas, CellAreas],
) -> ClassSums | None:
    """The same of whole numbers as they are stored, by compiled loops; None without them.

    Parameters
    ----------
    numbers : (C,)
    missing : (C,) uint8
        1 where there is no data.
    seen
        Their range.
    areas
        Those by which means are weighted, and on the ellipsoid.
    """
    add, held = compiled(add_codes), HeldCodes.of(numbers, missing, seen, runs.place)
    if add is None or held is None:
        return None
    total = np.zeros((runs.regions, held.codes.size, 2))
    factors = [factor for area in areas for factor in (area.rows, area.columns)]
    of_runs = runs.place, runs.region, runs.fraction
    add(numbers, missing, held.low, held.number_of, *factors, *of_runs, total)
    return ClassSums(held.codes, total[..., 0], total[..., 1])


def _codes(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The different codes of values (N,) without NaN, ascending, and the place of each value's."""
    if not values.size:
        return np.zeros(0), np.zeros(0, np.int64)
    low, high = float(values.min()), float(values.max())
    if not high - low < MOST_DENSE:
        codes, place = np.unique(values, return_inverse=True)
        return check_codes(codes), place
    dense = (values - np.floor(low)).astype(np.int64)
    found = np.flatnonzero(np.bincount(dense))
    codes = check_codes(found + np.floor(low))
    if (codes[np.searchsorted(found, dense)] != values).any():
        check_codes(values)
    place = np.zeros(int(found[-1]) + 1, np.int64)
    place[found] = np.arange(found.size)
    return codes, place[dense]
