"""Tables of others: observations by region and date, in the layouts that people give them."""

from __future__ import annotations

import calendar
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bavlo.errors import InputError, known_words, setting
from bavlo.sheets import Sheet, chosen_sheet, is_sheet, read_sheets
from bavlo.tables.observed_dates import Dates, are_dates, read_dates
from bavlo.tables.observed_layout import (
    DATE,
    ELEMENT,
    FIRST_ROWS,
    IN_BRACKETS,
    MONTH,
    PLACES,
    REGION,
    SUMS,
    Layout,
    ValueNotTold,
    find_layout,
    is_unit,
    plain,
)
from bavlo.tables.observed_numbers import MISSING, read_numbers

LONGEST_NAME = 60  # signs of a title that names the variable
UNNAMED = "value"  # the variable of a table that names none


@dataclass(frozen=True)
class ObservedOptions:
    """What a user says about a table of others.

    Parameters
    ----------
    columns
        Names of columns by what they are; those that are not named are found.
    variable
        The column of values, or what stands in a column of variables.
    dates
        How dates are written, in the codes of `dates`.
    layer
        The sheet of a workbook.
    encoding
        Of text that is not UTF-8, UTF-16 or Latin-1.
    called
        What the user calls the table: the variable where several are in it.
    """

    columns: Mapping[str, str] = field(default_factory=dict)
    variable: str | None = None
    dates: str | None = None
    layer: str | None = None
    encoding: str | None = None
    called: str | None = None


@dataclass(frozen=True, eq=False)
class Observed:
    """What a table of others holds.

    Parameters
    ----------
    regions
        Names, in the order of the file.
    every
        Sort of its steps: day, month, year, dekad, pentad or season.
    dates
        Labels of the steps, in order of time.
    values : (T, R) float64
        NaN where there is none.
    marks
        Texts other than an empty one that were taken for no data, each with how often.
    traces
        How many were traces, which are 0.
    left_out
        Rows that are no observations, in words; empty for none.
    variable, unit
        Name and unit of what is observed; the unit is empty where the file tells none.
    understood
        What was taken for what, in words.
    """

    regions: tuple[str, ...]
    every: str
    dates: tuple[str, ...]
    values: np.ndarray
    marks: tuple[tuple[str, int], ...]
    traces: int
    left_out: str
    variable: str
    unit: str
    understood: str


@dataclass(frozen=True, eq=False)
class _Cells:
    """Observations one by one: of each its region, date, text and line."""

    regions: list[str]
    dates: list[str]
    texts: list[str]
    lines: list[int]


def looks_observed(path: Path) -> bool:
    """Whether a file is a table with dates, rather than one of places."""
    if not is_sheet(path):
        return False
    try:
        sheets = read_sheets(path)
        return any(find_layout(path, sheet, {}, None) is not None for sheet in sheets)
    except ValueNotTold:  # unless it only tells since when a place is there
        rows = [row for sheet in sheets for row in sheet.rows[:FIRST_ROWS]]
        return not any(plain(cell) in PLACES for row in rows for cell in row)
    except InputError:
        return False


def read_observed(path: Path, options: ObservedOptions = ObservedOptions()) -> Observed:
    """Read a table of others.

    Raises
    ------
    InputError
        Where a column cannot be found, a date or number cannot be read, or a region has two values
        on a date.
    """
    sheet, layout = _sheet_and_layout(path, options)
    rows = list(zip(sheet.lines, sheet.rows, strict=True))[layout.body :]
    head = sheet.rows[layout.body - 1] if layout.body else []
    rows, left_out = _observations(rows, layout, head)
    rows, variable = _of_variable(path, rows, layout, options)
    unit = _unit(path, rows, layout)
    cells = _cells(path, rows, layout)
    if not cells.texts:
        raise InputError(path, "has no rows of values", "give a table with a head and values")
    dates = _dates(path, cells, options.dates)
    numbers = read_numbers(path, cells.texts, cells.lines)
    regions = tuple(dict.fromkeys(cells.regions))
    steps = tuple(sorted(set(dates.labels.values())))
    values = _placed(path, cells, dates, (steps, regions), numbers.values)
    told = [layout.told(), dates.how]
    if sheet.name:
        told.insert(0, f"sheet {sheet.name}")
    name, title_unit = _named(layout, variable)
    return Observed(
        regions,
        dates.every,
        steps,
        values,
        numbers.marks,
        numbers.traces,
        left_out,
        name or options.called or UNNAMED,
        unit or title_unit,
        "; ".join(filter(None, told)),
    )


