"""What a file that follows the CF conventions tells of a variable: its cells, times and levels."""

from __future__ import annotations

import re
import warnings
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from bavlo.core.space.layout import CurvilinearLayout, GridLayout, edges_from_centres
from bavlo.core.time.steps import is_cycle_without_year
from bavlo.core.values.kinds import RATE, Variable
from bavlo.core.values.units import depth_factor, stated_unit
from bavlo.errors import BavloWarning, InputError
from bavlo.grids.formats.container import Container, Stored, axis_of
from bavlo.grids.formats.packing import packing_from
from bavlo.grids.formats.times import decode_times, written_times
from bavlo.grids.source import RawTimes

CALENDARS = {
    "": "standard",
    "none": "standard",
    "gregorian": "standard",
    "360": "360_day",
    "365": "noleap",
    "365_day": "noleap",
    "366": "all_leap",
    "366_day": "all_leap",
}

DAILY_MEANS = "avgad"  # the GRIB step type of means of daily totals
# Cell methods that GRIB step types stand for, where only these are given.
STEP_TYPES = {
    "accum": "time: sum",
    "avg": "time: mean",
    "avgas": "time: mean",
    "avgid": "time: mean",
    "avgia": "time: mean",
    "instant": "time: point",
    "max": "time: maximum",
    "min": "time: minimum",
}


def plain_numbers(values: np.ndarray) -> np.ndarray:
    """Coordinates as float64; float32 ones as the decimal number that they were written for."""
    if values.dtype == np.float32:
        return np.array([float(str(v)) for v in values], np.float64)
    return values.astype(np.float64)


def cell_edges(
    centres: np.ndarray, bounds: np.ndarray | None, axis: str, where: object
) -> np.ndarray:
    """Edges of the cells along one axis, from the file's bounds where they join up.

    Parameters
    ----------
    centres : (N,) float64
    bounds : (N, 2) float64 or None
    axis
        As of `axis_of`; latitudes never go beyond a pole.
    """
    limit = 90.0 if axis == "lat" else None
    if not np.isfinite(centres).all():
        raise InputError(where, f"the {axis} coordinate has missing values", "repair the file")
    if axis == "lon" and centres.size > 1:
        centres = unwrapped(centres)
    steps = np.diff(centres)
    if steps.size and not ((steps > 0).all() or (steps < 0).all()):
        raise InputError(
            where, f"the {axis} coordinate neither rises nor falls throughout", "sort the file"
        )
    if bounds is not None and np.isfinite(bounds).all():
        edges = _joined_bounds(bounds, centres)
        if edges is not None:
            return edges
        warnings.warn(
            f"{where}: the bounds of {axis} do not join up or do not hold their centres, and are "
            "left out of account: cells reach halfway to the next centre",
            BavloWarning,
            stacklevel=2,
        )
    if centres.size < 2:
        raise InputError(
            where,
            f"there is one {axis} only and no bounds, so the size of its cell is unknown",
            f"add bounds to the {axis} coordinate",
        )
    return edges_from_centres(centres, limit)


def _joined_bounds(bounds: np.ndarray, centres: np.ndarray) -> np.ndarray | None:
    """Bounds as one row of edges, or None where cells do not touch each other."""
    low, high = bounds.min(axis=1), bounds.max(axis=1)
    falling = centres.size > 1 and centres[1] < centres[0]
    starts, stops = (high, low) if falling else (low, high)
    size = np.median(high - low)
    if size <= 0 or (np.abs(starts[1:] - stops[:-1]) > 1e-3 * size).any():
        return None
    edges = np.append(starts, stops[-1])
    steps = np.diff(edges)
    holds = ((centres >= low - 1e-3 * size) & (centres <= high + 1e-3 * size)).all()
    return edges if holds and ((steps > 0).all() or (steps < 0).all()) else None


def unwrapped(longitudes: np.ndarray) -> np.ndarray:
    """Longitudes that jump by a whole turn (…, 179, -179, …) made to run on."""
    steps = np.diff(longitudes)
    turns = np.where(steps < -180, 1, np.where(steps > 180, -1, 0))
    return longitudes + 360.0 * np.concatenate([[0], np.cumsum(turns)])


# Lengths of grid mappings, and metres up to which one is as CF has it, beyond which it is none on
# Earth, and from which on a number may be metres.
LENGTHS = ("false_easting", "false_northing")
FARTHEST, BEYOND, NEAREST = 1.1e7, 4.5e7, 1.1e4
RADIANS = ("rad", "radian", "radians")
PLAIN_UNITS = ("", "1", *RADIANS, "m", "metre", "meter", "metres", "meters")
YEAR_ZERO = re.compile(r"since\s+0{1,4}-")


def described(variable: Stored) -> Variable:
    """Name, unit, kind and meaning of a variable, as its attributes tell them."""
    unit, kind, evidence = stated_unit(variable.text("units")), "", ""
    if variable.text("GRIB_stepType") == DAILY_MEANS and depth_factor(unit or "1") is not None:
        unit, kind, evidence = f"{unit} day-1", RATE, "step type avgad, means of daily totals"
    return Variable(
        variable.name,
        unit,
        variable.text("standard_name"),
        variable.text("long_name"),
        variable.text("cell_methods") or STEP_TYPES.get(variable.text("GRIB_stepType"), ""),
        _flags(variable),
        "difference" in variable.text("units_metadata"),
        kind,
        evidence,
    )


