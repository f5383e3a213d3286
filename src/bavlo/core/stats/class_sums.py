"""Areas of class codes in regions, added up over runs of cells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from bavlo import compiled
from bavlo.core.space.row_areas import BothAreas
from bavlo.core.stats.cell_sample import check_codes
from bavlo.core.stats.part_runs import IN_TURN, PartRuns

MOST_DENSE = 2**16  # between the lowest and the highest code, for codes to be found by counting


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


def class_sums(values: np.ndarray, runs: PartRuns, areas: BothAreas) -> ClassSums:
    """Those of a few rows.

    Parameters
    ----------
    values : (n, nx) float64
        Codes, NaN where there is no data.
    areas
        Of all cells.
    """
    if compiled.in_use() and np.nanmax(np.abs(values), initial=0.0) < MOST_DENSE:
        return _by_kernel(values, runs, areas)
    length = runs.place[1] - runs.place[0]
    owner = np.repeat(np.arange(length.size), length)
    number = np.arange(owner.size) - (np.cumsum(length) - length)[owner]
    cell = runs.place[0][owner] + number
    known = ~np.isnan(values.ravel()[cell])
    cell, owner, number = cell[known], owner[known], number[known]
    codes, place = _codes(values.ravel()[cell])
    entries, entry = np.unique(owner * codes.size + place, return_inverse=True)
    turn = entry * IN_TURN + number % IN_TURN
    in_turn = np.bincount(turn, areas.column_factor(cell), entries.size * IN_TURN)
    a, b, c, d = in_turn.reshape(-1, IN_TURN).T
    width = (a + b) + (c + d)
    run, code = np.divmod(entries, max(codes.size, 1))
    key = runs.region[run].astype(np.int64) * codes.size + code
    shape = runs.regions, codes.size
    factor, share = areas.row_factors(runs.place[0][run]), runs.fraction[run]
    sums = [np.bincount(key, share * (of * width), shape[0] * shape[1]) for of in factor]
    return ClassSums(codes, *(each.reshape(shape) for each in sums))


def _by_kernel(values: np.ndarray, runs: PartRuns, areas: BothAreas) -> ClassSums:
    """The same by compiled loops, to the same bits."""
    from bavlo.core.stats.class_kernels import add_codes, note_codes

    flat = values.ravel()
    lowest, highest = np.fmin.reduce(flat), np.fmax.reduce(flat)
    if np.isnan(lowest):
        nothing = np.zeros((runs.regions, 0))
        return ClassSums(np.zeros(0), nothing, nothing)
    low = int(np.floor(lowest))
    held = np.zeros(int(highest) - low + 1, bool)
    if not note_codes(flat, low, runs.place, held):
        check_codes(flat[~np.isnan(flat)])
    found = np.flatnonzero(held)
    total, room = np.zeros((runs.regions, found.size, 2)), np.zeros((found.size, IN_TURN))
    number_of = np.cumsum(held, dtype=np.int32) - 1
    rows, columns = areas.rows, np.ascontiguousarray(areas.columns)
    runs_of = runs.place, runs.region, runs.fraction
    add_codes(flat, low, number_of, rows, columns, *runs_of, total, room)
    return ClassSums(found + float(low), total[..., 0], total[..., 1])


def _codes(values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The different codes of values (N,) without NaN, ascending, and the place of each value's."""
    if not values.size:
        return np.zeros(0), np.zeros(0, np.int64)
    low, high = float(values.min()), float(values.max())
    if not high - low < MOST_DENSE:
        codes, place = np.unique(values, return_inverse=True)
        return check_codes(codes), place
    offset = values - np.floor(low)
    dense = offset.astype(np.int32)
    if (dense != offset).any():
        check_codes(values)
    found = np.flatnonzero(np.bincount(dense))
    codes = found + np.floor(low)
    place = np.zeros(int(found[-1]) + 1, np.int32)
    place[found] = np.arange(found.size)
    return codes, place[dense]
