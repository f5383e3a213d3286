"""Sums of the rows of a grid for the rows of a new one, a few old rows after the other."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np

from bavlo.compiled import compiled
from bavlo.core.reduce.totals import Seen
from bavlo.core.space.held_codes import HeldCodes
from bavlo.core.space.row_kernels import add_codes, add_rows
from bavlo.core.space.rows import PlainRows, Rows

if TYPE_CHECKING:
    from scipy import sparse


@dataclass(frozen=True, eq=False)
class RowSums:
    """What some rows of a grid add to the rows of a new one, their columns still the old ones.

    Parameters
    ----------
    first
        The first of the new rows.
    weight : (n, nx) float64
        Share of the new row's height with data.
    total : (n, nx) float64 or None
        The same times the values, or the values' shares of what is counted.
    codes
        The weight of each class code instead.
    """

    first: int
    weight: np.ndarray
    total: np.ndarray | None = None
    codes: Mapping[float, np.ndarray] = field(default_factory=dict)


class AddedRows:
    """Sums over some rows, a few of which are added at a time.

    Parameters
    ----------
    shares, counted : (n', n) sparse
        Share of each new row that each old one covers, and of each old one that lies in the new;
        the latter None for class codes.
    """

    def __init__(
        self, shares: sparse.csc_array, counted: sparse.csc_array | None, width: int
    ) -> None:
        self.shares, self.counted = shares, counted
        self.weight = np.zeros((shares.shape[0], width))
        self.total = None if counted is None else np.zeros_like(self.weight)
        self.codes: dict[float, np.ndarray] = {}

    def add(self, part: slice, block: Rows) -> None:
        """Add a few rows."""
        plain = None
        if compiled(add_rows) is not None and isinstance(block, PlainRows):
            plain = block.plain(part)
        if self.counted is not None and plain is not None:
            self._add_stored(part, *plain)
        elif self.counted is not None:
            self._add_decoded(part, block[part])
        elif plain is None or not self._add_stored_codes(part, *plain):
            self._add_codes(part, block[part])

    def _add_stored(self, part: slice, numbers: np.ndarray, seen: Seen) -> None:
        """Of numbers as they are stored, by a compiled loop."""
        loop = compiled(add_rows)
        assert loop is not None
        assert self.counted is not None
        assert self.total is not None
        rows, missing = self._of_rows(part, numbers, seen)
        new, entries, share = _touched(self.counted, part)
        sums = np.zeros((new.stop - new.start, rows.shape[1]))
        loop(rows, missing, entries, share, sums)
        self.total[new] += sums
        self._add_weight(part, missing == 0 if seen.missing is not None else None)

    def _add_stored_codes(self, part: slice, numbers: np.ndarray, seen: Seen) -> bool:
        """The same of class codes; whether they are whole numbers and not too many."""
        loop = compiled(add_codes)
        if loop is None or numbers.dtype.kind not in "iu":
            return False
        rows, missing = self._of_rows(part, numbers, seen)
        all_cells = np.array([[0], [numbers.size]])
        held = HeldCodes.of(numbers, missing.ravel(), seen, all_cells)
        if held is None:
            return False
        new, entries, share = _touched(self.shares, part)
        sums = np.zeros((held.codes.size, new.stop - new.start, rows.shape[1]))
        loop(rows, missing, held.low, held.number_of, entries, share, sums)
        for code, own in zip(held.codes.tolist(), sums, strict=True):
            if code not in self.codes:
                self.codes[code] = np.zeros_like(self.weight)
            self.codes[code][new] += own
        self._add_weight(part, missing == 0 if seen.missing is not None else None)
        return True

    def _of_rows(self, part: slice, numbers: np.ndarray, seen: Seen) -> tuple[np.ndarray, ...]:
        """(n, nx) numbers, and uint8 which of them mean no data."""
        shape = part.stop - part.start, self.weight.shape[1]
        if seen.missing is None:
            return numbers.reshape(shape), np.zeros(shape, np.uint8)
        return numbers.reshape(shape), seen.missing.view(np.uint8).reshape(shape)

    def _add_decoded(self, part: slice, values: np.ndarray) -> None:
        valid = ~np.isnan(values)
        if valid.all():
            self._add_weight(part, None)
        else:
            self._add_weight(part, valid)
            values = np.where(valid, values, 0.0)
        assert self.counted is not None
        assert self.total is not None
        self.total += self.counted[:, part] @ values

    def _add_codes(self, part: slice, values: np.ndarray) -> None:
        valid = ~np.isnan(values)
        self._add_weight(part, None if valid.all() else valid)
        shares = self.shares[:, part]
        for code in np.unique(values[valid]).tolist():
            held = shares @ (values == code).astype(np.float64)
            self.codes[code] = self.codes[code] + held if code in self.codes else held

    def _add_weight(self, part: slice, valid: np.ndarray | None) -> None:
        """The weight of cells (n, nx) with data; None where all have, and columns are alike."""
        if valid is None:
            entries, share = _entries(self.shares, part)
            self.weight += np.bincount(entries[1], share, len(self.weight))[:, None]
        else:
            self.weight += self.shares[:, part] @ valid.astype(np.float64)


def _entries(shares: sparse.csc_array, part: slice) -> tuple[np.ndarray, np.ndarray]:
    """(2, N) int64 old row, from the first of a few, and new row of each share, and (N,) shares."""
    ends = shares.indptr[part.start : part.stop + 1]
    own = slice(int(ends[0]), int(ends[-1]))
    old = np.repeat(np.arange(part.stop - part.start), np.diff(ends))
    return np.stack([old, shares.indices[own]]).astype(np.int64), shares.data[own]


def _touched(shares: sparse.csc_array, part: slice) -> tuple[slice, np.ndarray, np.ndarray]:
    """New rows that a few old ones go into, and `_entries` with these counted from the first."""
    entries, share = _entries(shares, part)
    if not share.size:
        return slice(0, 0), entries, share
    new = slice(int(entries[1].min()), int(entries[1].max()) + 1)
    entries[1] -= new.start
    return new, entries, share


def warm_up(of_codes: bool, dtype: np.dtype) -> None:
    """Call the loop that adds up class codes or numbers of some type, where numba is there."""
    if compiled(add_rows) is None:
        return
    from scipy import sparse

    one = sparse.csc_array(np.ones((1, 1)))
    part, numbers, seen = slice(0, 1), np.zeros(1, dtype), Seen(0.0, 0.0, None)
    if of_codes:
        AddedRows(one, None, 1)._add_stored_codes(part, numbers, seen)
    else:
        AddedRows(one, one, 1)._add_stored(part, numbers, seen)
