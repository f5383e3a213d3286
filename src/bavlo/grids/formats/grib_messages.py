"""The messages of a GRIB file: where each lies, what it holds and when it is valid.

Messages are found by the lengths that they state, and their dates and leads are read from their
sections, so that the library is asked once for all messages that differ in nothing else (WMO-No.
306, Manual on Codes, FM 92).
"""

from __future__ import annotations

import mmap
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.time.axis import DAY, HOUR, SECOND
from bavlo.errors import InputError

START, STOP = b"GRIB", b"7777"
UNITS = {0: 60 * SECOND, 1: HOUR, 2: DAY, 10: 3 * HOUR, 11: 6 * HOUR, 12: 12 * HOUR}
SECONDS_OF_EDITION = {1: 254, 2: 13}
INSTANTS, LONG_LEAD, RANGES = (0, 1), 10, (2, 3, 4, 5)  # time range indicators of edition 1
# Where the end of the time interval stands in section 4, by product template of edition 2.
END_OF_INTERVAL = {8: 34, 9: 47, 10: 35, 11: 37, 12: 36}
POINTS_IN_TIME = (0, 1, 2, 5, 6, 7, 15, 32, 40, 60)  # product templates without an interval
KEYS = ("shortName", "units", "cfName", "name", "stepType", "typeOfLevel", "level")
UNKNOWN = "unknown"


@dataclass(frozen=True)
class Header:
    """What messages that differ in date and lead only have in common.

    Parameters
    ----------
    name, unit, standard_name, long_name
        Of the variable; CF terms, empty where the library knows none.
    step_type
        instant, accum, avg, …
    level_type, level
        As surface or isobaricInhPa, and its number.
    member
        Number within an ensemble; -1 where there is none.
    grid
        What tells grids apart.
    """

    name: str
    unit: str
    standard_name: str
    long_name: str
    step_type: str
    level_type: str
    level: float
    member: int
    grid: str


@dataclass(frozen=True, eq=False)
class Messages:
    """All fields of a file, in the order of the file.

    Parameters
    ----------
    offset, length : (M,) int64
        Where the message of each field lies.
    part : (M,) int64
        Which field of its message it is.
    header : (M,) int64
        Position in `headers`.
    reference, begin, end : (M,) int64
        Microseconds since 1970 of the reference time, and of the beginning and end of the time that
        the field is about; the same for a point in time.
    """

    headers: tuple[Header, ...]
    offset: np.ndarray
    length: np.ndarray
    part: np.ndarray
    header: np.ndarray
    reference: np.ndarray
    begin: np.ndarray
    end: np.ndarray

    def take(self, chosen: np.ndarray) -> Messages:
        """Some of the fields."""
        arrays = (self.offset, self.length, self.part, self.header)
        times = (self.reference, self.begin, self.end)
        return Messages(self.headers, *(a[chosen] for a in (*arrays, *times)))


def library(path: Path) -> Any:
    """ecCodes, told to keep its messages to itself."""
    try:
        _load_for_itself()
        import eccodes
    except (ImportError, RuntimeError):
        raise InputError(
            path, "is GRIB, which needs a further library", "pip install 'bavlo[grib]'"
        ) from None
    _silence()
    return eccodes


def _load_for_itself() -> None:
    """Let the library's own copies of other libraries be seen by it alone.

    Loaded for all, as they are when nothing is done, its PROJ takes the place of pyproj's and
    raster library's, which then find no database or end the process.
    """
    import ctypes

    import findlibs

    if hasattr(findlibs, "_load_globally"):
        findlibs._load_globally = ctypes.CDLL


_silenced: list[Any] = []  # keeps the callback alive


def _silence() -> None:
    """Without the library's lines on standard error; what fails is told by an exception."""
    if _silenced:
        return
    import ctypes

    from gribapi.bindings import library_path

    loaded = ctypes.CDLL(library_path)
    kind = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_int, ctypes.c_char_p)
    callback = kind(lambda context, level, text: None)
    loaded.grib_context_get_default.restype = ctypes.c_void_p
    loaded.grib_context_set_logging_proc.argtypes = [ctypes.c_void_p, kind]
    loaded.grib_context_set_logging_proc(loaded.grib_context_get_default(), callback)
    _silenced.append(callback)


@dataclass(frozen=True)
class _Field:
    """One field as its sections tell it.

    Parameters
    ----------
    key
        Its sections without dates and leads.
    date
        Year, month, day, hour, minute and second of the reference time.
    lead
        Microseconds from there to the beginning and the end of what it is about; None where they
        are not read here.
    stop
        The end as a date of its own, where it is stated so.
    """

    part: int
    key: bytes
    date: tuple[int, ...]
    lead: tuple[int, int] | None
    stop: tuple[int, ...] | None = None


def scan(path: Path) -> Messages:
    """Find the messages of a file.

    Raises
    ------
    InputError
        Where a message is cut short or its sections do not make sense.
    """
    with path.open("rb") as file:
        if not path.stat().st_size:
            raise damaged(path, 0, "the file is empty")
        with mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
            return _scanned(path, data)


