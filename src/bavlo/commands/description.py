"""What is known about a file, in words."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Description:
    """What is known about one or more files.

    Parameters
    ----------
    heading
        What is described.
    facts
        A word and a sentence each.
    doubts
        What a user should look at.
    """

    heading: str
    facts: tuple[tuple[str, str], ...]
    doubts: tuple[str, ...] = ()
