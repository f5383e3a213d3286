"""How one number of a table came to be: made again, with everything that went into it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from bavlo import __version__
from bavlo.errors import InputError, RequestError
from bavlo.figures.trace import TracedCells
from bavlo.jobs.driver import TABLE_COMMANDS
from bavlo.jobs.provenance import parent_of
from bavlo.jobs.result import TableResult
from bavlo.jobs.trace_climate import traced_anomaly, traced_normal
from bavlo.jobs.trace_counts import traced_extreme, traced_level
from bavlo.jobs.trace_lines import (
    FILE,
    NUMBER,
    PARENT,
    REQUEST,
    Line,
    Traced,
    table_of_lines,
)
from bavlo.jobs.trace_series import traced_series
from bavlo.jobs.trace_sources import traced_comparison, traced_trend
from bavlo.request.filling import asked
from bavlo.request.recorded import folder_of, given_of, request_of
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.formats import FORMATS, about_of, ending_of, is_table, read_table
from bavlo.tables.group import parts_of
from bavlo.tables.rows import row_of, telling_columns
from bavlo.tables.schema import NUMBER as A_NUMBER
from bavlo.tables.schema import TableSchema, schema_by_axes

Tracer = Callable[[Request, Mapping[str, Any], Reporter], Traced]
# What makes a row of each sort of table again.
TRACERS: dict[str, Tracer] = {
    "series": traced_series,
    "normals": traced_normal,
    "anomalies": traced_anomaly,
    "extremes": traced_extreme,
    "events": traced_extreme,
    "return levels": traced_level,
    "trends": traced_trend,
    "compare": traced_comparison,
    "spread": traced_comparison,
}


@dataclass(frozen=True, eq=False)
class Trace:
    """How a number came to be.

    Parameters
    ----------
    result
        Its lines as a table, with what a picture of it needs.
    row
        The row as it stands in the table.
    came_back
        Whether the recorded request gives the recorded numbers again.
    differences
        Columns that differ: their names, the recorded number and the one found now.
    """

    result: TableResult
    row: dict[str, Any]
    lines: tuple[Line, ...]
    came_back: bool
    differences: tuple[tuple[str, float, float], ...]


def trace(request: Request, report: Reporter) -> Trace:
    """Find a row, make its number again from what is recorded, and compare."""
    path = table_path(request)
    table = read_table(path)
    wanted = wanted_row(request)
    row = row_of(table, wanted)
    about = recorded(path)
    schema = schema_by_axes(parts_of(table)[0])
    tracer = TRACERS.get(schema.name)
    if tracer is None or about["request"].get("command") not in TABLE_COMMANDS:
        raise InputError(path, f"is a table of {schema.name}, which is not traced", "give another")
    folder = folder_of(about["request"], path)
    again = with_resources(request_of(about["request"], folder), request, about)
    traced = tracer(again, row, report)
    keys = {name: _as_text(row[name]) for name in telling_columns(table)}
    header = parts_of(traced.result.table)[0].header
    found = traced.row({name: text for name, text in keys.items() if name in header})
    differences = tuple(different(schema, row, found, ending_of(path)))
    lines = (
        *_numbers(schema, row, found, differences),
        *(line for line in traced.lines if line.part == NUMBER),
        *_asked(about["request"]),
        *_files(about, traced.result.about, folder),
        *(line for line in traced.lines if line.part != NUMBER),
    )
    return Trace(
        _result(request, path, row, lines, traced.cells, came_back=not differences),
        row,
        lines,
        not differences,
        differences,
    )


def table_path(request: Request) -> Path:
    """The one table that a request names."""
    paths = [path for grid in request.grids.arguments for path in grid.paths]
    if len(paths) != 1:
        raise RequestError("", "a number of one table is traced", "give one table")
    if not is_table(paths[0]):
        raise InputError(paths[0], "is no table that Bavlo wrote", "give one in the long layout")
    return paths[0]


def wanted_row(request: Request) -> dict[str, str]:
    """What the row has in its columns, as far as that is said."""
    tracing = request.tracing
    named = {
        "region": tracing.region,
        "period": tracing.period,
        "variable": tracing.variable,
        "measure": tracing.measure,
    }
    return {k: v for k, v in named.items() if v is not None} | dict(request.figure.pick)


def recorded(path: Path) -> dict[str, Any]:
    """The provenance of a table.

    Raises
    ------
    InputError
        Where it is not there, or does not tell what was asked.
    """
    about = about_of(path)
    if about is None or "request" not in about:
        raise InputError(
            path, "does not tell how it came to be", f"keep {path.name}.about.json beside it"
        )
    return about


def with_resources(again: Request, request: Request, about: Mapping[str, Any]) -> Request:
    """A recorded request, computed with the jobs and the memory of the one at hand."""
    return replace(again, run=request.run)


def different(
    schema: TableSchema, row: Mapping[str, Any], found: Mapping[str, Any], ending: str
) -> Iterator[tuple[str, float, float]]:
    """The numbers of two rows that are not the same, in as many digits as a format holds."""
    digits = FORMATS[ending].digits if ending else None  # in memory all of them
    for column in schema.columns:
        if column.kind != A_NUMBER or column.name not in row or column.name not in found:
            continue
        a, b = float(row[column.name]), float(found[column.name])
        same = a == b or (a != a and b != b)
        if not same and digits:
            same = f"{a:.{digits - 1}e}" == f"{b:.{digits - 1}e}"
        if not same:
            yield column.name, a, b


def _as_text(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _numbers(
    schema: TableSchema,
    row: Mapping[str, Any],
    found: Mapping[str, Any],
    differences: tuple[tuple[str, float, float], ...],
) -> list[Line]:
    """The number as it is recorded and as it was found again, and others of its row."""
    unit = str(row.get("unit", ""))
    shown = schema.shown if schema.shown in row else "value"
    if schema.name == "events":
        shown = "peak"
    names = [shown, *(name for name, _, _ in differences if name != shown)]
    lines = []
    for name in names:
        own = unit if name in (shown, "normal", "std", "anomaly") else ""
        note = "" if name not in {n for n, _, _ in differences} else "differs"
        lines.append(Line(NUMBER, f"{name} as recorded", value=float(row[name]), unit=own))
        lines.append(
            Line(NUMBER, f"{name} found again", value=float(found[name]), unit=own, note=note)
        )
    if schema.name == "anomalies":
        for name in ("value", "normal", "std", "percent_of_normal", "score", "rank", "ranked_of"):
            own = unit if name in ("value", "normal", "std") else ""
            lines.append(Line(NUMBER, name, value=float(found[name]), unit=own))
    return lines


def _asked(recorded_request: Mapping[str, Any]) -> list[Line]:
    """What was asked for, as options."""
    command, given = given_of(recorded_request)
    lines = [Line(REQUEST, "command", note=f"bavlo {command}")]
    for name, value in given.items():
        if name != "grids":
            text = "yes" if value is True else value if isinstance(value, str) else ", ".join(value)
            lines.append(Line(REQUEST, name, note=text))
    return lines


def _inputs(about: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    """The files of a result, those of its sources too."""
    for each in about.get("inputs", ()):
        if "file" in each:
            yield each
        elif "made_of" in each:  # of a source that was made from grids
            yield from _inputs({"inputs": each["made_of"]})


def _files(about: Mapping[str, Any], now: Mapping[str, Any], folder: Path) -> list[Line]:
    """Each file, and whether it is what it was."""
    found = {each["file"]: each for each in _inputs(now)}
    lines = []
    for each in _inputs(about):
        file = str(each["file"])
        again = found.get(file) or found.get(str(folder / file))
        lines.append(Line(FILE, file, note=state_of(each, again)))
        parent = each.get("about")
        if parent:
            command = parent.get("request", {}).get("command", "a command")
            note = f"made by bavlo {command}; trace it to see what is behind its rows"
            lines.append(Line(PARENT, file, note=note))
            lines += [
                Line(FILE, str(own["file"]), note=f"behind {file}") for own in _inputs(parent)
            ]
    return lines


def state_of(before: Mapping[str, Any], now: Mapping[str, Any] | None) -> str:
    """How a file stands to what is recorded of it."""
    if now is None:
        return "not read now"
    for name, word in (("sha256", "SHA-256"), ("digest", "digest of its values")):
        if name in before and name in now:
            if before[name] != now[name]:
                return f"changed since: another {word}"
            if before.get("metadata_sha256") != now.get("metadata_sha256"):
                return "changed since: other metadata"
            written = before.get("modified") != now.get("modified")
            return f"the same {word}" + (", though written again" if written else "")
    if before.get("metadata_sha256") != now.get("metadata_sha256"):
        return "changed since: other metadata"
    if before.get("size") != now.get("size"):
        return "changed since: another size"
    return "the same metadata; its values are not compared"


def _result(
    request: Request,
    path: Path,
    row: Mapping[str, Any],
    lines: tuple[Line, ...],
    cells: TracedCells | None,
    *,
    came_back: bool,
) -> TableResult:
    """The lines as a table."""
    region = str(row["region"])
    period = str(row.get("period") or row.get("start") or f"{row.get('years', 0):g} years")
    table = table_of_lines(region, period, lines)
    shown = lines[0]
    names = ("variable", "condition", "measure", "count")
    told = [str(row[name]) for name in names if row.get(name)]
    title = f"{region}, {period}: {' '.join(told)}, {shown.value:.6g} {shown.unit}".rstrip()
    about = {
        "bavlo": __version__,
        "request": asked(request),
        "inputs": [parent_of(path)],
        "came_back": came_back,
    }
    return TableResult(table, title, (), about, drawing={"cells": cells})
