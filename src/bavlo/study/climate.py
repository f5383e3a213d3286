"""Normals and anomalies: the tables that say what is usual and what is not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from bavlo.core.anomalies import ranks, spi
from bavlo.core.combine import DEGREE_DAYS, MAX, MEAN, MIN, TOTAL
from bavlo.core.errors import RequestError
from bavlo.core.measures import parse_measure
from bavlo.core.moving import windowed
from bavlo.core.normals import Base, Normals, default_base, in_years, normals
from bavlo.core.periods import PeriodAxis, PeriodRule
from bavlo.core.table import Column, Table, text_column
from bavlo.core.units import depth_in_mm
from bavlo.study.likeperiods import Series, load
from bavlo.study.listener import Listener
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, counted

# Periods that are made from normals of months: name, first month and number of months.
FROM_MONTHS = {
    "year": (("year", (1, 12)),),
    "season": (("MAM", (3, 3)), ("JJA", (6, 3)), ("SON", (9, 3)), ("DJF", (12, 3))),
}


def normals_table(request: Request, listener: Listener) -> SeriesResult:
    """The climatology, by region and period of the year."""
    if request.from_months:
        return _from_months(request, listener)
    data = load(request, listener)
    base = _base(request, data)
    found = _normals(data, data.value, base, request.statistics, request.smooth)
    return _normals_result(request, data, base, found, request.statistics)


def _from_months(request: Request, listener: Listener) -> SeriesResult:
    """Normals of seasons and years from those of their months (WMO-No. 1203, §4.5)."""
    wanted = FROM_MONTHS.get(request.rule.kind)
    if request.rule.kind == "months":
        wanted = ((str(request.every).upper(), request.rule.months),)
    if wanted is None:
        raise RequestError(
            "--from-months",
            f"makes seasons, years and runs of months, not {request.every or 'months'}",
            "use --every season, year or month initials such as NDJFM",
        )
    if "mean" not in request.statistics:
        raise RequestError("--from-months", "makes means only", "leave --statistic out")
    data = load(replace(request, rule=PeriodRule("month"), every="month"), listener)
    if set(data.periods.cycle) - {f"{n:02d}" for n in range(1, 13)}:
        raise RequestError("--from-months", "needs a table of months", "make it with --every month")
    if data.combine in (MIN, MAX):
        raise RequestError(
            "--from-months",
            "adds up totals and averages means",
            f"leave out --combine {data.combine}",
        )
    base = _base(request, data)
    months = _normals(data, data.value, base, ("mean",), 1)
    values, years = [], []
    for _, (first, count) in wanted:
        names = [f"{(first - 1 + n) % 12 + 1:02d}" for n in range(count)]
        missing = [name for name in names if name not in months.cycle]
        if missing:
            raise RequestError("--from-months", f"the table has no month {missing[0]}")
        place = [months.cycle.index(name) for name in names]
        part = months.values["mean"][place]
        added = data.combine != MEAN
        values.append(np.sum(part, axis=0) if added else np.mean(part, axis=0))
        years.append(months.years[place].min(axis=0))
    found = Normals(tuple(n for n, _ in wanted), {"mean": np.array(values)}, np.array(years))
    listener.note("normals of longer periods made from the normals of their months")
    return _normals_result(request, data, base, found, ("mean",))


def _normals_result(
    request: Request, data: Series, base: Base, found: Normals, statistics: Sequence[str]
) -> SeriesResult:
    """The table of normals."""
    count, regions, measures = len(found.cycle), len(data.regions), len(data.measures)
    shape = (count, regions, measures)
    value = np.stack(
        [found.values[name].reshape(shape).transpose(1, 0, 2) for name in statistics],
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
        text_column("statistic", ("statistic",), statistics),
        Column("value", axes, value),
        text_column("unit", ("measure",), data.units),
        Column("years", axes[:3], years),
    )
    table = Table("normals", dict(zip(axes, value.shape, strict=True)), columns)
    empty = int(np.isnan(value).sum())
    lines = [
        f"{len(table)} rows: {counted(regions, 'region')} × {counted(count, 'period')} of the "
        f"year, base {base}"
    ]
    if empty:
        lines.append(
            f"{empty} rows have no value: fewer than 80 % of the base years are complete (see the "
            "column years)"
        )
    about = {
        **data.about,
        "base": str(base),
        "normals": list(statistics),
        "smooth": request.smooth,
        "from_months": request.from_months,
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
        f"{len(table)} rows: {counted(len(data.regions), 'region')} × "
        f"{counted(len(periods), 'period')}, against normals of {base}"
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
    if window > 1:
        _check_window(data)
    combine = TOTAL if data.combine.startswith(DEGREE_DAYS) else data.combine
    moved, first = windowed(flat, data.periods.start, data.periods.end, window, combine)
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
    if data.combine != TOTAL:
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


def _check_window(data: Series) -> None:
    """Windows are made of the regions' own values, which only suits some measures."""
    for name, order in zip(data.measures, data.orders, strict=True):
        if order == "cell" and not parse_measure(name).linear:
            raise RequestError(
                "--window",
                f"{name} of a longer time is not made of those of its parts",
                "use --order region, which moves over the region's own values",
            )
    if data.combine.startswith("running"):
        raise RequestError("--window", "and running values do not go together", "use one")


def _check_spi(data: Series) -> None:
    if data.combine != TOTAL:
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
    if data.combine == TOTAL:
        notes[~np.isnan(value) & (mean == 0)] = "normal is 0, so there is no percent of it"
    no_score = ~np.isnan(value) & np.isnan(numbers["score"]) & (notes == "")
    if request.score == "spi":
        notes[no_score] = "fewer than 10 base values above 0"
    return notes


def _in_words(data: Series, periods: PeriodAxis, numbers: dict[str, np.ndarray]) -> list[str]:
    """The last reported period with a value of each region, as a sentence."""
    lines = []
    low, high = ("driest", "wettest") if data.combine == TOTAL else ("lowest", "highest")
    if data.combine == MEAN and data.units[0] in ("degC", "K", "degF"):
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
