"""Words on the screen: progress, warnings and previews."""

from __future__ import annotations

import sys
import time
from typing import Any, TextIO

from bavlo.cli.parsing import as_option
from bavlo.errors import in_one_line, public, worded

EVERY_SECONDS = 30.0  # between lines of progress where there is no terminal
PACE_KNOWN = 5.0  # seconds of a stage after which its pace tells how long it will take
MOST_WARNINGS = 8


def shown(text: str) -> str:
    """A text in the words of the command line, in one line that no input can forge."""
    return in_one_line(worded(text, as_option))


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
        self._stage = ""
        self._began = time.monotonic()  # of the stage

    def stage(self, name: str) -> None:
        """Another part of the work begins; with --verbose it is told how long the last took."""
        now = time.monotonic()
        if self._stage and self.verbose and not self.quiet:
            self.close()
            print(f"{self._stage}: {now - self._began:.2f} s", file=self.stream)
        self._stage, self._began = name, now

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
                    total=total,
                    unit=f" {what}",
                    desc=self._stage or None,
                    file=self.stream,
                    leave=False,
                    delay=0.5,
                )
            self._bar.update(done - self._bar.n)
            if done >= total:
                self.close()
        elif time.monotonic() - self._last > EVERY_SECONDS:
            self._last = time.monotonic()
            stage = f"{self._stage}: " if self._stage else ""
            left = self._left(done, total)
            print(f"bavlo: {stage}{done} of {total} {what}{left}", file=self.stream)

    def _left(self, done: int, total: int) -> str:
        """How long it will still take at the pace of the stage so far, in words."""
        took = time.monotonic() - self._began
        if done <= 0 or done >= total or took < PACE_KNOWN:
            return ""
        left = took * (total - done) / done
        if left < 90:
            return f", about {max(left, 1):.0f} s left"
        if left < 5400:
            return f", about {left / 60:.0f} min left"
        return f", about {left / 3600:.1f} h left"

    def note(self, text: str) -> None:
        """A choice behind the numbers."""
        if self.verbose and not self.quiet:
            print(shown(public(text)), file=self.stream)

    def warn(self, text: str) -> None:
        """A doubt; said once, and no more than a few."""
        text = shown(public(text))
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
        self.stage("")
        self.close()
        kept_back = len(self.warnings) - MOST_WARNINGS
        if kept_back > 0 and not self.verbose:
            print(
                f"bavlo: {kept_back} more warnings, shown by --verbose and kept beside the output",
                file=self.stream,
            )
