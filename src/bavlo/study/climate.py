"""Normals and anomalies: from a series to the tables that say what is usual and what is not."""

from __future__ import annotations

import csv
import re
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.anomalies import in_years, ranks, spi, windowed
from bavlo.core.errors import InputError, RequestError
from bavlo.core.normals import Base, Normals, default_base, normals
from bavlo.core.periods import PeriodAxis
from bavlo.core.table import Column, Table, text_column
from bavlo.core.timeaxis import DAY, to_dates, to_instant
from bavlo.core.units import depth_in_mm
from bavlo.formats.regions import chosen
from bavlo.formats.tables.csv import plain_text
from bavlo.study.listener import Listener
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, series

LABEL = re.compile(r"\d{4}(?:/\d\d)?(?:[-:](?P<cycle>.+))?$")
NEEDED = (
    "region",
    "period",
    "start",
    "end",
    "variable",
    "measure",
    "value",
    "unit",
    "combine",
    "order",
)


@dataclass(frozen=True, eq=False)
class Series:
    """Series of regions and measures over like periods, from grids or from a table.

    Parameters
    ----------
    regions, measures, units, orders
        Names, and unit and order of each measure.
    value, area_valid : (R, P, M) float64
    steps : (R, P) float64
    expected : (P,) float64
    notes : (R, P, M) object
    year : (P,) int
        The year of the last step of each period.
    about
        Provenance.
    """

    regions: list[str]
    periods: PeriodAxis
    measures: list[str]
    variable: str
    units: list[str]
    orders: list[str]
    combine: str
    value: np.ndarray
    area_valid: np.ndarray
    steps: np.ndarray
    expected: np.ndarray
    notes: np.ndarray
    year: np.ndarray
    title: str
    about: dict[str, Any]


def load(request: Request, listener: Listener) -> Series:
    """The series that a request is about: a table that was written, or made from grids.

    Normals need every year, so `--during` selects only what is reported, later on.
    """
    paths = [path for grid in request.grids for path in grid.paths]
    if len(paths) == 1 and paths[0].suffix.lower() == ".csv":
        _refuse_grid_options(request, paths[0])
        return _only(_from_table(paths[0]), paths[0], request.only)
    result = series(replace(request, command="series", during=None), listener)
    return _from_result(result)


def _refuse_grid_options(request: Request, path: Path) -> None:
    """Options that say how a series is made mean nothing once it is made."""
    plain = Request(request.command)
    allowed = {
        "command",
        "grids",
        "only",
        "during",
        "base",
        "statistics",
        "smooth",
        "windows",
        "score",
        "outputs",
        "format",
        "replace",
        "jobs",
        "memory",
        "rule",
    }
    for each in fields(Request):
        if each.name not in allowed and getattr(request, each.name) != getattr(plain, each.name):
            name = {"measures": "measure"}.get(each.name, each.name.replace("_", "-"))
            raise RequestError(
                f"--{name}",
                f"goes with grids, and {path} is a table",
                "leave it out, or give it to `bavlo series`",
            )


def _only(data: Series, path: Path, only: Sequence[str]) -> Series:
    """The wanted regions of a table."""
    keep = chosen(path, data.regions, only)
    return replace(
        data,
        regions=[data.regions[i] for i in keep],
        value=data.value[keep],
        area_valid=data.area_valid[keep],
        steps=data.steps[keep],
        notes=data.notes[keep],
    )


def _from_result(result: SeriesResult) -> Series:
    table = result.table
    if "class" in table.axes or table.labels("period") == ["static"]:
        raise RequestError("", "normals need a grid with time", "give one")
    calendar = table.labels("calendar")[0] if "calendar" in table.header else "standard"
    shape = tuple(table.axes[name] for name in ("region", "period", "measure"))
    periods = _axis(table.labels("period"), table.labels("start"), table.labels("end"), calendar)
    return Series(
        table.labels("region"),
        periods,
        table.labels("measure"),
        table.labels("variable")[0],
        table.labels("unit"),
        table.labels("order"),
        table.labels("combine")[0],
        table.column("value").reshape(shape),
        table.column("area_valid").reshape(shape),
        table.column("steps").reshape(shape)[:, :, 0],
        table.column("steps_expected").reshape(shape)[0, :, 0],
        table.column("note").reshape(shape),
        _years(periods),
        result.title,
        result.about,
    )


