"""Files of rows and columns, as texts: CSV and its kin, spreadsheets, Parquet and Feather."""

from __future__ import annotations

import codecs
import csv
import datetime
import gzip
import re
import warnings
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.errors import BavloWarning, InputError, known_words
from bavlo.files import DAMAGE, check_regular
from bavlo.held import Frame, content_of

SIGNS = ("\t", ";", ",", "|")  # between columns; blanks where none of these does better
SAMPLE = 200  # lines that tell the sign
BLANKS = re.compile(r"\s+")
GZIP = b"\x1f\x8b"
TEXT_ENDINGS = (".csv", ".txt", ".tsv", ".dat", ".csv.gz", ".txt.gz", ".tsv.gz")
SHEET_ENDINGS = (*TEXT_ENDINGS, ".xlsx", ".xlsm", ".parquet", ".geoparquet", ".feather",
                 ".arrow")  # fmt: skip
OLD_SHEETS = (".xls", ".xlsb", ".ods", ".numbers")
WORD = re.compile(r"[^\W\d_]+")
# Signs that stand within no word, as they do where letters are read in a wrong encoding.
WITHIN_A_WORD = re.compile(r"(?<=[a-z])[€‚ƒ„…†‡‰‹Œ“”•˜™›œ¡¢£¤¥¦§¨©ª«¬®¯±´¶¸¹º»¼½¾¿×÷](?=[a-z])")


@dataclass(frozen=True)
class Sheet:
    """Rows of texts.

    Parameters
    ----------
    name
        Of the sheet of a workbook; empty where a file holds one only.
    rows
        Cells without blanks around them; a row ends with its last cell that holds something.
    lines
        Number of each row in the file, from 1.
    sign
        What stands between columns: one of `SIGNS`, a blank, or nothing in typed files.
    """

    name: str
    rows: list[list[str]]
    lines: list[int]
    sign: str = ""


def is_sheet(path: Path) -> bool:
    """Whether a file may be rows and columns by its name, or is a data frame."""
    if isinstance(content_of(path), Frame):
        return True
    return path.name.lower().endswith((*SHEET_ENDINGS, *OLD_SHEETS)) and path.is_file()


def read_sheets(path: Path, encoding: str | None = None) -> list[Sheet]:
    """All sheets of a file that hold anything.

    Parameters
    ----------
    encoding
        Of a text that is not UTF-8, UTF-16 or Latin-1.

    Raises
    ------
    InputError
        Where the file cannot be read as rows and columns.
    """
    held = content_of(path)
    if isinstance(held, Frame):
        return [_of_columns(held.columns)]
    check_regular(path)
    name = path.name.lower()
    if name.endswith(OLD_SHEETS):
        raise InputError(path, "is a spreadsheet of another format", "save it as .xlsx or .csv")
    try:
        if name.endswith((".xlsx", ".xlsm")):
            sheets = _of_workbook(path)
        elif name.endswith((".parquet", ".geoparquet", ".feather", ".arrow")):
            sheets = [_of_columns(columns_of(arrow_table(path)))]
        else:
            sheets = [_of_text(text_in(path, encoding))]
    except InputError:
        raise
    except (*DAMAGE, csv.Error) as error:
        reason = " ".join(str(error).split()) or type(error).__name__
        raise InputError(
            path, f"cannot be read as a table ({reason})", "see that it is whole"
        ) from error
    return [sheet for sheet in sheets if sheet.rows]


def chosen_sheet(path: Path, sheets: Sequence[Sheet], layer: str | None) -> list[Sheet]:
    """The sheet of a name; all of them where none is named."""
    if layer is None or len(sheets) < 2:
        return list(sheets)
    found = [sheet for sheet in sheets if sheet.name == layer]
    if not found:
        raise InputError(
            path, f"has no sheet '{layer}'", known_words(layer, [s.name for s in sheets])
        )
    return found


def text_in(path: Path, encoding: str | None = None) -> str:
    """The text of a file, in the encoding that it is in by all signs.

    Raises
    ------
    InputError
        Where that is left open, or is not the one that is named.
    """
    data = path.read_bytes()
    if data.startswith(GZIP):
        data = gzip.decompress(data)
    if encoding is not None:
        try:
            return data.decode(encoding).lstrip("\ufeff")
        except LookupError:
            raise InputError(
                path, f"'{encoding}' is no encoding", "name one, as ‹encoding cp1250›"
            ) from None
        except UnicodeError:
            raise InputError(
                path, f"is not in the encoding {encoding}", "name another with ‹encoding›"
            ) from None
    for name in _likely_encodings(data):
        try:
            return data.decode(name).lstrip("\ufeff")
        except UnicodeError:
            continue
    text = data.decode("cp1252", "replace")
    if not _reads_as_latin(text):
        raise InputError(
            path,
            "is text that is neither UTF-8 nor Latin-1",
            "name its encoding, as ‹encoding cp1251›, or save it as UTF-8",
        )
    warnings.warn(
        f"{path}: is not UTF-8; read as Latin-1 (Windows-1252), other ones go with ‹encoding›",
        BavloWarning,
        stacklevel=2,
    )
    return text


