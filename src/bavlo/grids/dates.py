"""Dates in the names of files and bands."""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from bavlo.core.time.axis import DAY, HOUR, SECOND, to_dates, to_instant
from bavlo.core.time.periods import spans_of_year
from bavlo.errors import InputError, RequestError

CALENDAR = "standard"
Y, M, D = r"(?P<Y>(?:1[5-9]|2[0-3])\d\d)", r"(?P<m>0[1-9]|1[0-2])", r"(?P<d>[0-2]\d|3[01])"
EDGE_BEFORE, EDGE_AFTER = r"(?<![0-9])", r"(?![0-9])"

# Ways in which names tell a date, the most telling first. A date of a day may stand for a longer
# step (2013-03-11 for a dekad), so it has no bounds; the others say themselves how long they are.
PATTERNS = {
    "hour": rf"{Y}[-_.]?{M}[-_.]?{D}[T_-](?P<H>[01]\d|2[0-3])(?::?(?P<M>[0-5]\d))?(?::?\d\d)?Z?",
    "day": rf"(?:{Y}[-_.]{M}[-_.]{D})",
    "day in eight digits": rf"{Y}{M}{D}",
    "dekad": rf"{Y}[-_.]?{M}[-_.]?(?:d|D|dk|DK|dek|DEK|dekad)(?P<dekad>[1-3])",
    "pentad": rf"{Y}[-_.]?{M}[-_.]?[pP](?P<pentad>[1-6])",
    "day of year": rf"{Y}[-.]?(?P<j>[0-2]\d\d|3[0-5]\d|36[0-6])(?![A-Za-z])",
    "third of a month": rf"{Y}[-_.]?{M}[-.](?P<dekad>[1-3])(?![A-Za-z0-9]|[-.]\d)",
    "month": rf"{Y}[-_.]?{M}",
    "month before the year": rf"(?<!\d[-_.]){M}[-_.]{Y}",
    "dekad of the year": rf"{Y}[-_.]?(?P<dekad36>\d\d)",
    # 2018-JJA and 2012/13 are parts and pairs of years.
    "year": rf"{Y}(?![-_/]?[JFMASOND]{{2,12}}\b)(?!/\d\d)",
}
FOLDERS = "dates from the names of folders and files"
MONTHS = [calendar.month_abbr[month].lower() for month in range(1, 13)]
MONTH = "|".join(MONTHS)
DATED_FOLDER = re.compile(
    rf"(?i)(?:[a-z]+=)?(\d{{1,4}}|\d{{6}}|\d{{4}}[-_.]\d\d(?:[-_.]\d\d)?|(?:{MONTH})[a-z]*)"
)
# Numbers of a name, and months by their names.
PARTS_OF_NAMES = re.compile(rf"(?i)\d+|(?<![a-z])(?:{MONTH})[a-z]*")
# Dates of folders and names: 2013/03/05, 2013/0305, 201303/05, 2013/064, 2013/03, 03/2013, 2013.
IN_FOLDERS = {
    "day of year": rf"{Y}-(?P<j>\d\d\d)",
    "day": rf"{Y}-?(?P<m>\d\d|\d(?=-))-?(?P<d>\d\d|(?<=-)\d)",
    "month": rf"{Y}-?(?P<m>\d\d?)",
    "month before the year": rf"(?P<m>\d\d?)-{Y}",
    "year": Y,
}
CODES = {
    "Y": r"(?P<Y>\d{4})",
    "m": r"(?P<m>\d\d?)",
    "d": r"(?P<d>\d\d?)",
    "j": r"(?P<j>\d{3})",
    "H": r"(?P<H>\d\d)",
    "M": r"(?P<M>\d\d)",
    "y": r"(?P<y>\d\d)",
    "b": r"(?P<b>[A-Za-z]{3})",
    "%": "%",
}
# Numbers of steps within a month or a year, by what `dates` calls them: what makes the periods,
# and whether they are counted within the month.
NUMBERED = {
    "dekad": ("dekad", True),
    "dekad36": ("dekad", False),
    "pentad": ("pentad", True),
    "pentad72": ("pentad", False),
    "pentad73": ("pentad73", False),
    "composite8": ("composite8", False),
    "composite16": ("composite16", False),
}
KNOWN_CODES = f"%Y %y %m %b %d %j %H %M and {' '.join(f'{{{name}}}' for name in NUMBERED)}"
LAST_DEKAD = 36
EARLIEST_GRIDS = 1850  # numbers before are rather those of steps than years


@dataclass(frozen=True)
class NamedStep:
    """A step that a name tells.

    Parameters
    ----------
    stamp
        Its first instant.
    end
        The first instant after it; None where the name leaves its length open.
    """

    stamp: int
    end: int | None


