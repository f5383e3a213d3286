"""Plain GeoJSON, without loading the vector library, which takes as long again as a small job.

Plain is what RFC 7946 describes and no more: one collection of features in longitude and latitude,
two coordinates a vertex, closed rings, and fields of one type that every feature has. All else is
left to the vector library, which also knows what to say about it.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from bavlo.files import check_regular
from bavlo.regions.features import Features

ENDINGS = (".geojson", ".json")
LARGEST = 2**25  # bytes; of a larger file the library's start is a small part
SYSTEM = "EPSG:4326"  # as the vector library names the one of RFC 7946
COLLECTION = {"type", "features", "name", "bbox"}
FEATURE = {"type", "properties", "geometry", "bbox"}
LIKE_A_DATE = re.compile(r"\d+[-/:]\d+")  # which the library would read as one
FEWEST_OF_RING = 4
LARGE_WHOLE = 2.0**53  # from which on the parser makes whole numbers to floats


def plain(path: Path) -> Features | None:
    """Read a plain GeoJSON file; None where it is not one.

    Fields and geometry are those that the vector library reads from the same file.
    """
    try:
        return _features(_loaded(path), path.stem)
    except (ValueError, TypeError, KeyError, shapely.errors.ShapelyError):
        return None  # the vector library reads it, or tells what is wrong


def count_of(path: Path) -> int | None:
    """How many features a collection lists, whatever they are; None where it is no collection.

    The vector library leaves out without a word what is no feature.
    """
    try:
        found = _loaded(path)
    except ValueError:
        return None
    listed = found.get("features") if type(found) is dict else None
    return len(listed) if type(listed) is list else None


def _loaded(path: Path) -> Any:
    """What the text of a file says; None of another kind of file, or a large one."""
    if path.suffix.lower() not in ENDINGS:
        return None
    check_regular(path)
    try:
        if not path.is_file() or path.stat().st_size > LARGEST:
            return None
        content = path.read_bytes()
    except OSError:
        return None
    import orjson

    return orjson.loads(content)


def _features(found: Any, stem: str) -> Features | None:
    if type(found) is not dict or found["type"] != "FeatureCollection" or found.keys() - COLLECTION:
        return None
    each = found["features"]
    layer = found.get("name", stem)
    if not each or type(layer) is not str or not layer:
        return None
    names = list(each[0]["properties"])
    for feature in each:
        if feature["type"] != "Feature" or feature.keys() - FEATURE:
            return None
        if list(feature["properties"]) != names:
            return None
    fields = {name: _column([f["properties"][name] for f in each]) for name in names}
    shapes = [_shape(**feature["geometry"]) for feature in each]
    if any(column is None for column in fields.values()) or None in shapes:
        return None
    geometry = np.empty(len(shapes), object)
    geometry[:] = shapes
    return Features(
        geometry, {n: c for n, c in fields.items() if c is not None}, SYSTEM, "GeoJSON", layer
    )


def _column(values: Sequence[object]) -> np.ndarray | None:
    """Values of a field, all of one type; None where they are not, or might be dates."""
    (kind, *others) = {type(value) for value in values}
    if others:
        return None
    if kind is str and not any(LIKE_A_DATE.search(str(value)) for value in values):
        return np.array(values, object)
    if kind is float:
        numbers = np.array(values, np.float64)
        return numbers if (np.abs(numbers) < LARGE_WHOLE).all() else None
    if kind is int:
        whole = np.array(values)
        limits = np.iinfo(np.int32)
        if whole.dtype == np.int64:
            is_short = limits.min <= whole.min() and whole.max() <= limits.max
            return whole.astype(np.int32) if is_short else whole
    return None


def _shape(type: str, coordinates: Any) -> Any:
    if type == "Point":
        return shapely.Point(_vertices([coordinates])[0])
    if type == "Polygon":
        return _polygon(coordinates)
    if type == "MultiPolygon" and coordinates:
        return shapely.MultiPolygon([_polygon(each) for each in coordinates])
    return None


def _polygon(rings: Any) -> Any:
    outer, *holes = [_ring(ring) for ring in rings]
    return shapely.Polygon(outer, holes)


def _ring(coordinates: Any) -> np.ndarray:
    ring = _vertices(coordinates)
    if len(ring) < FEWEST_OF_RING or not np.array_equal(ring[0], ring[-1]):
        raise ValueError("a ring that is not closed")
    return ring


def _vertices(coordinates: Any) -> np.ndarray:
    vertices = np.array(coordinates, np.float64)
    if vertices.ndim != 2 or vertices.shape[1] != 2:
        raise ValueError("vertices of other than two coordinates")
    return vertices