def _from_table(path: Path) -> Series:
    """Read a series table back; its rows are regions × periods × measures."""
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            reader = csv.DictReader(file)
            rows = list(reader)
            header = reader.fieldnames or []
    except (OSError, UnicodeDecodeError, csv.Error) as error:
        raise InputError(path, f"cannot be read as a table ({error})") from error
    missing = [name for name in NEEDED if name not in header]
    if missing or not rows:
        raise InputError(
            path,
            f"is no series table (no {', '.join(missing)})" if missing else "has no rows",
            "give what `bavlo series --out` wrote, or grids and --regions",
        )
    columns = {name: plain_text(row[name] or "" for row in rows) for name in header}

    def different(name: str) -> list[str]:
        return list(dict.fromkeys(columns[name]))

    regions, labels, measures = (different(name) for name in ("region", "period", "measure"))
    shape = (len(regions), len(labels), len(measures))
    if int(np.prod(shape)) != len(rows):
        raise InputError(
            path,
            f"its {len(rows)} rows are not {shape[0]} regions × {shape[1]} periods × {shape[2]} "
            "measures",
            "give one whole series table",
        )
    place = [
        np.array([{name: n for n, name in enumerate(names)}[text] for text in columns[key]])
        for key, names in (("region", regions), ("period", labels), ("measure", measures))
    ]

    def numbers(name: str) -> np.ndarray:
        out = np.full(shape, np.nan)
        if name in columns:
            out[tuple(place)] = [float(text) if text else np.nan for text in columns[name]]
        return out

    def of_axis(name: str, axis: int) -> list[str]:
        found: dict[int, str] = {}
        for n, text in zip(place[axis].tolist(), columns[name], strict=True):
            found.setdefault(n, text)
        return [found[n] for n in range(shape[axis])]

    notes = np.full(shape, "", object)
    notes[tuple(place)] = columns.get("note", [""] * len(rows))
    calendar = columns["calendar"][0] if "calendar" in columns else "standard"
    periods = _axis(labels, of_axis("start", 1), of_axis("end", 1), calendar)
    size = path.stat().st_size
    return Series(
        regions,
        periods,
        measures,
        columns["variable"][0],
        of_axis("unit", 2),
        of_axis("order", 2),
        columns["combine"][0],
        numbers("value"),
        numbers("area_valid"),
        numbers("steps")[:, :, 0],
        numbers("steps_expected")[0, :, 0],
        notes,
        _years(periods),
        columns["variable"][0],
        {"inputs": [{"file": str(path), "size": size}]},
    )


def _axis(
    labels: Sequence[str], starts: Sequence[str], ends: Sequence[str], calendar: str
) -> PeriodAxis:
    """Periods from their labels and days."""
    cycle = []
    for label in labels:
        match = LABEL.match(label)
        if match is None:
            raise RequestError(
                "--every",
                f"the period '{label}' does not come back every year",
                "use day, pentad, dekad, month, season, year, month initials or MM-DD..MM-DD",
            )
        cycle.append(match.group("cycle") or "year")
    if any("T" in text for text in (*starts, *ends)):
        raise RequestError("--every", "normals of parts of a day are not made", "use day or longer")

    def instants(texts: Sequence[str]) -> np.ndarray:
        days = [tuple(int(part) for part in text.split("-")) for text in texts]
        return np.array([to_instant(calendar, *day) for day in days], np.int64)

    return PeriodAxis(tuple(labels), tuple(cycle), instants(starts), instants(ends) + DAY, calendar)


def _years(periods: PeriodAxis) -> np.ndarray:
    return np.array([date.year for date in to_dates(periods.end - 1, periods.calendar)])


def normals_table(request: Request, listener: Listener) -> SeriesResult:
    """The climatology, by region and period of the year."""
    data = load(request, listener)
    base = _base(request, data)
    found = _normals(data, data.value, base, request.statistics, request.smooth)
    count, regions, measures = len(found.cycle), len(data.regions), len(data.measures)
    shape = (count, regions, measures)
    value = np.stack(
        [found.values[name].reshape(shape).transpose(1, 0, 2) for name in request.statistics],
        axis=-1,
    )
    years = found.years.reshape(shape).transpose(1, 0, 2)
    axes = ("region", "period", "measure", "statistic")
    columns = (
        text_column("region", ("region",), data.regions),
        text_column("period", ("period",), found.cycle),
        text_column("base", (), [str(base)]),
        text_column("variable", (), [data.variable]),
        text_column("measure", ("measure",), data.measures),
        text_column("combine", (), [data.combine]),
        text_column("order", ("measure",), data.orders),
        text_column("statistic", ("statistic",), request.statistics),
        Column("value", axes, value),
        text_column("unit", ("measure",), data.units),
        Column("years", axes[:3], years),
    )
    table = Table("normals", dict(zip(axes, value.shape, strict=True)), columns)
    empty = int(np.isnan(value).sum())
    lines = [f"{len(table)} rows: {regions} regions × {count} periods of the year, base {base}"]
    if empty:
        lines.append(
            f"{empty} rows have no value: fewer than 80 % of the base years are complete (see the "
            "column years)"
        )
    about = {
        **data.about,
        "base": str(base),
        "normals": list(request.statistics),
        "smooth": request.smooth,
    }
    return SeriesResult(table, f"Normals of {data.title}", tuple(lines), about)


