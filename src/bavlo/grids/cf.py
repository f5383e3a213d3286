"""The CF conventions that grid formats share: packing, coordinates, time."""

from __future__ import annotations

import functools
import re
import warnings
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import cftime
import numpy as np

from bavlo.core.space.layout import edges_from_centres
from bavlo.core.time.axis import EPOCH, SECOND, to_instant, to_instants
from bavlo.core.values.missing import stored_as
from bavlo.errors import BavloWarning, InputError, refused_by_system

FIRST_DATE, LAST_DATE = 15000101, 23001231  # numbers that may be dates
LATITUDE = re.compile(r"^degrees?_?(north|n)$", re.IGNORECASE)
LONGITUDE = re.compile(r"^degrees?_?(east|e)$", re.IGNORECASE)
FIXED_SINCE = re.compile(
    r"^\s*(days?|d|hours?|hrs?|hr?|h|minutes?|mins?|min|seconds?|secs?|sec|s)\s+since\s+(.*)$",
    re.IGNORECASE,
)
FIXED_UNITS = {"d": 86400, "h": 3600, "m": 60, "s": 1}
CALENDAR_SINCE = re.compile(r"^\s*(months?|years?)\s+since\s+(.*)$", re.IGNORECASE)

DATES_AS_NUMBERS = re.compile(r"^(day|days|month|year)s? as (%Y(?:%m(?:%d)?)?)(?:\.%f)?$")
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

# What the netCDF library writes where nothing was written (netcdf.h, NC_FILL_*).
DEFAULT_FILLS = {
    "i2": -(2**15) + 1,
    "u2": 2**16 - 1,
    "i4": -(2**31) + 1,
    "u4": 2**32 - 1,
    "i8": -(2**63) + 2,
    "u8": 2**64 - 2,
    "f4": float.fromhex("0x1.ep+122"),
    "f8": float.fromhex("0x1.ep+122"),
}

WRITTEN_TIME = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)(?:[T_ ](\d\d)(?::(\d\d))?(?::(\d\d)(?:\.\d*)?)?Z?)?"
)

# The usual date of reference, which needs no parser of all others.
PLAIN_REFERENCE = re.compile(r"([1-9]\d{3})-(\d\d?)-(\d\d?)(?:[T ]0?0:0?0(?::0?0)?)?", re.ASCII)

# The hours before or after UTC behind the time of reference (CF-1.11, section 4.4).
ZONE = re.compile(r"(?:(?<=:\d\d)|(?<=\s))([+-])(\d{1,2})(?::?(\d\d))?$", re.ASCII)

Attributes = Mapping[str, Any]


def default_fill(dtype: np.dtype) -> float | None:
    """What stands in a NetCDF file where nothing was written; None for a type without."""
    return DEFAULT_FILLS.get(dtype.newbyteorder("=").str[1:])


