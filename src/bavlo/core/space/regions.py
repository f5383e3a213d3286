"""Regions: named areas, and their outlines as arrays of edges."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import shapely

LONLAT = "OGC:CRS84"


@dataclass(frozen=True, eq=False)
class Regions:
    """Named polygons in one reference system.

    Parameters
    ----------
    labels
        One name for each region, all different, in the order of the file.
    geometry : (R,) object array
        Valid Shapely polygons or multipolygons.
    crs
        Reference system, anything that pyproj reads.
    """

    labels: tuple[str, ...]
    geometry: np.ndarray
    crs: str = LONLAT

    def __post_init__(self) -> None:
        if len(self.labels) != len(self.geometry):
            raise ValueError("one label for each geometry is needed")
        if len(set(self.labels)) != len(self.labels):
            raise ValueError("labels must differ")

    def __len__(self) -> int:
        return len(self.labels)

    @property
    def outlines(self) -> np.ndarray | None:
        """The polygons; zones have none."""
        return self.geometry

    @property
    def are_points(self) -> bool:
        """Whether they are points rather than areas."""
        return bool(len(self)) and bool((shapely.get_type_id(self.geometry) == 0).all())

    def take(self, index: np.ndarray) -> Regions:
        """The regions at the given positions, in that order."""
        labels = tuple(self.labels[i] for i in index)
        return replace(self, labels=labels, geometry=self.geometry[index])


@dataclass(frozen=True, eq=False)
class RegionEdges:
    """The straight edges of all regions, each with the region on its left.

    Parameters
    ----------
    x0, y0, x1, y1 : (E,) float64
        Where each edge begins and ends.
    region : (E,) intp
        Which region it bounds; never decreasing.
    count
        Number of regions R.
    """

    x0: np.ndarray
    y0: np.ndarray
    x1: np.ndarray
    y1: np.ndarray
    region: np.ndarray
    count: int


def region_edges(geometry: np.ndarray) -> RegionEdges:
    """Edges of polygons, outer rings anticlockwise and holes clockwise, however they were wound.

    Parameters
    ----------
    geometry : (R,) object array
        Valid polygons or multipolygons; empty ones have no edges.
    """
    parts, part_region = shapely.get_parts(geometry, return_index=True)
    rings, ring_part = shapely.get_rings(parts, return_index=True)
    points, point_ring = shapely.get_coordinates(rings, return_index=True)
    start = np.flatnonzero(point_ring[1:] == point_ring[:-1])
    edge_ring = point_ring[start]
    x0, y0 = points[start].T
    x1, y1 = points[start + 1].T

    # Twice the signed area, seen from the ring's own first point so that nothing cancels.
    first = np.searchsorted(point_ring, np.arange(len(rings)))
    origin_x, origin_y = points[first[edge_ring]].T if start.size else (x0, y0)
    cross = (x0 - origin_x) * (y1 - origin_y) - (x1 - origin_x) * (y0 - origin_y)
    signed = np.bincount(edge_ring, weights=cross, minlength=len(rings))
    is_outer = np.diff(ring_part, prepend=-1) != 0
    turn = ((signed > 0) != is_outer)[edge_ring]
    return RegionEdges(
        np.where(turn, x1, x0),
        np.where(turn, y1, y0),
        np.where(turn, x0, x1),
        np.where(turn, y0, y1),
        part_region[ring_part[edge_ring]] if start.size else np.zeros(0, np.intp),
        len(geometry),
    )