def _sheet_and_layout(path: Path, options: ObservedOptions) -> tuple[Sheet, Layout]:
    """The one sheet that holds observations, and how it is laid out."""
    sheets = chosen_sheet(path, read_sheets(path, options.encoding), options.layer)
    if not any(len(sheet.rows) > 1 for sheet in sheets):
        raise InputError(path, "has no rows", "give a table with a head and values")
    found = []
    for sheet in sheets:
        layout = find_layout(path, sheet, options.columns, options.variable)
        if layout is not None:
            found.append((sheet, layout))
    if len(found) > 1:
        names = ", ".join(sheet.name for sheet, _ in found)
        raise InputError(
            path,
            f"has several sheets with observations: {names}",
            f"choose one with {setting('layer', found[0][0].name)}",
        )
    if not found:
        widest: list[str] = max(sheets[0].rows[:10], key=lambda row: len(row))
        heads = ", ".join(widest)
        raise InputError(
            path,
            f"does not tell which column is a date or period; there are: {heads}",
            f"name it with {setting('columns', 'date=NAME')}",
        )
    return found[0]


_Rows = list[tuple[int, list[str]]]


def _observations(rows: _Rows, layout: Layout, head: Sequence[str]) -> tuple[_Rows, str]:
    """Rows that are observations, and what is to be said of the others.

    A repeated head, sums and means below the values and remarks of one cell are none.
    """
    needed = {*layout.dates, *layout.roles.values()}
    kept, out = [], []
    for line, row in rows:
        first = next((row[n] for n in layout.dates if n < len(row)), "")
        is_sum = bool(layout.dates) and bool(SUMS.fullmatch(first)) and not are_dates([first])
        is_remark = len(needed) > 1 and len(row) == 1 and layout.dates != (0,)
        is_remark |= len(row) == 1 and bool(layout.dates) and not are_dates([first])
        if row == list(head) or is_sum or is_remark:
            out.append((line, row[0]))
        else:
            kept.append((line, row))
    if not out:
        return kept, ""
    some = ", ".join(f"line {line} ('{text[:30]}')" for line, text in out[:3])
    more = ", …" if len(out) > 3 else ""
    count = "1 row that is no observation" if len(out) == 1 else ""
    count = count or f"{len(out)} rows that are no observations"
    return kept, f"{count}: {some}{more}"


def _of_variable(
    path: Path, rows: _Rows, layout: Layout, options: ObservedOptions
) -> tuple[_Rows, str]:
    """The rows of one variable, and its name; all where no column tells of several."""
    column = layout.roles.get("variable")
    if column is None:
        return rows, ""
    names = list(dict.fromkeys(_cell(row, column) for _, row in rows))
    wanted = options.variable
    if wanted is None and options.called in names:
        wanted = options.called
    if wanted is None and len(names) > 1:
        raise InputError(
            path,
            f"holds several variables: {', '.join(names[:20])}",
            f"choose one, as {setting('variable', names[0])}",
        )
    wanted = names[0] if wanted is None else wanted
    if wanted not in names:
        raise InputError(path, f"has no variable '{wanted}'", known_words(wanted, names))
    return [(line, row) for line, row in rows if _cell(row, column) == wanted], wanted


def _unit(path: Path, rows: _Rows, layout: Layout) -> str:
    """The unit of the values that are read."""
    column = layout.roles.get("unit")
    if column is not None:
        units = {_cell(row, column) for _, row in rows}
        if len(units) > 1:
            listed = ", ".join(sorted(units)[:5])
            raise InputError(
                path, f"has values in {len(units)} units: {listed}", "give one at a time"
            )
        return units.pop() if units else ""
    columns = layout.across or [layout.roles["value"]]
    return next((layout.units[n] for n in columns if n in layout.units), "")


def _named(layout: Layout, variable: str) -> tuple[str, str]:
    """Name and unit of a variable, as its column, its head or the title above tells them."""
    if variable:
        return variable, ""
    if "value" in layout.roles:
        return layout.names[layout.roles["value"]].strip(), ""
    match = IN_BRACKETS.match(layout.title)
    if match and is_unit(match[2]):
        return match[1].strip(), match[2]
    says = len(layout.title) <= LONGEST_NAME and ELEMENT.search(plain(layout.title))
    return (layout.title if says else ""), ""


