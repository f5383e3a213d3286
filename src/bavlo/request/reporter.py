"""Who is told what happens during a run."""

from __future__ import annotations

from typing import Protocol


class Reporter(Protocol):
    """Hears of progress, of choices worth knowing and of doubts."""

    @property
    def warnings(self) -> list[str]:
        """All doubts so far, in the words of the interface."""

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        """`done` of `total` steps are finished."""

    def stage(self, name: str) -> None:
        """Another part of the work begins; an empty name ends the last one."""

    def note(self, text: str) -> None:
        """A choice behind the numbers, shown when asked to be verbose."""

    def warn(self, text: str) -> None:
        """A doubt that the user must see."""


class SilentReporter:
    """Shows nothing and keeps everything."""

    def __init__(self) -> None:
        self.notes: list[str] = []
        self.warnings: list[str] = []

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        """Nobody watches."""

    def stage(self, name: str) -> None:
        """Nobody watches."""

    def note(self, text: str) -> None:
        """Keep a note."""
        self.notes.append(text)

    def warn(self, text: str) -> None:
        """Keep a warning."""
        self.warnings.append(text)


class OwnReporter:
    """Hears of one of several results: keeps its warnings by themselves, and passes all on.

    Parameters
    ----------
    everybody
        Who hears of all results.
    """

    def __init__(self, everybody: Reporter) -> None:
        self.everybody = everybody
        self.warnings: list[str] = []

    def progress(self, done: int, total: int, what: str = "steps") -> None:
        """Pass it on."""
        self.everybody.progress(done, total, what)

    def stage(self, name: str) -> None:
        """Pass it on."""
        self.everybody.stage(name)

    def note(self, text: str) -> None:
        """Pass it on."""
        self.everybody.note(text)

    def warn(self, text: str) -> None:
        """Keep a warning, and pass it on."""
        if text not in self.warnings:
            self.warnings.append(text)
        self.everybody.warn(text)
