"""The climatology: what is usual in each region and period of the year."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from bavlo.core.stats.normals import MINUS, MONTHS, Normals, choose_base
from bavlo.core.values.combine import MAX, MEAN, MIN
from bavlo.errors import RequestError
from bavlo.figures.titles import title_of
from bavlo.jobs.climate_series import PeriodSeries, load_series, normals_of
from bavlo.jobs.result import TableResult, together
from bavlo.jobs.wording import counted, row_count
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.schema import NORMALS

# Periods that are made from normals of months: name, first month and number of months.
FROM_MONTHS = {
    "year": (("year", (1, 12)),),
    "season": (("MAM", (3, 3)), ("JJA", (6, 3)), ("SON", (9, 3)), ("DJF", (12, 3))),
}


def normals(request: Request, report: Reporter) -> TableResult:
    """The climatology, by region and period of the year."""
    if request.climate.normals_from == MONTHS:
        return together(
            request,
            [
                _from_months(one, data, report)
                for one in request.of_each_every()
                for data in load_series(one.every("month"), report)
            ],
        )
    return normals_of_series(request, load_series(request, report))


def normals_of_series(request: Request, series: Sequence[PeriodSeries]) -> TableResult:
    """The climatology of some series."""
    return together(request, [result for data in series for result in _of_one(request, data)])


def _of_one(request: Request, data: PeriodSeries) -> list[TableResult]:
    """The climatology of one series: of each base, and of two their change."""
    statistics = request.climate.statistic
    bases = [choose_base(asked, data.yearly.year) for asked in request.climate.bases or (None,)]
    found = [normals_of(data, request.climate, base, statistics) for base in bases]
    results = [
        _result(data, str(base), each, statistics) for base, each in zip(bases, found, strict=True)
    ]
    if len(bases) == 2:
        if found[0].cycle != found[1].cycle:
            raise RequestError("base", "have different periods of the year", "choose others")
        results.append(_result(data, f"{bases[1]}{MINUS}{bases[0]}", _change(*found), statistics))
    return results


def _change(first: Normals, second: Normals) -> Normals:
    """The second normals minus the first; years are the fewer of both."""
    change = {name: second.values[name] - values for name, values in first.values.items()}
    return Normals(first.cycle, change, np.minimum(first.years, second.years))


def _from_months(request: Request, data: PeriodSeries, report: Reporter) -> TableResult:
    """Normals of seasons and years from those of their months (WMO-No. 1203, §4.5)."""
    wanted = FROM_MONTHS.get(request.time.rule.kind)
    if request.time.rule.kind == "months":
        wanted = ((request.time.every_text.upper(), request.time.rule.months),)
    if wanted is None:
        raise RequestError(
            "normals_from",
            f"makes seasons, years and runs of months, not {request.time.every_text}",
            "use ‹every season›, year or month initials such as NDJFM",
        )
    if "mean" not in request.climate.statistic:
        raise RequestError("normals_from", "months makes means only", "leave ‹statistic› out")
    data = replace(data, every=request.time.every_text)
    if set(data.periods.cycle) - {f"{n:02d}" for n in range(1, 13)}:
        raise RequestError(
            "normals_from", "months needs a table of months", "make it with ‹every month›"
        )
    if data.combine in (MIN, MAX):
        raise RequestError(
            "normals_from",
            "adds up totals and averages means",
            f"leave out ‹combine {data.combine}›",
        )
    if len(request.climate.bases) > 1:
        raise RequestError("base", "of normals from months is one", "ask for one at a time")
    asked = next(iter(request.climate.bases), None)
    base = choose_base(asked, data.yearly.year)
    months = normals_of(data, replace(request.climate, smooth=1), base, ("mean",))
    values, years = [], []
    for _, (first, count) in wanted:
        names = [f"{(first - 1 + n) % 12 + 1:02d}" for n in range(count)]
        missing = [name for name in names if name not in months.cycle]
        if missing:
            raise RequestError("normals_from", f"the table has no month {missing[0]}")
        position = [months.cycle.index(name) for name in names]
        part = months.values["mean"][position]
        added = data.combine != MEAN
        values.append(np.sum(part, axis=0) if added else np.mean(part, axis=0))
        years.append(months.years[position].min(axis=0))
    found = Normals(tuple(n for n, _ in wanted), {"mean": np.array(values)}, np.array(years))
    report.note("normals of longer periods made from the normals of their months")
    return _result(data, str(base), found, ("mean",))


def _result(
    data: PeriodSeries, base: str, found: Normals, statistics: Sequence[str]
) -> TableResult:
    """The table of normals."""
    count, regions, measures = len(found.cycle), len(data.regions), len(data.measures)
    shape = (count, regions, measures)
    value = np.stack(
        [found.values[name].reshape(shape).transpose(1, 0, 2) for name in statistics],
        axis=-1,
    )
    years = found.years.reshape(shape).transpose(1, 0, 2)
    table = NORMALS.table(
        {
            "region": data.regions,
            "period": found.cycle,
            "base": base,
            "variable": data.variable,
            **data.measured(),
            "statistic": statistics,
            "value": value,
            "unit": data.units,
            "years": years,
            "weight": data.weight,
            "level": data.level,
        }
    )
    empty = int(np.isnan(value).sum())
    lines = [
        f"{row_count(table)}: {counted(regions, 'region')} × {counted(count, 'period')} of the "
        f"year, base {base}"
    ]
    if empty:
        lines.append(
            f"{empty} rows have no value: fewer than 80 % of the base years are complete (see the "
            "column years)"
        )
    about = {**data.about, "base": base}
    every, shapes = data.every, data.shapes
    return TableResult(table, title_of(table), tuple(lines), about, every=every, shapes=shapes)
