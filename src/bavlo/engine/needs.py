"""What work takes in memory."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Needs:
    """What work takes in memory, bytes.

    Parameters
    ----------
    unit
        Each unit, or brick, that is under way.
    kept
        What is kept all the time: results, open periods, records.
    room
        Of `kept`, what records may take before they go to a scratch file.
    """

    unit: float
    kept: float
    room: float = 0.0

    def beside(self, other: Needs) -> Needs:
        """What is enough for units of this work and of another, which are not under way at once."""
        return Needs(max(self.unit, other.unit), self.kept + other.kept, self.room + other.room)
