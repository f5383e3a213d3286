"""Bringing values onto other cells of the same reference system: shares of rows times those of
columns, at once or from sums over some rows after the other.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.batches import batches
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.layout import GridLayout
from bavlo.core.space.row_sums import AddedRows, RowSums
from bavlo.core.space.zones import axis_shares, longitude_shares
from bavlo.core.sums import range_of_rows, within

if TYPE_CHECKING:
    from scipy import sparse


@dataclass(frozen=True, eq=False)
class AxisShares:
    """Means or sums over shared areas of grids of one system, by shares of rows and columns.

    Parameters
    ----------
    rows : (ny', ny), columns : (nx', nx) sparse
        Share of each new row or column that each old one covers: by sin φ on longitude and
        latitude, so that the product is the exact share of area.
    old_rows, old_columns
        The same as shares of the old ones, for what is counted per cell; None for means.
    """

    rows: sparse.csr_array
    columns: sparse.csr_array
    old_rows: sparse.csr_array | None = None
    old_columns: sparse.csr_array | None = None

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') means or sums, NaN where less than `min_area` of a cell has data."""
        valid = ~np.isnan(values)
        if valid.all():
            weight, filled = self._whole, values
        else:
            weight = _both(self.rows, self.columns, valid.astype(np.float64))
            filled = np.where(valid, values, 0.0)
        if self.old_rows is not None and self.old_columns is not None:
            total = _both(self.old_rows, self.old_columns, filled)
        else:
            total = _both(self.rows, self.columns, filled)
        found = self._known(total, weight, min_area)
        return found if self.old_rows is not None else within(found, *self._range(values))

    def _range(self, values: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """(ny', nx') lowest and highest value of the old cells in each new one."""
        by_row = range_of_rows(self.rows.indices, self.rows.indptr, values)
        low, high = (
            range_of_rows(self.columns.indices, self.columns.indptr, np.ascontiguousarray(each.T))[
                n
            ]
            for n, each in enumerate(by_row)
        )
        return low.T, high.T

    def _known(self, total: np.ndarray, weight: np.ndarray, min_area: float) -> np.ndarray:
        """Means or sums (ny', nx') in the array of the totals, NaN where too little has data."""
        if self.old_rows is not None:
            # What is counted is not lost at the rim: only cells without data may be too many.
            enough = (weight >= min_area * self._whole - ENOUGH) & (weight > 0)
        else:
            enough = (weight >= min_area - ENOUGH) & (weight > 0)
            with np.errstate(invalid="ignore", divide="ignore"):
                total /= weight
        total[~enough] = np.nan
        return total

    def sums(self, first: int, block: np.ndarray, *, of_codes: bool) -> RowSums:
        """What some of the old rows add to the new ones, their columns still the old ones.

        Parameters
        ----------
        first
            The first of the rows.
        block : (n, nx) float64
            NaN where there is no data.
        of_codes
            Sums of each class code instead of sums of values.
        """
        band, width = slice(first, first + len(block)), self.columns.shape[1]
        rows = self.rows[:, band].tocsr()
        touched = np.flatnonzero(np.diff(rows.indptr))
        if not touched.size:
            return RowSums(0, np.zeros((0, width)))
        new = slice(int(touched[0]), int(touched[-1]) + 1)
        shares = rows[new].tocsc()
        counted = shares if self.old_rows is None else self.old_rows[new, band].tocsc()
        adding = AddedRows(shares, None if of_codes else counted, width)
        for part in batches(len(block), 2 * width):
            adding.add(part, block[part])
        return RowSums(new.start, adding.weight, adding.total, adding.codes)

    def of_sums(self, sums: Sequence[RowSums], min_area: float) -> np.ndarray:
        """(ny', nx') means or sums of all rows, as `apply` has them; codes of the largest share."""
        weight = self._across([(each.first, each.weight) for each in sums])
        codes = sorted({code for each in sums for code in each.codes})
        if codes:

            def share(code: float) -> np.ndarray:
                held = [(each.first, each.codes[code]) for each in sums if code in each.codes]
                return self._known(self._across(held), weight, min_area)

            return largest((code, share(code)) for code in codes)
        totals = [(each.first, each.total) for each in sums if each.total is not None]
        total = self._across(totals, counts=self.old_columns is not None)
        return self._known(total, weight, min_area)

    def _across(
        self, sums: Sequence[tuple[int, np.ndarray]], *, counts: bool = False
    ) -> np.ndarray:
        """(ny', nx') what all rows give, their columns brought onto the new ones too.

        Parameters
        ----------
        sums
            First new row and sums (n, nx) of some old rows each.
        """
        by_row = np.zeros((self.rows.shape[0], self.columns.shape[1]))
        for first, own in sums:
            by_row[first : first + len(own)] += own
        columns = self.old_columns if counts and self.old_columns is not None else self.columns
        return np.asarray(columns @ by_row.T).T

    @cached_property
    def _whole(self) -> np.ndarray:
        """Share of each new cell that lies on the old grid."""
        rows = np.asarray(self.rows.sum(axis=1)).ravel()
        return np.outer(rows, np.asarray(self.columns.sum(axis=1)).ravel())


def _both(rows: sparse.csr_array, columns: sparse.csr_array, values: np.ndarray) -> np.ndarray:
    return np.asarray(columns @ (rows @ values).T).T


def largest(shares: Iterable[tuple[float, np.ndarray]]) -> np.ndarray:
    """(ny', nx') the code of the largest share, of equal ones the first; NaN where all are NaN."""
    out, best = np.array(np.nan), np.array(-np.inf)
    for code, share in shares:
        more = share > best + ENOUGH
        out, best = np.where(more, code, out), np.where(more, share, best)
    return out


def axis_areas(source: GridLayout, target: GridLayout, counts: bool) -> AxisShares:
    """The shares of one grid in another of the same reference system."""
    from scipy import sparse

    y = axis_shares(source.y_edges, target.y_edges, target.is_lonlat)
    x = longitude_shares(source, target)
    shapes = (target.shape[0], source.shape[0]), (target.shape[1], source.shape[1])
    pairs = [
        sparse.csr_array((share, (new, old)), shape=shape)
        for (new, old, share), shape in zip((y, x), shapes, strict=True)
    ]
    if not counts:
        return AxisShares(*pairs)
    old = [
        sparse.csr_array((share * _size(b, lat)[new] / _size(a, lat)[cell], (new, cell)), shape)
        for (new, cell, share), shape, a, b, lat in (
            (y, shapes[0], source.y_edges, target.y_edges, target.is_lonlat),
            (x, shapes[1], source.x_edges, target.x_edges, False),
        )
    ]
    return AxisShares(*pairs, *old)


def _size(edges: np.ndarray, latitude: bool) -> np.ndarray:
    """(N,) sizes of the cells of an axis, by sin φ for latitudes."""
    if not latitude:
        return np.abs(np.diff(edges))
    half = np.radians(np.abs(np.diff(edges))) / 2
    return np.asarray(2 * np.cos(np.radians(edges[1:] + edges[:-1]) / 2) * np.sin(half))
