"""How counts, events and return levels came to be: the steps that counted, the yearly values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.stats.gev import fit_l_moments, fit_likelihood
from bavlo.core.time.axis import steps_text
from bavlo.jobs.count_arrays import ExtremesArrays
from bavlo.jobs.extremes import count, extremes_result
from bavlo.jobs.extremes_plan import ExtremesPlan, tested_in_words
from bavlo.jobs.return_levels import YearlyHighest, return_levels
from bavlo.jobs.trace_lines import RULE, STEP, YEAR, Line, Traced, no_such_row
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

FITS = {"lmoments": fit_l_moments, "ml": fit_likelihood}
IN_MEMORY = Path("events.csv")  # never written: what happened on each step is kept with events


def traced_extreme(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A count or an event, and what happened on its steps."""
    for one in request.of_each_every():
        if row.get("every", "") not in ("", one.time.every_text):
            continue
        watched = one
        if one.conditions.when:
            watched = replace(one, output=replace(one.output, events=IN_MEMORY))
        plan, arrays = count(watched, report)
        result = extremes_result(plan, arrays, report)
        if "event" in row and result.events is not None:
            result = replace(result, table=result.events)
        return Traced(result, [*_rules(plan, row), *_steps(plan, arrays, row)])
    raise no_such_row(row["region"], f"periods {row.get('every')}")


def traced_level(request: Request, row: Mapping[str, Any], report: Reporter) -> Traced:
    """A return level, the yearly values and what was fitted to them."""
    result = return_levels(request, report)
    highest: YearlyHighest = result.drawing["highest"]
    table = highest.series
    lines: list[Line] = []
    known = highest.values[str(row["region"])]
    if known.size:
        fit = FITS[request.conditions.fit](known[None] if known.ndim == 1 else known)[0]
        names = {"location": fit.location, "scale": fit.scale, "shape": fit.shape}
        lines += [
            Line(RULE, f"gev {name}", value=float(value), note="shape k as Hosking has it")
            for name, value in names.items()
        ]
    if table is not None:
        r = table.labels("region").index(str(row["region"]))
        values, notes = table.full("value")[r, :, 0], table.full("note")[r, :, 0]
        starts, ends = table.along("start", "period"), table.along("end", "period")
        periods = zip(table.labels("period"), starts, ends, values, notes, strict=True)
        lines += [
            Line(YEAR, label, start, end, value=float(value), unit=str(row["unit"]), note=str(note))
            for label, start, end, value, note in periods
        ]
    return Traced(result, lines)


def _rules(plan: ExtremesPlan, row: Mapping[str, Any]) -> list[Line]:
    on = plan.request.conditions.tested_on
    lines = [Line(RULE, "tested_on", note=f"{on}: {tested_in_words(plan)}")]
    for name, variable in plan.variables.items():
        note = f"{name}: {variable.what.kind}, told by {variable.what.why}; in {variable.unit}"
        lines.append(Line(RULE, "kind", note=note))
    if plan.base is not None:
        lines.append(Line(RULE, "base", note=f"percentiles of {plan.base}"))
    for index in plan.indices:
        if index.name == row.get("condition"):
            lines.append(Line(RULE, index.name, note=index.definition))
    least = plan.request.measuring.least_area
    lines.append(Line(RULE, "min_area", value=least, note="share of the area that is needed"))
    return lines


def _steps(plan: ExtremesPlan, arrays: ExtremesArrays, row: Mapping[str, Any]) -> list[Line]:
    """The steps of the row's period, with the share of the area in which the condition held."""
    names = list(plan.regions.regions.labels)
    if row["region"] not in names:
        raise no_such_row(row["region"], "region")
    condition = str(row["condition"])
    if not arrays.daily or condition not in arrays.names:
        return []
    r, n = names.index(str(row["region"])), arrays.names.index(condition)
    daily, time = arrays.daily[n], plan.time
    steps = np.arange(plan.first, plan.last)
    starts, ends = steps_text(time, steps)
    if "period" in row:
        if row["period"] not in plan.periods.labels:
            raise no_such_row(row["region"], f"period {row['period']}")
        p = plan.periods.labels.index(str(row["period"]))
        own = np.isin(steps, plan.assignment.step[plan.assignment.period == p])
    else:
        own = np.array(
            [row["start"] <= s and e <= row["end"] for s, e in zip(starts, ends, strict=True)]
        )
    unit = plan.bound[n].tests[0].variable.unit
    on_cells = plan.request.conditions.tested_on == "cell"
    shares = daily.share[:, r]
    if on_cells and "period" in row and plan.index.extra is None:
        # Of the cells that count in the period, so that all steps add up to the count; those of a
        # step alone may lack some of them.
        whole = plan.index.region_weight[r] * arrays.area_valid[r, p, n]
        shares = np.where(np.isnan(shares), np.nan, daily.met[:, r] / max(whole, 1e-300))
    lines = []
    for k in np.flatnonzero(own).tolist():
        share = float(shares[k])
        note = "no data" if share != share else ("met" if share > 0 else "not met")
        if share > 0 and on_cells:
            note = f"met in {share:.1%} of the area"
        lines.append(
            Line(
                STEP,
                starts[k],
                starts[k],
                ends[k],
                share=share,
                value=float(daily.mean[k, r]),
                unit=unit,
                note=note,
            )
        )
    return lines