def _cell(row: Sequence[str], column: int) -> str:
    return row[column] if column < len(row) else ""


def _cells(path: Path, rows: _Rows, layout: Layout) -> _Cells:
    """The observations of all rows, one by one."""
    out = _Cells([], [], [], [])
    region = layout.roles.get("region")
    for line, row in rows:
        if len(row) > len(layout.names):
            raise InputError(
                path,
                f"line {line} has {len(row)} fields, the header {len(layout.names)}",
                "repair it",
            )
        name = path.name.split(".")[0] if region is None else _cell(row, region)
        date = [_cell(row, n) for n in layout.dates]
        if not layout.across_is:
            value = layout.roles["value"]
            if len(row) <= max(layout.dates):
                raise InputError(
                    path,
                    f"line {line} has {len(row)} fields, the header {len(layout.names)}",
                    "repair it",
                )
            _add(out, name, _date(date, layout), _cell(row, value), line)
            continue
        for column, head in layout.across.items():
            text = _cell(row, column)
            if layout.across_is == REGION:
                _add(out, head, _date(date, layout), text, line)
            elif layout.across_is == DATE:
                _add(out, name, head, text, line)
            elif layout.across_is == MONTH:
                _add(out, name, f"{date[0]}-{head}", text, line)
            elif _has_day(date, head) or text.casefold() not in MISSING:
                _add(out, name, f"{_date(date, layout)}-{head}", text, line)
    return out


def _add(cells: _Cells, region: str, date: str, text: str, line: int) -> None:
    cells.regions.append(region)
    cells.dates.append(date)
    cells.texts.append(text)
    cells.lines.append(line)


def _date(parts: Sequence[str], layout: Layout) -> str:
    """The date that stands in one column, or in several: 1993 and 1 are 1993-01."""
    if len(parts) == 1:
        return parts[0]
    months = [name.casefold() for name in calendar.month_abbr]
    month = parts[1][:3].casefold()
    second = f"{months.index(month):02}" if month in months[1:] else parts[1].zfill(2)
    if layout.by_day_of_year:
        second = parts[1].zfill(3)
    return "-".join([parts[0], second, *(part.zfill(2) for part in parts[2:])])


def _has_day(date: Sequence[str], day: str) -> bool:
    """Whether a month has a day of a number, as all have up to the 28th."""
    if int(day) <= 28 or not (date[0].isdigit() and date[1].isdigit()):
        return int(day) <= 28
    year, month = int(date[0]), int(date[1])
    return 1 <= month <= 12 and int(day) <= calendar.monthrange(max(year, 1), month)[1]


def _dates(path: Path, cells: _Cells, pattern: str | None) -> Dates:
    first_line: dict[str, int] = {}
    for date, line in zip(cells.dates, cells.lines, strict=True):
        first_line.setdefault(date, line)
    return read_dates(path, list(first_line), list(first_line.values()), pattern)


def _placed(
    path: Path,
    cells: _Cells,
    dates: Dates,
    axes: tuple[tuple[str, ...], tuple[str, ...]],
    numbers: np.ndarray,
) -> np.ndarray:
    """(T, R) values by step and region.

    Raises
    ------
    InputError
        Where a region has two values on a date.
    """
    steps, regions = axes
    at_step = {label: n for n, label in enumerate(steps)}
    at_region = {name: n for n, name in enumerate(regions)}
    step = np.array([at_step[dates.labels[date]] for date in cells.dates])
    region = np.array([at_region[name] for name in cells.regions])
    place = step * len(regions) + region
    order = np.argsort(place, kind="stable")
    again = np.flatnonzero(np.diff(place[order]) == 0)
    if again.size:
        n = int(order[again[0] + 1])
        raise InputError(
            path,
            f"line {cells.lines[n]}: {cells.regions[n]} has a second value of "
            f"{dates.labels[cells.dates[n]]}",
            f"keep one, or name the column of places with {setting('columns', 'region=NAME')}"
            if len(regions) == 1
            else "keep one",
        )
    values = np.full((len(steps), len(regions)), np.nan)
    values[step, region] = numbers
    return values
