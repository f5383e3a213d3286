"""How each period stands against its normal and against all others like it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from bavlo.core.stats.anomalies import ranks, spi, zero_share
from bavlo.core.stats.measures import parse_measure
from bavlo.core.stats.normals import (
    WHOLE_YEARS,
    Base,
    choose_base,
    in_years,
    normals,
    of_whole_years,
)
from bavlo.core.stats.windows import over_windows, windowed
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.values.combine import DEGREE_DAYS, MEAN, TOTAL
from bavlo.core.values.units import MM, suits
from bavlo.errors import RequestError
from bavlo.figures.titles import span_in_words, title_of
from bavlo.jobs.climate_series import PeriodSeries, load_series
from bavlo.jobs.periods import reported_periods
from bavlo.jobs.result import TableResult, together
from bavlo.jobs.wording import counted, rank_in_words, row_count, tie_note
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.schema import ANOMALIES

RAIN = re.compile(r"rain|precip|^(pr|pre|tp|rr|prcp)$", re.IGNORECASE)  # what is dry or wet
MOSTLY = 0.5  # share of zeros in the base from which a score is noted


def anomalies(request: Request, report: Reporter) -> TableResult:
    """Value, normal, anomaly, percent of normal, score and rank of every period."""
    return anomalies_of(request, load_series(request, report))


def anomalies_of(request: Request, series: Sequence[PeriodSeries]) -> TableResult:
    """The anomalies of some series."""
    return together(request, [_of_one(request, data) for data in series])


def _of_one(request: Request, data: PeriodSeries) -> TableResult:
    """The anomalies of one series."""
    base = choose_base(request.climate.base, data.yearly.year)
    if request.climate.score == "spi":
        _check_spi(data)
    parts = [_one_window(data, base, window, request) for window in request.time.window]
    reported = reported_periods(request.time, data.periods)
    numbers = {
        name: np.stack([part[name] for part in parts], axis=-1)[:, reported]
        for name in parts[0]
        if name not in ("start", "steps", "steps_expected")
    }
    covered = [part["steps"][:, reported] for part in parts]
    expected = [part["steps_expected"][reported] for part in parts]
    numbers["steps"], numbers["steps_expected"] = np.stack(covered, -1), np.stack(expected, -1)
    starts = np.stack([part["start"] for part in parts], axis=-1)[reported]
    periods = data.periods.take(reported)
    notes = _anomaly_notes(data, numbers, reported, request)
    begins, ends = _starts_text(periods, starts), periods.bounds_text()[1]
    table = ANOMALIES.table(
        {
            "region": data.regions,
            "period": periods.labels,
            "start": begins,
            "end": ends,
            "variable": data.variable,
            **{name: column for name, column in data.measured().items() if ANOMALIES.column(name)},
            "window": request.time.window,
            "unit": data.units,
            "score_kind": request.climate.score,
            "base": str(base),
            "note": notes,
            "calendar": data.periods.calendar if data.periods.calendar != "standard" else None,
            "weight": data.weight,
            "level": data.level,
            **{name: array for name, array in numbers.items() if ANOMALIES.column(name)},
        }
    )
    lines = [
        f"{row_count(table)}: {counted(len(data.regions), 'region')} × "
        f"{counted(len(periods), 'period')}, against normals of {base}"
    ]
    one = request.time.window[0] == 1
    spans = [span_in_words(*days) for days in zip(begins[:, 0], ends, strict=True)]
    lines += _in_words(data, periods.labels if one else spans, numbers)
    about = {**data.about, "base": str(base)}
    every, shapes = data.every, data.shapes
    return TableResult(table, title_of(table), tuple(lines), about, every=every, shapes=shapes)


def _starts_text(periods: PeriodAxis, starts: np.ndarray) -> np.ndarray:
    """(P, W) the first day of each period with each window, whose starts are given in µs."""
    text = np.full(starts.shape, "", object)
    for w, start in enumerate(starts.T):
        text[:, w] = replace(periods, start=start).bounds_text()[0]
    return text


def _one_window(
    data: PeriodSeries, base: Base, window: int, request: Request
) -> dict[str, np.ndarray]:
    """All numbers of windows of one length, each (R, P, M)."""
    shape = (len(data.periods), len(data.regions), len(data.measures))
    flat = data.value.transpose(1, 0, 2).reshape(len(data.periods), -1)
    if window > 1:
        _check_window(data)
    combine = TOTAL if data.combine.startswith(DEGREE_DAYS) else data.combine
    moved, first = windowed(flat, data.periods.start, data.periods.end, window, combine)
    of_base = moved
    if request.climate.normals_from == WHOLE_YEARS:
        of_base = of_whole_years(moved, data.yearly)
    found = normals(of_base, data.yearly, base, ("mean", "std"), request.climate.smooth)
    position = {kind: n for n, kind in enumerate(found.cycle)}
    which = np.array([position[kind] for kind in data.periods.cycle])
    mean, std = found.values["mean"][which], found.values["std"][which]
    anomaly = moved - mean
    rank, tied, of, score, zeros = (np.full_like(moved, np.nan) for _ in range(5))
    base_years = in_years(data.yearly.year, base)
    for n in range(len(found.cycle)):
        like = which == n
        ranked = ranks(moved[like])
        rank[like], tied[like], of[like] = ranked.rank, ranked.tied, ranked.of
        if request.climate.score == "spi":
            score[like] = spi(moved[like], of_base[like & base_years])
            zeros[like] = zero_share(of_base[like & base_years])
    with np.errstate(invalid="ignore", divide="ignore"):
        percent = np.where(mean != 0, moved / mean * 100, np.nan)
        if request.climate.score != "spi":
            score = np.where(std > 0, anomaly / std, np.nan)
    score = np.where(np.isnan(mean), np.nan, score)  # fewer than 80 % of the base years
    if data.combine != TOTAL:
        percent = np.full_like(moved, np.nan)

    def back(values: np.ndarray) -> np.ndarray:
        return values.reshape(shape).transpose(1, 0, 2)

    begin = np.where(first >= 0, first, np.arange(len(first)))
    days = (data.periods.end - data.periods.start).astype(np.float64)
    area, steps, expected = data.area_valid, data.steps, data.expected
    if window > 1:
        steps, expected = over_windows(steps, begin), over_windows(expected, begin)
        known = np.nan_to_num(area).transpose(0, 2, 1) * days
        area = (over_windows(known, begin) / over_windows(days, begin)).transpose(0, 2, 1)
    return {
        "value": back(moved),
        "normal": back(mean),
        "std": back(std),
        "anomaly": back(anomaly),
        "percent_of_normal": back(percent),
        "score": back(score),
        "rank": back(rank),
        "tied": back(tied),
        "zeros": back(zeros),
        "ranked_of": back(of),
        "years": back(found.years[which]),
        "area_valid": area,
        "steps": steps,
        "steps_expected": expected,
        "start": data.periods.start[begin],
    }


def _check_window(data: PeriodSeries) -> None:
    """Windows are made of the regions' own values, which only suits some measures."""
    if data.conditions is not None:
        raise RequestError("window", "counts of longer periods are counted anew", "use ‹every›")
    for name, order in zip(data.measures, data.orders, strict=True):
        if order == "cell" and not parse_measure(name).linear:
            raise RequestError(
                "window",
                f"{name} of a longer time is not made of those of its parts",
                "use ‹order region›, which moves over the region's own values",
            )
    if data.combine.startswith("running"):
        raise RequestError("window", "and running values do not go together", "use one")