def _base(request: Request, data: Series) -> Base:
    """The base years, which must be in the data."""
    base = request.base or default_base(data.year)
    if not in_years(data.year, base).any():
        raise RequestError(
            "--base",
            f"{base} is outside the data",
            f"the data have {data.year.min()}..{data.year.max()}",
        )
    return base


def _normals(
    data: Series, value: np.ndarray, base: Base, statistics: Sequence[str], smooth: int
) -> Normals:
    flat = value.transpose(1, 0, 2).reshape(len(data.periods), -1)
    return normals(
        flat, data.periods.cycle, data.year, base, statistics, data.periods.calendar, smooth
    )


def anomalies_table(request: Request, listener: Listener) -> SeriesResult:
    """Value, normal, anomaly, percent of normal, score and rank of every period."""
    data = load(request, listener)
    base = _base(request, data)
    if request.score == "spi":
        _check_spi(data)
    parts = [_one_window(data, base, window, request) for window in request.windows]
    reported = _reported(request, data)
    names = (
        "value",
        "normal",
        "std",
        "anomaly",
        "percent_of_normal",
        "score",
        "rank",
        "ranked_of",
        "years",
    )
    axes = ("region", "period", "measure", "window")
    numbers = {
        name: np.stack([part[name] for part in parts], axis=-1)[:, reported] for name in names
    }
    starts = np.stack([part["start"] for part in parts], axis=-1)[reported]
    periods = data.periods.take(reported)
    text_starts, ends = np.full(starts.shape, "", object), periods.bounds_text()[1]
    for w in range(len(parts)):
        text_starts[:, w] = PeriodAxis(
            periods.labels, periods.cycle, starts[:, w], periods.end, periods.calendar
        ).bounds_text()[0]
    notes = _anomaly_notes(data, numbers, reported, request)
    columns = [
        text_column("region", ("region",), data.regions),
        text_column("period", ("period",), periods.labels),
        Column("start", ("period", "window"), text_starts),
        text_column("end", ("period",), ends),
        text_column("variable", (), [data.variable]),
        text_column("measure", ("measure",), data.measures),
        Column("window", ("window",), np.array(request.windows, float)),
        Column("value", axes, numbers["value"]),
        text_column("unit", ("measure",), data.units),
        *(
            Column(name, axes, numbers[name])
            for name in ("normal", "std", "anomaly", "percent_of_normal", "score")
        ),
        text_column("score_kind", (), [request.score]),
        Column("rank", axes, numbers["rank"]),
        Column("ranked_of", axes, numbers["ranked_of"]),
        text_column("base", (), [str(base)]),
        Column("years", axes, numbers["years"]),
        Column("area_valid", axes[:3], data.area_valid[:, reported]),
        Column("steps", axes[:2], data.steps[:, reported]),
        Column("steps_expected", ("period",), data.expected[reported]),
        Column("note", axes, notes),
    ]
    if data.periods.calendar != "standard":
        columns.append(text_column("calendar", (), [data.periods.calendar]))
    table = Table("anomalies", dict(zip(axes, numbers["value"].shape, strict=True)), tuple(columns))
    lines = [
        f"{len(table)} rows: {len(data.regions)} regions × {len(periods)} periods, against "
        f"normals of {base}"
    ]
    lines += _in_words(data, periods, numbers)
    about = {
        **data.about,
        "base": str(base),
        "score": request.score,
        "window": list(request.windows),
    }
    return SeriesResult(table, f"Anomalies of {data.title}", tuple(lines), about)