def damaged(path: Path, offset: int, why: str) -> InputError:
    """What to say of a message that cannot be read."""
    return InputError(
        path,
        f"has a GRIB message at byte {offset} that cannot be read ({why})",
        "the file is damaged or incomplete: fetch it again",
    )


def _scanned(path: Path, data: mmap.mmap) -> Messages:
    headers: dict[bytes, int] = {}
    known: list[Header] = []
    rows: list[tuple[int, int, int, int]] = []
    dates: list[tuple[int, ...]] = []
    stops: list[tuple[int, ...]] = []
    leads: list[tuple[int, int]] = []
    offset = data.find(START)
    if offset < 0:
        raise damaged(path, 0, "it holds none")
    while offset >= 0:
        length, fields = _message(path, data, offset)
        for field in fields:
            number = headers.get(field.key)
            lead, stop = field.lead, field.stop
            if number is None or lead is None:
                message = one_field(data[offset : offset + length], field.part)
                header, told = _ask(path, offset, message)
                if number is None:
                    number = headers[field.key] = len(known)
                    known.append(header)
                lead = told if lead is None else lead
            rows.append((offset, length, field.part, number))
            dates.append(field.date)
            leads.append(lead)
            stops.append(stop or ())
        offset = data.find(START, offset + length)
    table = np.array(rows, np.int64).T
    try:
        reference = _instants(np.array(dates, np.int64))
        begin = reference + np.array([lead[0] for lead in leads], np.int64)
        end = reference + np.array([lead[1] for lead in leads], np.int64)
        own = np.flatnonzero([bool(stop) for stop in stops])
        if own.size:
            end[own] = _instants(np.array([stops[n] for n in own.tolist()], np.int64))
    except ValueError as error:
        raise damaged(path, 0, str(error)) from error
    offsets, lengths, parts, numbers = table
    return Messages(tuple(known), offsets, lengths, parts, numbers, reference, begin, end)


def _instants(dates: np.ndarray) -> np.ndarray:
    """(N,) microseconds since 1970 of (N, 6) years, months, days, hours, minutes and seconds."""
    year, month, day, hour, minute, second = dates.T
    if not ((month >= 1) & (month <= 12) & (day >= 1) & (day <= 31) & (year >= 1)).all():
        raise ValueError("it states a date that does not exist")
    months = (year - 1970).astype("M8[Y]").astype("M8[M]") + (month - 1)
    days = months.astype("M8[D]").astype(np.int64) + day - 1
    return np.asarray(days * DAY + hour * HOUR + minute * 60 * SECOND + second * SECOND)


def _message(path: Path, data: mmap.mmap, offset: int) -> tuple[int, list[_Field]]:
    """Length and fields of the message at an offset."""
    edition = data[offset + 7] if offset + 8 <= len(data) else 0
    if edition not in (1, 2):
        raise damaged(path, offset, f"edition {edition}")
    read = _edition_1 if edition == 1 else _edition_2
    try:
        length, fields = read(data, offset)
    except (IndexError, ValueError) as error:
        raise damaged(path, offset, str(error) or "its sections do not fit") from error
    if data[offset + length - 4 : offset + length] != STOP:
        raise damaged(path, offset, "it is cut short")
    return length, fields


def _unit(code: int, edition: int) -> int | None:
    return SECOND if code == SECONDS_OF_EDITION[edition] else UNITS.get(code)


def _edition_1(data: mmap.mmap, offset: int) -> tuple[int, list[_Field]]:
    length = int.from_bytes(data[offset + 4 : offset + 7], "big")
    one = offset + 8
    size = int.from_bytes(data[one : one + 3], "big")
    product = data[one : one + size]
    if size < 28 or len(product) < size:
        raise ValueError("section 1 is too short")
    at, grid = one + size, b""
    if product[7] & 0x80:
        size = int.from_bytes(data[at : at + 3], "big")
        grid = data[at : at + size]
        at += size
    if length & 0x800000:  # longer than 8 MB: stated in units of 120 bytes
        if product[7] & 0x40:
            at += int.from_bytes(data[at : at + 3], "big")
        length = (length & 0x7FFFFF) * 120 - int.from_bytes(data[at : at + 3], "big") + 4
    if offset + length > len(data) or length < 12:
        raise ValueError("it is cut short")
    year = (product[24] - 1) * 100 + product[12]
    date = (year, product[13], product[14], product[15], product[16], 0)
    first, last, indicator = product[18], product[19], product[20]
    unit, lead = _unit(product[17], 1), None
    if unit is not None:
        if indicator in INSTANTS:
            lead = (first * unit, first * unit)
        elif indicator == LONG_LEAD:
            lead = ((first << 8 | last) * unit,) * 2
        elif indicator in RANGES:
            lead = (first * unit, last * unit)
    key = b"1" + product[:12] + product[17:18] + product[20:24] + product[25:] + grid
    return length, [_Field(0, key, date, lead)]


