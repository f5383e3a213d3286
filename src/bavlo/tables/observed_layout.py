"""How tables of observations are laid out: which row is the head, and what its columns are."""

from __future__ import annotations

import calendar
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from bavlo.errors import InputError, RequestError, known_words, one_of, setting
from bavlo.sheets import Sheet
from bavlo.tables.observed_dates import are_dates
from bavlo.tables.observed_numbers import MISSING, looks_like_number

# Names that tell what a column is, in small letters and with blanks between words.
NAMES = {
    "date": (
        "date", "time", "datetime", "date time", "timestamp", "period", "dekad", "pentad",
        "obs date", "observation date", "valid time",
    ),
    "year": ("year", "yr", "yyyy"),
    "month": ("month", "mon", "mo", "mm"),
    "day": ("day", "dy", "dd"),
    "day of year": ("doy", "jday", "julian day", "day of year", "yday", "ddd"),
    "region": (
        "region", "station", "name", "site", "gauge", "gage", "basin", "watershed", "catchment",
        "district", "area", "station name", "station id", "stationid", "stn", "stn id", "id",
        "code",
    ),
    "variable": (
        "variable", "parameter", "element", "param", "datatype", "data type", "measurement",
        "quantity",
    ),
    "unit": ("unit", "units"),
}  # fmt: skip
PLACES = {"lon", "longitude", "x", "wkt", "geometry", "geom", "the geom"}
ALONE = ("year", "month", "day")  # heads of whole dates; mm above a column may be millimetres
VALUES = ("value", "rain", "rainfall", "precipitation", "precip", "obs", "observed", "observation")
ROLES = (*NAMES, "value")
# Columns of which none is a value: places and what qualifies a value.
ASIDE = {
    "lon", "lat", "longitude", "latitude", "x", "y", "z", "elevation", "altitude", "height", "elev",
    "easting", "northing", "flag", "flags", "qc", "quality", "qflag", "mflag", "sflag", "source",
    "time", "hour", "hh", "remarks", "remark", "comment", "comments", "note", "notes", "attributes",
    "index", "no",
}  # fmt: skip
# Words of what is observed: columns with them are variables side by side, not stations.
ELEMENT = re.compile(
    r"\b(rain\w*|precip\w*|prcp|pr|ppt|tp|tmax|tmin|tmean|tavg|tm|tx|tn|temp\w*|humidity|rh|wind\w*"
    r"|pressure|evap\w*|pet|et0?|sun\w*|radiation|snow\w*|max\w*|min\w*|mean|dew\w*|value|flow"
    r"|discharge|count|days)\b"
)
IN_BRACKETS = re.compile(r"^(.*?)\s*[\[(]\s*([^\])]+?)\s*[\])]\s*$")
NUMBERED = re.compile(r"(.*?)\s*0?(\d{1,2})")
SUMS = re.compile(
    r"(?i)(annual|total|sum|mean|average|avg|ave|max\w*|min\w*|std|median|count|number|normal|n)\b.*"
)
FIRST_ROWS, CONTENT_ROWS = 60, 50  # among which the head is looked for, and that show what is dated
MONTH, DAY, DATE, REGION = "month", "day", "date", "region"
FEWEST_DATES = 3  # heads that are dates side by side


class ValueNotTold(InputError):
    """A table has dates, but does not tell which column holds the values."""


@dataclass(frozen=True)
class Layout:
    """Which cells of a sheet are what.

    Parameters
    ----------
    names
        Heads of the columns, without their units.
    units
        By column, of those whose head or row of units gives one.
    body
        The first row of values.
    dates
        The columns that make a date together, in order of year, month and day.
    roles
        Columns of regions, variables, units and values.
    across
        The columns of values side by side, with what their heads name: a month, a day, a date or
        a region.
    across_is
        Which of these; empty where one column holds the values.
    title
        What stands above the head.
    by_day_of_year
        The second column of a date numbers the days of the year.
    """

    names: tuple[str, ...]
    units: Mapping[int, str]
    body: int
    dates: tuple[int, ...]
    roles: Mapping[str, int]
    across: Mapping[int, str] = field(default_factory=dict)
    across_is: str = ""
    title: str = ""
    by_day_of_year: bool = False

    def told(self) -> str:
        """What was taken for what, in words."""
        said = ["date " + ", ".join(self.names[n] for n in self.dates)] if self.dates else []
        said += [f"{role} {self.names[n]}" for role, n in self.roles.items()]
        if self.across_is:
            heads = [self.names[n] for n in self.across]
            some = ", ".join(heads[:3]) + (", …" if len(heads) > 3 else "")
            said.append(f"{len(heads)} {self.across_is}s across ({some})")
        used = {*self.dates, *self.roles.values(), *self.across}
        rest = [name for n, name in enumerate(self.names) if n not in used and name]
        if rest:
            said.append(f"columns not used: {', '.join(rest)}")
        return ", ".join(said)


