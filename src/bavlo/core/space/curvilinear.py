"""The overlay of regions and cells that have corners of their own.

Such grids have no lines that an edge could be split at, so pairs of region and cell that may share
something are found with a tree and intersected one by one.
"""

from __future__ import annotations

import numpy as np
import shapely

from bavlo.core.batches import batches
from bavlo.core.space.layout import CurvilinearLayout
from bavlo.core.space.overlay import Overlay, sphere_areas
from bavlo.core.space.pieces import SLIVER
from bavlo.core.space.regions import region_edges

NUMBERS_OF_PAIR = 10  # of a cell and a region: the corners of what they share


def overlay_curvilinear(geometry: np.ndarray, layout: CurvilinearLayout) -> Overlay:
    """Shared areas of regions and the cells of a curvilinear grid, on the sphere.

    Parameters
    ----------
    geometry : (R,) object array
        Valid polygons in longitude and latitude.
    layout
        The cells; edges of cells and regions are straight in longitude and latitude.
    """
    corners = np.stack([layout.lon.reshape(-1, 4), layout.lat.reshape(-1, 4)], axis=-1)
    cells = shapely.polygons(corners)
    cells = np.where(shapely.is_valid(cells), cells, shapely.make_valid(cells))
    west, _, east, _ = layout.extent
    regions, numbers, areas = [], [], []
    for turn in (-360.0, 0.0, 360.0):
        moved = shapely.transform(geometry, lambda p, turn=turn: p + [turn, 0])
        near = (shapely.bounds(moved)[:, 2] > west) & (shapely.bounds(moved)[:, 0] < east)
        if not near.any():
            continue
        region, number = shapely.STRtree(cells).query(moved[near], predicate="intersects")
        region = np.flatnonzero(near)[region]
        for part in batches(region.size, NUMBERS_OF_PAIR):
            shared = shapely.intersection(moved[region[part]], cells[number[part]])
            shared = np.array([_polygons(shape) for shape in shared], object)
            regions.append(region[part])
            numbers.append(number[part])
            areas.append(sphere_areas(region_edges(shared)))
    none = np.zeros(0, np.int64)
    region = np.concatenate([none, *regions])
    number = np.concatenate([none, *numbers])
    area = np.concatenate([np.zeros(0), *areas])
    used, index = np.unique(number, return_inverse=True)
    whole = sphere_areas(region_edges(cells[used])) if used.size else np.zeros(0)
    fraction = np.minimum(area / whole[index], 1.0) if used.size else area
    keep = fraction > SLIVER
    order = np.lexsort((number[keep], region[keep]))
    region, number = region[keep][order], number[keep][order]
    fraction, area = fraction[keep][order], area[keep][order]
    used, index = np.unique(number, return_inverse=True)
    counts = np.bincount(region, minlength=len(geometry))
    return Overlay(
        layout.shape,
        used,
        np.concatenate([[0], np.cumsum(counts)]),
        index.astype(np.int32),
        fraction,
        area,
        sphere_areas(region_edges(geometry)),
    )


def _polygons(shape: shapely.Geometry) -> shapely.Geometry:
    """The parts of a shared shape that have an area."""
    if shape.geom_type in ("Polygon", "MultiPolygon"):
        return shape
    parts = [p for p in shapely.get_parts(shape) if p.geom_type == "Polygon"]
    return shapely.MultiPolygon(parts)