@dataclass(frozen=True)
class Packing:
    """How stored numbers become values (CF-1.11, sections 2.5.1 and 8.1).

    Parameters
    ----------
    scale, offset
        value = stored × scale + offset; None where the file has no such attribute.
    missing
        Stored numbers that mean no data.
    lowest, highest
        Stored numbers outside of these mean no data.
    unsigned
        The stored integers are to be taken as unsigned.
    marks
        Stored numbers that mean no data though the file does not declare them.
    watched
        Stored numbers, ascending, that the variable cannot have as values. None was there when a
        sample was looked at; meeting one is an error.
    where
        The file, for that error.
    """

    scale: float | None = None
    offset: float | None = None
    missing: tuple[float, ...] = ()
    lowest: float | None = None
    highest: float | None = None
    unsigned: bool = False
    marks: tuple[float, ...] = ()
    watched: tuple[float, ...] = ()
    where: str = field(default="", compare=False)

    @property
    def is_plain(self) -> bool:
        """Whether stored numbers are the values."""
        return self.scale is None and self.offset is None and not self.unsigned

    def as_stored(self, stored: np.ndarray) -> np.ndarray:
        """Stored numbers as what they are meant to be."""
        if self.unsigned and stored.dtype.kind == "i":
            return stored.view(f"{stored.dtype.byteorder}u{stored.dtype.itemsize}")
        return stored

    def absent(self, stored: np.ndarray, ends: tuple[Any, Any] | None = None) -> np.ndarray | None:
        """Where numbers of `as_stored` mean no data; None where none does.

        Numbers beyond the lowest and the highest are not looked for, which is thrice as fast.

        Parameters
        ----------
        ends
            The lowest and the highest of the numbers, where they are known.
        """
        numbers = [stored.dtype.type(n) for n in (*self.missing, *self.marks) if n == n]
        bounded = self.lowest is not None or self.highest is not None
        if not stored.size or not (numbers or self.watched or bounded):
            return None
        # NaN where one is, so that no comparison holds.
        low, high = ends or (stored.min(), stored.max())
        flags = [stored == n for n in numbers if not (n < low or n > high)]
        if self.lowest is not None and not low >= self.lowest:
            flags.append(stored < self.lowest)
        if self.highest is not None and not high <= self.highest:
            flags.append(stored > self.highest)
        found = functools.reduce(np.logical_or, flags) if flags else None
        watched = np.array(self.watched, stored.dtype.newbyteorder("="))
        negative, positive = watched[watched < 0], watched[watched > 0]
        if negative.size and not low > negative[-1]:
            self._refuse_marks(stored, negative, stored <= negative[-1], found)
        if positive.size and not high < positive[0]:
            self._refuse_marks(stored, positive, stored >= positive[0], found)
        return found

    def _refuse_marks(
        self,
        stored: np.ndarray,
        marks: np.ndarray,
        suspect: np.ndarray,
        absent: np.ndarray | None,
    ) -> None:
        """Refuse numbers that are none of the variable, where any of the suspect ones is."""
        if not suspect.any():
            return
        if absent is not None:
            suspect &= ~absent
        met = marks[[bool((stored[suspect] == mark).any()) for mark in marks]]
        if met.size:
            value = replace(self, watched=()).decode(met[:1])[0]
            raise InputError(
                self.where,
                f"holds {value:.6g}, which this variable cannot be, which the file does not "
                "declare to be missing, and which a sample of its steps did not hold",
                f"say ‹missing {value:.6g}› if it means no data, or ‹missing none›",
            )

    def decode(self, stored: np.ndarray, values: np.ndarray | None = None) -> np.ndarray:
        """Values as float64, NaN where there is no data; into an array of that shape if given.

        Numbers that are values themselves may be given as that array, too.
        """
        stored = self.as_stored(stored)
        if values is None:
            values = np.empty(stored.shape)
        absent = self.absent(stored)
        if self.scale is not None:  # a float64, so that float32 numbers are not multiplied as such
            np.multiply(stored, np.float64(self.scale), out=values)
        elif values is not stored:
            np.copyto(values, stored)
        if absent is not None:
            np.copyto(values, np.nan, where=absent)
        if self.offset is not None:
            values += self.offset
        return values


def packing(attributes: Attributes, dtype: np.dtype, default_fill: float | None) -> Packing:
    """Read the packing attributes of a variable.

    Parameters
    ----------
    default_fill
        What the format writes where nothing was written, if the variable names no fill value.
    """

    def number(name: str) -> float | None:
        value = attributes.get(name)
        return None if value is None else float(np.ravel(value)[0])

    unsigned = str(attributes.get("_Unsigned", "false")).lower() == "true"
    missing: list[float] = []
    for name in ("_FillValue", "missing_value"):
        if name in attributes:
            kind = dtype
            if unsigned and dtype.kind == "i":
                kind = np.dtype(f"{dtype.byteorder}u{dtype.itemsize}")
            for value in np.ravel(attributes[name]):
                try:
                    with np.errstate(over="ignore"):
                        missing.append(float(np.asarray(value).astype(dtype).view(kind)))
                except (TypeError, ValueError):
                    continue  # text such as "none": it can equal no stored number
    if "_FillValue" not in attributes and default_fill is not None:
        missing.append(float(default_fill))
    scale, offset = number("scale_factor"), number("add_offset")
    lowest, highest = number("valid_min"), number("valid_max")
    ranged = [name for name in ("valid_min", "valid_max") if name in attributes]
    if "valid_range" in attributes and np.size(attributes["valid_range"]) == 2:
        lowest, highest = (float(v) for v in np.ravel(attributes["valid_range"]))
        ranged = ["valid_range"]
    if scale is not None and (scale == 0 or not np.isfinite(scale)):
        raise ValueError(f"its scale_factor is {scale:g}, by which nothing can be unpacked")
    if offset is not None and not np.isfinite(offset):
        raise ValueError(f"its add_offset is {offset:g}, which is no number")
    if any(_is_unpacked(attributes[name], dtype, scale, offset) for name in ranged):
        limited = Packing(scale, offset, lowest=lowest, highest=highest)
        limited = limits_of_values(limited, dtype)
        lowest, highest = limited.lowest, limited.highest
    for name in ("_FillValue", "missing_value"):
        if name in attributes and _is_unpacked(attributes[name], dtype, scale, offset):
            for value in np.ravel(attributes[name]).astype(np.float64).tolist():
                missing += stored_as(value, dtype, scale, offset)
    return Packing(
        scale,
        offset,
        tuple(dict.fromkeys(missing)),
        lowest,
        highest,
        unsigned,
    )


