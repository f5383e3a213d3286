"""Who is told what happens during a job."""

from __future__ import annotations

from typing import Protocol


class Listener(Protocol):
    """Hears of a job's progress, of choices worth telling and of doubts."""

    def progress(self, done: int, total: int, what: str) -> None:
        """`done` of `total` steps are finished."""

    def note(self, text: str) -> None:
        """A choice behind the numbers, told when asked to be verbose."""

    def warn(self, text: str) -> None:
        """A doubt that the user must see."""


class Silent:
    """Hears everything and keeps it."""

    def __init__(self) -> None:
        self.notes: list[str] = []
        self.warnings: list[str] = []

    def progress(self, done: int, total: int, what: str) -> None:
        """Nobody watches."""

    def note(self, text: str) -> None:
        """Keep a note."""
        self.notes.append(text)

    def warn(self, text: str) -> None:
        """Keep a warning."""
        self.warnings.append(text)
