"""Numbers of observations in the writing of people, with what means no data or a trace."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bavlo.errors import InputError

MISSING = frozenset((
    "", "na", "nan", "n/a", "n.a.", "null", "none", "-", "--", "---", "----", "–", "—", ".", "..",
    "...", "m", "x", "*", "**", "***", "?", "nd", "n.d.", "no data", "nodata", "missing", "miss",
    "#n/a", "#na", "#value!", "#div/0!", "#ref!", "#null!",
))  # fmt: skip
TRACES = frozenset(("t", "tr", "tr.", "trace", "traces"))
NUMBER = re.compile(r"[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)([eE][+-]?[0-9]+)?")
BETWEEN = re.compile(r"(?<=\d)[\s\u00a0\u202f'’](?=\d{3}(\D|$))")  # thousands, in whatever way
NUMERIC = re.compile(r"[+-]?[\d.,'’\s\u00a0\u202f]*\d[\d.,]*([eE][+-]?\d+)?")
GROUPS = re.compile(r"[+-]?\d{1,3}( \d{3})+")
THOUSANDS = re.compile(r"[+-]?[1-9]\d{0,2}(,\d{3})+")


@dataclass(frozen=True, eq=False)
class Numbers:
    """What a column of texts holds.

    Parameters
    ----------
    values : (N,) float64
        NaN where there is no data.
    marks
        Texts other than an empty one that were taken for no data, each with how often.
    traces
        How many were traces, which are 0.
    """

    values: np.ndarray
    marks: tuple[tuple[str, int], ...]
    traces: int


def looks_like_number(text: str) -> bool:
    """Whether a text may be a number, with whatever signs."""
    return bool(NUMERIC.fullmatch(text))


def read_numbers(path: Path, texts: Sequence[str], lines: Sequence[int]) -> Numbers:
    """The numbers of a column.

    Parameters
    ----------
    texts, lines
        The cells, and the line in which each stands.

    Raises
    ------
    InputError
        Where one is no number, or its comma may stand for thousands or a decimal point.
    """
    decimal = _decimal_of(path, texts, lines)
    values = np.full(len(texts), np.nan)
    marks: Counter[str] = Counter()
    traces = 0
    for n, text in enumerate(texts):
        if NUMBER.fullmatch(text) and decimal == ".":
            values[n] = float(text)
            continue
        folded = text.casefold()
        if folded in MISSING:
            if text:
                marks[text] += 1
        elif folded in TRACES:
            values[n] = 0.0
            traces += 1
        else:
            values[n] = _number(path, lines[n], text, decimal)
    return Numbers(values, tuple(marks.items()), traces)


def _number(path: Path, line: int, text: str, decimal: str) -> float:
    bare = BETWEEN.sub("", text).replace("\u2212", "-")
    whole = bare.partition(decimal)[0]
    between = "." if decimal == "," else ","
    if between in bare and GROUPS.fullmatch(whole.replace(between, " ")):
        bare = bare.replace(between, "")
    bare = bare.replace(decimal, ".")
    if not NUMBER.fullmatch(bare):
        raise InputError(
            path,
            f"line {line}: '{text}' is no number",
            "repair it; where it means no data, write NA or leave it empty",
        )
    return float(bare)


def _decimal_of(path: Path, texts: Sequence[str], lines: Sequence[int]) -> str:
    """What stands before decimals: a comma only where all commas can be read so.

    A comma that stands before three digits, as in 1,234, could be one of thousands.
    """
    at = [n for n, text in enumerate(texts) if "," in text and looks_like_number(text)]
    if not at:
        return "."
    both = next((texts[n] for n in at if "." in texts[n]), None)
    if both is not None:
        return "," if both.rindex(",") > both.rindex(".") else "."
    if not all(THOUSANDS.fullmatch(texts[n]) for n in at):
        return ","
    grouped = any(texts[n].count(",") > 1 for n in at)
    if grouped or any("." in text and NUMBER.fullmatch(text) for text in texts):
        return "."
    raise InputError(
        path,
        f"line {lines[at[0]]}: '{texts[at[0]]}' may be {texts[at[0]].replace(',', '')} or "
        f"{texts[at[0]].replace(',', '.')}",
        "write numbers with a point before decimals and nothing between thousands",
    )