def _is_unpacked(value: Any, dtype: np.dtype, scale: float | None, offset: float | None) -> bool:
    """Whether a limit or missing value of packed integers is meant as a value, not as it is stored.

    Either it is of a wider type than they are (NetCDF Users' Guide, appendix A), or they cannot
    hold it.
    """
    if dtype.kind not in "iu" or (scale is None and offset is None):
        return False
    found = np.ravel(value)
    if found.dtype.kind not in "iuf":
        return False
    limits = np.iinfo(dtype)
    numbers = found.astype(np.float64)
    return bool(
        found.dtype.kind == "f" or (numbers < limits.min).any() or (numbers > limits.max).any()
    )


def limits_of_values(packing: Packing, dtype: np.dtype) -> Packing:
    """A packing whose limits are those of values, though they stand in the type of the stored."""
    ends = [
        _as_packed(end, dtype, packing.scale, packing.offset)
        for end in (packing.lowest, packing.highest)
    ]
    lowest, highest = ends if (packing.scale or 1.0) > 0 else ends[::-1]
    return replace(packing, lowest=lowest, highest=highest)


def _as_packed(
    value: float | None, dtype: np.dtype, scale: float | None, offset: float | None
) -> float | None:
    """A limit of values as one of stored integers, a little wider for what rounding takes."""
    if value is None:
        return None
    packed = (value - (offset or 0.0)) / (scale or 1.0)
    return float(np.rint(packed)) if abs(packed - np.rint(packed)) < 1e-3 else packed


def with_missing(
    packing: Packing, dtype: np.dtype, missing: tuple[float, ...] | None, where: object
) -> Packing:
    """A packing that takes further numbers for missing, stored or as they read.

    Parameters
    ----------
    missing
        As the user says; None where nothing was said.
    where
        The file.
    """
    marks = [
        stored
        for number in missing or ()
        for stored in stored_as(number, dtype, packing.scale, packing.offset)
    ]
    return replace(packing, marks=tuple(dict.fromkeys(marks)), where=str(where))


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
    if standard in ("projection_x_coordinate", "grid_longitude"):
        return "x"
    if standard in ("projection_y_coordinate", "grid_latitude"):
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


def decode_times(values: np.ndarray, unit: str, calendar: str, where: object) -> np.ndarray:
    """Numbers since a date as instants.

    Parameters
    ----------
    values : float or int array of any shape
    unit
        `days since 1991-01-01` and the like; months and years are those of the calendar.
    """
    values = np.asarray(values)
    if not np.isfinite(values.astype(np.float64)).all():
        raise InputError(where, "the time coordinate has missing values", "repair the file")
    if " since " not in unit:
        return _written_dates(values, unit, calendar, where)
    months = CALENDAR_SINCE.match(unit)
    fixed = FIXED_SINCE.match(unit)
    try:
        if months:
            return _calendar_since(values, months, calendar, where)
        if not fixed:
            raise ValueError("it is neither a fixed nor a calendar unit of time since a date")
        # Elapsed time is linear, so only the date of reference needs a calendar.
        seconds = FIXED_UNITS[fixed.group(1).lower()[0]]
        base = _reference(fixed.group(2).strip(), calendar)
        elapsed = np.rint(values.astype(np.float64) * seconds)
        if np.abs(elapsed).max(initial=0) > 1e12:
            raise ValueError("the times are beyond thirty thousand years")
        return base + elapsed.astype(np.int64) * SECOND
    except (ValueError, OverflowError) as error:
        raise InputError(
            where,
            f"the time unit '{unit}' ({calendar} calendar) cannot be read: {error}",
            "repair the units of the time coordinate",
        ) from error


def _reference(text: str, calendar: str) -> int:
    """The instant that times are counted from."""
    zone = ZONE.search(text)
    if zone:  # -6:00 is -06:00, of which the library reads only two digits
        sign, hours, minutes = zone.groups()
        text = f"{text[: zone.start()].rstrip()} {sign}{int(hours):02d}:{minutes or '00'}"
    plain = PLAIN_REFERENCE.fullmatch(text)
    if plain:
        year, month, day = (int(part) for part in plain.groups())
        return to_instant(calendar, year, month, day)
    origin = cftime.num2date(0, f"days since {text}", calendar=calendar)
    return int(cftime.date2num(origin, EPOCH, calendar=calendar))


