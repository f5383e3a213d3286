"""Words on the screen: progress, warnings and previews."""

from __future__ import annotations

import shutil
import sys
import textwrap
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, TextIO

from bavlo.cli.parsing import as_option
from bavlo.errors import worded

if TYPE_CHECKING:
    from bavlo.tables.table import Table

EVERY_SECONDS = 10.0  # between lines of progress where there is no terminal
MOST_WARNINGS = 8
EDGE_ROWS = 6


class Screen:
    """Tells a person at a terminal, or a log, what happens.

    Parameters
    ----------
    quiet
        No progress and no notes.
    verbose
        Every note.
    """

    def __init__(
        self, *, quiet: bool = False, verbose: bool = False, stream: TextIO | None = None
    ) -> None:
        self.quiet = quiet
        self.verbose = verbose
        self.stream = stream or sys.stderr
        self.warnings: list[str] = []
        self._bar: Any = None
        self._last = time.monotonic()

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        """A bar on a terminal, one line every so often elsewhere."""
        if self.quiet:
            return
        if self.stream.isatty():
            from tqdm import tqdm

            if self._bar is not None and self._bar.total != total:
                self.close()
            if self._bar is None:
                self._bar = tqdm(
                    total=total, unit=f" {what}", file=self.stream, leave=False, delay=0.5
                )
            self._bar.update(done - self._bar.n)
            if done >= total:
                self.close()
        elif time.monotonic() - self._last > EVERY_SECONDS:
            self._last = time.monotonic()
            print(f"bavlo: {done} of {total} {what}", file=self.stream)

    def note(self, text: str) -> None:
        """A choice behind the numbers."""
        if self.verbose and not self.quiet:
            print(worded(text, as_option), file=self.stream)

    def warn(self, text: str) -> None:
        """A doubt; said once, and no more than a few."""
        text = worded(text, as_option)
        if text in self.warnings:
            return
        self.warnings.append(text)
        if len(self.warnings) <= MOST_WARNINGS or self.verbose:
            print(f"bavlo: warning: {text}", file=self.stream)

    def close(self) -> None:
        """Take the bar away, and say how many warnings were kept back."""
        if self._bar is not None:
            self._bar.close()
            self._bar = None

    def finish(self) -> None:
        """The end of a command."""
        self.close()
        kept_back = len(self.warnings) - MOST_WARNINGS
        if kept_back > 0 and not self.verbose:
            print(
                f"bavlo: {kept_back} more warnings, shown by --verbose and kept beside the output",
                file=self.stream,
            )


def preview(table: Table) -> str:
    """The first and last rows of a table, as wide as the terminal.

    Columns that are the same in every row are told once above.
    """
    width = shutil.get_terminal_size((120, 40)).columns
    shown = list(range(min(EDGE_ROWS, len(table))))
    shown += [n for n in range(max(len(table) - EDGE_ROWS, 0), len(table)) if n not in shown]
    same, columns = [], []
    for column in table.columns:
        values = column.values.ravel()
        if len(table) > 1 and (values == values[0]).all():
            if values[0] != "":
                same.append(f"{column.name} {_cell(values[0])}")
        else:
            columns.append(column)
    subset = [table.rows(n, n + 1) for n in shown]
    number = {name: i for i, name in enumerate(table.header)}
    cells = [[_cell(row[number[c.name]][0]) for c in columns] for row in subset]
    if len(table) > len(shown):
        cells.insert(EDGE_ROWS, ["…" for _ in columns])
    header = [column.name for column in columns]
    lines = aligned([header, *cells], [c.is_text for c in columns], width)
    head = textwrap.wrap("   ".join(same), width, break_on_hyphens=False) if same else []
    return "\n".join([*head, *lines])


def aligned(rows: Sequence[Sequence[str]], left: Sequence[bool], width: int) -> list[str]:
    """Rows in columns, text to the left and numbers to the right, cut at the width."""
    sizes = [max(len(row[i]) for row in rows) for i in range(len(left))]
    while sum(sizes) + 2 * len(sizes) > width and max(sizes) > 16:
        sizes[sizes.index(max(sizes))] -= 1
    out = []
    for row in rows:
        cells = []
        for text, size, is_text in zip(row, sizes, left, strict=True):
            cut = text if len(text) <= size else text[: size - 1] + "…"
            cells.append(cut.ljust(size) if is_text else cut.rjust(size))
        out.append("  ".join(cells)[:width].rstrip())
    return out


def _cell(value: Any) -> str:
    if isinstance(value, str):
        return value
    number = float(value)
    return "" if number != number else f"{number:.6g}"