def find_dates(names: Sequence[str], pattern: str | None, where: object) -> list[NamedStep] | None:
    """The step of every name; None where the names tell none.

    Parameters
    ----------
    names
        Names of files or bands.
    pattern
        Where the date stands, in strftime codes and numbers such as {dekad}.
    where
        What to name in an error.
    """
    if pattern is not None:
        return _by_pattern(names, pattern)
    for kind, text in PATTERNS.items():
        found = [_candidates(name, kind, text) for name in names]
        if not all(found):
            continue
        if len(names) > 1:  # a date that stands in every name is that of the product
            constant = set.intersection(*(set(f) for f in found))
            rest = [[c for c in f if c not in constant] for f in found]
            found = rest if all(rest) else found
        if all(len(f) == 1 for f in found):
            steps = [f[0] for f in found]
            if _settled(kind, names, steps, where):
                return steps
            continue
        worst = next(n for n, f in zip(names, found, strict=True) if len(f) > 1)
        raise InputError(
            where,
            f"the name {worst} holds more than one date",
            "say where the date stands with ‹dates›, as in ‹dates rain_%Y%m%d›",
        )
    return None


def find_dates_of_files(
    paths: Sequence[Path], pattern: str | None, where: object
) -> tuple[list[NamedStep] | None, str]:
    """The step of every file, from its name or from its folders and its name; what tells it.

    A pattern with slashes is looked for in the whole path. Without a pattern, folders count where
    names alone tell no dates, or the same ones again.
    """
    names = [plain_name(path) for path in paths]
    if pattern is not None and "/" in pattern:
        whole = [(path.parent / name).as_posix() for path, name in zip(paths, names, strict=True)]
        return find_dates(whole, pattern, where), FOLDERS
    steps = find_dates(names, pattern, where)
    if pattern is None and (steps is None or len({step.stamp for step in steps}) < len(steps)):
        by_folder = _dates_in_folders(paths, names)
        if by_folder is not None:
            return by_folder, FOLDERS
    return steps, "dates from the names of files"


def _dates_in_folders(paths: Sequence[Path], names: Sequence[str]) -> list[NamedStep] | None:
    """Dates that are put together from folders of digits and the digits of names."""
    numbers = [_numbers_in(name) for name in names]
    if len({len(found) for found in numbers}) != 1:
        return None
    varying = [len(set(column)) > 1 for column in zip(*numbers, strict=True)]
    texts = []
    for path, found in zip(paths, numbers, strict=True):
        dated = map(DATED_FOLDER.fullmatch, path.parts[:-1][-3:])
        folders = ["-".join(_numbers_in(match.group(1))) for match in dated if match]
        if not folders:
            return None
        if len(folders) > 1 and len(folders[0]) == 4 and folders[1].startswith(folders[0]):
            del folders[0]  # the year once in 2013/201303
        own = [n for n, varies in zip(found, varying, strict=True) if varies or len(names) == 1]
        texts.append("-".join([*folders, *own]))
    for kind, expression in IN_FOLDERS.items():
        matches = [re.fullmatch(expression, text) for text in texts]
        if not all(matches):
            continue
        steps = [_step(kind, m.groupdict()) for m in matches if m]
        last = {text.rpartition("-")[2] for text in texts}
        if kind == "day" and last <= {"1", "2", "3"} and len(last) > 1:
            return None  # days, or dekads of the month
        found_steps = [step for step in steps if step is not None]
        return found_steps if len(set(found_steps)) == len(texts) else None
    return None


def _numbers_in(name: str) -> list[str]:
    """The numbers in a name, those of months that are called by their names too."""
    found = PARTS_OF_NAMES.findall(name)
    return [p if p.isdigit() else f"{MONTHS.index(p[:3].lower()) + 1:02}" for p in found]


def plain_name(path: Path) -> str:
    """A file's name without `.gz` and its ending, which may hold dots of a date."""
    name = path.name
    for ending in (".gz", ".tif", ".tiff", ".asc", ".img"):
        if name.lower().endswith(ending):
            name = name[: -len(ending)]
    return name


def _settled(kind: str, names: Sequence[str], steps: list[NamedStep], where: object) -> bool:
    """Whether what all names seem to tell is what they tell.

    Raises
    ------
    InputError
        Where it may be one thing or another.
    """
    starts = sorted({step.stamp for step in steps})
    if kind == "third of a month":
        months = {to_dates(np.array([start]), CALENDAR)[0].strftime("%Y%m") for start in starts}
        if len(months) == len(starts):  # no month has two of them: a version, a tile, a dekad
            raise InputError(
                where,
                f"the name {names[0]} may tell a month, or one of its three dekads",
                "say which with ‹dates›, as ‹dates rain_%Y-%m› or ‹dates rain_%Y-%m.{dekad}›",
            )
    if kind == "dekad of the year":
        last = max(
            sum(1 for p in spans_of_year("dekad", CALENDAR, _year(step)) if p[2] <= step.stamp)
            for step in steps
        )
        if last < LAST_DEKAD:  # 23 composites, 24 half months: nothing says that these are dekads
            return False
    if kind == "year":
        numbers = sorted({_year(step) for step in steps})
        low, high = numbers[0] % 100, numbers[-1] % 100
        runs = len(numbers) == LAST_DEKAD and (low, high) == (1, LAST_DEKAD)
        if len(numbers) > 1 and (runs or numbers[0] < EARLIEST_GRIDS):
            raise InputError(
                where,
                f"the numbers {numbers[0]} to {numbers[-1]} in the names may be years or running "
                "numbers",
                "say which with ‹dates›, as ‹dates rain_%Y› or ‹dates rain_%y{dekad36}›",
            )
    return True


