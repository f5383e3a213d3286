"""Counts of conditions, and indices, by region and period."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import replace
from typing import Any

import numpy as np

from bavlo.core.conditions.conditions import Fixed
from bavlo.core.conditions.counts import COUNTS, CountUnits
from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.stats.measures import parse_measure
from bavlo.core.time.axis import DAY, iso_day
from bavlo.core.values.kinds import STATE
from bavlo.core.values.units import convert
from bavlo.jobs.conditions import applicable_counts
from bavlo.jobs.count_arrays import ExtremesArrays
from bavlo.jobs.counting import count_by_bricks, count_by_stream, count_regions
from bavlo.jobs.events import events_table
from bavlo.jobs.extremes_plan import (
    ExtremesPlan,
    check_output_unit,
    counting_of,
    plan_extremes,
    tested_in_words,
)
from bavlo.jobs.provenance import inputs_of_job, of_regions, provenance_of
from bavlo.jobs.reading import rechunked_source
from bavlo.jobs.result import TableResult, shapes_of, together
from bavlo.jobs.store import Store, key_of, source_digests, told_of_source
from bavlo.jobs.wording import counted, empty_rows, outside_notes, row_count
from bavlo.jobs.writing import check_columns
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.schema import EXTREMES
from bavlo.tables.table import Table


def extremes(request: Request, report: Reporter) -> TableResult:
    """Counts, indices or return levels as a table, and the events where they are asked for."""
    if request.conditions.return_levels:
        from bavlo.jobs.return_levels import return_levels

        return return_levels(request, report)
    first, *others = request.of_each_every()
    no_events = [replace(one, output=replace(one.output, events=None)) for one in others]
    return together(request, [_by_one(one, report) for one in (first, *no_events)])


def _by_one(request: Request, report: Reporter) -> TableResult:
    """Counts or indices by one sort of periods."""
    return extremes_result(*count(request, report), report)


def count(request: Request, report: Reporter) -> tuple[ExtremesPlan, ExtremesArrays]:
    """Count by one sort of periods; what happened on each step too, where events are asked for."""
    report.stage("opening")
    plan = plan_extremes(request, report)
    places = len(plan.bound) * len(request.conditions.count) + len(plan.indices)
    check_columns(request, plan.regions, [len(plan.periods)], places)
    arrays = ExtremesArrays(plan)
    store = _store_of(plan)
    kept = None if store is None else store.load()
    if kept is not None:
        report.note(f"{int(kept.changed.sum())} of {len(plan.time)} steps are counted again")
    report.stage("reading and counting")
    with ExitStack() as stack:
        sources = {
            name: stack.enter_context(rechunked_source(source, plan.cells, request.run, report))
            for name, source in plan.aligned.sources.items()
        }
        reading = replace(plan, aligned=replace(plan.aligned, sources=sources))
        if not plan.on_cells:
            count_regions(reading, arrays, report, kept)
        elif plan.whole_records:
            count_by_bricks(reading, arrays, report)
        else:
            count_by_stream(reading, arrays, report, kept)
    if kept is not None:
        kept.fill([arrays])
    if store is not None:
        store.keep([arrays])
    return plan, arrays


def _store_of(plan: ExtremesPlan) -> Store | None:
    """Where counts are kept; None where nothing is.

    Kept are counts of conditions with fixed thresholds, which each period has of its own steps
    alone. What looks at the whole record, a base, a neighbouring period or single days is counted
    again.
    """
    asked = plan.request
    folder = asked.run.store
    if folder is None or not _stands_alone(plan):
        return None
    digest = np.zeros(len(plan.time), np.int64)
    for name, source in plan.aligned.sources.items():
        own = source_digests(source)
        if own is None:
            return None
        digest = digest * 31 + own[plan.aligned.steps[name]]
    told: list[Any] = [asked.conditions, asked.measuring, replace(asked.time, during=None)]
    told += [plan.regions.regions.labels, plan.time.calendar, plan.time.length, plan.time.how]
    told += [(name, one.unit, one.what) for name, one in plan.variables.items()]
    told += [told_of_source(source) for source in plan.aligned.sources.values()]
    key = key_of(told, plan.aligned.layout, plan.index.overlay, plan.weights)
    labels = [plan.periods.labels]
    return Store(folder / f"{key}.npz", plan.time, digest, [plan.assignment], labels)


def _stands_alone(plan: ExtremesPlan) -> bool:
    """Whether the counts of a period depend on its own steps and on fixed thresholds only."""
    asked = plan.request
    run_on = not plan.period_steps.cut and any(
        counting_of(plan, b).follows_spells for b in plan.bound
    )
    of_whole = not plan.on_cells and (
        asked.measuring.min_area is None and parse_measure(asked.measuring.measure[0]).of_whole
    )
    fixed = all(isinstance(test.threshold, Fixed) for b in plan.bound for test in b.condition.tests)
    return (
        bool(plan.bound)
        and plan.base is None
        and asked.output.events is None
        and not asked.grids.make
        and not asked.time.same_span
        and not (run_on or of_whole or (plan.on_cells and plan.whole_records))
        and fixed
        and all(name in COUNTS for name in asked.conditions.count)
    )


def extremes_result(plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter) -> TableResult:
    """The table of what was counted, and the events where they are asked for."""
    report.stage("making the table")
    table = _table(plan, arrays)
    summary = _summary(plan, table)
    about = about_extremes(plan, table, summary, report)
    events = events_table(plan, arrays.daily) if plan.request.output.events is not None else None
    shapes = shapes_of(plan.regions)
    every = plan.request.time.every_text
    return TableResult(table, _title(plan), summary, about, events, every=every, shapes=shapes)


def _units(plan: ExtremesPlan, arrays: ExtremesArrays) -> np.ndarray:
    """(conditions, counts) units of the values."""
    units = np.empty((len(arrays.names), len(arrays.counts)), object)
    if not plan.bound:
        units[:, 0] = [index.unit for index in plan.indices]
    for n, bound in enumerate(plan.bound):
        variable = bound.tests[0].variable
        words = CountUnits(
            "days" if plan.time.length == DAY else "steps",
            variable.unit,
            variable.what.kind == STATE,
            plan.time.at_most_daily,
        )
        units[n] = [COUNTS[name].unit(words) for name in arrays.counts]
    return units


def _convert_sums(plan: ExtremesPlan, arrays: ExtremesArrays, units: np.ndarray) -> None:
    """Totals and excesses in the unit that is asked for; those of states are differences."""
    wanted = str(plan.request.measuring.unit)
    for n, bound in enumerate(plan.bound):
        variable = bound.tests[0].variable
        check_output_unit(wanted, variable)
        for c, name in enumerate(arrays.counts):
            if COUNTS[name].is_sum:
                difference = variable.what.kind == STATE
                arrays.value[..., n, c] = convert(
                    arrays.value[..., n, c], variable.unit, wanted, difference=difference
                )
                units[n, c] = units[n, c].replace(variable.unit, wanted, 1)


def _variables(plan: ExtremesPlan) -> list[str]:
    if plan.bound:
        return [bound.variable for bound in plan.bound]
    return [" and ".join(plan.roles[n] for n in index.needs) for index in plan.indices]


def _table(plan: ExtremesPlan, arrays: ExtremesArrays) -> Table:
    near = np.abs(arrays.steps - np.rint(arrays.steps)) < 1e-9 * (1 + arrays.steps)
    arrays.steps = np.where(near, np.rint(arrays.steps), arrays.steps)
    units = _units(plan, arrays)
    if plan.request.measuring.unit is not None:
        _convert_sums(plan, arrays, units)
    starts, ends = plan.periods.bounds_text()
    return EXTREMES.table(
        {
            "region": plan.regions.regions.labels,
            "period": plan.periods.labels,
            "start": starts,
            "end": ends,
            "condition": arrays.names,
            "variable": _variables(plan),
            "tested_on": plan.request.conditions.tested_on,
            "count": [
                "steps" if name == "days" and plan.time.length != DAY else name
                for name in arrays.counts
            ],
            "value": arrays.value,
            "unit": units,
            "area_valid": arrays.area_valid,
            "steps": arrays.steps,
            "steps_expected": plan.assignment.expected,
            "note": _notes(plan, arrays),
            "calendar": None if plan.time.is_gregorian else plan.time.calendar,
            "weight": plan.weights.name,
            "level": _levels(plan),
        },
        _applicable(plan),
    )


def _levels(plan: ExtremesPlan) -> str | None:
    """Which values of further dimensions the tested grids have; None where there are no others."""
    levels = {name: s.variable.level for name, s in plan.aligned.sources.items()}
    found = {name: level for name, level in levels.items() if level}
    if len(set(levels.values())) == 1:
        return next(iter(found.values()), None)
    return "; ".join(f"{name} {level}" for name, level in found.items())


def _applicable(plan: ExtremesPlan) -> np.ndarray | None:
    """(conditions, counts) bool which counts apply to which conditions; None for indices."""
    counts = plan.request.conditions.count
    if not plan.bound:
        return None
    own = [applicable_counts(bound, counts) for bound in plan.bound]
    return np.array([[name in names for name in counts] for names in own])


def about_extremes(
    plan: ExtremesPlan, table: Table, summary: tuple[str, ...], report: Reporter
) -> dict[str, Any]:
    """Provenance of counts and indices."""
    request, sources = plan.request, plan.aligned.sources.values()
    own_rule = plan.indices and plan.own_rule
    return provenance_of(
        request,
        report,
        inputs_of_job(request, sources, plan.regions, plan.weights.source),
        summary,
        variables={
            name: {"unit": one.unit, "kind": one.what.kind, "kind_evidence": one.what.why}
            for name, one in plan.variables.items()
        },
        regions=of_regions(plan.regions),
        definitions={index.name: index.definition for index in plan.indices},
        tested_on=request.conditions.tested_on,
        base=plan.base_text or None,
        rules={
            "spells": "cut at the edges of periods"
            if plan.period_steps.cut
            else "run on over the edges of periods and count where they end",
            "missing": "at most 3 days of a month and 15 of a year"
            if own_rule
            else f"min_steps {request.time.least_share:g}",
            "min_area": request.measuring.least_area,
        },
        reported=f"{plan.periods.labels[0]}..{plan.periods.labels[-1]}",
        rows=len(table),
    )


def _notes(plan: ExtremesPlan, arrays: ExtremesArrays) -> np.ndarray:
    """Why a value is empty, in a few words."""
    notes = np.full(arrays.value.shape, "", object)
    outside = outside_notes(plan.regions.regions, plan.index.overlay.entries)
    for r, p, n, c in np.argwhere(np.isnan(arrays.value)).tolist():
        steps, wanted = arrays.steps[r, p, n], plan.assignment.expected[p]
        area = arrays.area_valid[r, p, n]
        if outside[r]:
            notes[r, p, n, c] = outside[r]
        elif (
            arrays.counts[c] in COUNTS
            and COUNTS[arrays.counts[c]].is_day
            and steps >= wanted - ENOUGH
        ):
            notes[r, p, n, c] = "never met"
        elif steps >= wanted - ENOUGH and area < plan.request.measuring.least_area - ENOUGH:
            notes[r, p, n, c] = f"area_valid {area:.2f}"
        elif steps >= wanted - ENOUGH:
            notes[r, p, n, c] = "not defined"
        else:
            notes[r, p, n, c] = f"{steps:.6g} of {wanted:.6g} {plan.time.steps_name}"
    return notes


def _summary(plan: ExtremesPlan, table: Table) -> tuple[str, ...]:
    calendar = plan.time.calendar
    first, last = int(plan.periods.start[0]), int(plan.periods.end[-1]) - 1
    lines = [
        f"{row_count(table)}: {' × '.join(counted(n, noun) for noun, n in table.axes.items())}, "
        f"{iso_day(first, calendar)}..{iso_day(last, calendar)}"
    ]
    lines.append(f"tested on {plan.request.conditions.tested_on}s: {tested_in_words(plan)}")
    if plan.base is not None:
        how = ""
        if plan.bound:
            how = ", no bootstrap: days of the base are part of what they are judged by"
        elif any(i.bootstrapped for i in plan.indices):
            how = ", with the bootstrap"
        lines.append(f"percentiles of {plan.base}{how}")
    lines += empty_rows(table)
    if plan.left_out:
        lines.append(
            f"left out, since {plan.request.time.during} cuts them: {', '.join(plan.left_out)}"
        )
    return tuple(lines)


def _title(plan: ExtremesPlan) -> str:
    names: Sequence[str] = [str(r.condition) for r in plan.bound] or [i.name for i in plan.indices]
    text = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    if len(plan.indices) == 1:
        text += f" ({plan.indices[0].title})"
    counts = f", {' and '.join(plan.request.conditions.count)}" if plan.bound else ""
    return f"{text}{counts} by {plan.request.time.every_text.lower()}"
