"""What is asked for: the request that command line and study files fill in alike."""

from __future__ import annotations

import glob
import math
import re
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from bavlo.core.combine import AS_USUAL, Combine
from bavlo.core.conditions import Condition
from bavlo.core.errors import InputError, RequestError
from bavlo.core.formula import Formula
from bavlo.core.measures import Measure, parse_measure
from bavlo.core.normals import Base, parse_statistic
from bavlo.core.periods import DateRange, PeriodRule
from bavlo.formats.grids import format_of
from bavlo.formats.grids.addresses import url_of
from bavlo.formats.grids.source import ReadOptions
from bavlo.formats.regions import RegionOptions

READING, REGION_READING = ReadOptions(), RegionOptions()
MONTHLY = PeriodRule("month")
SHARES = "shares"  # a measure with a table of its own
ORDERS = ("region", "cell")
MEMORY_UNITS = {"": 1, "K": 2**10, "M": 2**20, "G": 2**30, "T": 2**40}


@dataclass(frozen=True)
class GridArgument:
    """The files of one grid.

    Parameters
    ----------
    name
        What the user calls it; None where the file's own name will do.
    paths
        In the order given, patterns and folders expanded.
    """

    name: str | None
    paths: tuple[Path, ...]


@dataclass(frozen=True)
class Request:
    """What is asked for; see the table of options for the meaning of each field.

    `reading` and `region_reading` are what the user says about the files, `by_grid` what of it is
    said of one grid only, as (field, grid, value). Fields from `outputs` on
    say where results go and how they are made, never what they are.
    """

    command: str
    grids: tuple[GridArgument, ...] = ()
    make: tuple[Formula, ...] = ()
    by_grid: tuple[tuple[str, str, str], ...] = ()
    regions: Path | None = None
    reading: ReadOptions = READING
    region_reading: RegionOptions = REGION_READING
    at_points: str = "cell"
    weight: Path | None = None
    weight_kind: str | None = None
    during: DateRange | None = None
    every: str | None = None
    rule: PeriodRule = MONTHLY
    combine: Combine = AS_USUAL
    complete: str | None = None
    same_span: bool = False
    from_months: bool = False
    order: str | None = None
    measures: tuple[str, ...] = ("mean",)
    unit: str | None = None
    base: Base | None = None
    statistics: tuple[str, ...] = ("mean", "std")
    smooth: int = 1
    windows: tuple[int, ...] = (1,)
    score: str = "standard"
    kind: str = "value"
    outside: str | None = None
    onto: Path | None = None
    when: tuple[Condition, ...] = ()
    counts: tuple[str, ...] = ("days",)
    indices: tuple[str, ...] = ()
    test_on: str = "cell"
    spell_edge: str = "run"
    area_share: float = 0.25
    wet_day: str = "1 mm"
    bootstrap: bool = True
    own_rule: bool = True
    return_levels: tuple[int, ...] = ()
    fit: str = "lmoments"
    min_steps: float = 1.0
    min_area: float = 0.5
    outputs: tuple[Path, ...] = ()
    events: Path | None = None
    format: str | None = None
    replace: bool = False
    jobs: int = 1
    memory: int = 2**30
    scratch: Path | None = None
    cluster: str | None = None

    def about(self) -> dict[str, Any]:
        """What the numbers depend on, as plain data for the provenance."""
        return {
            "command": self.command,
            "grids": [
                {"name": g.name, "files": [str(path) for path in g.paths]} for g in self.grids
            ],
            "make": [formula.text for formula in self.make],
            "by_grid": [list(each) for each in self.by_grid],
            "regions": None if self.regions is None else str(self.regions),
            **{key: _plain(value) for key, value in asdict(self.region_reading).items()},
            "at_points": self.at_points,
            "weight": _plain(self.weight),
            "weight_kind": self.weight_kind,
            **asdict(self.reading),
            "during": None if self.during is None else str(self.during),
            "every": self.every,
            "year_start": self.rule.year_start,
            "combine": str(self.combine) or None,
            "complete": self.complete,
            "same_span": self.same_span,
            "window": list(self.windows),
            "order": self.order,
            "measure": list(self.measures),
            "unit": self.unit,
            "when": [str(condition) for condition in self.when],
            "count": list(self.counts),
            "index": list(self.indices),
            "test_on": self.test_on,
            "spell_edge": self.spell_edge,
            "area_share": self.area_share,
            "wet_day": self.wet_day,
            "bootstrap": self.bootstrap,
            "return_levels": list(self.return_levels),
            "fit": self.fit,
            "base": None if self.base is None else str(self.base),
            "as": self.kind,
            "outside": self.outside,
            "onto": _plain(self.onto),
            "min_steps": self.min_steps,
            "min_area": self.min_area,
        }