def _flags(variable: Stored) -> tuple[tuple[int, str], ...]:
    """Class codes and their meanings (CF-1.11, section 3.5)."""
    values = np.ravel(variable.attributes.get("flag_values", []))
    meanings = variable.text("flag_meanings").split()
    if not values.size or len(meanings) != values.size:
        return ()
    return tuple((int(v), m.replace("_", " ")) for v, m in zip(values, meanings, strict=True))


def check_sizes(path: Path, container: Container, variable: Stored) -> None:
    """Refuse coordinates of other lengths than their dimension, which some formats allow."""
    for dimension, size in zip(variable.dimensions, variable.shape, strict=True):
        coordinate = container.coordinate(variable, dimension)
        if coordinate is not None and coordinate.shape != (size,) and len(coordinate.shape) == 1:
            raise InputError(
                path,
                f"variable {variable.name} has {size} along {dimension}, whose coordinate has "
                f"{coordinate.shape[0]}",
                "give it a coordinate of that length, or take the coordinate away",
            )


def further_values(
    container: Container, variable: Stored, dimension: str, size: int
) -> Sequence[float | str]:
    """The values or names along a further dimension; its positions, from 1 on, without either."""
    coordinate = container.coordinate(variable, dimension)
    if coordinate is None or coordinate.dtype is None or coordinate.dtype.kind not in "iuf":
        return container.names_along(dimension) or list(range(1, size + 1))
    return [float(n) for n in numbers_of(coordinate)]


def layout_of(
    path: Path, container: Container, variable: Stored, axes: tuple[str, ...]
) -> GridLayout:
    """The cells of a variable.

    Parameters
    ----------
    axes
        Of its dimensions: "time", "y", "x" and others.

    Raises
    ------
    InputError
        Where nothing tells where they are.
    """
    dimensions = dict(zip(axes, variable.dimensions, strict=True))
    x = container.coordinate(variable, dimensions["x"])
    y = container.coordinate(variable, dimensions["y"])
    lonlat = x is not None and axis_of(x.name, x.attributes) == "lon"
    # Longitudes and latitudes are what they say, even with a grid mapping beside them.
    named = container.near(variable, variable.text("grid_mapping").split(":")[0].strip())
    height = 1.0  # of a satellite that scans in radians (CF-1.11, appendix F, geostationary)
    if named is not None and x is not None and x.text("units") in RADIANS:
        height = float(named.attributes.get("perspective_point_height", 1.0))
    scales = [1.0 if lonlat or each is None else _metres(path, each) for each in (x, y)]
    mapping = _mapping(path, container, variable, scales[0])
    both = container.curvilinear(variable)
    if both is not None and not lonlat and (mapping is None or x is None or y is None):
        return _curvilinear(path, container, *both)
    if x is None or y is None:
        raise InputError(path, f"variable {variable.name} lacks coordinates of its rows or columns")
    if not lonlat and mapping is None:
        raise InputError(
            path,
            f"variable {variable.name} is not on longitude and latitude and has no grid mapping",
            "add a grid mapping with its reference system to the file",
        )
    return GridLayout(
        _edges(path, container, x) * scales[0] * height,
        _edges(path, container, y) * scales[1] * height,
        "lonlat" if lonlat else str(mapping),
    )


def numbers_of(coordinate: Stored, parent: Stored | None = None) -> np.ndarray:
    """The values of a coordinate or its bounds as float64, unpacked; NaN where there are none.

    Parameters
    ----------
    parent
        Of bounds, the coordinate whose packing they share where they have none of their own.
    """
    stored = np.asarray(coordinate.read(slice(None)))
    told = coordinate
    if parent is not None and not {"scale_factor", "add_offset"} & set(coordinate.attributes):
        told = parent
    how = packing_from(told.attributes, stored.dtype, None)
    if how.scale is None and how.offset is None:
        numbers = plain_numbers(stored.ravel()).reshape(stored.shape)
        absent = how.absent(stored)
        if absent is not None:
            numbers[absent] = np.nan
        return numbers
    return how.decode(stored)


def _metres(path: Path, coordinate: Stored) -> float:
    """What projected coordinates are multiplied by to be in metres; 1 for rotated degrees."""
    unit = coordinate.text("units")
    if unit in PLAIN_UNITS or unit.startswith("deg"):
        return 1.0
    from bavlo.core.values.units import read_unit

    return float(read_unit(unit, path).convert(1.0, "m"))


def _edges(path: Path, container: Container, coordinate: Stored) -> np.ndarray:
    axis = axis_of(coordinate.name, coordinate.attributes)
    centres = numbers_of(coordinate)
    bounds = None
    named = container.near(coordinate, coordinate.text("bounds"))
    if named is not None and named.shape == (centres.size, 2):
        bounds = numbers_of(named, coordinate)
    return cell_edges(centres, bounds, axis, path)