def _check_spi(data: PeriodSeries) -> None:
    if data.combine != TOTAL:
        raise RequestError("score", "spi is for totals of rain", "leave it out")
    for measure, unit in zip(data.measures, data.units, strict=True):
        if not suits(unit, MM):
            raise RequestError(
                "score",
                f"spi is for depths of rain, and the {measure} is in {unit or 'no unit'}",
                "leave it out, or use ‹measure mean›",
            )


def _anomaly_notes(
    data: PeriodSeries, numbers: dict[str, np.ndarray], reported: np.ndarray, request: Request
) -> np.ndarray:
    """Why something is empty, in a few words; (R, P, M, W)."""
    value, mean = numbers["value"], numbers["normal"]
    notes = np.full(value.shape, "", object)
    own = data.notes[:, reported][..., None]
    one = np.array(request.time.window) == 1
    notes = np.where(np.isnan(value) & one, own, notes)
    steps, expected = numbers["steps"][:, :, None], numbers["steps_expected"][None, :, None]
    for place in np.argwhere(np.isnan(value) & ~one & (steps < expected)).tolist():
        r, p, _, w = place
        notes[tuple(place)] = f"{steps[r, p, 0, w]:.6g} of {expected[0, p, 0, w]:.6g} steps"
    notes[np.isnan(value) & (notes == "")] = "window not complete"
    years = numbers["years"]
    short = ~np.isnan(value) & np.isnan(mean)
    notes[short] = [f"normal from {n:g} years only" for n in years[short]]
    if data.combine == TOTAL:
        notes[~np.isnan(value) & (mean == 0)] = "normal is 0, so there is no percent of it"
    no_score = ~np.isnan(value) & np.isnan(numbers["score"]) & (notes == "")
    if request.climate.score == "spi":
        notes[no_score] = "fewer than 10 base values above 0"
        dry = ~np.isnan(numbers["score"]) & (numbers["zeros"] > MOSTLY) & (notes == "")
        notes[dry] = [f"{share:.0%} of the base values are 0" for share in numbers["zeros"][dry]]
    shared = (numbers["tied"] > 0) & (notes == "")
    notes[shared] = [tie_note(int(count)) for count in numbers["tied"][shared]]
    return notes


def _in_words(
    data: PeriodSeries, names: Sequence[str], numbers: dict[str, np.ndarray]
) -> list[str]:
    """The last reported period with a value of each region, by its name, as a sentence."""
    lines = []
    words = ("lowest", "highest")
    if data.combine == TOTAL and suits(data.units[0], MM) and RAIN.search(data.variable):
        words = ("driest", "wettest")
    elif data.combine == MEAN and data.units[0] in ("degC", "K", "degF"):
        words = ("coldest", "warmest")
    for r, region in enumerate(data.regions):
        valid = np.flatnonzero(~np.isnan(numbers["value"][r, :, 0, 0]))
        if not valid.size:
            continue
        p = int(valid[-1])
        pick = {name: float(a[r, p, 0, 0]) for name, a in numbers.items() if a.ndim == 4}
        text = f"{region}, {names[p]}: {pick['value']:.4g} {data.units[0]}"
        if pick["percent_of_normal"] == pick["percent_of_normal"]:
            text += f", {pick['percent_of_normal']:.0f} % of normal"
        elif pick["anomaly"] == pick["anomaly"]:
            text += f", {pick['anomaly']:+.3g} against normal"
        rank, tied, of = (int(pick[name]) for name in ("rank", "tied", "ranked_of"))
        lines.append(f"{text}, {rank_in_words(rank, tied, of, words)}")
    return lines