def _plain(value: Any) -> Any:
    """A value as plain data."""
    if isinstance(value, Path):
        return str(value)
    return list(value) if isinstance(value, tuple) else value


def parse_grids(arguments: Sequence[str]) -> tuple[GridArgument, ...]:
    """Read the GRID arguments: paths, patterns or folders, each perhaps as NAME=PATH."""
    named: dict[str | None, list[Path]] = {}
    for argument in arguments:
        name, text = None, argument
        match = re.match(r"([A-Za-z_]\w*)=(.+)$", argument, re.DOTALL)
        if match and not Path(argument).exists():
            name, text = match.groups()
        named.setdefault(name, []).extend(expand(text))
    return tuple(GridArgument(name, tuple(dict.fromkeys(paths))) for name, paths in named.items())


def expand(text: str) -> list[Path]:
    """The files that a path, a pattern or a folder stands for, sorted by name; URLs as they are."""
    if url_of(text) is not None:
        return [Path(text)]
    path = Path(text).expanduser()
    if path.is_dir() and format_of(path) is not None:  # a store that is a folder
        return [path]
    if path.is_dir():
        files = sorted(p for p in path.iterdir() if p.is_file() and not p.name.startswith("."))
        if not files:
            raise InputError(path, "the folder is empty", "give a file or a folder of files")
        return files
    if path.exists():
        return [path]
    if glob.has_magic(text):
        found = sorted(Path(p) for p in glob.glob(str(path), recursive=True))
        if found:
            return found
        raise InputError(text, "no file matches", "check the pattern")
    raise InputError(text, "there is no such file", "check the path")


def parse_measures(text: str | Sequence[str]) -> tuple[str, ...]:
    """Read `--measure`: names with commas between them."""
    parts = [text] if isinstance(text, str) else list(text)
    names = [name for part in parts for name in part.split(",") if name.strip()]
    measures: list[Measure] = [parse_measure(name) for name in names]
    return tuple(dict.fromkeys(measure.name for measure in measures))


def parse_statistics(text: str | Sequence[str]) -> tuple[str, ...]:
    """Read `--statistic`: names with commas between them."""
    parts = [text] if isinstance(text, str) else list(text)
    names = [parse_statistic(n) for part in parts for n in part.split(",") if n.strip()]
    return tuple(dict.fromkeys(names))


def parse_windows(text: str | Sequence[str]) -> tuple[int, ...]:
    """Read `--window`: whole numbers of periods with commas between them."""
    parts = [text] if isinstance(text, str) else list(text)
    numbers = [n.strip() for part in parts for n in part.split(",")]
    if not all(n.isdigit() and 1 <= int(n) <= 1200 for n in numbers):
        raise RequestError(
            "--window", f"'{','.join(parts)}' is no number of periods", "give 1,3,12"
        )
    return tuple(dict.fromkeys(int(n) for n in numbers))


def parse_years(text: str) -> tuple[int, ...]:
    """Read whole numbers of years with commas between them."""
    numbers = [n.strip() for n in text.split(",") if n.strip()]
    if not numbers or not all(n.isdigit() and 2 <= int(n) <= 10000 for n in numbers):
        raise RequestError("--return-levels", f"'{text}' are no years", "give 2,10,50,100")
    return tuple(sorted({int(n) for n in numbers}))