def _likely_encodings(data: bytes) -> tuple[str, ...]:
    """Unicode by its mark, by where its zeros stand, or plain UTF-8."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return ("utf-16",)
    even, odd = data[:2000:2].count(0), data[1:2000:2].count(0)
    if odd > len(data[:2000]) / 4 > even:
        return ("utf-16-le",)
    if even > len(data[:2000]) / 4 > odd:
        return ("utf-16-be",)
    return ("utf-8",)


def _reads_as_latin(text: str) -> bool:
    """Whether foreign letters stand among plain ones, as they do in the languages of Latin-1."""
    if "\ufffd" in text or WITHIN_A_WORD.search(text):
        return False
    words = [word for word in WORD.findall(text) if not word.isascii()]
    letters = sum(map(len, words))
    foreign = sum(not letter.isascii() for word in words for letter in word)
    return foreign <= letters / 2


def _of_text(text: str) -> Sheet:
    lines = text.splitlines()
    sign = _sign_of(lines[:SAMPLE])
    if sign == " ":
        found = [(n, BLANKS.split(line.strip())) for n, line in enumerate(lines, 1)]
    else:
        reader = csv.reader(lines, delimiter=sign, skipinitialspace=True)
        found = [(reader.line_num, row) for row in reader]
    kept = [(n, _trimmed(row)) for n, row in found]
    kept = [(n, row) for n, row in kept if row]
    return Sheet("", [row for _, row in kept], [n for n, _ in kept], sign)


def _trimmed(row: Iterable[str]) -> list[str]:
    """Cells without blanks around them, up to the last that holds something."""
    cells = [cell.strip() for cell in row]
    while cells and not cells[-1]:
        cells.pop()
    return cells


def _sign_of(lines: Sequence[str]) -> str:
    """The sign that cuts most lines into equally many columns, the first such of all."""
    lines = [line for line in lines if line.strip()]
    best, most = " ", 0
    for sign in SIGNS:
        if (score := _equal_lines(len(row) for row in csv.reader(lines, delimiter=sign))) > most:
            best, most = sign, score
    by_blanks = _equal_lines(len(BLANKS.split(line.strip())) for line in lines)
    return best if most >= min(by_blanks, 2) and not _cuts_numbers(lines, best, by_blanks) else " "


def _cuts_numbers(lines: Sequence[str], sign: str, by_blanks: int) -> bool:
    """Whether commas are those of numbers in columns that blanks divide."""
    if sign != "," or by_blanks < len(lines) - 1:
        return False
    return all(re.search(r"\d,\d", line) for line in lines if "," in line) and not all(
        "," in line for line in lines
    )


def _equal_lines(widths: Iterable[int]) -> int:
    """How many lines have the commonest number of columns, of those that have several."""
    counted = Counter(width for width in widths if width > 1)
    return max(counted.values(), default=0)


def _of_workbook(path: Path) -> list[Sheet]:
    """The visible sheets, formulas as the values that they had when the file was saved."""
    try:
        import openpyxl
    except ImportError:
        raise InputError(
            path, "is a spreadsheet, which needs a further library", "pip install 'bavlo[excel]'"
        ) from None
    book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    sheets = []
    for sheet in book.worksheets:
        rows = [_trimmed(map(cell_text, row)) for row in sheet.iter_rows(values_only=True)]
        kept = [n for n, row in enumerate(rows) if row]
        if sheet.sheet_state == "visible":
            sheets.append(Sheet(sheet.title, [rows[n] for n in kept], [n + 1 for n in kept]))
    book.close()
    return sheets


def arrow_table(path: Path) -> Any:
    """A Parquet or Feather file as the library has it."""
    try:
        import pyarrow.feather
        import pyarrow.parquet
    except ImportError:
        raise InputError(
            path, "is a Parquet file, which needs a further library", "pip install 'bavlo[parquet]'"
        ) from None
    is_parquet = path.name.lower().endswith("parquet")
    try:
        return (pyarrow.parquet if is_parquet else pyarrow.feather).read_table(path)
    except (pyarrow.lib.ArrowException, *DAMAGE) as error:
        reason = " ".join(str(error).split())
        raise InputError(
            path, f"cannot be read as a table ({reason})", "see that it is whole"
        ) from error


def columns_of(table: Any) -> dict[str, np.ndarray]:
    """The columns of such a table that hold one value a row."""
    import pyarrow

    names = [
        name
        for name in table.column_names
        if not str(table.schema.field(name).type).startswith(("struct", "list", "map"))
    ]
    try:
        return {name: table.column(name).to_numpy(zero_copy_only=False) for name in names}
    except pyarrow.lib.ArrowException as error:
        raise ValueError(f"a column cannot be read: {error}") from error


def _of_columns(columns: Any) -> Sheet:
    """Typed columns as texts, with their names as the first row."""
    texts = [column_texts(column) for column in columns.values()]
    rows = [list(columns), *map(list, zip(*texts, strict=True))]
    return Sheet("", rows, list(range(1, len(rows) + 1)))


def column_texts(column: np.ndarray) -> list[str]:
    """The texts of a column, dates as days where they are, empty for no data."""
    if column.dtype.kind == "M":
        if np.datetime_data(column.dtype)[0] not in ("Y", "M"):  # which are years and months
            days = column.astype("M8[D]")
            column = days if (days == column).all() else column.astype("M8[s]")
        texts = np.datetime_as_string(column)
        return ["" if text == "NaT" else str(text) for text in texts]
    return [cell_text(value).strip() for value in column.tolist()]


def cell_text(value: Any) -> str:
    """The text of one cell of a typed file; empty for no data."""
    if value is None or value != value:
        return ""
    if isinstance(value, datetime.datetime):
        return (value.date() if value.time() == datetime.time() else value).isoformat()
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, bytes):
        return value.hex()
    return str(value)
