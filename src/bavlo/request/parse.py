"""From texts to the values of a request's fields."""

from __future__ import annotations

import glob
import math
import re
import warnings
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from bavlo.core.stats.measures import Measure, parse_measure
from bavlo.errors import BavloWarning, InputError, RequestError, one_of
from bavlo.files import number_in
from bavlo.grids.archives import (
    files_below,
    is_archive,
    is_unfinished,
    stands_beside,
    unpacked,
    within,
)
from bavlo.grids.formats import format_of, is_zarr
from bavlo.grids.urls import listed, url_of
from bavlo.held import content_of
from bavlo.request.request import OF_OTHERS, GridArgument

if TYPE_CHECKING:
    from bavlo.request.option import Option

WMO = "wmo"
MEMORY_UNITS = {"": 1, "K": 2**10, "M": 2**20, "G": 2**30, "T": 2**40}
OF_MADE = ("kind", "unit", "measure", "combine")  # fields that may be said of what is made
ByGrid = tuple[tuple[str, str, str], ...]
SHOWN = 4  # names of files in a message
PLACE = re.compile(r"\s*[-+]?[\d.]+\s*,\s*[-+]?[\d.]+\s*")
LEAST_PIXELS, MOST_PIXELS = 200, 20_000  # of a figure


def parse_grids(arguments: Sequence[str]) -> tuple[GridArgument, ...]:
    """Read the GRID arguments: paths, patterns or folders, each perhaps as NAME=PATH."""
    named: dict[str | None, list[Path]] = {}
    for argument in arguments:
        name, text = None, argument
        match = re.match(r"([A-Za-z_]\w*)=(.+)$", argument, re.DOTALL)
        if match and not Path(argument).exists():
            name, text = match.groups()
        named.setdefault(name, []).extend(expand(text))
    return tuple(GridArgument(name, tuple(dict.fromkeys(paths))) for name, paths in named.items())


def expand(text: str) -> list[Path]:
    """The files that a path, a pattern or a folder stands for, sorted by name; URLs as they are.

    Raises
    ------
    InputError
        Where there is none, or one has a name that no library takes.
    """
    found = _expand(text)
    for path in found:
        if not str(path).isprintable() and not _is_utf8(str(path)):
            raise InputError(path, "its name is not UTF-8", "rename it, or make a link to it")
    return found


