"""Periods: the spans of time over which steps are put together."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.time.axis import (
    DAY,
    TimeAxis,
    iso_days,
    iso_minute,
    start_of_month,
    to_dates,
    to_instant,
)
from bavlo.errors import RequestError, one_of

STATIC_LABEL = "static"
INITIALS = "JFMAMJJASOND"
YEARLY_LABEL = re.compile(r"\d{4}(?:/\d\d)?(?:[-:](?P<cycle>.+))?$")
LEAP_PENTAD = 12  # of the 73 of a year, that which holds 29 February
WITHOUT_YEAR_ZERO = ("standard", "gregorian", "julian")

# One period: label, name of it within the year, first instant, first instant after it.
NamedSpan = tuple[str, str, int, int]


@dataclass(frozen=True)
class PeriodRule:
    """Which steps are put together.

    Parameters
    ----------
    kind
        One of KINDS.
    year_start
        Month in which the year begins, for `year`.
    months
        First month and number of months, for `months` (a run such as JFM).
    span
        First and last (month, day), for `span`.
    """

    kind: str
    year_start: int = 1
    months: tuple[int, int] = (1, 12)
    span: tuple[tuple[int, int], tuple[int, int]] = ((1, 1), (12, 31))


@dataclass(frozen=True, eq=False)
class PeriodAxis:
    """Periods in order of time.

    Parameters
    ----------
    labels
        As in the `period` column: `2013-03`, `2012/13-DJF`, …
    cycle
        The label without its year: `03`, `DJF`, …
    start, end : (P,) int64
        Microseconds since 1970-01-01 of the calendar, the end excluded.
    """

    labels: tuple[str, ...]
    cycle: tuple[str, ...]
    start: np.ndarray
    end: np.ndarray
    calendar: str

    def __len__(self) -> int:
        return len(self.labels)

    def take(self, keep: np.ndarray) -> PeriodAxis:
        """The periods at the given positions."""
        return PeriodAxis(
            tuple(self.labels[i] for i in keep),
            tuple(self.cycle[i] for i in keep),
            self.start[keep],
            self.end[keep],
            self.calendar,
        )

    def bounds_text(self) -> tuple[list[str], list[str]]:
        """First and last day of each period, both included; minutes where days do not fit."""
        if not len(self):
            return [], []
        if self.labels == (STATIC_LABEL,):
            return [""], [""]
        if (self.start % DAY == 0).all() and (self.end % DAY == 0).all():
            return iso_days(self.start, self.calendar), iso_days(self.end - 1, self.calendar)
        return (
            [iso_minute(int(t), self.calendar) for t in self.start],
            [iso_minute(int(t), self.calendar) for t in self.end],
        )


def parse_every(text: str, year_start: int = 1) -> PeriodRule:
    """Read `every`.

    Examples
    --------
    >>> parse_every("NDJFM").months
    (11, 5)
    >>> parse_every("11-15..03-15").span
    ((11, 15), (3, 15))
    """
    name = text.strip()
    if name.lower() in NAMED_KINDS:
        return PeriodRule(name.lower(), year_start=year_start)
    run = name.upper()
    if 2 <= len(run) <= 12 and run in INITIALS * 2:
        return PeriodRule("months", months=((INITIALS * 2).index(run) + 1, len(run)))
    match = re.fullmatch(r"(\d\d)-(\d\d)\.\.(\d\d)-(\d\d)", name)
    if match:
        m0, d0, m1, d1 = map(int, match.groups())
        if all(1 <= m <= 12 and 1 <= d <= 31 for m, d in ((m0, d0), (m1, d1))):
            return PeriodRule("span", span=((m0, d0), (m1, d1)))
    raise RequestError(
        "every",
        f"'{text}' is no period",
        one_of(text, [*NAMED_KINDS, "JFM", "MM-DD..MM-DD"]),
    )


def periods_between(rule: PeriodRule, calendar: str, first: int, last: int) -> PeriodAxis:
    """All periods that overlap a span of time.

    Parameters
    ----------
    first, last
        Instants, the last excluded.
    """
    if rule.kind == "day":
        return _days(calendar, first, last)
    dates = to_dates(np.array([first, last - 1]), calendar)
    spans: list[NamedSpan] = []
    earliest = dates[0].year - 1
    if calendar in WITHOUT_YEAR_ZERO and earliest == 0:
        earliest = 1
    for year in range(earliest, dates[1].year + 2):
        spans.extend(p for p in KINDS[rule.kind](rule, calendar, year) if p[3] > first)
    spans = [p for p in spans if p[2] < last]
    if rule.kind == "all":
        spans = [("all", "all", first, last)]
    return _axis(spans, calendar)


def cycle_of(label: str) -> str | None:
    """A period's label without its year; None where the period does not come back every year.

    Examples
    --------
    >>> cycle_of("2012/13-DJF"), cycle_of("2013"), cycle_of("all")
    ('DJF', 'year', None)
    """
    match = YEARLY_LABEL.match(label)
    return None if match is None else match.group("cycle") or "year"


def same_span(periods: PeriodAxis, data_end: int) -> PeriodAxis:
    """Periods like the one still under way, cut to the part of it that there is.

    Parameters
    ----------
    data_end
        First instant after the data. The period that holds it is under way; all of its kind then
        end on the same day of their year, 29 February becoming 28 in a year without one.
    """
    under_way = int(np.searchsorted(periods.end, data_end, side="right"))
    if under_way >= len(periods) or periods.start[under_way] >= data_end:
        return periods
    begins, stops = to_dates(np.array([periods.start[under_way], data_end - 1]), periods.calendar)
    like = np.flatnonzero([name == periods.cycle[under_way] for name in periods.cycle])
    end = periods.end.copy()
    for n, date in zip(like, to_dates(periods.start[like], periods.calendar), strict=True):
        year = date.year + stops.year - begins.year
        end[n] = _existing_day(periods.calendar, year, stops.month, stops.day) + DAY
    return replace(periods, end=end)


def static_period(time: TimeAxis) -> PeriodAxis:
    """The one period of a grid without time; it has no dates."""
    return PeriodAxis((STATIC_LABEL,), (STATIC_LABEL,), time.start, time.end, time.calendar)


def step_periods(time: TimeAxis) -> PeriodAxis:
    """Every step as a period of its own."""
    rule = time.length if isinstance(time.length, str) else None
    if rule or time.length == DAY:
        axis = periods_between(
            PeriodRule(rule or "day"), time.calendar, int(time.start[0]), int(time.end[-1])
        )
        middle = time.start + time.duration // 2
        position = np.searchsorted(axis.start, middle, side="right") - 1
        if np.unique(position).size == position.size:
            return axis
    labels = [iso_minute(int(t), time.calendar) for t in time.start]
    return PeriodAxis(
        tuple(labels), tuple(label[5:] for label in labels), time.start, time.end, time.calendar
    )


def _axis(spans: list[NamedSpan], calendar: str) -> PeriodAxis:
    return PeriodAxis(
        tuple(p[0] for p in spans),
        tuple(p[1] for p in spans),
        np.array([p[2] for p in spans], np.int64),
        np.array([p[3] for p in spans], np.int64),
        calendar,
    )


def _days(calendar: str, first: int, last: int) -> PeriodAxis:
    start = np.arange(first // DAY * DAY, last, DAY, dtype=np.int64)
    labels = iso_days(start, calendar)
    return PeriodAxis(
        tuple(labels), tuple(label[5:] for label in labels), start, start + DAY, calendar
    )


def _year_name(calendar: str, start: int, end: int) -> str:
    """`2013`, or `2012/13` for a year that runs over the end of December."""
    first, last = to_dates(np.array([start, end - 1]), calendar)
    if first.year == last.year:
        return f"{first.year:04d}"
    return f"{first.year:04d}/{last.year % 100:02d}"


def _years(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    start = start_of_month(calendar, year, rule.year_start)
    end = start_of_month(calendar, year, rule.year_start + 12)
    yield _year_name(calendar, start, end), "year", start, end


def _months(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    for month in range(1, 13):
        start, end = (
            start_of_month(calendar, year, month),
            start_of_month(calendar, year, month + 1),
        )
        yield f"{year:04d}-{month:02d}", f"{month:02d}", start, end


def _parts(letter: str, firsts: tuple[int, ...]) -> Callable[..., Iterator[NamedSpan]]:
    """Months cut into parts that begin at the given days: pentads and dekads."""

    def make(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
        for month in range(1, 13):
            days = [_day_or_next(calendar, year, month, day) for day in firsts]
            days.append(start_of_month(calendar, year, month + 1))
            for n in range(len(firsts)):
                name = f"{month:02d}-{letter}{n + 1}"
                if days[n] < days[n + 1]:
                    yield f"{year:04d}-{name}", name, days[n], days[n + 1]

    return make


def _composites(days: int) -> Callable[..., Iterator[NamedSpan]]:
    """Steps of a number of days that begin anew on each 1 January; the last ends with the year."""

    def make(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
        start, end = start_of_month(calendar, year, 1), start_of_month(calendar, year, 13)
        for n, first in enumerate(range(start, end, days * DAY), 1):
            name = f"s{days:02d}-{n:02d}"
            yield f"{year:04d}-{name}", name, first, min(first + days * DAY, end)

    return make


def _pentads_of_the_year(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    """73 steps of five days; the one that holds 29 February has six."""
    start, end = start_of_month(calendar, year, 1), start_of_month(calendar, year, 13)
    leap = end - start == 366 * DAY
    for n in range(1, 74 if end - start >= 365 * DAY else 73):
        first = start + (5 * (n - 1) + (leap and n > LEAP_PENTAD)) * DAY
        stop = start + (5 * n + (leap and n >= LEAP_PENTAD)) * DAY
        yield f"{year:04d}-s05-{n:02d}", f"s05-{n:02d}", first, min(stop, end)


def spans_of_year(kind: str, calendar: str, year: int) -> list[NamedSpan]:
    """The periods of a kind in one calendar year."""
    return list(KINDS[kind](PeriodRule(kind), calendar, year))


def _runs(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    first, count = rule.months
    start, end = (
        start_of_month(calendar, year, first),
        start_of_month(calendar, year, first + count),
    )
    name = (INITIALS * 2)[first - 1 : first - 1 + count]
    yield f"{_year_name(calendar, start, end)}-{name}", name, start, end


def _seasons(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    for first in (3, 6, 9, 12):
        yield from _runs(PeriodRule("months", months=(first, 3)), calendar, year)


def _spans(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    (m0, d0), (m1, d1) = rule.span
    start = _existing_day(calendar, year, m0, d0)
    end = _existing_day(calendar, year + ((m1, d1) < (m0, d0)), m1, d1) + DAY
    name = f"{m0:02d}-{d0:02d}..{m1:02d}-{d1:02d}"
    yield f"{_year_name(calendar, start, end)}:{name}", name, start, end


def _existing_day(calendar: str, year: int, month: int, day: int) -> int:
    """A day of the year, or the last of its month where the month is too short (29 February)."""
    for shorter in range(4):
        try:
            return to_instant(calendar, year, month, day - shorter)
        except ValueError:
            continue
    raise RequestError("every", f"there is no {month:02d}-{day:02d} in any year")


def _day_or_next(calendar: str, year: int, month: int, day: int) -> int:
    """A day of the year, or the first after it where the calendar leaves it out (October 1582)."""
    for later in range(12):
        try:
            return to_instant(calendar, year, month, day + later)
        except ValueError:
            continue
    return start_of_month(calendar, year, month + 1)


def _whole(rule: PeriodRule, calendar: str, year: int) -> Iterator[NamedSpan]:
    return iter(())


# Kinds of periods with a name, and what makes those of one year. `step`, `day` and `all` are made
# from the axis.
NAMED_KINDS: dict[str, Callable[[PeriodRule, str, int], Iterator[NamedSpan]]] = {
    "step": _whole,
    "day": _whole,
    "pentad": _parts("p", (1, 6, 11, 16, 21, 26)),
    "dekad": _parts("d", (1, 11, 21)),
    "month": _months,
    "season": _seasons,
    "year": _years,
    "all": _whole,
}
KINDS = {
    **NAMED_KINDS,
    "months": _runs,
    "span": _spans,
    "composite8": _composites(8),
    "composite16": _composites(16),
    "pentad73": _pentads_of_the_year,
}
