"""Return levels by region, from the highest value of each complete year."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from bavlo.core.stats.gev import LEAST_YEARS, plotting_positions
from bavlo.core.stats.gev import return_levels as levels_of
from bavlo.core.values.combine import Combine
from bavlo.errors import RequestError
from bavlo.jobs.result import TableResult
from bavlo.jobs.series import series
from bavlo.jobs.wording import counted, row_count, some_of
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.group import only_table
from bavlo.tables.schema import RETURN_LEVELS
from bavlo.tables.table import Table

FITS = {"lmoments": "L-moments", "ml": "maximum likelihood"}
BEYOND = 3  # times the record, from which a return period is a warning


@dataclass(frozen=True, eq=False)
class YearlyHighest:
    """What return levels were fitted to, for the points of a plot.

    Parameters
    ----------
    values : by region, (N,) float64 ascending
    periods : by region, (N,) float64
        Return period of each, years.
    series
        The yearly values as a table of series.
    """

    values: dict[str, np.ndarray]
    periods: dict[str, np.ndarray]
    series: Table | None = None


def return_levels(request: Request, report: Reporter) -> TableResult:
    """The table of return levels; the yearly values behind it go with it for a chart."""
    result = _yearly_highest(request, report)
    table = only_table(result.table, "return_levels")
    values = table.full("value")[:, :, 0]
    names = table.labels("region")
    years = np.array(request.conditions.return_levels)
    shape = (len(names), years.size)
    level, lower, upper = (np.full(shape, np.nan) for _ in range(3))
    n = np.sum(~np.isnan(values), axis=1)
    short, highest = [], YearlyHighest({}, {}, table)
    for r, name in enumerate(names):
        known = np.sort(values[r][~np.isnan(values[r])])
        highest.values[name] = known
        highest.periods[name] = plotting_positions(known.size)
        if n[r] < LEAST_YEARS:
            short.append(f"{name} ({n[r]})")
            continue
        level[r], lower[r], upper[r] = levels_of(known, years, request.conditions.fit)
    _warn_of_short(short, years, int(n.max(initial=0)), report)
    out = RETURN_LEVELS.table(
        {
            "region": names,
            "variable": table.labels("variable")[0],
            "years": years,
            "value": level,
            "lower": lower,
            "upper": upper,
            "unit": table.along("unit", "measure")[0],
            "method": f"gev {request.conditions.fit}",
            "n": n,
        }
    )
    lines = (
        f"{row_count(out)}: {counted(len(names), 'region')} × "
        f"{counted(years.size, 'return period')}",
        f"from the highest step of each complete year, {int(n.min())} to {int(n.max())} years; "
        f"GEV by {FITS[request.conditions.fit]}, 95 % interval by parametric bootstrap",
    )
    about = {**result.about, "request": asked(request), "summary": list(lines)}
    measure = table.labels("measure")[0]
    title = f"Return levels of {table.labels('variable')[0]} ({measure} of the region)"
    return TableResult(out, title, lines, about, drawing={"highest": highest})


def _yearly_highest(request: Request, report: Reporter) -> TableResult:
    """The highest value of each year, as `series` has it."""
    if request.conditions.when or request.conditions.index:
        raise RequestError("return_levels", "stands for itself", "leave out ‹when› and ‹index›")
    if request.time.every not in ((), ("year",)):
        raise RequestError("every", "return levels are of yearly highest values", "leave it out")
    if len(request.measuring.measure) > 1:
        raise RequestError("measure", "return levels are of one measure", "choose one")
    measuring = replace(request.measuring, order=request.conditions.test_on or "region")
    yearly = replace(request.every("year"), command="series", measuring=measuring)
    yearly = replace(yearly, time=replace(yearly.time, combine=Combine(how="max")))
    return series(yearly, report)


def _warn_of_short(short: Sequence[str], years: np.ndarray, longest: int, report: Reporter) -> None:
    """Warn of regions with too few years, and of return periods far beyond the record."""
    if short:
        report.warn(
            f"fewer than {LEAST_YEARS} complete years, so no return levels: {some_of(short)}"
        )
    far = years[years > BEYOND * max(longest, 1)]
    if far.size:
        report.warn(
            f"{', '.join(map(str, far))} years are more than {BEYOND} times the record of "
            f"{longest} years: such levels are hardly more than a guess"
        )
