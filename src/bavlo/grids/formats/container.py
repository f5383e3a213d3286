"""The variables of an open file, as the conventions for climate data (CF) tell them apart."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.grids.formats.packing import Attributes
from bavlo.grids.formats.times import DATES_AS_NUMBERS

KNOWN_LONLAT = ("xlong", "xlat", "lon", "lat", "longitude", "latitude", "nav_lon", "nav_lat")
TEXT_TIMES = ("times", "time", "date", "dates")  # names of dates that are written as text
PARTS_OF_DATES = ("year", "month", "day")  # names of the parts of dates that stand by themselves
NO_VALID_TIME = ("forecast_reference_time", "forecast_period")  # times that values are not of


@dataclass(frozen=True, eq=False)
class Stored:
    """A variable as it is stored.

    Parameters
    ----------
    name
        With its groups: `model/rain`.
    chunks
        Stored chunk along each dimension; None where it is not chunked.
    read
        From slices and indices to the stored numbers.
    keep
        Told how many bytes of chunks are worth keeping between reads.
    default_fill
        What the format writes where nothing was written.
    is_hdf5
        Whether its file is HDF5.
    """

    name: str
    dimensions: tuple[str, ...]
    shape: tuple[int, ...]
    dtype: np.dtype | None
    attributes: Mapping[str, Any]
    chunks: tuple[int, ...] | None
    read: Callable[[Any], np.ndarray]
    keep: Callable[[int], None] = field(default=lambda size: None)
    default_fill: float | None = None
    is_hdf5: bool = False

    @property
    def group(self) -> str:
        """The groups around it."""
        return self.name.rpartition("/")[0]

    @property
    def is_text(self) -> bool:
        """Whether it holds characters or whole texts."""
        return self.dtype is None or self.dtype.kind == "S"

    def text(self, name: str) -> str:
        """An attribute as text, empty where there is none."""
        return str(self.attributes.get(name, "")).strip()


class Container(dict[str, Stored]):
    """The variables of an open file by their full names."""

    def near(self, variable: Stored, name: str) -> Stored | None:
        """A variable by its short name, in the group of another or those around it."""
        group = variable.group
        while True:
            found = self.get(f"{group}/{name}" if group else name)
            if found is not None or not group:
                return found
            group = group.rpartition("/")[0]

    def coordinate(self, variable: Stored, dimension: str) -> Stored | None:
        """The coordinate variable of a dimension."""
        found = self.near(variable, dimension)
        return found if found is not None and found.dimensions == (dimension,) else None

    def times_of(self, variable: Stored, dimension: str) -> Stored | None:
        """What tells the times along a dimension; None where nothing does.

        Its coordinate variable; else one that `coordinates` or its standard name makes the time of
        the values, dates written as text, or their parts as numbers.
        """
        own = self.coordinate(variable, dimension)
        if own is not None and axis_of(dimension, own.attributes) != "time":
            own = None
        if own is not None and own.text("standard_name") not in NO_VALID_TIME and own.text("units"):
            return own
        along = [other for other in self.values() if other.dimensions[:1] == (dimension,)]
        named = [self.near(variable, name) for name in variable.text("coordinates").split()]
        for other in along:
            is_time = other in named and axis_of("", other.attributes) == "time"
            is_time = is_time or other.text("standard_name") == "time"
            if is_time and other is not own and other.dimensions == (dimension,):
                return other
        short = {other.name.rpartition("/")[2].lower(): other for other in along}
        for name, other in short.items():
            if other.is_text and name in TEXT_TIMES:
                return other
        parts = [short[name] for name in PARTS_OF_DATES if name in short]
        numeric = all(p.dimensions == (dimension,) and p.dtype is not None for p in parts)
        if "month" in short and "year" in short and numeric:
            return parts_as_dates(parts)
        return own

    def names_along(self, dimension: str) -> list[str] | None:
        """The names that text gives to the places along a dimension; None where none does."""
        for other in self.values():
            if other.dimensions[:1] != (dimension,) or not other.is_text:
                continue
            rows = np.asarray(other.read(slice(None)))
            if rows.dtype.kind == "S":
                texts = [b"".join(np.ravel(row)).decode("utf-8", "replace") for row in rows]
            elif len(other.dimensions) == 1:
                texts = [str(text) for text in rows]
            else:
                continue
            return [text.strip("\x00 ") for text in texts]
        return None

    def moment_of(self, variable: Stored) -> Stored | None:
        """The time that `coordinates` names of all of a variable without a time axis."""
        named = [self.near(variable, name) for name in variable.text("coordinates").split()]
        scalars = [each for each in named if each is not None and not each.dimensions]
        return next((s for s in scalars if axis_of(s.name, s.attributes) == "time"), None)

    def curvilinear(self, variable: Stored) -> tuple[Stored, Stored] | None:
        """Two-dimensional longitude and latitude that `coordinates` names, or of known names.

        Known names count in whatever letters, in the group of the variable and those around it.
        Model output repeats them for every step; they must not move.
        """
        found: dict[str, Stored] = {}
        named = [self.near(variable, name) for name in variable.text("coordinates").split()]
        known = [
            other
            for other in self.values()
            if other.name.rpartition("/")[2].lower() in KNOWN_LONLAT
            and f"{variable.group}/".startswith(f"{other.group}/" if other.group else "")
        ]
        known.sort(key=lambda other: -len(other.group))
        for other in (*named, *known):
            if other is None or other.dtype is None or other.dtype.kind != "f":
                continue
            axis = axis_of(other.name, other.attributes)
            if axis in found or not set(other.dimensions) <= set(variable.dimensions):
                continue
            if len(other.shape) == 2:
                found[axis] = other
            elif len(other.shape) == 3 and other.dimensions[0] == variable.dimensions[0]:
                found[axis] = at_first_step(other)
        lon, lat = found.get("lon"), found.get("lat")
        if lon is None or lat is None or lon.dimensions != lat.dimensions:
            return None
        return (lon, lat) if set(lon.dimensions) <= set(variable.dimensions) else None


def parts_as_dates(parts: list[Stored]) -> Stored:
    """Years, months and perhaps days along one dimension as dates that are numbers, 201303."""

    def read(key: Any) -> np.ndarray:
        numbers = np.zeros(1, np.int64)
        for part in parts:
            numbers = numbers * 100 + np.asarray(part.read(key)).astype(np.int64)
        return numbers

    unit = "day as %Y%m%d" if len(parts) == len(PARTS_OF_DATES) else "month as %Y%m"
    return replace(parts[0], dtype=np.dtype(np.int64), attributes={"units": unit}, read=read)


Opener = Callable[[Path], AbstractContextManager[Container]]


def gridded(container: Container) -> Iterator[tuple[Stored, tuple[str, ...]]]:
    """Variables with a row and a column dimension, and the axis of each of their dimensions."""
    auxiliary = {
        name
        for v in container.values()
        for key in ("bounds", "coordinates", "ancillary_variables", "climatology")
        for name in v.text(key).split()
    }
    for variable in container.values():
        short = variable.name.rpartition("/")[2]
        if len(variable.shape) < 2 or variable.dtype is None or variable.dtype.kind not in "iuf":
            continue
        if short in auxiliary or short in variable.dimensions:
            continue
        if axis_of(variable.name, variable.attributes) in ("lon", "lat"):
            continue
        axes = [_axis(container, variable, dimension) for dimension in variable.dimensions]
        if "time" not in axes:  # a forecast run has its times along its steps
            axes = [
                "time" if not axis and container.times_of(variable, dimension) else axis
                for axis, dimension in zip(axes, variable.dimensions, strict=True)
            ]
        both = container.curvilinear(variable)
        if both is not None and not {"x", "y"} <= set(axes):
            rows, columns = both[0].dimensions
            axes = [
                {rows: "y", columns: "x"}.get(d, "" if a in ("x", "y") else a)
                for d, a in zip(variable.dimensions, axes, strict=True)
            ]
        if axes.count("y") == 1 and axes.count("x") == 1 and axes.count("time") <= 1:
            yield variable, tuple(axes)


def _axis(container: Container, variable: Stored, dimension: str) -> str:
    coordinate = container.coordinate(variable, dimension)
    if coordinate is None:
        return ""
    axis = axis_of(dimension, coordinate.attributes)
    return {"lat": "y", "lon": "x"}.get(axis, axis)


def at_first_step(variable: Stored) -> Stored:
    """A variable (T, y, x) as it is at its first step, which must be that of all others."""

    def read(key: Any) -> np.ndarray:
        every = np.asarray(variable.read((slice(None), *_both(key))))
        if not (every == every[:1]).all():
            raise ValueError(f"{variable.name} differs from step to step: its cells move")
        return np.asarray(every[0])

    return replace(
        variable, dimensions=variable.dimensions[1:], shape=variable.shape[1:], read=read
    )


def _both(key: Any) -> tuple[Any, ...]:
    return key if isinstance(key, tuple) else (key, slice(None))


LATITUDE = re.compile(r"^degrees?_?(north|n)$", re.IGNORECASE)


LONGITUDE = re.compile(r"^degrees?_?(east|e)$", re.IGNORECASE)


def axis_of(name: str, attributes: Attributes) -> str:
    """Which axis a coordinate variable is: lon, lat, x, y, time, or empty for any other."""
    unit = str(attributes.get("units", "")).strip()
    standard = str(attributes.get("standard_name", "")).lower()
    axis = str(attributes.get("axis", "")).upper()
    lower = name.rsplit("/", 1)[-1].lower()
    in_degrees = unit.lower() in ("", "degrees", "degree", "deg")
    if standard == "latitude" or LATITUDE.match(unit):
        return "lat"
    if standard == "longitude" or LONGITUDE.match(unit):
        return "lon"
    if standard in ("projection_x_coordinate", "projection_x_angular_coordinate", "grid_longitude"):
        return "x"
    if standard in ("projection_y_coordinate", "projection_y_angular_coordinate", "grid_latitude"):
        return "y"
    if standard == "time" or " since " in unit or (axis == "T" and not unit):
        return "time"
    if DATES_AS_NUMBERS.match(unit) or (lower == "time" and unit in ("", "1")):
        return "time"
    if lower in ("lat", "latitude", "nav_lat", "lats") and in_degrees:
        return "lat"
    if lower in ("lon", "long", "longitude", "nav_lon", "lons") and in_degrees:
        return "lon"
    if axis in ("X", "Y") or lower in ("x", "y", "easting", "northing"):
        letter = axis.lower() if axis in ("X", "Y") else {"e": "x", "n": "y"}.get(lower[0], lower)
        if in_degrees and unit:
            return {"x": "lon", "y": "lat"}[letter]
        return letter
    return ""
