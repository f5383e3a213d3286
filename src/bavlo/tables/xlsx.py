"""Tables as spreadsheets: typed dates and numbers, frozen header, filters, and a sheet `about`."""

from __future__ import annotations

import json
import tempfile
import zipfile
from collections.abc import Iterator, Mapping
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import InputError, OutputError
from bavlo.tables.csv import number_text
from bavlo.tables.formats import Companions
from bavlo.tables.group import AnyTable
from bavlo.tables.layouts import LONG, sheets, unique_names
from bavlo.tables.parquet import DATES, are_days
from bavlo.tables.placed import table_of_rows
from bavlo.tables.table import Column

MOST_ROWS, MOST_COLUMNS = 1_048_575, 16_384  # of a sheet, the header left out
MADE = datetime(2000, 1, 1, tzinfo=UTC).replace(tzinfo=None)  # clock fields have a fixed value
ABOUT = "about"
LONG_SHEET = "one value a row"  # beside wide sheets, from which the table is read back
MOST_NAME, NOT_IN_NAMES = 31, "[]:*?/\\'"  # of the name of a sheet
WHOLE = "all of it as JSON"  # the lines from which the provenance is read back
MOST_TEXT = 32_000  # characters of a cell
WIDEST = 40  # characters of a column
SAMPLE = 2000  # values that tell a column's width and digits
FIRST_DATE = "1900-03-01"  # before, sheets count a day that never was


def write_file(table: AnyTable, path: Path, companions: Companions) -> None:
    """Write a whole table; in the wide layouts a sheet for each measure, and `about` last."""
    # Rows wait in files until the book is closed: beside it, where what is left behind is swept.
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=f"{path.name}-") as waiting:
        _write_book(table, path, companions, waiting)


def _write_book(table: AnyTable, path: Path, companions: Companions, waiting: str) -> None:
    import xlsxwriter

    options = {
        "constant_memory": True,
        "tmpdir": waiting,
        "strings_to_numbers": False,
        "nan_inf_to_errors": False,
    }
    book = xlsxwriter.Workbook(str(path), options)
    book.set_properties({"created": MADE, "title": table.name})
    head = book.add_format({"bold": True, "bottom": 1})
    named = sheets(table, companions.layout)
    names = unique_names([*(name for name, _ in named), ABOUT], MOST_NAME - 4, NOT_IN_NAMES)
    legend = {}
    for (meaning, part), name in zip(named, names, strict=False):
        if len(part.columns) > MOST_COLUMNS:
            raise OutputError(
                path,
                f"a sheet holds {MOST_COLUMNS:,} columns, and there are {len(part.columns):,}",
                "use .csv or .parquet, or ‹layout long›",
            )
        legend[name] = meaning
        _write_rows(book, name, part, head)
    about = dict(companions.about)
    if companions.layout != LONG:
        about = {**about, "sheets": legend}
        _write_rows(book, LONG_SHEET, table, head)
    _about(book, about, head)
    book.close()


def _write_rows(book: Any, name: str, table: AnyTable, head: Any) -> None:
    """Write row by row; more rows than a sheet holds go on in further sheets."""
    date_format = book.add_format({"num_format": "yyyy-mm-dd"})
    numbers = [
        (n, book.add_format({"num_format": _digits(column)}))
        for n, column in enumerate(table.columns)
        if not column.is_text
    ]
    dates = [(n, _serials(c)) for n, c in enumerate(table.columns) if c.is_text and _is_date(c)]
    of_dates = {n for n, _ in dates}
    texts = [n for n, c in enumerate(table.columns) if c.is_text and n not in of_dates]
    sheet, row, number = None, MOST_ROWS + 1, 0
    for chunk in table.chunks():
        for values in zip(*(column.tolist() for column in chunk), strict=True):
            if row > MOST_ROWS:
                number += 1
                sheet = _sheet(book, name if number == 1 else f"{name} {number}", table, head)
                row = 1
                write_number, write_string = sheet.write_number, sheet.write_string
            for n in texts:
                if values[n]:
                    write_string(row, n, values[n])
            for n, serials in dates:
                if values[n]:
                    write_number(row, n, serials[values[n]], date_format)
            for n, shown in numbers:
                if values[n] == values[n]:
                    write_number(row, n, values[n], shown)
            row += 1
    if sheet is None:
        _sheet(book, name, table, head)


def _sheet(book: Any, name: str, table: AnyTable, head: Any) -> Any:
    """A sheet with its header, frozen and with filters."""
    sheet = book.add_worksheet(name)
    number_head = book.add_format({"bold": True, "bottom": 1, "align": "right"})
    sheet.freeze_panes(1, 0 if "value" in table.header else 1)
    columns = table.columns
    for n, column in enumerate(columns):
        sheet.set_column(n, n, _width(column))
    for n, column in enumerate(columns):
        sheet.write_string(0, n, column.name, head if column.is_text else number_head)
    sheet.autofilter(0, 0, min(len(table), MOST_ROWS), len(columns) - 1)
    return sheet