def _one_window(data: Series, base: Base, window: int, request: Request) -> dict[str, np.ndarray]:
    """All numbers of windows of one length, each (R, P, M)."""
    shape = (len(data.periods), len(data.regions), len(data.measures))
    flat = data.value.transpose(1, 0, 2).reshape(len(data.periods), -1)
    moved, first = windowed(flat, data.periods.start, data.periods.end, window, data.combine)
    found = normals(
        moved,
        data.periods.cycle,
        data.year,
        base,
        ("mean", "std"),
        data.periods.calendar,
        request.smooth,
    )
    place = {kind: n for n, kind in enumerate(found.cycle)}
    which = np.array([place[kind] for kind in data.periods.cycle])
    mean, std = found.values["mean"][which], found.values["std"][which]
    anomaly = moved - mean
    rank, of, score = (np.full_like(moved, np.nan) for _ in range(3))
    base_years = in_years(data.year, base)
    for n in range(len(found.cycle)):
        like = which == n
        rank[like], of[like] = ranks(moved[like])
        if request.score == "spi":
            score[like] = spi(moved[like], base_years[like])
    with np.errstate(invalid="ignore", divide="ignore"):
        percent = np.where(mean != 0, moved / mean * 100, np.nan)
        if request.score != "spi":
            score = np.where(std > 0, anomaly / std, np.nan)
    if data.combine != "total":
        percent = np.full_like(moved, np.nan)

    def back(values: np.ndarray) -> np.ndarray:
        return values.reshape(shape).transpose(1, 0, 2)

    return {
        "value": back(moved),
        "normal": back(mean),
        "std": back(std),
        "anomaly": back(anomaly),
        "percent_of_normal": back(percent),
        "score": back(score),
        "rank": back(rank),
        "ranked_of": back(of),
        "years": back(found.years[which]),
        "start": np.where(first >= 0, data.periods.start[first], data.periods.start),
    }


def _check_spi(data: Series) -> None:
    if data.combine != "total":
        raise RequestError("--score", "spi is for totals of rain", "leave it out")
    for unit in data.units:
        depth_in_mm(unit)


def _reported(request: Request, data: Series) -> np.ndarray:
    """Positions of the periods within --during."""
    if request.during is None:
        return np.arange(len(data.periods))
    first, last = request.during.instants(data.periods.calendar)
    inside = np.flatnonzero((data.periods.start >= first) & (data.periods.end <= last))
    if not inside.size:
        raise RequestError(
            "--during",
            f"{request.during} holds no whole period of the data",
            f"the data have {data.periods.labels[0]}..{data.periods.labels[-1]}",
        )
    return inside


def _anomaly_notes(
    data: Series, numbers: dict[str, np.ndarray], reported: np.ndarray, request: Request
) -> np.ndarray:
    """Why something is empty, in a few words; (R, P, M, W)."""
    value, mean = numbers["value"], numbers["normal"]
    notes = np.full(value.shape, "", object)
    own = data.notes[:, reported][..., None]
    notes = np.where(np.isnan(value), own, notes)
    windowed_out = np.isnan(value) & (notes == "")
    notes[windowed_out] = "window not complete"
    years = numbers["years"]
    short = ~np.isnan(value) & np.isnan(mean)
    notes[short] = [f"normal from {n:g} years only" for n in years[short]]
    if data.combine == "total":
        notes[~np.isnan(value) & (mean == 0)] = "normal is 0, so there is no percent of it"
    no_score = ~np.isnan(value) & np.isnan(numbers["score"]) & (notes == "")
    if request.score == "spi":
        notes[no_score] = "fewer than 10 base values above 0"
    return notes


def _in_words(data: Series, periods: PeriodAxis, numbers: dict[str, np.ndarray]) -> list[str]:
    """The last reported period with a value of each region, as a sentence."""
    lines = []
    low, high = ("driest", "wettest") if data.combine == "total" else ("lowest", "highest")
    if data.combine == "mean" and data.units[0] in ("degC", "K", "degF"):
        low, high = "coldest", "warmest"
    for r, region in enumerate(data.regions):
        there = np.flatnonzero(~np.isnan(numbers["value"][r, :, 0, 0]))
        if not there.size:
            continue
        p = int(there[-1])
        pick = {name: float(array[r, p, 0, 0]) for name, array in numbers.items()}
        text = f"{region}, {periods.labels[p]}: {pick['value']:.4g} {data.units[0]}"
        if pick["percent_of_normal"] == pick["percent_of_normal"]:
            text += f", {pick['percent_of_normal']:.0f} % of normal"
        elif pick["anomaly"] == pick["anomaly"]:
            text += f", {pick['anomaly']:+.3g} against normal"
        rank, of = int(pick["rank"]), int(pick["ranked_of"])
        from_top = of + 1 - rank
        which, nth = (low, rank) if rank <= from_top else (high, from_top)
        lines.append(f"{text}, {_ordinal(nth)}{which} of {of}")
    return lines


def _ordinal(number: int) -> str:
    """Nothing for the first, `2nd `, `3rd `, …"""
    if number == 1:
        return ""
    ending = (
        "th" if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    )
    return f"{number}{ending} "