def _edition_2(data: mmap.mmap, offset: int) -> tuple[int, list[_Field]]:
    length = int.from_bytes(data[offset + 8 : offset + 16], "big")
    if offset + length > len(data) or length < 100:
        raise ValueError("it is cut short")
    fields: list[_Field] = []
    origin = product = grid = b""
    for number, begin, size in sections(data, offset, length):
        if number == 1:
            origin = data[begin : begin + size]
        elif number == 3:
            grid = data[begin : begin + size]
        elif number == 4:
            product = data[begin : begin + size]
        elif number == 7:
            fields.append(_field(len(fields), data[offset + 6], origin, grid, product))
    if not fields:
        raise ValueError("it holds no field")
    return length, fields


def sections(data: Any, offset: int, length: int) -> Iterator[tuple[int, int, int]]:
    """Number, begin and size of the sections of a message of edition 2."""
    at, stop = offset + 16, offset + length - 4
    while at < stop:
        size, number = int.from_bytes(data[at : at + 4], "big"), data[at + 4]
        if size < 5 or at + size > stop:
            raise ValueError("its sections do not fit")
        yield number, at, size
        at += size


def _field(part: int, discipline: int, origin: bytes, grid: bytes, product: bytes) -> _Field:
    year = int.from_bytes(origin[12:14], "big")
    date = (year, *origin[14:19])
    template = int.from_bytes(product[7:9], "big")
    unit, lead, stop = _unit(product[17], 2), None, None
    forecast = int.from_bytes(product[18:22], "big")
    forecast = -(forecast & 0x7FFFFFFF) if forecast & 0x80000000 else forecast
    rest = product[:18] + product[22:]
    if template in POINTS_IN_TIME and unit is not None:
        lead = (forecast * unit, forecast * unit)
    elif template in END_OF_INTERVAL and unit is not None:
        at = END_OF_INTERVAL[template]
        lead = (forecast * unit, forecast * unit)
        stop = (int.from_bytes(product[at : at + 2], "big"), *product[at + 2 : at + 7])
        # The length of the interval is told by its ends.
        rest = product[:18] + product[22:at] + product[at + 7 : at + 15]
    key = bytes([2, discipline]) + origin[5:12] + origin[19:] + b"|" + grid + b"|" + rest
    return _Field(part, key, date, lead, stop)


def one_field(message: bytes, part: int) -> bytes:
    """A message with one of the fields of a message only."""
    if message[7] == 1:
        return message
    found: dict[int, bytes] = {}
    count, bitmap = 0, b""
    parts = list(sections(message, 0, len(message)))
    if sum(number == 7 for number, _, _ in parts) == 1:
        return message
    for number, begin, size in parts:
        found[number] = message[begin : begin + size]
        if number == 6:
            if found[6][5] == 254:  # the bit map of an earlier field
                found[6] = bitmap
            bitmap = found[6]
        if number == 7:
            if count == part:
                break
            count += 1
    body = b"".join(found[number] for number in sorted(found)) + STOP
    return message[:8] + (16 + len(body)).to_bytes(8, "big") + body


def _ask(path: Path, offset: int, message: bytes) -> tuple[Header, tuple[int, int]]:
    """What the library says of a message; its lead too, as µs to the beginning and the end."""
    codes = library(path)
    try:
        handle = codes.codes_new_from_message(message)
        try:
            values = {key: _key(codes, handle, key, UNKNOWN) for key in KEYS}
            member = _key(codes, handle, "perturbationNumber", None)
            if member is None:
                member = _key(codes, handle, "number", -1)
            grid = _key(codes, handle, "md5GridSection", "")
            kind = _key(codes, handle, "gridType", "")
            codes.codes_set(handle, "stepUnits", "m")
            lead = tuple(
                _key(codes, handle, key, 0, int) * 60 * SECOND for key in ("startStep", "endStep")
            )
            name = str(values["shortName"])
            if name in (UNKNOWN, "~", ""):
                name = f"parameter_{_key(codes, handle, 'paramId', 0)}"
                parts = ("discipline", "parameterCategory", "parameterNumber")
                numbers = [_key(codes, handle, part, None) for part in parts]
                if None not in numbers:
                    name = "parameter_" + "_".join(map(str, numbers))
        finally:
            codes.codes_release(handle)
    except codes.CodesInternalError as error:
        raise damaged(path, offset, str(error)) from error
    known = {key: "" if value in (UNKNOWN, "~") else str(value) for key, value in values.items()}
    header = Header(
        re.sub(r"\W", "_", name),
        _unit_text(known["units"]),
        known["cfName"],
        known["name"],
        known["stepType"],
        known["typeOfLevel"],
        float(known["level"] or 0),
        int(member),
        f"{kind} {grid}",
    )
    return header, (lead[0], lead[1])


def _key(codes: Any, handle: Any, key: str, otherwise: Any, kind: type | None = None) -> Any:
    """A key of a message, of a type if given; something else where it has none of that name."""
    try:
        return codes.codes_get(handle, key, kind)
    except codes.CodesInternalError:
        return otherwise


def _unit_text(text: str) -> str:
    """`kg m**-2` as UDUNITS reads it; `(0 - 1)` and `Numeric` are no units."""
    text = text.replace("**", "")
    return {"(0 - 1)": "1", "Numeric": "1", "Proportion": "1", "(Code table 4.222)": ""}.get(
        text, text
    )
