"""From the cells of one grid to those of another, by shared area."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import sparse

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.zones import axis_shares, longitude_shares
from bavlo.errors import InputError


@dataclass(frozen=True, eq=False)
class Regrid:
    """Area-weighted means of the cells of a grid in those of another.

    Parameters
    ----------
    rows : (ny', ny), columns : (nx', nx) sparse
        Share of each new row or column that each old one covers: by sin φ on longitude and
        latitude, so that the product is the exact share of area.
    """

    rows: sparse.csr_array
    columns: sparse.csr_array

    def apply(self, values: np.ndarray, min_area: float) -> np.ndarray:
        """(ny', nx') means of (ny, nx) values, NaN where less than `min_area` has data."""
        valid = ~np.isnan(values)
        weight = self._sum(valid.astype(np.float64))
        total = self._sum(np.where(valid, values, 0.0))
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where((weight >= min_area - ENOUGH) & (weight > 0), total / weight, np.nan)

    def _sum(self, values: np.ndarray) -> np.ndarray:
        return np.asarray(self.columns @ (self.rows @ values).T).T


def regrid_onto(source: GridLayout, target: GridLayout) -> Regrid:
    """The shares of one grid in another of the same reference system."""
    if source.crs != target.crs or isinstance(source, CurvilinearLayout):
        raise InputError(
            "onto", "has another reference system than the grid", "give one on the grid's own"
        )
    y = axis_shares(source.y_edges, target.y_edges, target.is_lonlat)
    x = longitude_shares(source, target)
    return Regrid(
        sparse.csr_array((y[2], (y[0], y[1])), shape=(target.shape[0], source.shape[0])),
        sparse.csr_array((x[2], (x[0], x[1])), shape=(target.shape[1], source.shape[1])),
    )
