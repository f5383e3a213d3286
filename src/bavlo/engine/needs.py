"""What work takes in memory."""

from __future__ import annotations

from bavlo.records import dataclass


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

    def at_least(self, unit: float) -> Needs:
        """The same where a unit takes so many bytes or more."""
        return Needs(max(self.unit, unit), self.kept, self.room)
