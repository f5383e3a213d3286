"""A series table from a table of others, brought to the periods that are asked for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from bavlo.core.reduce.cells import CellReducer
from bavlo.core.reduce.protocol import Block
from bavlo.core.time.assignment import Assignment, assign_steps
from bavlo.core.time.axis import DAY, TimeAxis
from bavlo.core.time.periods import PeriodAxis, parse_every, periods_between
from bavlo.core.values.combine import MEAN, TOTAL
from bavlo.core.values.kinds import (
    AMOUNT,
    RATE,
    Variable,
    as_asked,
    check_told,
    implausible,
    quantity,
    total_unit_of,
)
from bavlo.core.values.missing import (
    certain_text,
    count_marks,
    find_marks,
    perhaps_text,
    usual_marks,
)
from bavlo.core.values.units import convert, suits
from bavlo.errors import InputError, RequestError, setting
from bavlo.jobs.periods import rules_of, step_weights_of
from bavlo.jobs.provenance import of_file
from bavlo.jobs.rules import check_length
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.observed import Observed, ObservedOptions, read_observed
from bavlo.tables.schema import SERIES
from bavlo.tables.table import Table


def observed_table(
    request: Request, path: Path, report: Reporter, name: str | None
) -> tuple[Table, dict[str, Any]]:
    """The series of a table of others, and its provenance.

    Parameters
    ----------
    name
        What the user calls it; None where the file's own name will do.
    """
    own = {f: v for f, n, v in request.grids.by_grid if n == name}
    found = read_observed(path, _options(request, own, name))
    reading = request.grids.reading
    unit = own.get("input_unit") or reading.input_unit or found.unit
    kind = own.get("kind") or reading.kind or ""
    if not unit:
        raise InputError(
            path,
            f"does not tell the unit of {found.variable}",
            f"say so with {setting('input_unit', f'{name}=mm' if name else 'mm')}",
        )
    report.note(f"{path}: {found.understood}; {len(found.regions)} regions")
    evidence = "--kind" if kind else ""
    variable = Variable(found.variable, unit, kind=kind, kind_evidence=evidence)
    missing = own.get("missing", reading.missing)
    values, marks = _without_marks(path, found.values, variable, missing, report)
    found = replace(found, values=values)
    _say_what_was_read(path, found, report)
    periods = periods_of_labels(path, found)
    every = request.time.every_text if request.time.every else found.every
    series = _SeriesOfSteps(path, found.every, periods, _along(periods, found), variable)
    table = _table(found, _by_periods(request.every(every), series))
    if request.measuring.unit is not None:
        table = _in_unit(table, request.measuring.unit)
    about = {
        "request": asked(request),
        "inputs": [
            {
                **of_file(path),
                "understood": found.understood,
                "no_data": dict(found.marks) | marks,
                **({"traces": found.traces} if found.traces else {}),
                **({"left_out": found.left_out} if found.left_out else {}),
            }
        ],
        "warnings": list(report.warnings),
    }
    return table, about


def _options(request: Request, own: Mapping[str, Any], name: str | None) -> ObservedOptions:
    """What a request says of how a table of others is read.

    Parameters
    ----------
    own
        What is said of this table only, by field.
    """
    reading, shapes = request.grids.reading, request.regions.reading
    return ObservedOptions(
        dict(request.grids.columns),
        own.get("variable") or reading.variable,
        own.get("dates") or reading.dates,
        shapes.layer,
        shapes.encoding,
        name,
    )


def _say_what_was_read(path: Path, found: Observed, report: Reporter) -> None:
    """Say what means no data, what is a trace, and which rows were left out.

    Raises
    ------
    InputError
        Where there are traces of what is no depth of water.
    """
    if found.marks:
        listed = ", ".join(f"'{text}' ({count})" for text, count in found.marks)
        report.note(f"{path}: taken for no data: {listed}")
    if found.traces:
        if not suits(found.unit or "mm", "mm"):
            raise InputError(
                path,
                f"has traces (T) {found.traces} times among values in {found.unit}",
                "repair them: only depths of water have traces",
            )
        report.warn(f"{path}: {found.traces} traces (T) are taken as 0")
    if found.left_out:
        report.warn(f"{path}: left out {found.left_out}")


def _without_marks(
    path: Path,
    values: np.ndarray,
    variable: Variable,
    missing: tuple[float, ...] | None,
    report: Reporter,
) -> tuple[np.ndarray, dict[str, int]]:
    """Values without the numbers that mean no data, and how often each of these was met.

    Parameters
    ----------
    missing
        Those that the user names; the usual ones are looked for where that is None, as in grids.

    Raises
    ------
    InputError
        Where a number may be a value or mean no data.
    """
    what = quantity(variable, path)
    usual = usual_marks(values.dtype)
    sampled = count_marks([values], usual)
    if missing is None:
        found = find_marks(what, sampled, usual, usual)
        doubtful = next((mark for mark in found if not mark.is_certain), None)
        if doubtful is not None:
            raise InputError(path, *perhaps_text(doubtful.value))
        for mark in found:
            report.warn(f"{path}: {certain_text(mark, sampled.looked_at)}")
        missing = tuple(mark.value for mark in found)
    counts = {f"{mark:g}": int((values == mark).sum()) for mark in missing}
    values = np.where(np.isin(values, missing), np.nan, values)
    if not np.isnan(values).all():
        odd = implausible(what, float(np.nanmin(values)), float(np.nanmax(values)))
        if odd:
            report.warn(f"{path}: {odd}")
    return values, {text: count for text, count in counts.items() if count}


def periods_of_labels(path: Path, found: Observed) -> PeriodAxis:
    """All periods of a table from the first to the last."""
    years = [int(label[:4]) for label in found.dates]
    bounds = np.array([f"{min(years) - 1}", f"{max(years) + 2}"], "M8[us]").astype(np.int64)
    first, last = bounds.tolist()
    periods = periods_between(parse_every(found.every), "standard", first, last)
    known = {label: n for n, label in enumerate(periods.labels)}
    missing = next((label for label in found.dates if label not in known), None)
    if missing is not None:
        raise InputError(path, f"there is no {found.every} {missing}", "repair the date")
    places = [known[label] for label in found.dates]
    return periods.take(np.arange(min(places), max(places) + 1))


def _along(periods: PeriodAxis, found: Observed) -> np.ndarray:
    """(P, R) values of all periods, NaN for those that the table does not have."""
    known = {label: n for n, label in enumerate(found.dates)}
    out = np.full((len(periods), len(found.regions)), np.nan)
    for n, label in enumerate(periods.labels):
        if label in known:
            out[n] = found.values[known[label]]
    return out


@dataclass(frozen=True, eq=False)
class _SeriesOfSteps:
    """The values (P, R) of a table on all its own periods, of which some may have none."""

    path: Path
    kind: str
    periods: PeriodAxis
    values: np.ndarray
    variable: Variable


@dataclass(frozen=True, eq=False)
class _ByPeriods:
    """Values and steps (P, R) by the periods that are asked for, with the steps expected (P,)."""

    periods: PeriodAxis
    values: np.ndarray
    combine: str
    unit: str
    steps: np.ndarray
    expected: np.ndarray


def _by_periods(request: Request, series: _SeriesOfSteps) -> _ByPeriods:
    """Values of the periods of a request: those of the table, or longer ones made of them."""
    asked_how = request.time.combine.how
    what = as_asked(quantity(series.variable, series.path), asked_how)
    combine = asked_how or (TOTAL if what.kind in (AMOUNT, RATE) else MEAN)
    if request.time.every_text == series.kind:
        steps = (~np.isnan(series.values)).astype(float)
        expected = np.ones(len(series.periods))
        return _ByPeriods(series.periods, series.values, combine, what.unit, steps, expected)
    check_told(what, series.variable, series.path)
    if combine == TOTAL and what.kind not in (AMOUNT, RATE):
        raise RequestError(
            "combine", f"a state in {what.unit} has no total", "use mean, min or max"
        )
    length: int | str = DAY if series.kind == "day" else series.kind
    own = series.periods
    time = TimeAxis(own.start, own.end, "standard", length, f"the dates of {series.path}")
    first, last = int(time.start[0]), int(time.end[-1])
    periods = periods_between(request.time.rule, "standard", first, last)
    check_length(time, periods, request.time.every_text)
    assignment = assign_steps(time, periods, may_share=combine in (TOTAL, MEAN))
    weights = step_weights_of(time, what, periods, assignment, None)
    reducer = CellReducer(weights, rules_of(request, combine, what))
    (state,) = reducer.update(Block(0, len(time)), series.values)
    values = np.full((len(periods), series.values.shape[1]), np.nan)
    for each in reducer.close(state):
        values[each.first : each.first + len(each.value)] = each.value
    steps = _steps(assignment, series.values, len(periods))
    unit = total_unit_of(what, combine)
    return _ByPeriods(periods, values, combine, unit, steps, assignment.expected)


def _steps(assignment: Assignment, values: np.ndarray, periods: int) -> np.ndarray:
    """(P, R) steps of each period that have a value."""
    out = np.zeros((periods, values.shape[1]))
    known = ~np.isnan(values[assignment.step])
    np.add.at(out, assignment.period, known * assignment.share[:, None])
    return out


def _table(found: Observed, by: _ByPeriods) -> Table:
    """The table of a series of one measure."""
    starts, ends = by.periods.bounds_text()
    values = by.values.T
    notes = np.full((*values.shape, 1), "", object)
    for r, p in np.argwhere(np.isnan(values)).tolist():
        notes[r, p, 0] = f"{by.steps[p, r]:.6g} of {by.expected[p]:.6g} values"
    return SERIES.table(
        {
            "region": found.regions,
            "period": by.periods.labels,
            "start": starts,
            "end": ends,
            "variable": found.variable,
            "measure": ["mean"],
            "value": values[:, :, None],
            "unit": [by.unit],
            "combine": by.combine,
            "order": ["region"],
            "area_valid": np.where(np.isnan(values), np.nan, 1.0)[:, :, None],
            "steps": by.steps.T,
            "steps_expected": by.expected,
            "note": notes,
        }
    )


def _in_unit(table: Table, unit: str) -> Table:
    """A series of one measure in another unit."""
    columns = []
    own = table.along("unit", "measure")[0]
    for column in table.columns:
        if column.name == "value":
            values = convert(np.array(column.values), own, unit, difference=False)
            column = replace(column, values=values)
        elif column.name == "unit":
            column = replace(column, values=np.full(column.values.shape, unit, object))
        columns.append(column)
    return replace(table, columns=tuple(columns))
