"""Dates of observations, in the forms that people write them in."""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from bavlo.errors import InputError, setting
from bavlo.grids.dates import find_dates

DAY, MONTH, YEAR = "day", "month", "year"
# How dates are written, each with what it names. All dates of a column are written in one way.
FORMS = {
    "%Y-%m-%d": DAY, "%Y/%m/%d": DAY, "%Y.%m.%d": DAY, "%Y %m %d": DAY, "%Y%m%d": DAY,
    "%d/%m/%Y": DAY, "%m/%d/%Y": DAY, "%d-%m-%Y": DAY, "%m-%d-%Y": DAY, "%d.%m.%Y": DAY,
    "%d %m %Y": DAY, "%d%m%Y": DAY, "%m%d%Y": DAY,
    "%d/%m/%y": DAY, "%m/%d/%y": DAY, "%y/%m/%d": DAY, "%d-%m-%y": DAY, "%m-%d-%y": DAY,
    "%d.%m.%y": DAY,
    "%d-%b-%Y": DAY, "%d-%b-%y": DAY, "%d %b %Y": DAY, "%d/%b/%Y": DAY, "%b %d, %Y": DAY,
    "%b %d %Y": DAY, "%Y-%b-%d": DAY, "%d%b%Y": DAY, "%d. %b %Y": DAY,
    "%Y-%j": DAY, "%Y%j": DAY, "%Y/%j": DAY,
    "%Y-%m": MONTH, "%Y/%m": MONTH, "%Y.%m": MONTH, "%Y %m": MONTH, "%Y%m": MONTH,
    "%YM%m": MONTH, "%Y-M%m": MONTH, "%m/%Y": MONTH, "%m-%Y": MONTH, "%m.%Y": MONTH,
    "%b-%y": MONTH, "%y-%b": MONTH, "%b %y": MONTH, "%b-%Y": MONTH, "%b %Y": MONTH,
    "%b/%Y": MONTH, "%Y-%b": MONTH, "%Y %b": MONTH, "%b%Y": MONTH, "%b_%Y": MONTH,
    "%Y": YEAR,
}  # fmt: skip
CODES = {
    "%Y": r"\d{4}", "%y": r"\d\d", "%m": r"\d{1,2}", "%d": r"\d{1,2}", "%j": r"\d{3}",
    "%b": "[A-Za-z]{3,9}",
}  # fmt: skip
FIXED = {"%m": r"\d\d", "%d": r"\d\d"}
COMPACT = re.compile(r"(%[Ymdj]){2,}|%Y\.%m")
TIME = re.compile(
    r"(?P<day>.*\d.*?)[T ,]+(?P<h>\d{1,2}):(?P<m>\d\d)(?::\d\d(?:[.,]\d+)?)?\s*"
    r"(?P<half>[AaPp]\.?[Mm]\.?)?\s*(?:Z|UTC|[+-]\d\d:?\d\d)?"
)
SERIAL = re.compile(r"[1-7]\d{4}")  # days of spreadsheets from 1927 to 2119
SERIAL_START = datetime.date(1899, 12, 30)
EARLIEST, LATEST = 1500, 2399
LONGEST = 40  # signs of a date
# Labels of Bavlo's own that no other form has, by what they name.
LABELS = (
    ("pentad", r"\d{4}-\d\d-p[1-6]"),
    ("dekad", r"\d{4}-\d\d-d[1-3]"),
    ("season", r"\d{4}(/\d\d)?-(DJF|MAM|JJA|SON)"),
)
FEWEST = 3  # dates that show in what steps they go
# Days of the month that stamp parts of it; 0 is its last.
STAMPS = {
    "dekad": ({1, 11, 21}, {10, 20, 0}),
    "pentad": ({1, 6, 11, 16, 21, 26}, {5, 10, 15, 20, 25, 0}),
}


@dataclass(frozen=True)
class Dates:
    """What the dates of a table name.

    Parameters
    ----------
    every
        Sort of the steps: day, month, year, dekad, pentad or season.
    labels
        Of each text, the label of its step.
    how
        How they were understood, in words; empty where that is plain.
    """

    every: str
    labels: Mapping[str, str]
    how: str = ""


