"""The overlay: the exact area that every cell and every region share.

How outlines are cut along the lines of a grid is in `pieces`.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from bavlo.core.space.layout import AUTHALIC_RADIUS_KM, zone_width
from bavlo.core.space.pieces import sphere_strip
from bavlo.core.space.regions import RegionEdges
from bavlo.core.sums import WeightedSums

LEAST_COVER = 1e-6  # of a cell, for it to take part in all but means and sums


@dataclass(frozen=True, eq=False)
class Overlay:
    """Shared areas of R regions and the C cells that they touch, as a sparse matrix.

    Parameters
    ----------
    shape
        Rows and columns of the whole grid.
    cells : (C,) int64
        Flat numbers of the used cells (row by row in file order), ascending.
    indptr : (R + 1,) int64
        Where each region's entries begin.
    index : (N,) int32
        Which used cell an entry is about, ascending within a region.
    fraction : (N,) float64
        Share of the cell that the region covers, 0 to 1.
    weight : (N,) float64
        Shared area, km² on the sphere (longitude-latitude) or true area (projected grids).
    region_weight : (R,) float64
        The whole area of each region in the same unit, also where it lies outside the grid.
    """

    shape: tuple[int, int]
    cells: np.ndarray
    indptr: np.ndarray
    index: np.ndarray
    fraction: np.ndarray
    weight: np.ndarray
    region_weight: np.ndarray

    @property
    def regions(self) -> int:
        """How many regions there are."""
        return self.indptr.size - 1

    @property
    def entries(self) -> np.ndarray:
        """(R,) how many cells each region touches."""
        return np.diff(self.indptr)

    @property
    def is_sound(self) -> bool:
        """Whether the lengths of its arrays agree, as those of what was kept should."""
        return (
            self.index.size == self.fraction.size == self.weight.size
            and self.indptr.size == self.region_weight.size + 1
            and bool((np.diff(self.indptr) >= 0).all())
            and self.indptr[-1] == self.index.size
        )

    def matrix(self) -> WeightedSums:
        """The weights as an (R, C) sparse matrix, km²."""
        return WeightedSums(self.weight, self.index, self.indptr, (self.regions, self.cells.size))

    def of_region(self, region: int) -> Overlay:
        """The overlay of one region and the cells that it touches."""
        part = slice(int(self.indptr[region]), int(self.indptr[region + 1]))
        cells = self.cells[self.index[part]]
        return Overlay(
            self.shape,
            cells,
            np.array([0, cells.size]),
            np.arange(cells.size, dtype=np.int32),
            self.fraction[part],
            self.weight[part],
            self.region_weight[[region]],
        )

    def outside(self) -> np.ndarray:
        """(R,) share of each region's area that lies outside the grid; 0 where only rounding is."""
        inside = np.zeros(self.regions)
        np.add.at(inside, np.repeat(np.arange(self.regions), self.entries), self.weight)
        return share_outside(inside, self.region_weight)


def share_outside(inside: np.ndarray, whole: np.ndarray) -> np.ndarray:
    """(R,) share of areas that is not inside; 0 where only rounding is, or no area."""
    share = 1 - inside / np.where(whole > 0, whole, 1.0)
    return np.where((share < 1e-9) | (whole <= 0), 0.0, np.minimum(share, 1.0))


def sphere_areas(edges: RegionEdges) -> np.ndarray:
    """Area of each region on the sphere of WGS 84's area, edges straight in longitude-latitude.

    Returns
    -------
    areas : (R,) float64
        km².

    Examples
    --------
    The octant from the equator to the pole is an eighth of the sphere.

    >>> from shapely import box
    >>> from bavlo.core.space.regions import region_edges
    >>> octant = sphere_areas(region_edges(np.array([box(0, 0, 90, 90)])))
    >>> float(octant[0] / (4 * np.pi * AUTHALIC_RADIUS_KM**2))
    0.125
    """
    if not edges.region.size:
        return np.zeros(edges.count)
    origin = _home(edges)
    _, area = sphere_strip(edges.x0, edges.y0, edges.x1, edges.y1, origin)
    total = np.bincount(edges.region, weights=area, minlength=edges.count)
    return np.asarray(np.abs(total) * np.radians(1) * AUTHALIC_RADIUS_KM**2)


def ellipsoid_areas(edges: RegionEdges) -> np.ndarray:
    """Area of each region on the WGS 84 ellipsoid, edges straight in longitude-latitude.

    ∮ λ dq along every edge by Gauss-Legendre quadrature, q being the area between the equator and
    a latitude for one radian of longitude: exact to rounding for edges of a few degrees.

    Returns
    -------
    areas : (R,) float64
        km².

    Examples
    --------
    >>> from shapely import box
    >>> from bavlo.core.space.regions import region_edges
    >>> float(round(ellipsoid_areas(region_edges(np.array([box(0, 0, 90, 90)])))[0] / 1e6, 3))
    63.758
    """
    if not edges.region.size:
        return np.zeros(edges.count)
    origin = _home(edges)
    total = np.zeros(edges.region.size)
    for node, weight in zip(*np.polynomial.legendre.leggauss(12), strict=True):
        share = (node + 1) / 2
        longitude = edges.x0 - origin + share * (edges.x1 - edges.x0)
        latitude = edges.y0 + share * (edges.y1 - edges.y0)
        total += weight / 2 * longitude * zone_width(latitude)
    total *= np.radians(1) * np.radians(edges.y1 - edges.y0)
    return np.abs(np.bincount(edges.region, weights=total, minlength=edges.count))


def _home(edges: RegionEdges) -> np.ndarray:
    """(E,) where the region of each edge begins, so that areas are taken from close by."""
    first = np.searchsorted(edges.region, np.arange(edges.count))
    return np.asarray(edges.x0[np.minimum(first, edges.region.size - 1)][edges.region])


def planar_areas(edges: RegionEdges) -> np.ndarray:
    """(R,) area of each region on the plane of its coordinates."""
    x, y, region = edges.x0, edges.y0, edges.region
    origin = _home(edges) if region.size else x
    cross = ((x - origin) + (edges.x1 - origin)) / 2 * (edges.y1 - y)
    return np.abs(np.bincount(region, weights=cross, minlength=edges.count))
