"""Tables of others: a CSV with a region, a date or period, and a value in each row."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bavlo.errors import InputError, RequestError, known_words, one_of, setting
from bavlo.held import Frame, content_of

# Names that tell what a column is, by whole name in any case of letters.
REGION = (
    "region", "station", "name", "site", "gauge", "basin", "watershed", "catchment", "district",
    "area", "station_name", "station_id", "id", "code",
)  # fmt: skip
DATE = ("date", "day", "time", "datetime", "month", "period", "year", "dekad", "pentad")
VALUE = ("value", "rain", "rainfall", "precipitation", "precip", "obs", "observed", "observation")
UNIT = ("unit", "units")
PLACE = ("lon", "lat", "longitude", "latitude", "x", "y", "elevation", "altitude")
ROLES = ("region", "date", "value", "unit")
MISSING = ("", "na", "nan", "n/a", "null", "none", "-")  # numbers that mean no data come later
IN_BRACKETS = re.compile(r"^(.*?)\s*[\[(]\s*([^\])]+?)\s*[\])]\s*$")
DECIMAL_COMMA = re.compile(r"^([+-]?\d+),(\d+)([eE][+-]?\d+)?$")
NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?$")
LABEL = re.compile(r"\d{4}(/\d\d)?(-\d\d(-\d\d|-[pd]\d)?|-[A-Z]{2,12}|:\d\d-\d\d\.\.\d\d-\d\d)?$")


@dataclass(frozen=True, eq=False)
class Observed:
    """What a table of others holds.

    Parameters
    ----------
    regions
        Names, in the order of the file.
    dates
        Labels of days, months, … in order of time.
    values : (T, R) float64
        NaN where there is none.
    marks
        Texts other than an empty one that were taken for no data, each with how often.
    variable, unit
        Name and unit of what is observed; the unit is empty where the file tells none.
    understood
        What was taken for what, in words.
    """

    regions: tuple[str, ...]
    dates: tuple[str, ...]
    values: np.ndarray
    marks: tuple[tuple[str, int], ...]
    variable: str
    unit: str
    understood: str


def read_observed(path: Path, columns: Mapping[str, str]) -> Observed:
    """Read a table of others.

    Parameters
    ----------
    columns
        Names of columns by what they are: region, date, value, unit; those that are not named are
        found by their names.

    Raises
    ------
    InputError
        Where a column cannot be found, a date or number cannot be read, or a region has two values
        on a date.
    """
    header, rows = _rows(path)
    found = _columns_of(path, header, rows, columns)
    value_name, unit = header[found["value"]], ""
    match = IN_BRACKETS.match(value_name)
    if match:
        value_name, unit = match.groups()
    if "unit" in found:
        units = {row[found["unit"]] for row in rows}
        if len(units) > 1:
            raise InputError(path, f"has values in {len(units)} units", "give one at a time")
        unit = units.pop()
    names = [row[found["region"]] if "region" in found else path.stem for row in rows]
    dates = [_label(path, n, row[found["date"]]) for n, row in enumerate(rows, 2)]
    regions = tuple(dict.fromkeys(names))
    times = tuple(sorted(set(dates)))
    at_region = {name: n for n, name in enumerate(regions)}
    at_time = {date: n for n, date in enumerate(times)}
    values = np.full((len(times), len(regions)), np.nan)
    seen = np.zeros(values.shape, bool)
    marks: Counter[str] = Counter()
    for n, (row, name, date) in enumerate(zip(rows, names, dates, strict=True), 2):
        place = at_time[date], at_region[name]
        if seen[place]:
            raise InputError(path, f"line {n}: {name} has a second value of {date}", "keep one")
        seen[place] = True
        text = row[found["value"]]
        values[place] = _number(path, n, text)
        if text and text.lower() in MISSING:
            marks[text] += 1
    told = ", ".join(f"{role} {header[place]}" for role, place in found.items())
    variable = value_name.strip() or "value"
    return Observed(regions, times, values, tuple(marks.items()), variable, unit, told)


def _rows(path: Path) -> tuple[list[str], list[list[str]]]:
    """Header and rows; the delimiter is found, and decimal commas are read."""
    held = content_of(path)
    if isinstance(held, Frame):
        columns = [_cells(column) for column in held.columns.values()]
        return list(held.columns), [list(row) for row in zip(*columns, strict=True)]
    try:
        text = path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give a CSV") from error
    first = text.split("\n", 1)[0]
    sign = max(",;\t", key=first.count)
    rows = [row for row in csv.reader(text.splitlines(), delimiter=sign) if any(row)]
    if len(rows) < 2:
        raise InputError(path, "has no rows", "give a CSV with a header")
    header = [name.strip() for name in rows[0]]
    for n, row in enumerate(rows[1:], 2):
        if len(row) != len(header):
            raise InputError(
                path, f"line {n} has {len(row)} fields, the header {len(header)}", "repair it"
            )
    body = [[cell.strip() for cell in row] for row in rows[1:]]
    if sign != ",":
        body = [[DECIMAL_COMMA.sub(r"\1.\2\3", cell) for cell in row] for row in body]
    return header, body


def _cells(column: np.ndarray) -> list[str]:
    """The texts of a column of a data frame, dates as days where they are, empty for no data."""
    if column.dtype.kind == "M":
        if np.datetime_data(column.dtype)[0] not in ("Y", "M"):  # which are years and months
            days = column.astype("M8[D]")
            column = days if (days == column).all() else column.astype("M8[s]")
        texts = np.datetime_as_string(column)
        return ["" if text == "NaT" else str(text) for text in texts]
    return ["" if v is None or v != v else str(v).strip() for v in column.tolist()]


def _columns_of(
    path: Path, header: Sequence[str], rows: Sequence[Sequence[str]], named: Mapping[str, str]
) -> dict[str, int]:
    """Where region, date, value and unit stand; region and unit may be missing."""
    plain = [(IN_BRACKETS.match(name) or re.match("(.*)", name))[1].lower() for name in header]  # type: ignore[index]
    found: dict[str, int] = {}
    for role, name in named.items():
        if role not in ROLES:
            raise RequestError(
                "columns",
                f"{role} is nothing that a column is",
                one_of(role, ROLES),
            )
        if name not in header:
            raise InputError(path, f"has no column {name}", known_words(name, header))
        found[role] = list(header).index(name)
    for role, known in (("date", DATE), ("region", REGION), ("unit", UNIT)):
        if role not in found:
            places = [plain.index(name) for name in known if name in plain]
            free = [place for place in places if place not in found.values()]
            if free:
                found[role] = free[0]
    if "date" not in found:
        raise _not_found(path, "a date or period", "date", header)
    if "value" not in found:
        places = [
            n
            for n, name in enumerate(plain)
            if n not in found.values() and name not in PLACE and _is_numeric(rows, n)
        ]
        chosen = [n for n in places if plain[n] in VALUE] or places
        if len(chosen) != 1:
            raise _not_found(path, "the value", "value", [header[n] for n in chosen] or header)
        found["value"] = chosen[0]
    return found


def _not_found(path: Path, what: str, role: str, names: Sequence[str]) -> InputError:
    return InputError(
        path,
        f"does not tell which column is {what}; there are: {', '.join(names)}",
        f"name it with {setting('columns', f'{role}=NAME')}",
    )


def _is_numeric(rows: Sequence[Sequence[str]], place: int) -> bool:
    cells = [row[place] for row in rows if row[place].lower() not in MISSING]
    return bool(cells) and all(NUMBER.match(cell) for cell in cells)


def _number(path: Path, line: int, text: str) -> float:
    if text.lower() in MISSING:
        return np.nan
    if not NUMBER.match(text):
        raise InputError(path, f"line {line}: '{text}' is no number", "repair it")
    return float(text)


def _label(path: Path, line: int, text: str) -> str:
    """The label of a day or period: of a time stamp its day."""
    day = re.match(r"(\d{4})[-/.]?(\d\d)[-/.]?(\d\d)(?:[T ]00:00(?::00(?:\.0+)?)?Z?)?$", text)
    if day:
        return "-".join(day.groups())
    month = re.match(r"(\d{4})[-/.](\d\d)$", text)
    if month:
        return "-".join(month.groups())
    if LABEL.match(text):
        return text
    raise InputError(
        path,
        f"line {line}: '{text}' is no date that is sure",
        "write dates as 2013-03-05, months as 2013-03, years as 2013",
    )