@dataclass(frozen=True)
class _Head:
    """A row that may be the head: its number, -1 for none, and its cells."""

    row: int
    cells: tuple[str, ...]


@dataclass(frozen=True)
class _Dated:
    """Where the dates stand: columns of their own, and columns for parts of them."""

    columns: tuple[int, ...] = ()
    across: Mapping[int, str] = field(default_factory=dict)
    across_is: str = ""
    by_day_of_year: bool = False


def find_layout(
    path: Path, sheet: Sheet, named: Mapping[str, str], variable: str | None
) -> Layout | None:
    """The layout of a sheet; None where no row of it is a head with a date below.

    Parameters
    ----------
    named
        Names of columns by what they are, of those that the user names.
    variable
        The column of values, or what stands in the column of variables, that the user names.

    Raises
    ------
    RequestError
        Where what is named is nothing that a column is.
    InputError
        Where a column that is named is not there, or it is open which one holds the values.
    """
    wrong = next((role for role in named if role not in ROLES), None)
    if wrong is not None:
        raise RequestError("columns", f"{wrong} is nothing that a column is", one_of(wrong, ROLES))
    for n, row in enumerate(sheet.rows[:FIRST_ROWS]):
        head = _Head(n, tuple(cell.lstrip("#").strip() for cell in row))
        if len(row) >= 2 and set(named.values()) <= set(head.cells):
            roles = _roles_in(head, named)
            dated = _dates_in(head, roles)
            if dated.columns or dated.across:
                return _completed(path, sheet, head, roles, dated, variable)
    if named and sheet.rows:
        heads = max(sheet.rows[:FIRST_ROWS], key=len)
        missing = next((name for name in named.values() if name not in heads), None)
        if missing is not None:
            raise InputError(path, f"has no column {missing}", known_words(missing, heads))
    found = _by_content(sheet)
    return None if found is None else _completed(path, sheet, found[0], {}, found[1], variable)


def plain(name: str) -> str:
    """A head in small letters, without its unit, with blanks between words."""
    match = IN_BRACKETS.match(name)
    bare = match[1] if match else name
    return " ".join(re.split(r"[\s_.:/-]+", bare.casefold())).strip()


def _roles_in(head: _Head, named: Mapping[str, str]) -> dict[str, int]:
    """The columns by what they are: those that are named, else those with a usual name."""
    names = [plain(cell) for cell in head.cells]
    roles = {role: head.cells.index(name) for role, name in named.items()}
    for role, known in NAMES.items():
        places = [names.index(name) for name in known if name in names]
        free = [place for place in places if place not in roles.values()]
        if role not in roles and free:
            roles[role] = free[0]
    return roles


def _dates_in(head: _Head, roles: dict[str, int]) -> _Dated:
    """Where dates stand by the heads; their columns are taken out of the roles."""
    names = [plain(cell) for cell in head.cells]
    parts = [roles.pop(role, None) for role in ("date", "year", "month", "day", "day of year")]
    date, year, month, day, nth = parts
    if date is not None:
        return _Dated((date,))
    months, days = _months_across(names), _run_across(names, 31)
    if year is not None and month is not None and days:
        return _Dated((year, month), days, DAY)
    if year is not None and months:
        return _Dated((year,), months, MONTH)
    if year is not None and month is not None:
        return _Dated(tuple(n for n in (year, month, day) if n is not None))
    if year is not None and nth is not None:
        return _Dated((year, nth), by_day_of_year=True)
    alone = next((n for n in (year, month, day) if n is not None and names[n] in ALONE), None)
    if alone is not None:
        return _Dated((alone,))
    dated = {n: cell for n, cell in enumerate(head.cells) if are_dates([cell])}
    if FEWEST_DATES <= len(dated) < len(names) and are_dates(list(dated.values())):
        return _Dated((), dated, DATE)
    return _Dated()