def read_dates(
    path: Path, texts: Sequence[str], lines: Sequence[int], pattern: str | None
) -> Dates:
    """The steps that texts name.

    Parameters
    ----------
    texts, lines
        Texts that differ, and the line in which each first stands.
    pattern
        How they are written, where the user says so.

    Raises
    ------
    InputError
        Where one is no date, or all may be read in two ways.
    """
    if pattern is not None:
        return _by_pattern(path, texts, pattern)
    for every, look in LABELS:
        if all(re.fullmatch(look, text) for text in texts):
            return Dates(every, {text: text for text in texts})
    days, how = _without_time(path, texts)
    readings: dict[tuple[str, ...], tuple[str, str]] = {}
    for name, every, labels in _readings(days):
        readings.setdefault(tuple(labels), (name, every))
    if not readings:
        raise _no_date(path, days, lines)
    if len(readings) > 1:
        raise _two_readings(path, days, readings)
    ((labels_read, (name, every)),) = readings.items()
    every, labels_kept, steps = _steps_of_stamps(every, labels_read)
    plain = name.startswith("%Y-") and not steps
    told = [f"dates as {name}" if not plain else "", steps, how]
    return Dates(every, dict(zip(texts, labels_kept, strict=True)), "; ".join(filter(None, told)))


def are_dates(texts: Sequence[str]) -> bool:
    """Whether texts can be read as dates, in whatever way."""
    if not texts or max(map(len, texts)) > LONGEST:
        return False
    if any(all(re.fullmatch(look, text) for text in texts) for _, look in LABELS):
        return True
    found = [TIME.fullmatch(text) for text in texts]
    days = [match["day"] if match else text for match, text in zip(found, texts, strict=True)]
    return next(_readings(days), None) is not None


def _readings(texts: Sequence[str]) -> Iterator[tuple[str, str, list[str]]]:
    """Forms in which all texts are dates, what they name, and their labels."""
    for form, every in FORMS.items():
        labels = [_label(text, form, every) for text in texts[:1]]
        if labels == [None]:
            continue
        labels = [_label(text, form, every) for text in texts]
        if None not in labels:
            yield form, every, [label for label in labels if label is not None]
    if all(SERIAL.fullmatch(text) for text in texts):
        start = SERIAL_START.toordinal()
        serials = [datetime.date.fromordinal(start + int(text)).isoformat() for text in texts]
        yield "serial numbers of days since 1899-12-30", DAY, serials


def _label(text: str, form: str, every: str) -> str | None:
    """The label of a date in a form; None where it is none."""
    text = text.strip().replace("Sept", "Sep") if "%b" in form else text.strip()
    if not LOOKS[form].fullmatch(text):
        return None
    if "%b" in form:
        text = re.sub(r"([A-Za-z]{3})[A-Za-z]*", r"\1", text)
    try:
        date = datetime.datetime.strptime(text, form).date()
    except ValueError:
        return None
    if not EARLIEST <= date.year <= LATEST:
        return None
    iso = date.isoformat()
    return iso if every == DAY else iso[:7] if every == MONTH else iso[:4]


def _look(form: str) -> re.Pattern[str]:
    """What dates of a form look like: `strptime` takes one digit where two belong.

    Two must stand where no sign divides them, and in 1993.10, which is no 1993.1.
    """
    fixed = bool(COMPACT.fullmatch(form))
    out = ""
    for token in re.findall("%[A-Za-z]|.", form):
        if token[0] == "%":
            out += FIXED.get(token, CODES[token]) if fixed else CODES[token]
        else:
            out += r"\s+" if token == " " else re.escape(token)
    return re.compile(out)


LOOKS = {form: _look(form) for form in FORMS}


def _without_time(path: Path, texts: Sequence[str]) -> tuple[list[str], str]:
    """Texts without the time of day, which is the same in all, and what to say of it."""
    found = [TIME.fullmatch(text) if len(text) <= LONGEST else None for text in texts]
    if not all(found):
        return list(texts), ""
    times = sorted({_time_of(match) for match in found if match})
    if len(times) > 1:
        some = ", ".join(times[:3])
        raise InputError(
            path,
            f"has values at {len(times)} times of the day ({some}{', …' if times[3:] else ''})",
            "make days of them first, or give them as a grid",
        )
    how = "" if times[0] == "00:00" else f"read at {times[0]}, taken for the day of its date"
    return [match["day"] for match in found if match], how


def _time_of(match: re.Match[str]) -> str:
    hour = int(match["h"])
    if match["half"]:
        hour = hour % 12 + (12 if match["half"][0] in "Pp" else 0)
    return f"{hour:02}:{match['m']}"