def _is_utf8(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return True


def _expand(text: str) -> list[Path]:
    url = url_of(text)
    if url is not None:
        if text.endswith("/") and is_zarr(Path(text)):  # a store that is a folder
            return [Path(text)]
        return [Path(found) for found in listed(url)]
    if content_of(text) is not None:
        return [Path(text)]
    path = Path(text).expanduser()
    if path.is_dir() or is_archive(path):
        return _grids_among([path], path)
    if path.exists():
        return [path]
    inner = within(path)
    if inner is not None:
        return [inner]
    if glob.has_magic(text):
        found = sorted(Path(p) for p in glob.glob(str(path), recursive=True))
        if len(found) == 1 and not found[0].is_dir():
            return found
        if found:
            return _grids_among(found, text)
        raise InputError(text, "no file matches", "check the pattern")
    raise InputError(text, "there is no such file", "check the path")


def _grids_among(paths: Sequence[Path], where: object) -> list[Path]:
    """Files, and those of folders and archives, without what only stands beside grids.

    Raises
    ------
    InputError
        Where nothing is left.
    """
    found = [file for path in paths for file in _within(path)]
    beside = [
        file
        for file in found
        if is_unfinished(file) or (stands_beside(file) and format_of(file) is None)
    ]
    kept = [file for file in found if file not in beside] if beside else found
    names = [file.name for file in beside]
    left = ", ".join(names[:SHOWN]) + (f" and {len(names) - SHOWN} more" if names[SHOWN:] else "")
    if not kept:
        what = f"holds no grids, only {left}" if beside else "holds no files"
        raise InputError(where, what, "give a file or a folder of files")
    if beside:
        count = f"{len(beside)} file{'s' if len(beside) > 1 else ''}"
        warnings.warn(
            f"{where}: left out {count} beside the grids: {left}", BavloWarning, stacklevel=2
        )
    return kept


def _within(path: Path) -> Iterator[Path]:
    """A file, or those of a folder or an archive, at whatever depth."""
    if is_archive(path):
        path = unpacked(path)
    if not path.is_dir() or _is_store(path):
        yield path
        return
    for file in files_below(path, _is_store):
        yield from _within(file) if is_archive(file) else [file]


def _is_store(folder: Path) -> bool:
    """Whether a folder counts as one file."""
    return folder.suffix.lower() == ".gdb" or is_zarr(folder)


def split_by_grid(
    texts: Sequence[str], option: Option, grids: Sequence[GridArgument], made: Sequence[str]
) -> tuple[str | None, ByGrid]:
    """Values of a field that may be said of one grid only, as NAME=VALUE.

    Parameters
    ----------
    option
        Which field, and whether a grid may have several values, which then come with commas
        between them.
    made
        Names of the grids that formulas make.

    Returns
    -------
    plain
        What holds for all grids.
    by_grid
        (field, grid, value) of those that are named.
    """
    field, several = option.request_field, option.several
    names = {grid.name for grid in grids} | (set(made) if field in OF_MADE else set())
    names |= {name for own, name in OF_OTHERS if own == field}
    plain: str | None = None
    own: list[tuple[str, str, str]] = []
    for text in texts:
        name, sign, value = text.partition("=")
        if sign and len(grids) == 1 and name == grids[0].name and not made:
            text, sign = value, ""
        if sign and name in names:
            earlier = [v for _, n, v in own if n == name] if several else []
            own = [each for each in own if not (earlier and each[1] == name)]
            own.append((field, name, ",".join([*earlier, value])))
        elif plain is not None and several:
            plain = f"{plain},{text}"
        elif plain is not None:
            raise RequestError(
                field,
                f"is given as '{plain}' and as '{text}'",
                "give it once, or once for each grid as GRID=VALUE",
            )
        else:
            plain = text
    return plain, tuple(own)


# What follows reads the text of one field; the field is named in errors.


def path(text: str, field: str) -> Path:
    """A file."""
    return Path(text).expanduser()


def paths(texts: Sequence[str], field: str) -> tuple[Path, ...]:
    """Files, in the order given."""
    return tuple(path(text, field) for text in texts)


def regions(given: str | Sequence[str], field: str) -> Path | tuple[tuple[float, float], ...]:
    """A file of regions, or longitudes and latitudes of points."""
    texts = [given] if isinstance(given, str) else list(given)
    if all(PLACE.fullmatch(text) for text in texts):
        return places(texts, field)
    if len(texts) > 1:
        raise RequestError(field, f"names {' and '.join(texts)}", "name one file, or only points")
    return path(texts[0], field)


def label(text: str, field: str) -> str:
    """A field that names regions, or a file with the names of codes."""
    return text


def grid_path(text: str, field: str) -> Path:
    """The first file that a path or a pattern stands for."""
    return expand(text)[0]


def texts(given: Sequence[str], field: str) -> tuple[str, ...]:
    """Texts as they are."""
    return tuple(given)


def names(given: str | Sequence[str], field: str = "") -> tuple[str, ...]:
    """Names with commas between them, or given one by one."""
    parts = [given] if isinstance(given, str) else list(given)
    return tuple(name.strip() for part in parts for name in part.split(",") if name.strip())


def measures(given: str | Sequence[str], field: str = "measure") -> tuple[str, ...]:
    """Names of measures."""
    found: list[Measure] = [parse_measure(name) for name in names(given)]
    return tuple(dict.fromkeys(measure.name for measure in found))


def columns(given: str | Sequence[str], field: str = "columns") -> tuple[tuple[str, str], ...]:
    """Columns of tables of others by what they are."""
    found = []
    for text in names(given):
        role, sign, name = text.partition("=")
        if not sign or not role or not name:
            raise RequestError(field, f"'{text}' names no column", "write it as value=NAME")
        found.append((role, name))
    return tuple(found)


def places(texts: Sequence[str], field: str) -> tuple[tuple[float, float], ...]:
    """Longitudes and latitudes of points."""
    return tuple(dict.fromkeys(place(text, field) for text in texts))


def cell_size(text: str, field: str) -> float:
    """The size of a cell."""
    size = number(text, field)
    if not size > 0:
        raise RequestError(field, f"'{text}' is no size", "give a number above 0")
    return size


def box(text: str, field: str) -> tuple[float, float, float, float]:
    """West, south, east, north."""
    parts = [number(part, field) for part in names(text)]
    if len(parts) != 4 or parts[0] >= parts[2] or parts[1] >= parts[3]:
        raise RequestError(field, f"'{text}' is no box", "write it as W,S,E,N")
    return parts[0], parts[1], parts[2], parts[3]


def pixels(text: str, field: str) -> tuple[int, int]:
    """Width and height of a figure."""
    found = re.fullmatch(r"([0-9]{2,5})[xX×]([0-9]{2,5})", text.strip())
    if found is None:
        raise RequestError(field, f"'{text}' is no size", "write it as WIDTHxHEIGHT, as 1600x900")
    width, height = int(found.group(1)), int(found.group(2))
    if min(width, height) < LEAST_PIXELS or max(width, height) > MOST_PIXELS:
        raise RequestError(
            field, f"{width}x{height} cannot be drawn", f"use {LEAST_PIXELS} to {MOST_PIXELS}"
        )
    return width, height


def everys(given: str | Sequence[str], field: str = "every") -> tuple[str, ...]:
    """Sorts of periods."""
    from bavlo.core.time.periods import parse_every

    found = tuple(dict.fromkeys(names(given)))
    for name in found:
        parse_every(name)
    return found


def statistics(given: str | Sequence[str], field: str = "statistic") -> tuple[str, ...]:
    """Names of statistics over the base."""
    from bavlo.core.stats.normals import parse_statistic

    return tuple(dict.fromkeys(parse_statistic(name) for name in names(given)))


def counts(given: str | Sequence[str], field: str = "count") -> tuple[str, ...]:
    """Names of counts."""
    from bavlo.core.conditions.counts import parse_counts

    return parse_counts(names(given))


def indices(given: str | Sequence[str], field: str = "index") -> tuple[str, ...]:
    """Names of ETCCDI indices; `all` for all that need no number."""
    from bavlo.core.conditions.indices import INDICES, find_index

    wanted = names(given)
    if [name.lower() for name in wanted] == ["all"]:
        return tuple(name for name, index in INDICES.items() if not index.needs_number)
    return tuple(dict.fromkeys(find_index(name).name for name in wanted))


def windows(given: str | Sequence[str], field: str = "window") -> tuple[int, ...]:
    """Whole numbers of periods."""
    parts = [given] if isinstance(given, str) else list(given)
    numbers = [n.strip() for part in parts for n in part.split(",")]
    if not all(n.isdigit() and 1 <= int(n) <= 1200 for n in numbers):
        raise RequestError(field, f"'{','.join(parts)}' is no number of periods", "give 1,3,12")
    return tuple(dict.fromkeys(int(n) for n in numbers))


def years(text: str, field: str) -> tuple[int, ...]:
    """Whole numbers of years with commas between them."""
    numbers = [n.strip() for n in text.split(",") if n.strip()]
    if not numbers or not all(n.isdigit() and 2 <= int(n) <= 10000 for n in numbers):
        raise RequestError(
            field,
            f"'{text}' are no return periods: these are whole years from 2 on, since every year is "
            "at least as high as its own highest value",
            "give 2,10,50,100",
        )
    return tuple(sorted({int(n) for n in numbers}))


def odd_days(text: str, field: str) -> int:
    """An odd number of days."""
    if not text.isdigit() or int(text) % 2 == 0 or int(text) > 181:
        raise RequestError(field, f"'{text}' is no odd number of days", "give 5, 15 or 31")
    return int(text)


def share(text: str, field: str) -> float:
    """A share from 0 to 1."""
    try:
        found = number_in(text)
    except ValueError:
        found = -1.0
    if not 0 <= found <= 1:
        raise RequestError(field, f"'{text}' is no share", "give a number from 0 to 1")
    return found


def share_or_wmo(text: str, field: str) -> float | str:
    """A share from 0 to 1, or the rule of WMO-No. 1203."""
    return WMO if text == WMO else share(text, field)


def scaling(text: str, field: str = "scale") -> tuple[float, float]:
    """A factor, and what is added after it.

    Examples
    --------
    >>> scaling("0.1"), scaling("0.02,-40")
    ((0.1, 0.0), (0.02, -40.0))
    """
    parts = [number(part, field) for part in names(text)]
    if not 1 <= len(parts) <= 2:
        raise RequestError(field, f"'{text}' is no scale", "write it as FACTOR or FACTOR,OFFSET")
    return parts[0], parts[1] if len(parts) > 1 else 0.0


def size(text: str, field: str = "memory") -> int:
    """A size such as 800MB or 2GB, in bytes.

    Examples
    --------
    >>> size("1.5 GB") == 3 * 2**29
    True
    """
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([KMGT]?)i?B?\s*", text, re.IGNORECASE)
    if not match:
        raise RequestError(field, f"'{text}' is no size", "write it as 800MB or 2GB")
    return int(float(match.group(1)) * MEMORY_UNITS[match.group(2).upper()])


def number(text: str, field: str) -> float:
    """A finite number."""
    try:
        found = number_in(text)
    except ValueError:
        found = math.nan
    if not math.isfinite(found):
        raise RequestError(field, f"'{text}' is no number")
    return found


def marks(text: str, field: str) -> tuple[float, ...]:
    """Numbers that mean no data; none of them for `none`."""
    if text.strip() == "none":
        return ()
    infinite = {"inf": math.inf, "+inf": math.inf, "-inf": -math.inf}
    parts = [part.strip() for part in text.split(",")]
    return tuple(infinite[p] if p in infinite else number(p, field) for p in parts)


def levels(texts: Sequence[str] | str, field: str) -> tuple[str, ...]:
    """Values of further dimensions, as `V` or `DIM=V`."""
    return (texts,) if isinstance(texts, str) else tuple(texts)


def place(text: str, field: str) -> tuple[float, float]:
    """Longitude and latitude of a place."""
    try:
        lon, lat = (number_in(part) for part in text.split(","))
    except ValueError:
        lon = lat = math.nan
    if not (abs(lon) <= 540 and abs(lat) <= 90):
        raise RequestError(field, f"'{text}' is no place", "write it as LON,LAT: 80.5,-33")
    return lon, lat


def hour(text: str, field: str) -> int:
    """An hour of the day, 0 to 23."""
    if not text.isdigit() or int(text) > 23:
        raise RequestError(field, f"'{text}' is no hour", "give 0 to 23")
    return int(text)


def offset(text: str, field: str = "utc_offset") -> int:
    """HH:MM, perhaps with a sign, as minutes.

    Examples
    --------
    >>> offset("-05:30")
    -330
    """
    match = re.fullmatch(r"([+-]?)(\d{1,2}):([0-5]\d)", text)
    if not match or int(match.group(2)) > 14:
        raise RequestError(field, f"'{text}' is no offset", "write it as +05:30")
    minutes = int(match.group(2)) * 60 + int(match.group(3))
    return -minutes if match.group(1) == "-" else minutes


def workers(text: str, field: str) -> int:
    """A number of workers."""
    if not text.isdigit() or int(text) < 1:
        raise RequestError(field, f"'{text}' is no number of workers", "give 1 or more")
    return int(text)


def month(text: str, field: str) -> int:
    """A month, 1 to 12."""
    if not text.isdigit() or not 1 <= int(text) <= 12:
        raise RequestError(field, f"'{text}' is no month", "give 1 to 12")
    return int(text)


def picks(given: Sequence[str], field: str) -> tuple[tuple[str, str], ...]:
    """`COLUMN=VALUE` of each text."""
    out = []
    for text in given:
        name, sign, value = text.partition("=")
        if not sign:
            raise RequestError(field, f"'{text}' names no value", "write it as measure=p90")
        out.append((name, value))
    return tuple(out)


def choice(text: str, field: str, choices: Sequence[str]) -> str:
    """One of a few words."""
    if text not in choices:
        raise RequestError(field, f"'{text}' is not known", one_of(text, choices))
    return text