def _months_across(names: Sequence[str]) -> dict[int, str]:
    """Columns that are months by their heads, as two digits."""
    known = {}
    for number in range(1, 13):
        for word in (calendar.month_abbr[number], calendar.month_name[number]):
            known[word.casefold()] = f"{number:02}"
    found = {n: known[name] for n, name in enumerate(names) if name in known}
    return found if len(set(found.values())) == 12 else _run_across(names, 12)


def _run_across(names: Sequence[str], last: int) -> dict[int, str]:
    """Columns with the numbers 1 to `last` behind one word or none, as two digits."""
    found: dict[str, dict[int, str]] = {}
    for n, name in enumerate(names):
        match = NUMBERED.fullmatch(name)
        if match and 1 <= int(match[2]) <= last:
            found.setdefault(match[1], {})[n] = f"{int(match[2]):02}"
    return next((r for r in found.values() if len(set(r.values())) == len(r) == last), {})


def _by_content(sheet: Sheet) -> tuple[_Head, _Dated] | None:
    """Head and dates of a sheet whose heads name no date, or that has none, by what is dated."""
    for n, row in enumerate(sheet.rows[:FIRST_ROWS]):
        below = sheet.rows[n + 1 : n + 1 + CONTENT_ROWS]
        if len(row) < 2 or not below or max(map(len, below)) > len(row):
            continue
        columns = [
            [each[k] for each in below if each[k:] and each[k] and not SUMS.fullmatch(each[k])]
            for k in range(len(row))
        ]
        dated = [k for k, c in enumerate(columns) if len(c) >= len(below) / 2 and are_dates(c)]
        if len(dated) == 1 and are_dates([row[dated[0]]]):  # there is no head
            heads = tuple(f"column {k}" for k in range(1, len(row) + 1))
            return _Head(n - 1, heads), _Dated((dated[0],))
        if len(dated) == 1:
            return _Head(n, tuple(row)), _Dated((dated[0],))
    return None


def _completed(
    path: Path,
    sheet: Sheet,
    head: _Head,
    roles: dict[str, int],
    dated: _Dated,
    variable: str | None,
) -> Layout:
    """A layout with its units and its column of values."""
    body, units = _units_of(sheet, head, dated.columns)
    names = tuple(match[1] if (match := IN_BRACKETS.match(c)) else c for c in head.cells)
    above = sheet.rows[: max(head.row, 0)]
    title = " ".join(" ".join(c) for c in above if not _is_row_of_units(c, dated.columns)).strip()
    across, across_is = dated.across, dated.across_is
    if not across and "value" not in roles:
        candidates = _values_in(sheet, body, head.cells, {*dated.columns, *roles.values()})
        if variable is not None and "variable" not in roles:
            candidates = [_called(path, head.cells, candidates, variable)]
        usual = [n for n in candidates if plain(head.cells[n]) in VALUES]
        if not candidates:
            raise _no_values(path, sheet, body, head.cells)
        if len(candidates) == 1 or len(usual) == 1:
            roles["value"] = (usual if len(usual) == 1 else candidates)[0]
        elif "region" not in roles and _are_stations(head.cells, units, candidates):
            across, across_is = {n: head.cells[n] for n in candidates}, REGION
        else:
            some = ", ".join(head.cells[n] for n in candidates)
            raise ValueNotTold(
                path,
                f"does not tell which column is the value; there are: {some}",
                f"name it with {setting('columns', 'value=NAME')}",
            )
    if "region" not in roles and not across:
        used = {*dated.columns, *roles.values()}
        named = [n for n in range(len(head.cells)) if _names_of_places(sheet, body, n, used, dated)]
        if len(named) == 1:
            roles["region"] = named[0]
    return Layout(
        names, units, body, dated.columns, roles, across, across_is, title, dated.by_day_of_year
    )


