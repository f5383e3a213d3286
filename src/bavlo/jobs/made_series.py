"""A series made by a formula on the regions' own values of each period."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from bavlo.core.stats.measures import parse_measure
from bavlo.core.values.formula import Formula, Term, derived_variable, evaluate
from bavlo.core.values.kinds import STATE, Variable
from bavlo.core.values.units import convert
from bavlo.errors import RequestError
from bavlo.jobs.opening import open_grids
from bavlo.jobs.provenance import provenance_of
from bavlo.jobs.result import TableResult
from bavlo.jobs.wording import counted, empty_rows, row_count
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request, for_grid
from bavlo.tables.formats import Shapes
from bavlo.tables.group import only_table
from bavlo.tables.schema import SERIES
from bavlo.tables.table import Table

Series = Callable[[Request, Reporter], TableResult]


@dataclass(frozen=True, eq=False)
class RegionValues:
    """The table of one grid: (R, P) arrays by measure.

    Parameters
    ----------
    about, shapes
        Its provenance, and its regions.
    measures
        Names, in the order of its axis.
    """

    table: Table
    about: dict[str, Any]
    shapes: Shapes | None
    measures: tuple[str, ...]

    def of(self, column: str, measure: str, periods: list[str]) -> np.ndarray:
        """(R, P) values of a column for some of the periods."""
        own = self.table.labels("period")
        chosen = [own.index(label) for label in periods]
        return np.asarray(self.table.full(column)[:, chosen, self.measures.index(measure)])


def made_of_regions(request: Request, report: Reporter, series: Series) -> TableResult:
    """Values by region and period, made of those of several grids.

    A name in the formula is the grid by the measure that is asked for, a function of it another
    measure of the cells of the region.

    Parameters
    ----------
    series
        Makes the table of one grid.
    """
    formula = written_out(request.grids.make)
    measures = [parse_measure(name).name for name in request.measuring.measure]
    tables = _tables(request, report, series, formula, measures)
    first = next(iter(tables.values())).table
    periods = _common_periods(tables)
    values, units = [], []
    for measure in measures:
        value, made = _worked_out(formula, tables, measure, periods)
        unit = request.measuring.unit or made.unit
        values.append(convert(value, made.unit, unit, difference=made.difference))
        units.append(unit)
    value = np.stack(values, axis=-1)
    of_all = {
        column: np.stack([t.of(column, t.measures[0], periods) for t in tables.values()]).min(
            axis=0
        )
        for column in ("area_valid", "steps", "steps_expected")
    }
    combines = [f"{name} {t.table.labels('combine')[0]}" for name, t in tables.items()]
    own = first.labels("period")
    chosen = [own.index(label) for label in periods]
    table = SERIES.table(
        {
            "region": first.labels("region"),
            "period": periods,
            "start": [first.along("start", "period")[n] for n in chosen],
            "end": [first.along("end", "period")[n] for n in chosen],
            "variable": formula.name,
            "measure": measures,
            "value": value,
            "unit": units,
            "combine": ", ".join(combines),
            "order": ["region"] * len(measures),
            "area_valid": np.repeat(of_all["area_valid"][:, :, None], len(measures), axis=2),
            "steps": of_all["steps"],
            "steps_expected": of_all["steps_expected"][0],
            "note": _notes(value, tables, measures, periods),
            "calendar": first.labels("calendar")[0] if "calendar" in first.header else None,
            "weight": first.labels("weight")[0] if "weight" in first.header else None,
        }
    )
    lines = (f"{row_count(table)}: {' × '.join(counted(n, a) for a, n in table.axes.items())}",)
    about = _about(request, tables, report)
    title = f"{formula.text} by {request.time.every_text}, of the values of regions"
    shapes = next(iter(tables.values())).shapes
    return TableResult(table, title, (*lines, *empty_rows(table)), about, shapes=shapes)


def written_out(formulas: tuple[Formula, ...]) -> Formula:
    """The last of some formulas, with what those before it make written out in it."""
    terms: dict[str, Term] = {}
    for formula in formulas:
        terms[formula.name] = formula.term.with_terms(terms)
    last = formulas[-1]
    return replace(last, term=terms[last.name])


def _tables(
    request: Request, report: Reporter, series: Series, formula: Formula, measures: list[str]
) -> dict[str, RegionValues]:
    """The table of each named grid, with the measures that the formula takes of it."""
    plain = replace(request, grids=replace(request.grids, make=(), make_on="step"))
    names = list(open_grids(replace(plain, grids=replace(plain.grids, by_grid=())), report))
    missing = sorted(formula.term.names() - set(names))
    if missing:
        raise RequestError(
            "make",
            f"'{formula.text}': there is no grid {missing[0]}",
            f"there is: {', '.join(names)}; name one as {missing[0]}=PATH",
        )
    odd = next((f for f, term in formula.term.calls() if term.sign != "name"), None)
    if odd is not None:
        raise RequestError("make", f"{odd}() of regions' values is of a grid", "name one in it")
    tables = {}
    for name, argument in zip(names, request.grids.arguments, strict=True):
        if name not in formula.term.names():
            continue
        functions = [f for f, term in formula.term.calls() if term.value == name]
        wanted = tuple(dict.fromkeys([*measures, *(parse_measure(f).name for f in functions)]))
        own = for_grid(request, name)
        one = replace(
            own,
            grids=replace(own.grids, arguments=(argument,), make=(), make_on="step"),
            measuring=replace(request.measuring, measure=wanted, unit=None),
        )
        result = series(one, report)
        tables[name] = RegionValues(
            only_table(result.table, "make"), result.about, result.shapes, wanted
        )
    return tables


def _common_periods(tables: dict[str, RegionValues]) -> list[str]:
    """Labels of the periods that all tables have, in order of time."""
    labels = [table.table.labels("period") for table in tables.values()]
    common = set.intersection(*map(set, labels))
    if not common:
        raise RequestError("make", f"{' and '.join(tables)} have no period in common")
    return [label for label in labels[0] if label in common]


def _worked_out(
    formula: Formula, tables: dict[str, RegionValues], measure: str, periods: list[str]
) -> tuple[np.ndarray, Variable]:
    """(R, P) values of the formula for one measure, and what they are."""
    wanted = {name: (name, measure) for name in tables}
    for function, of in formula.term.calls():
        wanted[f"{function}({of.value})"] = str(of.value), function
    variables, blocks = {}, {}
    for name, (grid, function) in wanted.items():
        table, own = tables[grid], parse_measure(function)
        unit = table.table.along("unit", "measure")[table.measures.index(own.name)]
        variables[name] = Variable(
            name, unit, kind=STATE, kind_evidence="a value of regions", difference=own.difference
        )
        blocks[name] = table.of("value", own.name, periods)
    made = replace(formula, term=_by_own_name(formula.term))
    shape = next(iter(blocks.values())).shape
    value = np.array(np.broadcast_to(evaluate(made.term, variables, blocks), shape))
    return value, derived_variable(made, variables, is_combined=True)


def _by_own_name(term: Term) -> Term:
    """A term whose functions are names of what they give."""
    if term.sign == "call":
        return Term("name", (), f"{term.value}({term.parts[0].value})")
    return replace(term, parts=tuple(_by_own_name(part) for part in term.parts))


def _notes(
    value: np.ndarray, tables: dict[str, RegionValues], measures: list[str], periods: list[str]
) -> np.ndarray:
    """Why a value is empty: the note of the first grid that has none."""
    notes = np.full(value.shape, "", object)
    for m, measure in enumerate(measures):
        own = {name: t.of("note", measure, periods) for name, t in tables.items()}
        for region, period in np.argwhere(np.isnan(value[:, :, m])).tolist():
            texts = [f"{name}: {n[region, period]}" for name, n in own.items() if n[region, period]]
            notes[region, period, m] = texts[0] if texts else "divided by 0"
    return notes


def _about(request: Request, tables: dict[str, RegionValues], report: Reporter) -> dict[str, Any]:
    """Provenance: that of the tables, each input once."""
    parts = {name: table.about for name, table in tables.items()}
    first = next(iter(parts.values()))
    inputs = {each["file"]: each for about in parts.values() for each in about["inputs"]}
    return provenance_of(
        request,
        report,
        list(inputs.values()),
        grids={name: about["grid"] for name, about in parts.items()},
        regions=first["regions"],
        rules={name: about["rules"] for name, about in parts.items()},
    )