def _curvilinear(path: Path, container: Container, lon: Stored, lat: Stored) -> GridLayout:
    """Cells by their own corners: from bounds where given, else between the centres."""
    corners = []
    for coordinate in (lon, lat):
        values = numbers_of(coordinate)
        named = container.near(coordinate, coordinate.text("bounds"))
        if named is not None and named.shape == (*values.shape, 4):
            values = numbers_of(named, coordinate)
        absent = int((~np.isfinite(values)).sum())
        if absent:
            raise InputError(
                path,
                f"{coordinate.name} has {absent} missing values, so that cells have no place",
                "give the file with all coordinates, or with bounds that have no gaps",
            )
        corners.append(values)
    if corners[0].ndim != corners[1].ndim:
        raise InputError(path, f"only one of {lon.name} and {lat.name} has bounds")
    return CurvilinearLayout.from_centres_or_corners(corners[0], corners[1])


def _in_metres(path: Path, name: str, length: float, metres: float) -> float:
    """A length of a grid mapping in metres, where coordinates are in another unit.

    By CF it is of their unit; files that give metres are told by what would be beyond the Earth.

    Raises
    ------
    InputError
        Where it could be either.
    """
    by_cf = length * metres
    if length == 0 or (abs(by_cf) <= FARTHEST and abs(length) < NEAREST):
        return by_cf
    if abs(by_cf) > BEYOND:
        return length
    raise InputError(
        path,
        f"its grid mapping has {name} = {length:g}, which may be metres or the unit of its axes",
        "write it in the unit of the axes, or the axes in metres",
    )


def times_of(path: Path, container: Container, variable: Stored, dimension: str) -> RawTimes:
    """The time stamps of a variable along a dimension, with bounds where the file has them."""
    coordinate = container.times_of(variable, dimension)
    assert coordinate is not None
    return raw_times(path, container, variable, coordinate)


def raw_times(path: Path, container: Container, variable: Stored, coordinate: Stored) -> RawTimes:
    """The time stamps that a coordinate of a variable holds: many, or one of a scalar."""
    if coordinate.is_text:
        texts = np.asarray(coordinate.read(slice(None)))
        return RawTimes(written_times(texts, path), None, "standard")
    unit = coordinate.text("units")
    given = coordinate.text("calendar").lower()
    calendar = CALENDARS.get(given, given)
    if calendar == "standard" and YEAR_ZERO.search(unit):
        calendar = "proleptic_gregorian"  # the standard calendar has no year 0
    numbers = _time_numbers(coordinate)
    written = _written(numbers, coordinate)
    stamps = decode_times(numbers[:written], unit, calendar, path)
    bounds = None
    named = container.near(coordinate, coordinate.text("bounds"))
    if named is not None and named.shape == (numbers.size, 2):
        both = _time_numbers(named, coordinate)[:written]
        bounds = decode_times(both, named.text("units") or unit, calendar, path)
    return RawTimes(
        stamps,
        bounds,
        calendar,
        bool(coordinate.text("climatology")) or is_cycle_without_year(stamps, calendar),
        variable.text("GRIB_stepType") == "accum",
        unwritten=numbers.size - written,
    )


def _written(numbers: np.ndarray, coordinate: Stored) -> int:
    """How many times stand before those at the end that were never written."""
    marks = [coordinate.attributes.get(name) for name in ("_FillValue", "missing_value")]
    fills = [float(np.ravel(n)[0]) for n in (*marks, coordinate.default_fill) if n is not None]
    floats = numbers.astype(np.float64)
    last = np.flatnonzero(np.isfinite(floats) & ~np.isin(floats, fills))
    return int(last[-1]) + 1 if last.size else numbers.size


def _time_numbers(coordinate: Stored, parent: Stored | None = None) -> np.ndarray:
    """Times as they are stored, or unpacked where they are packed."""
    told = (coordinate, *([parent] if parent is not None else []))
    packed = any({"scale_factor", "add_offset"} & set(each.attributes) for each in told)
    if packed and coordinate.dimensions:
        return numbers_of(coordinate, parent)
    return np.atleast_1d(coordinate.read(slice(None) if coordinate.dimensions else ()))


def _mapping(path: Path, container: Container, variable: Stored, metres: float = 1.0) -> str | None:
    """The reference system that the grid mapping names, as WKT.

    Parameters
    ----------
    metres
        What coordinates are multiplied by to be in metres; the lengths of the mapping are of their
        unit (CF-1.11, appendix F), unless they could not be.
    """
    name = variable.text("grid_mapping").split(":")[0].strip()
    mapping = container.near(variable, name) if name else None
    if mapping is None:
        return None
    import pyproj

    attributes = dict(mapping.attributes)
    for length in LENGTHS:
        if metres != 1.0 and length in attributes:
            attributes[length] = _in_metres(path, length, float(attributes[length]), metres)
    try:
        return str(pyproj.CRS.from_cf(attributes).to_wkt())
    except (pyproj.exceptions.CRSError, KeyError, TypeError) as error:
        raise InputError(path, f"the grid mapping {name} cannot be read: {error}") from error