def _values_in(sheet: Sheet, body: int, heads: Sequence[str], used: set[int]) -> list[int]:
    """The columns that may hold values: numbers in most of their rows, and no places or flags."""
    found = []
    for n, head in enumerate(heads):
        if n in used or plain(head) in ASIDE:
            continue
        cells = [row[n] for row in sheet.rows[body:] if n < len(row)]
        known = [cell for cell in cells if cell.casefold() not in MISSING]
        if known and sum(map(looks_like_number, known)) >= len(known) / 2:
            found.append(n)
    return found


def _names_of_places(sheet: Sheet, body: int, column: int, used: set[int], dated: _Dated) -> bool:
    """Whether a column holds words that tell apart rows of one date."""
    if column in used:
        return False
    rows = [row for row in sheet.rows[body:] if len(row) > max(column, *dated.columns, 0)]
    words = [row[column] for row in rows]
    if not all(words) or any(map(looks_like_number, words)) or len(set(words)) < 2:
        return False
    dates = [tuple(row[n] for n in dated.columns) for row in rows]
    return len(set(dates)) < len(rows) == len(set(zip(dates, words, strict=True)))


def _no_values(path: Path, sheet: Sheet, body: int, heads: Sequence[str]) -> ValueNotTold:
    """What to say where no column holds numbers: the first row, and what it has."""
    if body >= len(sheet.rows):
        return ValueNotTold(path, "has no rows of values", "give a table with a head and values")
    row = sheet.rows[body]
    return ValueNotTold(
        path,
        f"line {sheet.lines[body]} holds no value: it has {len(row)} fields ({', '.join(row)}), "
        f"the head {len(heads)}",
        f"repair it, or name the column with {setting('columns', 'value=NAME')}",
    )


def _called(path: Path, heads: Sequence[str], columns: Sequence[int], name: str) -> int:
    """The column of values of a name, with or without its unit."""
    for n in columns:
        if name in (heads[n], plain(heads[n])) or plain(name) == plain(heads[n]):
            return n
    raise InputError(
        path,
        f"has no column of values '{name}'",
        known_words(name, [heads[n] for n in columns]),
    )


def _are_stations(heads: Sequence[str], units: Mapping[int, str], columns: Sequence[int]) -> bool:
    """Whether columns are places side by side, and not variables."""
    named = [n for n in columns if ELEMENT.search(plain(heads[n]))]
    return len(columns) > 1 and not named and len({units.get(n, "") for n in columns}) == 1


def _units_of(sheet: Sheet, head: _Head, dates: Sequence[int]) -> tuple[int, dict[int, str]]:
    """The first row of values, and units from the heads and from a row of units at them."""
    matches = {n: IN_BRACKETS.match(cell) for n, cell in enumerate(head.cells)}
    found = {n: match[2] for n, match in matches.items() if match}
    body = head.row + 1
    if body < len(sheet.rows) and _is_row_of_units(sheet.rows[body], dates):
        found |= {n: text for n, text in enumerate(sheet.rows[body]) if is_unit(text)}
        body += 1
    elif head.row > 0 and _is_row_of_units(sheet.rows[head.row - 1], dates):
        found |= {n: text for n, text in enumerate(sheet.rows[head.row - 1]) if is_unit(text)}
    return body, found


def _is_row_of_units(cells: Sequence[str], dates: Sequence[int]) -> bool:
    """Whether a row holds units and no values."""
    told = [cell for n, cell in enumerate(cells) if cell and n not in dates]
    dated = [cells[n] for n in dates if n < len(cells) and cells[n]]
    if not told or any(map(looks_like_number, told)) or (dated and are_dates(dated)):
        return False
    return any(map(is_unit, told))


def is_unit(text: str) -> bool:
    """Whether a text is a unit that UDUNITS knows, in the writing of people."""
    if not re.search(r"[A-Za-z%°]", text) or len(text) > 20:
        return False
    import cf_units

    try:
        cf_units.Unit(text)
    except ValueError:
        return False
    return True