def split_commas(text: str | Sequence[str]) -> list[str]:
    """Names with commas between them, or given one by one."""
    parts = [text] if isinstance(text, str) else list(text)
    return [name.strip() for part in parts for name in part.split(",") if name.strip()]


def parse_smooth(text: str) -> int:
    """Read an odd number of days."""
    if not text.isdigit() or int(text) % 2 == 0 or int(text) > 181:
        raise RequestError("--smooth", f"'{text}' is no odd number of days", "give 5, 15 or 31")
    return int(text)


def parse_share(text: str, option: str) -> float:
    """Read a share from 0 to 1."""
    try:
        share = float(text)
    except ValueError:
        share = -1.0
    if not 0 <= share <= 1:
        raise RequestError(option, f"'{text}' is no share", "give a number from 0 to 1")
    return share


def parse_memory(text: str) -> int:
    """Read a size such as 800MB or 2GB, in bytes.

    Examples
    --------
    >>> parse_memory("1.5 GB") == 3 * 2**29
    True
    """
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*([KMGT]?)i?B?\s*", text, re.IGNORECASE)
    if not match:
        raise RequestError("--memory", f"'{text}' is no size", "write it as 800MB or 2GB")
    return int(float(match.group(1)) * MEMORY_UNITS[match.group(2).upper()])


def parse_number(text: str, option: str) -> float:
    """Read a finite number."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise RequestError(option, f"'{text}' is no number")
    return number


def parse_hour(text: str) -> int:
    """Read an hour of the day, 0 to 23."""
    if not text.isdigit() or int(text) > 23:
        raise RequestError("--day-start", f"'{text}' is no hour", "give 0 to 23")
    return int(text)


def parse_offset(text: str) -> int:
    """Read HH:MM, perhaps with a sign, as minutes.

    Examples
    --------
    >>> parse_offset("-05:30")
    -330
    """
    match = re.fullmatch(r"([+-]?)(\d{1,2}):([0-5]\d)", text)
    if not match or int(match.group(2)) > 14:
        raise RequestError("--utc-offset", f"'{text}' is no offset", "write it as +05:30")
    minutes = int(match.group(2)) * 60 + int(match.group(3))
    return -minutes if match.group(1) == "-" else minutes


def parse_jobs(text: str) -> int:
    """Read a number of workers."""
    if not text.isdigit() or int(text) < 1:
        raise RequestError("--jobs", f"'{text}' is no number of workers", "give 1 or more")
    return int(text)


def parse_choice(text: str, option: str, choices: Sequence[str]) -> str:
    """Read one of a few words."""
    if text not in choices:
        raise RequestError(option, f"'{text}' is not known", f"use one of: {' '.join(choices)}")
    return text


def parse_pick(text: str) -> tuple[str, str]:
    """Read `COLUMN=VALUE`."""
    name, sign, value = text.partition("=")
    if not sign:
        raise RequestError("--pick", f"'{text}' names no value", "write it as measure=p90")
    return name, value


def parse_month(text: str) -> int:
    """Read a month, 1 to 12."""
    if not text.isdigit() or not 1 <= int(text) <= 12:
        raise RequestError("--year-start", f"'{text}' is no month", "give 1 to 12")
    return int(text)


def split_by_grid(
    texts: str | Sequence[str], field: str, grids: Sequence[GridArgument]
) -> tuple[str | None, tuple[tuple[str, str, str], ...]]:
    """Values of an option that may be said of one grid only, as NAME=VALUE.

    Returns
    -------
    plain
        What holds for all grids.
    by_grid
        (field, grid, value) of those that are named.
    """
    names = {grid.name for grid in grids}
    plain, own = None, []
    for text in [texts] if isinstance(texts, str) else texts:
        name, sign, value = text.partition("=")
        if sign and name in names:
            own.append((field, name, value))
        elif plain is not None:
            raise RequestError(
                f"--{field.replace('_', '-')}",
                f"is given as '{plain}' and as '{text}'",
                "give it once, or once for each grid as GRID=VALUE",
            )
        else:
            plain = text
    return plain, tuple(own)
