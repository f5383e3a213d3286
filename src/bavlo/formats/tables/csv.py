"""Tables as CSV: shortest numbers that read back exactly, text that no spreadsheet runs."""

from __future__ import annotations

import csv
from collections.abc import Iterable
from typing import IO

import numpy as np

from bavlo.core.table import Table

RISKY = ("=", "+", "-", "@")
ESCAPE = "'"


def write(table: Table, file: IO[str]) -> None:
    """Write all rows, comma-separated with a header."""
    writer = csv.writer(file, lineterminator="\n")
    writer.writerow(table.header)
    texts = [column.is_text for column in table.columns]
    for chunk in table.chunks():
        columns = [
            safe_text(values.tolist()) if is_text else numbers_text(values)
            for values, is_text in zip(chunk, texts, strict=True)
        ]
        writer.writerows(zip(*columns, strict=True))


def safe_text(values: Iterable[str]) -> list[str]:
    """Text with an apostrophe before what a spreadsheet would take for a formula.

    An apostrophe that is there already is doubled, so that taking one off gives the text back.
    """
    return [ESCAPE + v if v.startswith((*RISKY, ESCAPE)) else v for v in values]


def plain_text(values: Iterable[str]) -> list[str]:
    """Undo `safe_text`."""
    return [v[1:] if v.startswith(ESCAPE) else v for v in values]


def number_text(value: float) -> str:
    """The shortest text that reads back as the same float64; empty for a missing value.

    Examples
    --------
    >>> number_text(31.0), number_text(0.1), number_text(float("nan"))
    ('31', '0.1', '')
    """
    if value != value:
        return ""
    if value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return repr(value)


def numbers_text(values: np.ndarray) -> list[str]:
    """`number_text` of many, at the price of the different ones."""
    if values.size > 64:
        different, place = np.unique(values, return_inverse=True)
        if different.size < values.size / 8:
            texts = np.array([number_text(v) for v in different.tolist()], object)
            return list(texts[place].tolist())
    return [number_text(v) for v in values.tolist()]