def _is_date(column: Column) -> bool:
    if not column.is_text or column.name not in DATES or not are_days(column.values):
        return False
    return bool(min(text for text in column.values.ravel().tolist() if text) >= FIRST_DATE)


def _serials(column: Column) -> dict[str, int]:
    """Days by date as sheets count them, from 30 December 1899 on."""
    first = date(1899, 12, 30).toordinal()
    texts = {text for text in column.values.ravel().tolist() if text}
    return {text: date.fromisoformat(text).toordinal() - first for text in texts}


def _width(column: Column) -> int:
    """Characters that a column needs, from some of its values."""
    some = column.values.ravel()[:: max(1, column.values.size // SAMPLE)].tolist()
    longest = max((len(v) if isinstance(v, str) else 9 for v in some), default=0)
    return min(max(longest, len(column.name) + 3) + 1, WIDEST)


def _digits(column: Column) -> str:
    """A number format of sensible digits; the full value stays in the cell."""
    known = column.values[np.isfinite(column.values)]
    if not known.size or (known == np.rint(known)).all():
        return "0"
    size = float(np.abs(known).max())
    return "0.0" if size >= 1000 else "0.00" if size >= 10 else "0.0000"


def _about(book: Any, about: Mapping[str, Any], head: Any) -> None:
    """The provenance, a line each."""
    sheet = book.add_worksheet(ABOUT)
    sheet.set_column(0, 0, 30)
    sheet.set_column(1, 1, 100)
    sheet.write_string(0, 0, "what", head)
    sheet.write_string(0, 1, "is", head)
    lines = [(name, text[:MOST_TEXT]) for name, text in lines_of(about)]
    whole = json.dumps(about, ensure_ascii=False)
    lines += [(WHOLE, whole[n : n + MOST_TEXT]) for n in range(0, len(whole), MOST_TEXT)]
    for row, (name, text) in enumerate(lines, 1):
        sheet.write_string(row, 0, name)
        sheet.write_string(row, 1, text)


def lines_of(about: Any, prefix: str = "") -> Iterator[tuple[str, str]]:
    """Plain data as lines of a name with dots and a text."""
    if isinstance(about, Mapping):
        for key, value in about.items():
            yield from lines_of(value, f"{prefix}.{key}" if prefix else str(key))
    elif isinstance(about, list | tuple) and any(isinstance(v, Mapping | list) for v in about):
        for n, value in enumerate(about, 1):
            yield from lines_of(value, f"{prefix}.{n}")
    else:
        items = about if isinstance(about, list | tuple) else [about]
        yield prefix, ", ".join("" if item is None else str(item) for item in items)


def recognises(path: Path) -> bool:
    """Whether a file is a workbook with a sheet of provenance."""
    with zipfile.ZipFile(path) as book:
        return f'name="{ABOUT}"'.encode() in book.read("xl/workbook.xml")


def about(path: Path) -> dict[str, Any] | None:
    """The provenance of the sheet `about`; None where it is not there."""
    import openpyxl

    book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    if ABOUT not in book.sheetnames:
        return None
    rows = list(book[ABOUT].iter_rows(values_only=True))
    text = "".join(str(row[1]) for row in rows if row and row[0] == WHOLE)
    book.close()
    return dict(json.loads(text)) if text else None


def read(path: Path) -> AnyTable:
    """A table that was written as a spreadsheet, with its axes."""
    try:
        import openpyxl
    except ImportError:
        raise InputError(
            path, "is a spreadsheet, which needs a further library", "pip install 'bavlo[excel]'"
        ) from None
    try:
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
        columns: dict[str, list[str]] = {}
        is_wide = LONG_SHEET in book.sheetnames
        for sheet in book.worksheets:
            if sheet.title == ABOUT or (is_wide and not sheet.title.startswith(LONG_SHEET)):
                continue
            rows = sheet.iter_rows(values_only=True)
            names = [str(name) for name in next(rows, ())]
            for row in rows:
                padded = (*row, *([None] * (len(names) - len(row))))
                for name, value in zip(names, padded, strict=True):
                    columns.setdefault(name, []).append(_text(value))
        book.close()
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise InputError(path, f"cannot be read as a table ({error})", "give another") from error
    return table_of_rows(path, columns)


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime | date):
        return value.isoformat()[:10]
    return number_text(float(value)) if isinstance(value, int | float) else str(value)
