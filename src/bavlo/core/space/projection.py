"""Region outlines in the reference system of a grid."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from bavlo.core.space.curvilinear import overlay_curvilinear
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.overlay import Overlay, overlay
from bavlo.core.space.regions import LONLAT, RegionEdges, Regions, region_edges
from bavlo.errors import InputError

CELL_SHARE = 2e-5  # an edge may stray this share of a cell from where it belongs
MOST_HALVINGS = 16
POINTS_A_SIDE = 50  # by which the extent of a grid in another system is found

Transform = Callable[[np.ndarray, np.ndarray], tuple[np.ndarray, np.ndarray]]


def edges_on_grid(regions: Regions, layout: GridLayout) -> RegionEdges:
    """Edges of regions in the reference system of a grid.

    Edges are straight in the regions' own system and are halved there until they stray by less
    than a fifty-thousandth of a cell in the grid's.
    """
    edges = region_edges(regions.geometry)
    plain = layout.is_lonlat or isinstance(layout, CurvilinearLayout)
    target = LONLAT if plain else layout.crs
    if same_system(regions.crs, target):
        return edges
    import pyproj

    transformer = pyproj.Transformer.from_crs(regions.crs, target, always_xy=True)
    try:
        placed = transformed_edges(
            edges, transformer.transform, CELL_SHARE * min(layout.cell_size), layout.is_lonlat
        )
    except pyproj.exceptions.ProjError as error:
        raise InputError(
            "regions", f"cannot be taken into the grid's reference system: {error}"
        ) from error
    for name in ("x0", "y0", "x1", "y1"):
        wrong = np.flatnonzero(~np.isfinite(getattr(placed, name)))
        if wrong.size:
            label = regions.labels[int(placed.region[wrong[0]])]
            raise InputError(
                f"region {label}",
                "lies where its reference system cannot be taken into the grid's",
                "leave it out, or check the reference system",
            )
    return placed


def overlay_on_grid(regions: Regions, layout: GridLayout) -> Overlay:
    """Shared areas of regions in any reference system and the cells of a grid."""
    if not isinstance(layout, CurvilinearLayout):
        return overlay(edges_on_grid(regions, layout), layout)
    geometry = regions.geometry
    if not same_system(regions.crs, LONLAT):
        import pyproj

        transformer = pyproj.Transformer.from_crs(regions.crs, LONLAT, always_xy=True)
        size = np.sqrt(shapely.area(geometry).max()) / 200
        geometry = shapely.transform(
            shapely.segmentize(geometry, size),
            lambda points: np.column_stack(transformer.transform(points[:, 0], points[:, 1])),
        )
    return overlay_curvilinear(geometry, layout)


def same_system(one: str, other: str) -> bool:
    """Whether two reference systems are the same but for the order of their axes."""
    plain = {LONLAT, "EPSG:4326"}
    if one == other or {one, other} <= plain:
        return True
    import pyproj

    a, b = pyproj.CRS.from_user_input(one), pyproj.CRS.from_user_input(other)
    return bool(a.equals(b, ignore_axis_order=True)) or (
        other == LONLAT and bool(a.equals("EPSG:4326", ignore_axis_order=True))
    )


def extent_in(source: GridLayout, system: str) -> tuple[float, float, float, float]:
    """The extent of a grid in a reference system, by points along its outline and within.

    Raises
    ------
    InputError
        Where none of them has a place there.
    """
    own = source.system
    if same_system(own, system):
        return source.extent
    import pyproj

    west, south, east, north = source.extent
    x, y = (
        a.ravel()
        for a in np.meshgrid(
            np.linspace(west, east, POINTS_A_SIDE), np.linspace(south, north, POINTS_A_SIDE)
        )
    )
    x, y = pyproj.Transformer.from_crs(own, system, always_xy=True).transform(x, y)
    fine = np.isfinite(x) & np.isfinite(y)
    if not fine.any():
        raise InputError("crs", "cannot hold the grid", "use another reference system, or ‹box›")
    return float(x[fine].min()), float(y[fine].min()), float(x[fine].max()), float(y[fine].max())


def transformed_edges(
    edges: RegionEdges, transform: Transform, tolerance: float, to_lonlat: bool
) -> RegionEdges:
    """Edges taken into another reference system, halved until they are straight enough there.

    Parameters
    ----------
    transform
        From (x, y) to (x, y).
    tolerance
        How far the middle of a piece may lie from the straight line, in the new unit.
    to_lonlat
        Keep each region's longitudes together, also across the antimeridian.
    """
    x0, y0, x1, y1, region = edges.x0, edges.y0, edges.x1, edges.y1, edges.region
    first = np.searchsorted(region, np.arange(edges.count))
    home = np.zeros(edges.count)
    if to_lonlat and region.size:
        start = np.minimum(first, region.size - 1)
        home = transform(x0[start], y0[start])[0]

    def transformed(
        x: np.ndarray, y: np.ndarray, region: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        new_x, new_y = transform(x, y)
        if to_lonlat:
            new_x = new_x + 360 * np.rint((home[region] - new_x) / 360)
        return new_x, new_y

    done: list[list[np.ndarray]] = []
    for halving in range(MOST_HALVINGS + 1):
        a, b = transformed(x0, y0, region), transformed(x1, y1, region)
        middle_x, middle_y = (x0 + x1) / 2, (y0 + y1) / 2
        middle = transformed(middle_x, middle_y, region)
        stray = np.hypot(middle[0] - (a[0] + b[0]) / 2, middle[1] - (a[1] + b[1]) / 2)
        bent = stray > tolerance if halving < MOST_HALVINGS else np.zeros(x0.size, bool)
        done.append([v[~bent] for v in (*a, *b, region)])
        if not bent.any():
            break
        x0, y0, x1, y1, region = (
            np.concatenate(pair)
            for pair in (
                (x0[bent], middle_x[bent]),
                (y0[bent], middle_y[bent]),
                (middle_x[bent], x1[bent]),
                (middle_y[bent], y1[bent]),
                (region[bent], region[bent]),
            )
        )
    columns = [np.concatenate(parts) for parts in zip(*done, strict=True)]
    order = np.argsort(columns[4], kind="stable")
    new_x0, new_y0, new_x1, new_y1, owner = (column[order] for column in columns)
    return RegionEdges(new_x0, new_y0, new_x1, new_y1, owner, edges.count)
