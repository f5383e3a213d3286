"""Segments of time between two dates, both included."""

from __future__ import annotations

import re
from dataclasses import dataclass

import cftime

from bavlo.core.time.axis import DAY, start_of_month, to_instant
from bavlo.errors import RequestError


@dataclass(frozen=True)
class DateRange:
    """A segment of time between two dates, both included, in any calendar.

    Parameters
    ----------
    first, last
        Year, and month and day where given.
    """

    first: tuple[int, ...]
    last: tuple[int, ...]

    def __str__(self) -> str:
        return f"{_date_text(self.first)}..{_date_text(self.last)}"

    def instants(self, calendar: str) -> tuple[int, int]:
        """First instant, and first instant after the last date."""
        try:
            start = to_instant(calendar, *self.first)
            if len(self.last) == 3:
                end = to_instant(calendar, *self.last) + DAY
            elif len(self.last) == 2:
                end = start_of_month(calendar, self.last[0], self.last[1] + 1)
            else:
                end = to_instant(calendar, self.last[0] + 1)
        except (ValueError, OverflowError) as error:
            raise RequestError(
                "during", f"{self} names a day that the {calendar} calendar does not have"
            ) from error
        return start, end


def parse_range(text: str, option: str = "during") -> DateRange:
    """Read `FIRST..LAST`; each end a year, a month or a day.

    Examples
    --------
    >>> str(parse_range("2013..2014-03"))
    '2013..2014-03'
    """
    ends = text.split("..")
    if len(ends) == 1:
        ends = ends * 2
    if len(ends) != 2:
        raise RequestError(option, f"'{text}' is no range", "write FIRST..LAST, as 2013..2015-06")
    first, last = (_date_parts(end, text, option) for end in ends)
    parsed = DateRange(first, last)
    depth = min(len(first), len(last))
    if last[:depth] < first[:depth]:
        raise RequestError(option, f"'{text}' ends before it begins", "turn the two ends round")
    return parsed


def _date_parts(text: str, whole: str, option: str) -> tuple[int, ...]:
    match = re.fullmatch(r"\s*(\d{4})(?:-(\d{1,2})(?:-(\d{1,2}))?)?\s*", text)
    parts = tuple(int(part) for part in match.groups() if part) if match else ()
    if not parts or (len(parts) > 1 and not 1 <= parts[1] <= 12):
        raise RequestError(
            option, f"'{whole}' is no range", "write each end as 2013, 2013-03 or 2013-03-05"
        )
    if len(parts) == 3:
        try:
            cftime.datetime(*parts, calendar="all_leap")
        except ValueError:
            if not (parts[1] == 2 and parts[2] == 30):
                raise RequestError(option, f"there is no day {text.strip()}") from None
    return parts


def _date_text(parts: tuple[int, ...]) -> str:
    return "-".join([f"{parts[0]:04d}", *(f"{part:02d}" for part in parts[1:])])
