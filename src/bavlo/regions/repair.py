"""Repairs of shapes: what is mended, and how it is said."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import shapely

from bavlo.errors import InputError

POINT, MULTIPOINT, POLYGON, MULTIPOLYGON = 0, 4, 3, 6


FARTHEST = 1e9  # degrees or metres
HIGHEST, ROUND = 90.5, 360.0  # degrees that a latitude and a longitude may have
LIKELY = 0.5  # share of its area by which a repair changes a region; more, and it was none


def repaired(
    path: Path, labels: Sequence[str], geometry: np.ndarray, *, lonlat: bool
) -> tuple[np.ndarray, tuple[str, ...]]:
    """Valid polygons (or points), and what was mended in words, one line a region.

    Parameters
    ----------
    lonlat
        Coordinates are degrees, so that a jump of more than half a turn is a crossing of the
        antimeridian.

    Notes
    -----
    Rings that cross or touch themselves are rebuilt: each outer ring is made valid by itself, then
    all are joined and the holes taken out. What is not an area is left out of areas and said.
    """
    out = np.array(geometry, dtype=object)
    missing = shapely.is_missing(out) | shapely.is_empty(out)
    repairs: list[str] = []
    _check_places(path, labels, out)
    if lonlat:
        _check_degrees(path, out[~missing])
    if (shapely.get_type_id(out[~missing]) == POINT).all():
        if missing.any():
            raise InputError(
                path,
                f"{missing.sum()} of {len(labels)} points have no place, such as "
                f"'{labels[int(missing.argmax())]}'",
                "mend the file, or leave them out with ‹except›",
            )
        return shapely.force_2d(out), ()
    for i in np.flatnonzero(missing).tolist():
        out[i] = shapely.Polygon()
        repairs.append(f"{labels[i]}: no geometry, so that it has no values")
    if lonlat:
        for i in _jumping(out):
            out[i], what = _across(out[i])
            repairs.append(f"{labels[i]}: {what}")
    for i in np.flatnonzero(~shapely.is_valid(out)).tolist():
        reason = shapely.is_valid_reason(out[i]).split("[")[0].lower()
        before = shapely.area(out[i])
        out[i] = _rebuilt(out[i])
        change = shapely.area(out[i]) / before - 1 if before else np.inf
        if abs(change) > LIKELY:  # what an outline that crosses itself encloses is no area
            text = "repaired; what it enclosed before was no area to compare with"
        elif abs(change) >= 5e-5:
            text = f"repaired, which changed its area by {change:+.2%}"
        else:
            text = "repaired, which kept its area"
        repairs.append(f"{labels[i]}: {reason} {text}")
    for i in np.flatnonzero(~np.isin(shapely.get_type_id(out), (POLYGON, MULTIPOLYGON))).tolist():
        parts = [p for p in _all_parts(out[i]) if p.geom_type == "Polygon" and p.area > 0]
        if not parts:
            raise InputError(
                path,
                f"the region '{labels[i]}' is a {out[i].geom_type}, which has no area",
                "give polygons, or points only",
            )
        if len(parts) < len(_all_parts(out[i])):
            repairs.append(f"{labels[i]}: points or lines beside its area left out")
        out[i] = shapely.union_all(parts)
    flat = np.flatnonzero((shapely.area(out) <= 0) & ~missing).tolist()
    if flat:
        raise InputError(
            path, f"the region '{labels[flat[0]]}' has no area", "mend it, or choose the others"
        )
    return out, tuple(repairs)


def _rebuilt(shape: shapely.Geometry) -> shapely.Geometry:
    """A shape of which each outer ring is valid by itself, without its holes."""

    def valid(ring: shapely.Geometry) -> shapely.Geometry:
        return shapely.make_valid(shapely.Polygon(ring), method="structure", keep_collapsed=False)

    parts = []
    for part in _all_parts(shape):
        if part.geom_type == "Polygon":
            holes = shapely.union_all([valid(hole) for hole in part.interiors])
            parts.append(shapely.difference(valid(part.exterior), holes))
        else:
            parts.append(part)
    polygons = [p for p in parts if p.geom_type in ("Polygon", "MultiPolygon")]
    others = [p for p in parts if p not in polygons]
    whole = shapely.union_all(polygons)
    return shapely.GeometryCollection([whole, *others]) if others else whole


def _check_degrees(path: Path, geometry: np.ndarray) -> None:
    """Refuse what cannot be degrees: metres, or latitudes where longitudes should be.

    Raises
    ------
    InputError
    """
    if not geometry.size:
        return
    x0, y0, x1, y1 = shapely.total_bounds(geometry)
    x, y = max(abs(x0), abs(x1)), max(abs(y0), abs(y1))
    if y <= HIGHEST and x <= 2 * ROUND:
        return
    if x <= HIGHEST and y <= ROUND:
        raise InputError(
            path,
            f"has latitudes up to {y:.6g}: longitude and latitude are swapped by all signs",
            "name the columns rightly, or write longitude before latitude",
        )
    raise InputError(
        path,
        f"has coordinates up to {x:.7g} and {y:.7g}, which are no degrees",
        "give their system, as ‹input_crs regions=EPSG:32744› for metres of a UTM zone",
    )


def _check_places(path: Path, labels: Sequence[str], geometry: np.ndarray) -> None:
    """Refuse coordinates that are no place, on which geometry cannot be done.

    Raises
    ------
    InputError
    """
    coordinates, owner = shapely.get_coordinates(geometry, return_index=True)
    odd = np.flatnonzero(~(np.abs(coordinates) < FARTHEST).all(axis=1))
    if odd.size:
        where = ", ".join(f"{value:g}" for value in coordinates[odd[0]])
        raise InputError(
            path,
            f"'{labels[int(owner[odd[0]])]}' has a corner at {where}, which is no place",
            "mend the file, or leave it out with ‹except›",
        )


def _all_parts(shape: shapely.Geometry) -> list[shapely.Geometry]:
    """The single shapes of a collection, however deep."""
    parts = shapely.get_parts(shape)
    if len(parts) == 1 and parts[0].equals(shape) and not hasattr(shape, "geoms"):
        return [shape]
    return [
        inner
        for part in parts
        for inner in (_all_parts(part) if hasattr(part, "geoms") else [part])
    ]


def _jumping(geometry: np.ndarray) -> list[int]:
    """Shapes with an edge of more than half a turn, but not of a whole one."""
    points, owner = shapely.get_coordinates(geometry, return_index=True)
    parts, part_of = shapely.get_parts(geometry, return_index=True)
    rings, ring_part = shapely.get_rings(parts, return_index=True)
    del points, owner
    points, ring = shapely.get_coordinates(rings, return_index=True)
    step = np.abs(np.diff(points[:, 0]))
    jump = (ring[1:] == ring[:-1]) & (step > 180) & (np.abs(step - 360) > 1e-9)
    return sorted(set(part_of[ring_part[ring[1:][jump]]].tolist()))


def _across(shape: shapely.Geometry) -> tuple[shapely.Geometry, str]:
    """A shape whose rings jump over the antimeridian, made to run on across it."""
    what = "crosses the antimeridian, joined across it"
    parts = []
    for part in shapely.get_parts(shape):
        shell, polar = _run_on(shapely.get_coordinates(part.exterior))
        if polar:
            what = "goes round a pole, closed over it"
        centre = shell[:, 0].mean()
        holes = []
        for hole in part.interiors:
            points, _ = _run_on(shapely.get_coordinates(hole))
            points[:, 0] += 360 * np.rint((centre - points[:, 0].mean()) / 360)
            holes.append(points)
        parts.append(shapely.Polygon(shell, holes))
    return (parts[0] if len(parts) == 1 else shapely.MultiPolygon(parts)), what


def _run_on(points: np.ndarray) -> tuple[np.ndarray, bool]:
    """A ring without jumps; one that does not come back to its start goes round a pole."""
    out = points.copy()
    step = np.diff(out[:, 0])
    out[1:, 0] -= 360 * np.cumsum(np.where(np.abs(step) > 180, np.rint(step / 360), 0))
    if abs(out[-1, 0] - out[0, 0]) < 180:
        return out, False
    pole = 90.0 if out[:, 1].mean() > 0 else -90.0
    cap = [[out[-1, 0], pole], [out[0, 0], pole], out[0].tolist()]
    return np.vstack([out, cap]), True