def written_times(texts: np.ndarray, where: object) -> np.ndarray:
    """(T,) instants of dates that are written as text, `2013-03-05_06:00:00`.

    Parameters
    ----------
    texts : (T, L) or (T,) bytes
        Characters of each date, or whole ones.
    """
    joined = [b"".join(np.ravel(row)).decode("ascii", "replace").strip("\x00 ") for row in texts]
    out = []
    for text in joined:
        match = WRITTEN_TIME.fullmatch(text)
        try:
            if match is None:
                raise ValueError("it is not written as 2013-03-05_06:00:00")
            year, month, day, *clock = (int(part or 0) for part in match.groups())
            hours, minutes, seconds = clock
            instant = to_instant("standard", year, month, day)
            out.append(instant + (hours * 3600 + minutes * 60 + seconds) * SECOND)
        except ValueError as error:
            raise InputError(where, f"has a time '{text}' ({error})", "repair the file") from error
    return np.array(out, np.int64)


def _written_dates(values: np.ndarray, unit: str, calendar: str, where: object) -> np.ndarray:
    """Dates that are written as numbers: 20130305, with the time as a fraction of the day."""
    named = DATES_AS_NUMBERS.match(unit)
    numbers = values.astype(np.float64).ravel()
    whole = np.floor(numbers + 1e-9).astype(np.int64)
    form = named.group(2) if named else "%Y%m%d"
    parts = {
        "%Y%m%d": (whole // 10000, whole // 100 % 100, whole % 100),
        "%Y%m": (whole // 100, whole % 100, np.ones_like(whole)),
        "%Y": (whole, np.ones_like(whole), np.ones_like(whole)),
    }[form]
    try:
        if named is None and not ((whole >= FIRST_DATE) & (whole <= LAST_DATE)).all():
            raise ValueError("the numbers are no dates either")
        dates = np.stack(parts, axis=1).tolist()
        days = [to_instant(calendar, year, month, day) for year, month, day in dates]
    except ValueError as error:
        raise InputError(
            where,
            f"the time coordinate has no unit such as 'days since 1991-01-01' ({error})",
            "add it to the file",
        ) from error
    fraction = np.rint((numbers - whole) * 86400).astype(np.int64) * SECOND
    if form != "%Y%m%d":
        fraction[:] = 0
    return (np.array(days, np.int64) + fraction).reshape(values.shape)


def _calendar_since(
    values: np.ndarray, match: re.Match[str], calendar: str, where: object
) -> np.ndarray:
    per = 12 if match.group(1).lower().startswith("year") else 1
    count = values.astype(np.float64) * per
    base = cftime.num2date(0, f"days since {match.group(2)}", calendar=calendar)
    if calendar == "360_day":  # whose months all have 30 days, so that fractions are exact
        origin = int(cftime.date2num(base, EPOCH, calendar=calendar))
        return origin + np.rint(count * 30 * 86400).astype(np.int64) * SECOND
    if (np.abs(count - np.rint(count)) > 1e-6).any():
        raise InputError(
            where,
            f"the time coordinate has fractions of a {match.group(1)}, whose length is not given",
            "give the times in days since a date",
        )
    month = base.month - 1 + np.rint(count).astype(int)
    dates = [
        cftime.datetime(base.year + m // 12, m % 12 + 1, base.day, base.hour, calendar=calendar)
        for m in month.ravel().tolist()
    ]
    return to_instants(np.array(dates), calendar).reshape(values.shape)


# What libraries raise on files whose inside makes no sense.


def unreadable(path: Path, error: Exception) -> InputError:
    """What to say when a library gives up on a file in the middle."""
    if isinstance(error, UnicodeEncodeError):
        return InputError(path, "its name is not UTF-8", "rename it, or make a link to it")
    if isinstance(error, MemoryError):
        return InputError(path, "there is not enough memory to read it", "free some")
    if path.is_file():
        try:
            path.open("rb").close()
        except OSError as refused:  # the system's reason, which libraries often swallow
            return refused_by_system(path, refused)
    return InputError(
        path,
        f"cannot be read ({' '.join(str(error).split())})",
        "the file is damaged or incomplete: fetch it again",
    )
