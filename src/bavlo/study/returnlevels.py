"""Return levels by region, from the highest value of each complete year."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.combine import Combine
from bavlo.core.errors import RequestError
from bavlo.core.gev import LEAST_YEARS, plotting_positions, return_levels
from bavlo.core.periods import PeriodRule
from bavlo.core.table import Column, Table, text_column
from bavlo.study.job import some_of
from bavlo.study.listener import Listener
from bavlo.study.request import Request
from bavlo.study.series import SeriesResult, counted, series

BEYOND = 3  # times the record, from which a return period is a warning


@dataclass(frozen=True, eq=False)
class YearlyHighest:
    """What return levels were fitted to, for the points of a plot.

    Parameters
    ----------
    values : by region, (N,) float64 ascending
    periods : by region, (N,) float64
        Return period of each, years.
    """

    values: dict[str, np.ndarray]
    periods: dict[str, np.ndarray]


def return_level_table(request: Request, listener: Listener) -> tuple[SeriesResult, YearlyHighest]:
    """The table, and the yearly values behind it."""
    if request.when or request.indices:
        raise RequestError("--return-levels", "stands for itself", "leave out --when and --index")
    if request.every not in (None, "year"):
        raise RequestError("--every", "return levels are of yearly highest values", "leave it out")
    if len(request.measures) > 1:
        raise RequestError("--measure", "return levels are of one measure", "choose one")
    yearly = replace(
        request,
        command="series",
        every="year",
        rule=PeriodRule("year", year_start=request.rule.year_start),
        combine=Combine(how="max"),
        order=request.order or "region",
    )
    result = series(yearly, listener)
    table = result.table
    values = table.full("value")[:, :, 0]
    names = table.labels("region")
    years = np.array(request.return_levels)
    shape = (len(names), years.size)
    level, lower, upper = (np.full(shape, np.nan) for _ in range(3))
    n = np.sum(~np.isnan(values), axis=1)
    short, highest = [], YearlyHighest({}, {})
    for r, name in enumerate(names):
        known = np.sort(values[r][~np.isnan(values[r])])
        highest.values[name] = known
        highest.periods[name] = plotting_positions(known.size)
        if n[r] < LEAST_YEARS:
            short.append(f"{name} ({n[r]})")
            continue
        level[r], lower[r], upper[r] = return_levels(known, years, request.fit)
    if short:
        listener.warn(
            f"fewer than {LEAST_YEARS} complete years, so no return levels: {some_of(short)}"
        )
    far = years[years > BEYOND * max(n.max(initial=0), 1)]
    if far.size:
        listener.warn(
            f"{', '.join(map(str, far))} years are more than {BEYOND} times the record of "
            f"{n.max(initial=0)} years: such levels are hardly more than a guess"
        )
    axes = ("region", "return_period")
    columns = (
        text_column("region", axes[:1], names),
        text_column("variable", (), [table.labels("variable")[0]]),
        Column("years", axes[1:], years.astype(np.float64)),
        Column("value", axes, level),
        Column("lower", axes, lower),
        Column("upper", axes, upper),
        text_column("unit", (), [table.along("unit", "measure")[0]]),
        text_column("method", (), [f"gev {request.fit}"]),
        Column("n", axes[:1], n.astype(np.float64)),
    )
    out = Table("return levels", dict(zip(axes, shape, strict=True)), columns)
    lines = (
        f"{len(out)} rows: {counted(len(names), 'region')} × "
        f"{counted(years.size, 'return period')}",
        f"from the highest step of each complete year, {int(n.min())} to {int(n.max())} years; "
        f"GEV by {'L-moments' if request.fit == 'lmoments' else 'maximum likelihood'}, 95 % "
        "interval by parametric bootstrap",
    )
    about = {**result.about, "request": request.about(), "summary": list(lines)}
    measure = table.labels("measure")[0]
    title = f"Return levels of {table.labels('variable')[0]} ({measure} of the region)"
    return SeriesResult(out, title, lines, about), highest
