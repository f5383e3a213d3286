"""Region outlines in the reference system of a grid."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import shapely

from bavlo.core.space.curvilinear import overlay_curvilinear
from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.regions import LONLAT, RegionEdges, Regions, region_edges
from bavlo.core.space.shared_areas import overlay
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
    plain = layout.is_lonlat or layout.has_corners
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


def overlay_on_grid(regions: Regions, layout: GridLayout, jobs: int = 1) -> Overlay:
    """Shared areas of regions in any reference system and the cells of a grid.

    Parameters
    ----------
    jobs
        Threads at once, on which no number depends.
    """
    if not isinstance(layout, CurvilinearLayout):
        return overlay(edges_on_grid(regions, layout), layout, jobs)
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
        How far the middle of a piece may lie from the straight line, in the new unit:
        CELL_SHARE of a cell.
    to_lonlat
        Keep each region's longitudes together, also across the antimeridian.
    """
    region = edges.region
    first = np.searchsorted(region, np.arange(edges.count))
    home = np.zeros(edges.count)
    if to_lonlat and region.size:
        start = np.minimum(first, region.size - 1)
        home = transform(edges.x0[start], edges.y0[start])[0]

    def transformed(places: np.ndarray, region: np.ndarray) -> np.ndarray:
        x, y = transform(places[0], places[1])
        if to_lonlat:
            x = x + 360 * np.rint((home[region] - x) / 360)
        return np.stack([x, y])

    # Both ends of each edge, (2, N): as given, and where they lie in the new system.
    one, other = np.stack([edges.x0, edges.y0]), np.stack([edges.x1, edges.y1])
    new_one, new_other = transformed(one, region), transformed(other, region)
    done: list[tuple[np.ndarray, ...]] = []
    for halving in range(MOST_HALVINGS + 1):
        middle = (one + other) / 2
        new_middle = transformed(middle, region)
        stray = _from_chord(new_one, new_other, new_middle)
        if halving == 0:
            # The middle of an S lies on its chord. Shorter than a cell none is that bent.
            long = np.flatnonzero(np.hypot(*(new_other - new_one)) > tolerance / CELL_SHARE)
            for share in (0.25, 0.75):
                place = one[:, long] + share * (other[:, long] - one[:, long])
                at = transformed(place, region[long])
                stray[long] = np.fmax(
                    stray[long], _from_chord(new_one[:, long], new_other[:, long], at)
                )
        bent = stray > tolerance if halving < MOST_HALVINGS else np.zeros(stray.size, bool)
        done.append((*new_one[:, ~bent], *new_other[:, ~bent], region[~bent]))
        if not bent.any():
            break
        one, other, new_one, new_other = (
            np.concatenate([before[:, bent], after[:, bent]], axis=1)
            for before, after in (
                (one, middle),
                (middle, other),
                (new_one, new_middle),
                (new_middle, new_other),
            )
        )
        region = np.concatenate([region[bent], region[bent]])
    columns = [np.concatenate(parts) for parts in zip(*done, strict=True)]
    order = np.argsort(columns[4], kind="stable")
    new_x0, new_y0, new_x1, new_y1, owner = (column[order] for column in columns)
    return RegionEdges(new_x0, new_y0, new_x1, new_y1, owner, edges.count)


def _from_chord(one: np.ndarray, other: np.ndarray, place: np.ndarray) -> np.ndarray:
    """(N,) distances of places from the straight pieces between two points, (2, N) each."""
    along, off = other - one, place - one
    length = (along**2).sum(axis=0)
    with np.errstate(invalid="ignore"):
        share = np.clip((off * along).sum(axis=0) / np.where(length > 0, length, 1.0), 0, 1)
        return np.asarray(np.hypot(*(off - share * along)))
