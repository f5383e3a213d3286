"""Words that several commands say: lists, counts, extents."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence, Sized

import numpy as np
import shapely

from bavlo.core.space.regions import Regions
from bavlo.core.space.zones import Zones
from bavlo.tables.table import Table


def some_of(names: Sequence[str], most: int = 5) -> str:
    """The first few names, and how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def extent_text(extent: tuple[float, float, float, float]) -> str:
    """A box in words: x and y from..to."""
    west, south, east, north = extent
    return f"{west:.6g}..{east:.6g} by {south:.6g}..{north:.6g}"


def outside_notes(regions: Regions | Zones, entries: np.ndarray) -> np.ndarray:
    """(R,) why regions have no cells, empty for those that have.

    Parameters
    ----------
    entries : (R,) int
        Cells that each region touches.
    """
    notes = np.where(entries == 0, "outside the grid", "").astype(object)
    if regions.outlines is not None:
        notes[shapely.is_empty(regions.outlines)] = "no geometry"
    return notes


def counted(number: int, noun: str) -> str:
    """`1 region`, `3 classes`."""
    plural = {"class": "classes"}.get(noun, noun + "s")
    return f"{number} {noun if number == 1 else plural}"


def row_count(table: Sized) -> str:
    """How many rows a table has: `1 row`, `510 rows`."""
    return counted(len(table), "row")


def listed(names: Sequence[str]) -> str:
    """`mean, p90 and max`."""
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def empty_rows(table: Table) -> list[str]:
    """How many rows have no value and why, in a sentence; none where all have one."""
    lines = []
    reasons = {
        "area_valid": "too little area",
        "outside": "regions outside the grid",
        "no": "regions without geometry",
        "never": "conditions never met",
        "not": "values that are not defined",
    }
    notes = table.column("note")
    noted = np.flatnonzero((notes != "") & np.isnan(table.column("value")))
    empty = Counter(reasons.get(notes[n].split()[0], "too few steps") for n in noted)
    if empty:
        why = ", ".join(f"{n} for {reason}" for reason, n in sorted(empty.items()))
        row = dict(zip(table.header, table.rows(noted[0], noted[0] + 1), strict=True))
        example = f"{row['region'][0]} {row['period'][0]}: {row['note'][0]}"
        count = counted(empty.total(), "row")
        lines.append(f"{count} without a value: {why} (such as {example}; see column note)")
    return lines


def rank_in_words(rank: int, tied: int, of: int, words: tuple[str, str]) -> str:
    """How a rank is said, from the nearer end.

    Parameters
    ----------
    tied
        How many others share it.
    words
        Of the low end and of the high one.

    Examples
    --------
    >>> rank_in_words(2, 0, 30, ("lowest", "highest"))
    '2nd lowest of 30'
    >>> rank_in_words(1, 3, 30, ("driest", "wettest"))
    'driest of 30, with 3 others'
    """
    from_top = of + 1 - rank - tied
    word, number = (words[0], rank) if rank <= from_top else (words[1], from_top)
    ending = {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    ending = "th" if 10 <= number % 100 <= 20 else ending
    nth = "" if number == 1 else f"{number}{ending} "
    return f"{nth}{word} of {of}" + (f", with {counted(tied, 'other')}" if tied else "")


def tie_note(tied: int) -> str:
    """The note of a rank that others share."""
    return f"rank shared with {counted(tied, 'other')}"


def tied_in(note: str) -> int:
    """How many others share a rank, by its note."""
    match = re.match(r"rank shared with (\d+) other", note)
    return int(match[1]) if match else 0
