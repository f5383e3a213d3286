"""Which rows of a grid lie beneath cells of another reference system."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout, GridLayout

NEIGHBOURS = 2  # rows beyond, between whose centres values may be wanted
POINTS_ALONG = 257  # of the edges of rows that are taken into another system


@dataclass(frozen=True, eq=False)
class RowReach:
    """How far up and down each row of a grid reaches in the system of another.

    Parameters
    ----------
    low, high : (ny,) float64
        In the unit of the other grid's rows; infinite where a row has no plain place there.
    """

    low: np.ndarray
    high: np.ndarray

    @classmethod
    def of(cls, layout: GridLayout, target: GridLayout) -> RowReach:
        """Of the rows of a grid, in the system of another.

        Rows of the same system are taken as they are. Others are followed by points along their
        edges; between two of these a row may stray by as much as they lie apart.
        """
        if not layout.has_corners and layout.crs == target.crs:
            lines = layout.y_edges
            return cls(np.minimum(lines[:-1], lines[1:]), np.maximum(lines[:-1], lines[1:]))
        if isinstance(layout, CurvilinearLayout):
            lines = _heights(layout.lon, layout.lat, layout, target)
            stray = np.zeros(layout.shape[0])
            low, high = lines.min(axis=(1, 2)), lines.max(axis=(1, 2))
        else:
            number = np.unique(np.linspace(0, layout.x_edges.size - 1, POINTS_ALONG).astype(int))
            x, y = np.meshgrid(layout.x_edges[number], layout.y_edges)
            lines = _heights(x, y, layout, target)
            with np.errstate(invalid="ignore"):
                apart = np.abs(np.diff(lines, axis=1)).max(axis=1)
                stray = np.maximum(apart[:-1], apart[1:])
            low = np.minimum(lines[:-1].min(axis=1), lines[1:].min(axis=1))
            high = np.maximum(lines[:-1].max(axis=1), lines[1:].max(axis=1))
        known = np.isfinite(low) & np.isfinite(high) & np.isfinite(stray)
        return cls(np.where(known, low - stray, -np.inf), np.where(known, high + stray, np.inf))

    def beneath(self, target: GridLayout) -> slice:
        """The rows beneath cells or next to them; all where none is."""
        bottom, top = target.y_edges.min(), target.y_edges.max()
        found = np.flatnonzero((self.high > bottom) & (self.low < top))
        if not found.size:
            return slice(0, self.low.size)
        return slice(
            max(int(found[0]) - NEIGHBOURS, 0), min(int(found[-1]) + NEIGHBOURS + 1, self.low.size)
        )


def rows_of(layout: GridLayout, rows: slice) -> GridLayout:
    """Some rows of a grid."""
    edges = layout.y_edges[rows.start : rows.stop + 1]
    if isinstance(layout, CurvilinearLayout):
        return replace(layout, y_edges=edges, lon=layout.lon[rows], lat=layout.lat[rows])
    return GridLayout(layout.x_edges, edges, layout.crs)


def _heights(x: np.ndarray, y: np.ndarray, layout: GridLayout, target: GridLayout) -> np.ndarray:
    """How far up places lie in the system of another grid, in the shape of `y`."""
    from pyproj import Transformer

    transformer = Transformer.from_crs(layout.system, target.system, always_xy=True)
    return np.asarray(transformer.transform(x.ravel(), y.ravel())[1]).reshape(y.shape)