def _year(step: NamedStep) -> int:
    return int(to_dates(np.array([step.stamp]), CALENDAR)[0].year)


def _candidates(name: str, kind: str, text: str) -> list[NamedStep]:
    found = []
    for match in re.finditer(EDGE_BEFORE + text + EDGE_AFTER, name):
        step = _step(kind, match.groupdict())
        if step is not None:
            found.append(step)
    return list(dict.fromkeys(found))


def _step(kind: str, parts: dict[str, str | None]) -> NamedStep | None:
    """The step that the parts of a date stand for, None where there is no such date."""
    year = int(parts["Y"] or 0)
    try:
        if kind == "day of year":
            nth = int(parts["j"] or 0)
            if not 1 <= nth <= 365 + calendar.isleap(year):
                return None
            return NamedStep(to_instant(CALENDAR, year) + (nth - 1) * DAY, None)
        if kind == "year":
            return NamedStep(to_instant(CALENDAR, year), to_instant(CALENDAR, year + 1))
        for number, (periods, by_month) in NUMBERED.items():
            if parts.get(number):
                return _numbered(parts, number, periods, by_month)
        month = int(parts["m"] or 0)
        following = to_instant(CALENDAR, year + month // 12, month % 12 + 1)
        if kind.startswith("month"):
            return NamedStep(to_instant(CALENDAR, year, month), following)
        day = to_instant(CALENDAR, year, month, int(parts["d"] or 0))
        if kind == "hour":
            minutes = int(parts["M"] or 0)
            return NamedStep(day + int(parts["H"] or 0) * HOUR + minutes * 60 * SECOND, None)
        return NamedStep(day, None)
    except ValueError:
        return None


def _numbered(
    parts: dict[str, str | None], number: str, periods: str, by_month: bool
) -> NamedStep | None:
    """A step that is told by its number in the month or the year."""
    spans = spans_of_year(periods, CALENDAR, int(parts["Y"] or 0))
    if by_month:
        spans = [span for span in spans if span[1].startswith(f"{int(parts['m'] or 0):02d}-")]
    nth = int(parts[number] or 0)
    return NamedStep(*spans[nth - 1][2:]) if 1 <= nth <= len(spans) else None


def _by_pattern(names: Sequence[str], pattern: str) -> list[NamedStep]:
    expression, at = "", 0
    for code in re.finditer(r"%(.)|\{(\w+)\}", pattern):
        expression += re.escape(pattern[at : code.start()])
        if code.group() in pattern[: code.start()]:
            raise RequestError("dates", f"{pattern}: {code.group()} stands in it twice")
        if code.group(1) in CODES:
            expression += CODES[code.group(1)]
        elif code.group(2) in NUMBERED:
            expression += rf"(?P<{code.group(2)}>\d\d?)"
        else:
            raise RequestError("dates", f"{code.group()} is not known", f"use {KNOWN_CODES}")
        at = code.end()
    expression += re.escape(pattern[at:])
    steps = []
    for name in names:
        match = re.search(expression, name)
        step = _from_codes(match.groupdict()) if match else None
        if step is None:
            raise InputError(name, f"does not hold a date as ‹dates {pattern}› describes it")
        steps.append(step)
    return steps


def _from_codes(parts: dict[str, str | None]) -> NamedStep | None:
    if parts.get("y"):
        short = int(parts["y"] or 0)
        parts["Y"] = str(short + (1900 if short >= 69 else 2000))
    if parts.get("b"):
        names = [name.lower() for name in calendar.month_abbr]
        month = (parts["b"] or "").lower()
        parts["m"] = str(names.index(month)) if month in names else "0"
    kinds: dict[str, Callable[[], bool]] = {
        "number": lambda: any(parts.get(number) for number in NUMBERED),
        "hour": lambda: bool(parts.get("H")),
        "day": lambda: bool(parts.get("d")),
        "day of year": lambda: bool(parts.get("j")),
        "month": lambda: bool(parts.get("m")),
        "year": lambda: True,
    }
    kind = next(name for name, holds in kinds.items() if holds())
    complete = {name: parts.get(name) for name in ("Y", "m", "d", "j", "H", "M", *NUMBERED)}
    return _step(kind, complete) if complete["Y"] else None
