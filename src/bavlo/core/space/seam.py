"""Outlines that lie across a seam of longitudes, moved so that they lie side by side."""

from __future__ import annotations

import numpy as np
import shapely

from bavlo.core.space.layout import GridLayout, is_all_around

HALF, TURN = 180.0, 360.0


def side_by_side(shapes: np.ndarray) -> np.ndarray:
    """Outlines on longitude and latitude without a gap of more than half the globe between them.

    Parts of outlines east of the widest gap are moved by a turn, as those of a country on both
    sides of 180 degrees are.

    Parameters
    ----------
    shapes : (R,) object array
        Polygons or points.

    Examples
    --------
    >>> both = [shapely.box(-180, 0, -178, 1), shapely.box(176, 0, 180, 1)]
    >>> [shape.bounds[0] for shape in side_by_side(np.array(both))]
    [180.0, 176.0]
    """
    parts, owner = shapely.get_parts(shapes, return_index=True)
    if not parts.size:
        return shapes
    west, _, east, _ = shapely.bounds(parts).T
    order = np.argsort(west)
    reach = np.maximum.accumulate(east[order])
    gaps = west[order][1:] - reach[:-1]
    inner = float(gaps.max(initial=0.0))
    around = TURN - float(reach[-1] - west.min())
    if inner <= around or inner <= HALF:
        return shapes
    end = west[order][int(gaps.argmax()) + 1]
    moved = np.array(
        [
            shapely.transform(part, lambda xy: xy + (TURN, 0.0)) if at < end else part
            for part, at in zip(parts, west, strict=True)
        ],
        object,
    )
    out = np.array(shapes, object)
    for n in np.unique(owner):
        own = moved[owner == n]
        whole = shapely.MultiPolygon if shapely.get_type_id(own[0]) == 3 else shapely.MultiPoint
        out[n] = own[0] if own.size == 1 else whole(own.tolist())
    return out


def first_column(layout: GridLayout, shapes: np.ndarray) -> int:
    """The column with which a grid all around begins so that outlines lie amidst it; 0 else."""
    if not is_all_around(layout) or not shapes.size:
        return 0
    west, _, east, _ = shapely.total_bounds(shapes)
    low = min(layout.x_edges[0], layout.x_edges[-1])
    if low <= west and east <= low + TURN:
        return 0
    begin = ((west + east) / 2 - HALF - low) % TURN
    ascending = np.sort(layout.x_edges) - low
    column = int(np.searchsorted(ascending, begin, side="right")) - 1
    columns = layout.x_edges.size - 1
    return column if layout.x_edges[0] < layout.x_edges[-1] else (columns - column) % columns


def beside(layout: GridLayout, shapes: np.ndarray) -> np.ndarray:
    """Outlines in the turn of longitudes that a grid on longitude and latitude is in."""
    if not layout.is_lonlat or not shapes.size:
        return shapes
    west, _, east, _ = shapely.total_bounds(shapes)
    middle = float(layout.x_edges[0] + layout.x_edges[-1]) / 2
    turns = round(((west + east) / 2 - middle) / TURN)
    return np.asarray(shapely.transform(shapes, lambda xy: xy - (TURN * turns, 0.0)), object)
