"""Times of files as instants: numbers since a date, and dates written as text or numbers."""

from __future__ import annotations

import re

import cftime
import numpy as np

from bavlo.core.time.axis import EPOCH, SECOND, to_instant, to_instants
from bavlo.errors import InputError

FIRST_DATE, LAST_DATE = 15000101, 23001231  # numbers that may be dates


FIXED_SINCE = re.compile(
    r"^\s*(days?|d|hours?|hrs?|hr?|h|minutes?|mins?|min|seconds?|secs?|sec|s|"
    r"milliseconds?|ms|microseconds?|us|nanoseconds?|ns)\s+since\s+(.*)$",
    re.IGNORECASE,
)


# Seconds of a unit by how its name begins, the first that fits.
FIXED_UNITS = {
    "d": 86400, "h": 3600, "milli": 1e-3, "ms": 1e-3, "micro": 1e-6, "us": 1e-6, "n": 1e-9,
    "m": 60, "s": 1,
}  # fmt: skip


CALENDAR_SINCE = re.compile(r"^\s*(months?|years?)\s+since\s+(.*)$", re.IGNORECASE)


DATES_AS_NUMBERS = re.compile(r"^(day|days|month|year)s? as (%Y(?:%m(?:%d)?)?)(?:\.%f)?$")


WRITTEN_TIME = re.compile(
    r"(\d{4})-(\d\d)-(\d\d)(?:[T_ ](\d\d)(?::(\d\d))?(?::(\d\d)(?:\.\d*)?)?Z?)?"
)


# The usual date of reference, which needs no parser of all others.
PLAIN_REFERENCE = re.compile(r"([1-9]\d{3})-(\d\d?)-(\d\d?)(?:[T ]0?0:0?0(?::0?0)?)?", re.ASCII)


# The hours before or after UTC behind the time of reference (CF-1.11, section 4.4).
ZONE = re.compile(r"(?:(?<=:\d\d)|(?<=\s))([+-])(\d{1,2})(?::?(\d\d))?$", re.ASCII)


def decode_times(values: np.ndarray, unit: str, calendar: str, where: object) -> np.ndarray:
    """Numbers since a date as instants.

    Parameters
    ----------
    values : float or int array of any shape
    unit
        `days since 1991-01-01` and the like; months and years are those of the calendar, and a
        fraction is that part of the very month.
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
            return _calendar_since(values, months, calendar)
        if not fixed:
            raise ValueError("it is neither a fixed nor a calendar unit of time since a date")
        # Elapsed time is linear, so only the date of reference needs a calendar.
        name = fixed.group(1).lower()
        seconds = next(size for start, size in FIXED_UNITS.items() if name.startswith(start))
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
    texts : (T, L) or (T,) bytes, or (T,) object
        Characters of each date, or whole ones.
    """
    joined = [
        text.strip("\x00 ")
        for text in (
            row if isinstance(row, str) else b"".join(np.ravel(row)).decode("ascii", "replace")
            for row in texts
        )
    ]
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


def _calendar_since(values: np.ndarray, match: re.Match[str], calendar: str) -> np.ndarray:
    per = 12 if match.group(1).lower().startswith("year") else 1
    count = values.astype(np.float64).ravel() * per
    count = np.where(np.abs(count - np.rint(count)) < 1e-6, np.rint(count), count)
    whole = np.floor(count).astype(int)
    base = cftime.num2date(0, f"days since {match.group(2)}", calendar=calendar)
    months = base.month - 1 + np.stack([whole, whole + 1], axis=1)
    first, following = (
        to_instants(
            np.array(
                [
                    cftime.datetime(
                        base.year + m // 12, m % 12 + 1, base.day, base.hour, calendar=calendar
                    )
                    for m in column.tolist()
                ]
            ),
            calendar,
        )
        for column in months.T
    )
    part = np.rint((count - whole) * ((following - first) / SECOND)).astype(np.int64) * SECOND
    return np.asarray(first + part).reshape(values.shape)
