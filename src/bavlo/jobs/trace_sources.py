"""How trends and comparisons came to be: the values of years, or of pairs of sources."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from bavlo.core.stats.trends import trends
from bavlo.jobs.compare import ALL, comparison_of, cycles, within
from bavlo.jobs.matched import MEASURED, Matched, matched
from bavlo.jobs.sources import Source, load_source, load_sources
from bavlo.jobs.trace_lines import PAIR, RULE, YEAR, Line, Traced, no_such_row
from bavlo.jobs.trends import by_year, trends_of
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request


def traced_trend(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A trend, the values of its years and the line through them."""
    source = load_source(request, report)
    result = trends_of(request, source, report)
    found, r, m = _place(request, [source], row)
    kinds, cycle = cycles(found)
    if row["period"] not in kinds:
        raise no_such_row(row["region"], f"period {row['period']}")
    like = cycle == kinds.index(str(row["period"]))
    years, values = by_year(found, like, np.array([int(end[:4]) for end in found.ends]))
    column = values[:, [r * len(found.measured) + m]]
    of = trends(column, years, request.trends.method, request.trends.confidence)
    slope, intercept = float(of.slope[0]), float(of.intercept[0])
    known = ~np.isnan(column[:, 0])
    pairs = np.sign(np.subtract.outer(column[known, 0], column[known, 0]))
    lines = [
        Line(RULE, "method", note=request.trends.method),
        Line(RULE, "S", value=float(np.tril(pairs).sum()), note="of Mann and Kendall"),
        Line(RULE, "value in the year 0", value=intercept, note="where the line of the trend is"),
    ]
    unit = found.units[m]
    for year, value in zip(years.tolist(), column[:, 0].tolist(), strict=True):
        line = intercept + slope / 10 * year
        note = f"on the line {line:.6g}" if value == value else "no value"
        lines.append(Line(YEAR, str(year), value=value, unit=unit, note=note))
    return Traced(result, lines)


def traced_comparison(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A statistic of two sources or a spread, and the values that it is made of."""
    sources = load_sources(request, report)
    result = comparison_of(request, sources, report)
    found, r, m = _place(request, sources, row)
    wanted = [str(row["a"]), str(row["b"])] if "a" in row else list(found.names)
    at = [found.names.index(name) for name in wanted]
    kinds, cycle = cycles(found)
    own = np.ones(len(found.periods), bool)
    if "a" not in row:
        own = np.array([label == row["period"] for label in found.periods])
    elif row["period"] != ALL:
        own = cycle == kinds.index(str(row["period"]))
    missing = np.any([np.isnan(values[r, :, m]) for values in found.values], axis=0)
    lines = []
    for p in np.flatnonzero(own).tolist():
        for name, n in zip(wanted, at, strict=True):
            value = float(found.values[n][r, p, m])
            note = name if not missing[p] else f"{name}; left out, not all sources have a value"
            lines.append(
                Line(PAIR, found.periods[p], found.starts[p], found.ends[p], value=value,
                     unit=found.units[m], note=note)
            )  # fmt: skip
    return Traced(result, lines)


def _place(
    request: Request, sources: Sequence[Source], row: Mapping[str, Any]
) -> tuple[Matched, int, int]:
    """The values that a row is about, and its region and measure among them."""
    for each in matched(sources):
        if row.get("every", "") not in ("", each.every):
            continue
        found = within(request, each)
        for m, measured in enumerate(found.measured):
            same = measured.variable == row["variable"]
            same &= all(getattr(measured, name) == row.get(name, "") for name in MEASURED)
            if same and row["region"] in found.regions:
                return found, found.regions.index(str(row["region"])), m
    raise no_such_row(row["region"], "what was measured")
