"""Tables on the screen: the first and last rows, as wide as the terminal."""

from __future__ import annotations

import math
import os
import shutil
import sys
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from bavlo.errors import in_one_line

if TYPE_CHECKING:
    from bavlo.tables.group import AnyTable

EDGE_ROWS = 6
LEAST_WIDTH = 80
LEAST_TEXT = 12  # characters to which texts are cut before columns are left out
BETWEEN = 2  # spaces
MOST_DECIMALS = 6
BOLD, FAINT, PLAIN = "\033[1m", "\033[2m", "\033[0m"
# Columns that are left out where the terminal is narrow, the first ones first.
LESS_NEEDED = (
    "steps_expected", "order", "combine", "end", "start", "ranked_of", "years", "score_kind",
    "std", "steps", "area_valid", "method", "total_unit", "tested_on", "note", "normal",
)  # fmt: skip


@dataclass(frozen=True)
class _Shown:
    """A column as it is shown: its head, its cells, and whether it is text."""

    name: str
    head: str
    cells: list[str]
    is_text: bool

    @property
    def width(self) -> int:
        return max(len(text) for text in (self.head, *self.cells))


def preview(table: AnyTable) -> str:
    """The first and last rows of a table.

    Columns that are the same in every row are told once above; units stand in the heads where all
    rows have the same; columns for which there is no room are named below.
    """
    width = max(shutil.get_terminal_size((120, 40)).columns, LEAST_WIDTH)
    same, varying = _constants(table)
    unit = same.pop("unit", None)
    rows = list(range(min(EDGE_ROWS, len(table))))
    rows += [n for n in range(max(len(table) - EDGE_ROWS, 0), len(table)) if n not in rows]
    subset = [table.rows(n, n + 1) for n in rows]
    shown = []
    for n in varying:
        column = table.columns[n]
        head = f"{column.name} ({unit})" if unit and column.name == "value" else column.name
        values = [row[n][0] for row in subset]
        cells = (
            list(map(in_one_line, values))
            if column.is_text
            else _numbers([float(value) for value in values])
        )
        if any(cells):
            shown.append(_Shown(column.name, head, cells, column.is_text))
    if unit and not any(column.name == "value" for column in shown):
        same["unit"] = unit
    told = "   ".join(f"{name} {in_one_line(text)}" for name, text in same.items())
    shown, left_out = _fitting(shown, width)
    lines = aligned(
        [[c.head for c in shown], *zip(*(c.cells for c in shown), strict=True)],
        [c.is_text for c in shown],
        width,
    )
    if len(table) > len(rows):
        lines.insert(1 + EDGE_ROWS, "…")
    lines[0] = styled(lines[0], BOLD)
    above = textwrap.wrap(told, width, break_on_hyphens=False)
    below = [f"(no room for: {', '.join(left_out)})"] if left_out else []
    return "\n".join([*(styled(line, FAINT) for line in above), *lines, *below])


def _constants(table: AnyTable) -> tuple[dict[str, str], list[int]]:
    """Columns of one value with it, and the numbers of all others."""
    same: dict[str, str] = {}
    varying = []
    for n, column in enumerate(table.columns):
        values = column.values.ravel()
        if len(table) > 1 and values.size and (values == values[0]).all():
            if values[0] != "":
                same[column.name] = _cell(values[0])
        else:
            varying.append(n)
    return same, varying


def _fitting(columns: list[_Shown], width: int) -> tuple[list[_Shown], list[str]]:
    """The columns for which there is room, and the names of the others."""
    left_out: list[str] = []

    def needed() -> int:
        widths = [min(c.width, LEAST_TEXT) if c.is_text else c.width for c in columns]
        return sum(widths) + BETWEEN * (len(widths) - 1)

    for name in LESS_NEEDED:
        if needed() <= width:
            break
        if any(column.name == name for column in columns):
            columns = [column for column in columns if column.name != name]
            left_out.append(name)
    while needed() > width and len(columns) > 2:  # a wide table: the last columns
        left_out.append(columns[-1].name)
        columns = columns[:-1]
    if len(left_out) > EDGE_ROWS:
        left_out = [*left_out[:EDGE_ROWS], f"{len(left_out) - EDGE_ROWS} more"]
    return columns, left_out


def aligned(rows: Sequence[Sequence[str]], left: Sequence[bool], width: int) -> list[str]:
    """Rows in columns, text to the left and numbers to the right, texts cut to the width."""
    sizes = [max(len(row[i]) for row in rows) for i in range(len(left))]
    texts = [n for n, is_text in enumerate(left) if is_text]
    while sum(sizes) + BETWEEN * (len(sizes) - 1) > width and texts:
        longest = max(texts, key=lambda n: sizes[n])
        if sizes[longest] <= LEAST_TEXT:
            break
        sizes[longest] -= 1
    out = []
    for row in rows:
        cells = []
        for text, size, is_text in zip(row, sizes, left, strict=True):
            cut = text if len(text) <= size else text[: size - 1] + "…"
            cells.append(cut.ljust(size) if is_text else cut.rjust(size))
        out.append((" " * BETWEEN).join(cells)[:width].rstrip())
    return out


def styled(text: str, style: str) -> str:
    """Text in a style on a terminal that wants one (https://no-color.org)."""
    if not sys.stdout.isatty() or os.environ.get("NO_COLOR"):
        return text
    return f"{style}{text}{PLAIN}"


def _numbers(values: list[float]) -> list[str]:
    """Numbers with as many decimals as give the largest five digits, where that shows them all."""
    known = [abs(value) for value in values if math.isfinite(value)]
    if all(value == int(value) for value in known):
        return [_cell(value) for value in values]
    decimals = max(0, 4 - math.floor(math.log10(max(known))))
    least = min(value for value in known if value)
    if least < 10 ** (2 - decimals) or decimals > MOST_DECIMALS:
        return [_cell(value) for value in values]
    return [f"{value:.{decimals}f}" if value == value else "" for value in values]


def _cell(value: Any) -> str:
    """Text as it is, a number with five digits."""
    if isinstance(value, str):
        return value
    number = float(value)
    if number != number:
        return ""
    if number == int(number) and abs(number) < 1e7:
        return str(int(number))
    return f"{number:.5g}"
