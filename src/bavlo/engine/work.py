"""What a job must offer to be computed by stretches, here or elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Protocol

from bavlo.core.partials import Unit
from bavlo.core.stretches import Stretch


class Folding(Protocol):
    """A stretch that is being made."""

    def add(self, outcome: Any) -> None:
        """Take in the outcome of the next unit."""

    def close(self) -> Any:
        """All that the stretch has made."""


class ShuffleWork(Protocol):
    """Work that cuts runs into parts, and then needs what all runs have of a part."""

    def cut(self, run: Any) -> Sequence[Any]:
        """What a run has of each part."""

    def join(self, number: int, pieces: Sequence[Any]) -> Any:
        """The outcome of a part, from what the runs have of it, in their order."""


class StretchWork(Protocol):
    """Work on units, and what becomes of their outcomes; what goes elsewhere is pickled once."""

    def each(self, unit: Unit) -> Any:
        """The outcome of one unit, in any place and order."""

    def begin(self, stretch: Stretch) -> Folding:
        """Begin a stretch, whose outcomes are folded in order of time."""

    def keeps(self, stretch: Stretch) -> bool:
        """Whether a neighbour has to finish some of what is made of a stretch."""

    def finished(self, made: Any) -> Any:
        """What needs nothing more of a stretch and is wanted wherever the table is made."""
