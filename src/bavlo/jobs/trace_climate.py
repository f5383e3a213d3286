"""How normals and anomalies came to be: the years of the base, and the value itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from bavlo.core.stats.normals import MONTHS, WHOLE_YEARS, Base, in_years, parse_base
from bavlo.core.time.periods import cycle_of
from bavlo.jobs.anomalies import anomalies_of
from bavlo.jobs.climate_series import PeriodSeries, load_series
from bavlo.jobs.normals import normals, normals_of_series
from bavlo.jobs.sources import is_series
from bavlo.jobs.trace_lines import NEIGHBOUR, NUMBER, RULE, YEAR, Line, Traced
from bavlo.jobs.trace_series import traced_series
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

MINUS = " minus "
PERCENT = 100


def traced_normal(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A normal, and the values of the years that it is made of."""
    if request.climate.normals_from == MONTHS:
        rule = Line(RULE, "normals_from", note="made of the normals of its months")
        return Traced(normals(request, report), [rule])
    series = load_series(request, report)
    result = normals_of_series(request, series)
    data = _of_row(series, row)
    lines = _rules(request)
    for text in str(row["base"]).split(MINUS)[::-1]:
        years = _years(data, row, str(row["period"]), parse_base(text))
        lines += years
        if str(row["statistic"]).startswith("p") or row["statistic"] == "median":
            lines += _neighbours(years, str(row["statistic"]), text)
    return Traced(result, lines)


def traced_anomaly(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """An anomaly, the years of its normal, and the steps and cells of the value."""
    series = load_series(request, report)
    result = anomalies_of(request, series)
    data = _of_row(series, row)
    window = int(row["window"])
    lines = _rules(request)
    period = cycle_of(str(row["period"])) or str(row["period"])
    lines += _years(data, row, period, parse_base(str(row["base"])), window)
    traced = Traced(result, lines)
    return with_value(traced, request, row, report, window)


def with_value(
    traced: Traced, request: Request, row: Mapping[str, Any], report: Reporter, window: int = 1
) -> Traced:
    """The same with the steps and cells of the value, where it was made from grids."""
    paths = [path for grid in request.grids.arguments for path in grid.paths]
    if all(map(is_series, paths)) or "measure" not in row:
        return traced
    time = replace(request.time, window=(window,), during=None)
    own = traced_series(replace(request, command="series", time=time), row, report)
    # What steps and cells give is the value of the period, not what stands in the row for it.
    lines = [
        line._replace(item=f"value {line.item}") if line.part == NUMBER else line
        for line in own.lines
    ]
    return replace(traced, lines=[*traced.lines, *lines], cells=own.cells)


def _of_row(series: Sequence[PeriodSeries], row: Mapping[str, Any]) -> PeriodSeries:
    """The series that a row is about."""
    for data in series:
        same = data.variable == row["variable"] and row.get("level", "") in ("", data.level or "")
        if same and row.get("every", "") in ("", data.every):
            return data
    return series[0]


def _position(data: PeriodSeries, row: Mapping[str, Any]) -> int:
    """The measure, or count of a condition, of a row among those of its series."""
    if data.conditions is not None and data.counts is not None:
        pairs = list(zip(data.conditions, data.counts, strict=True))
        return pairs.index((str(row["condition"]), str(row["count"])))
    return data.measures.index(str(row["measure"]))


def _years(
    data: PeriodSeries, row: Mapping[str, Any], period: str, base: Base, window: int = 1
) -> list[Line]:
    """The values of all years of the base, as they go into a normal."""
    from bavlo.core.stats.windows import windowed
    from bavlo.core.values.combine import TOTAL

    r, m = data.regions.index(str(row["region"])), _position(data, row)
    inside = in_years(data.yearly.year, base)
    values = data.value[r, :, m][:, None]
    combine = data.combine if data.combine in ("total", "mean", "min", "max") else TOTAL
    values, first = windowed(values, data.periods.start, data.periods.end, window, combine)
    starts, ends = data.periods.bounds_text()
    lines = []
    for p in np.flatnonzero(inside & (np.array(data.periods.cycle, object) == period)).tolist():
        note = str(data.notes[r, p, m])
        if np.isnan(values[p, 0]) and not note:
            note = "window not complete"
        begin = starts[int(first[p])] if first[p] >= 0 else starts[p]
        lines.append(
            Line(YEAR, data.periods.labels[p], begin, ends[p], value=float(values[p, 0]),
                 unit=data.units[m], note=note)
        )  # fmt: skip
    return lines


def _neighbours(years: Sequence[Line], statistic: str, base: str) -> list[Line]:
    """The two sorted values between which a percentile lies (Hyndman and Fan's type 8)."""
    share = 0.5 if statistic == "median" else float(statistic[1:]) / PERCENT
    known = sorted((line for line in years if line.value == line.value), key=lambda x: x.value)
    if not known:
        return []
    place = (len(known) + 1 / 3) * share + 1 / 3
    low = min(max(int(place), 1), len(known))
    high = min(low + 1, len(known))
    note = f"stands at {place:.4f} of {len(known)} sorted values of {base}"
    return [
        Line(NEIGHBOUR, f"{name}, {line.item}", value=line.value, unit=line.unit, note=note)
        for name, line in (("below", known[low - 1]), ("above", known[high - 1]))
    ]


def _rules(request: Request) -> list[Line]:
    climate = request.climate
    lines = [Line(RULE, "base", value=0.8, note="share of the base years that is needed")]
    if climate.smooth > 1:
        lines.append(Line(RULE, "smooth", value=climate.smooth, note="days of the running mean"))
    if climate.normals_from == WHOLE_YEARS:
        lines.append(Line(RULE, "normals_from", note="only years all of whose periods are whole"))
    if request.command == "anomalies":
        lines.append(Line(RULE, "score", note=climate.score))
    return lines