def _steps_of_stamps(every: str, labels: Sequence[str]) -> tuple[str, list[str], str]:
    """Months, years, dekads or pentads where days are only the stamps of these."""
    if every != DAY or len(set(labels)) < FEWEST:
        return every, list(labels), ""
    dates = [datetime.date.fromisoformat(label) for label in labels]
    stamps = {0 if (date + datetime.timedelta(1)).day == 1 else date.day for date in dates}
    if len({(date.month, date.day) for date in dates}) == 1:
        if dates[0].month == dates[0].day == 1 or (dates[0].month, dates[0].day) == (12, 31):
            return YEAR, [label[:4] for label in labels], f"one day a year, {labels[0][5:]}: years"
        return every, list(labels), ""
    if len({label[:7] for label in labels}) == len(set(labels)) and (
        len(stamps) == 1 or stamps <= {14, 15, 16}
    ):
        what = "last days" if stamps == {0} else "first days" if stamps == {1} else "one day each"
        return MONTH, [label[:7] for label in labels], f"{what} of months: months"
    for name, sets in STAMPS.items():
        if stamps in sets:
            length, letter = (10, "d") if name == "dekad" else (5, "p")
            most = 30 // length
            parts = [min((date.day - 1) // length + 1, most) for date in dates]
            made = [f"{label[:7]}-{letter}{n}" for label, n in zip(labels, parts, strict=True)]
            return name, made, f"days {sorted(stamps - {0})} of months: {name}s"
    return every, list(labels), ""


def _by_pattern(path: Path, texts: Sequence[str], pattern: str) -> Dates:
    """Dates as the user says that they are written."""
    steps = find_dates(texts, pattern, path) or []
    starts = [
        (datetime.datetime(1970, 1, 1) + datetime.timedelta(microseconds=step.stamp)).date()
        for step in steps
    ]
    if "{dekad" in pattern:
        labels = [f"{day:%Y-%m}-d{min((day.day - 1) // 10 + 1, 3)}" for day in starts]
        every = "dekad"
    elif "{pentad}" in pattern or "{pentad72}" in pattern:
        labels = [f"{day:%Y-%m}-p{min((day.day - 1) // 5 + 1, 6)}" for day in starts]
        every = "pentad"
    elif "{" in pattern:
        raise InputError(path, f"steps as {pattern} are for grids", "give days, dekads or pentads")
    else:
        every = (
            DAY if re.search("%[dj]", pattern) else MONTH if re.search("%[mb]", pattern) else YEAR
        )
        width = {DAY: 10, MONTH: 7, YEAR: 4}[every]
        labels = [day.isoformat()[:width] for day in starts]
    return Dates(every, dict(zip(texts, labels, strict=True)), f"dates as {pattern}")


def _two_readings(
    path: Path, texts: Sequence[str], readings: Mapping[tuple[str, ...], tuple[str, str]]
) -> InputError:
    """What to ask where all dates may be read in two ways."""
    (one, (form, _)), (other, (second, _)) = list(readings.items())[:2]
    n = next((n for n in range(len(texts)) if one[n] != other[n]), 0)
    return InputError(
        path,
        f"all its dates may be {form} or {second}: '{texts[n]}' is {one[n]} or {other[n]}",
        f"say which with {setting('dates', form)} or {setting('dates', second)}",
    )


def _no_date(path: Path, texts: Sequence[str], lines: Sequence[int]) -> InputError:
    """The first text that is no date as most others are."""
    fits = {
        form: [_label(text, form, every) is not None for text in texts]
        for form, every in FORMS.items()
    }
    form = max(fits, key=lambda name: sum(fits[name]))
    most = sum(fits[form])
    like = next((look for look in LOOKS.values() if look.fullmatch(texts[0].strip())), None)
    if most == 0 and like is not None:
        return InputError(path, f"line {lines[0]}: there is no day {texts[0]}", "repair the date")
    if most == 0 or most < len(texts) / 2:
        return InputError(
            path,
            f"line {lines[0]}: '{texts[0]}' is no date that is known",
            f"say how dates are written, as {setting('dates', '%d.%m.%Y')}",
        )
    odd = fits[form].index(False)
    return InputError(
        path,
        f"line {lines[odd]}: '{texts[odd]}' is no date as the others ({form})",
        "repair it, or take the line out",
    )
