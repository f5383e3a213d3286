"""Words on the screen: progress, warnings and previews."""

from __future__ import annotations

import sys
import time
from typing import Any, TextIO

from bavlo.cli.parsing import as_option
from bavlo.errors import worded

EVERY_SECONDS = 10.0  # between lines of progress where there is no terminal
MOST_WARNINGS = 8


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
