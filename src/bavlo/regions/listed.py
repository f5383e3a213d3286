"""Regions that are rows of a table: shapes as text, or points by their coordinates."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.space.regions import LONLAT
from bavlo.errors import InputError
from bavlo.files import number_in
from bavlo.sheets import Sheet, chosen_sheet, read_sheets

FIRST_ROWS = 30  # among which the head is looked for
LON = re.compile(r"(decimal )?(lon|long|longitude|lng)( ?(dd|deg|degrees?|decimal|e|w|wgs84))?")
LAT = re.compile(r"(decimal )?(lat|latitude)( ?(dd|deg|degrees?|decimal|n|s|wgs84))?")
X = re.compile(r"(x|easting|east|utm ?[xe]|x ?coord(inate)?|point ?x)")
Y = re.compile(r"(y|northing|north|utm ?[yn]|y ?coord(inate)?|point ?y)")
BOTH = re.compile(r"coord(inate)?s?|location|position|point|place|lat ?lo?ng?|lo?ng? ?lat|"
                  r"latitude longitude|longitude latitude")  # fmt: skip
WKT = re.compile(
    r"\s*(SRID=(\d+);)?\s*(MULTI)?(POINT|POLYGON|LINESTRING|GEOMETRYCOLLECTION)\b", re.I
)
HEX = re.compile(r"0[01][0-9A-Fa-f]{8,}")
GEOJSON = re.compile(r"\s*\{.*\"type\"\s*:", re.S)
NUMBER = r"([0-9]+(?:[.,][0-9]+)?)"
ANGLE = re.compile(
    rf"([NSEW])?\s*([+-]?){NUMBER}\s*"
    rf"(?:[°º˚dD:\s]\s*(?:{NUMBER}\s*(?:['’′mM:\s]\s*(?:{NUMBER}\s*(?:[\"”″sS]|''|’’|′′)?)?)?)?)?"
    r"\s*([NSEW])?"
)
INTEGER = re.compile(r"-?(0|[1-9]\d*)")


@dataclass(frozen=True)
class _Places:
    """Where a sheet tells the places: its head, and the columns of shapes or coordinates."""

    head: int
    columns: tuple[int, ...]
    sort: str  # shapes, degrees, plane or both


def read_listed(
    path: Path, layer: str | None, encoding: str | None
) -> tuple[np.ndarray, dict[str, np.ndarray], str]:
    """Regions of a table.

    Returns
    -------
    geometry : (N,) object array
    fields
        The other columns: numbers where all of a column are, else texts.
    crs
        Reference system; empty where coordinates are those of a plane that the table leaves open.

    Raises
    ------
    InputError
        Where there is no column of shapes or coordinates, or one of them cannot be read.
    """
    sheets = chosen_sheet(path, read_sheets(path, encoding), layer)
    found = [(sheet, places) for sheet in sheets if (places := _places_in(sheet)) is not None]
    if not sheets:
        return np.array([]), {}, LONLAT
    if not found:
        heads: list[str] = max(sheets[0].rows[:FIRST_ROWS], key=lambda row: len(row))
        raise InputError(
            path,
            f"has neither a column of shapes nor lon and lat (columns: {', '.join(heads)})",
            "name them wkt, or lon and lat",
        )
    sheet, places = found[0]
    heads, rows = sheet.rows[places.head], sheet.rows[places.head + 1 :]
    lines = sheet.lines[places.head + 1 :]
    columns = [[row[n] if n < len(row) else "" for row in rows] for n in range(len(heads))]
    told = [columns[n] for n in places.columns]
    crs = LONLAT
    if places.sort == "shapes":
        geometry, crs = _shapes(path, told[0], lines)
    else:
        if places.sort == "both":
            told = _parted(path, heads[places.columns[0]], told[0], lines)
        x, y = (
            _coordinates(path, texts, lines, letters)
            for texts, letters in zip(told, ("EW", "NS"), strict=True)
        )
        geometry = np.asarray(shapely.points(x, y), object)
        beyond = np.abs(x).max() > 360 or np.abs(y).max() > 90
        crs = "" if places.sort == "plane" and beyond else LONLAT
    fields = {
        name: _values(columns[n])
        for n, name in enumerate(heads)
        if name and n not in places.columns
    }
    return geometry, fields, crs


def has_places(sheet: Sheet) -> bool:
    """Whether a sheet tells places."""
    return _places_in(sheet) is not None


def _places_in(sheet: Sheet) -> _Places | None:
    """The head and the columns of places of a sheet; None where it has none."""
    for n, row in enumerate(sheet.rows[: min(FIRST_ROWS, len(sheet.rows) - 1)]):
        below = sheet.rows[n + 1]
        for k, cell in enumerate(below):
            if k < len(row) and any(look.match(cell) for look in (WKT, HEX, GEOJSON)):
                return _Places(n, (k,), "shapes")
        names = [plain(cell) for cell in row]
        for sort, looks in (("degrees", (LON, LAT)), ("plane", (X, Y))):
            columns = [
                [k for k, name in enumerate(names) if look.fullmatch(name)] for look in looks
            ]
            if all(columns):
                return _Places(n, (columns[0][0], columns[1][0]), sort)
        both = [k for k, name in enumerate(names) if BOTH.fullmatch(name)]
        if both and both[0] < len(below) and _halves(below[both[0]]) is not None:
            return _Places(n, (both[0],), "both")
    return None


def plain(head: str) -> str:
    """A head in small letters, without what stands in brackets, and with blanks between words."""
    bare = re.sub(r"[\[(].*?[\])]|[°º]", " ", head.casefold())
    return " ".join(re.split(r"[\s_.,:/;|-]+", bare)).strip()


def _shapes(path: Path, texts: Sequence[str], lines: Sequence[int]) -> tuple[np.ndarray, str]:
    """Shapes in WKT, EWKT, hexadecimal WKB or GeoJSON, and their reference system."""
    out = np.full(len(texts), None)
    codes = set()
    for n, text in enumerate(texts):
        if not text:
            continue
        match = WKT.match(text)
        try:
            if match:
                out[n] = shapely.from_wkt(text.rpartition(";")[2] if match[1] else text)
                codes.add(int(match[2] or 0))
            elif HEX.match(text):
                out[n] = shapely.from_wkb(text)
                codes.add(int(shapely.get_srid(out[n])))
            else:
                out[n] = shapely.from_geojson(text)
                codes.add(0)
        except (shapely.errors.ShapelyError, ValueError, TypeError) as error:
            reason = " ".join(str(error).split())[:100]
            raise InputError(
                path, f"line {lines[n]}: the shape cannot be read ({reason})", "repair it"
            ) from error
    if len(codes) > 1:
        raise InputError(
            path, f"has shapes in several systems: {sorted(codes)}", "give those of one"
        )
    code = codes.pop() if codes else 0
    return np.asarray(shapely.force_2d(out), object), f"EPSG:{code}" if code else LONLAT


def _halves(text: str) -> tuple[str, str] | None:
    """The two coordinates that stand in one cell."""
    bare = text.strip().strip("()[]")
    for sign in (";", ", ", "/", "|", ",", " "):
        parts = [part.strip() for part in bare.split(sign) if part.strip()]
        if len(parts) == 2 and all(ANGLE.fullmatch(part.upper()) for part in parts):
            return parts[0], parts[1]
    return None


def _parted(path: Path, head: str, texts: Sequence[str], lines: Sequence[int]) -> list[list[str]]:
    """Longitudes and latitudes of one column of both.

    Raises
    ------
    InputError
        Where neither the letters nor the head nor the values tell which comes first.
    """
    pairs = []
    for text, line in zip(texts, lines, strict=True):
        halves = _halves(text)
        if halves is None:
            raise InputError(path, f"line {line}: '{text}' is no place", "repair it")
        pairs.append(halves)
    first, second = ([pair[n] for pair in pairs] for n in (0, 1))
    if any(re.search("[NSns]", text) for text in first) or plain(head).startswith("lat"):
        return [second, first]
    if any(re.search("[EWew]", text) for text in first) or plain(head).startswith(("lon", "lng")):
        return [first, second]
    far = [any(abs(_angle(text)) > 90 for text in half) for half in (first, second)]
    if far[0] != far[1]:
        return [first, second] if far[0] else [second, first]
    raise InputError(
        path,
        f"does not tell whether the latitude comes first in '{head}' ({texts[0]})",
        "call the column 'lat, lon' or 'lon, lat'",
    )


def _coordinates(
    path: Path, texts: Sequence[str], lines: Sequence[int], letters: str
) -> np.ndarray:
    """(N,) coordinates: numbers, with the letter of a hemisphere, or degrees and minutes.

    Parameters
    ----------
    letters
        Those of the hemispheres that belong here, the positive one first.
    """
    out = np.full(len(texts), np.nan)
    for n, text in enumerate(texts):
        if not text:
            continue
        odd = set(re.sub("[^NSEW]", "", text.upper())) - set(letters)
        out[n] = _angle(text)
        if np.isnan(out[n]) or odd:
            is_none = bool(np.isnan(out[n]))
            what = "is no coordinate" if is_none else "stands where the other coordinate should"
            raise InputError(
                path, f"line {lines[n]}: '{text}' {what}", "repair it, as 34.05 or 34°03'00\"E"
            )
    return out


def _angle(text: str) -> float:
    """A number of degrees or metres in the writings of people; NaN where it is none.

    Examples
    --------
    >>> _angle("34.05"), _angle("34.5S"), _angle("34°30'00\\"E")
    (34.05, -34.5, 34.5)
    """
    upper = text.strip().upper().replace("\u2212", "-")
    try:
        return number_in(upper.replace(",", "."))
    except ValueError:
        match = ANGLE.fullmatch(upper)
    if match is None or (match[1] and match[6]):
        return np.nan
    degrees, minutes, seconds = (float((match[n] or "0").replace(",", ".")) for n in (3, 4, 5))
    if minutes >= 60 or seconds >= 60:
        return np.nan
    size = degrees + minutes / 60 + seconds / 3600
    return -size if match[2] == "-" or (match[1] or match[6]) in ("S", "W") else size


def _values(texts: Sequence[str]) -> np.ndarray:
    """A column as numbers where all are; codes with zeros in front stay text."""
    if all(INTEGER.fullmatch(text) and len(text) < 16 for text in texts):
        return np.array([int(text) for text in texts])
    if all(re.fullmatch(r"-?\d*\.\d+", text) for text in texts):
        return np.array([float(text) for text in texts])
    return np.array(texts, object)
