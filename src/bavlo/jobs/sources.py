"""Series of regions that normals, anomalies, trends and comparisons are computed from.

They come from tables that a command wrote, from tables of others, or from grids.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from bavlo.core.stats.normals import MONTHS
from bavlo.errors import InputError, RequestError
from bavlo.jobs.observed_series import observed_table
from bavlo.jobs.opening import for_one
from bavlo.jobs.provenance import parent_of
from bavlo.jobs.series import series
from bavlo.regions.read import chosen
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import GridArgument, Request
from bavlo.sheets import is_sheet
from bavlo.tables.formats import Shapes, ending_of, is_table, read_table
from bavlo.tables.group import AnyTable, TableGroup, group, parts_of
from bavlo.tables.table import Table

VALUES = ("series", "extremes")  # tables of one value by region and period
ONLY_TABLES = (".xlsx", ".parquet", ".json")  # endings that no grid has
# Options that mean something once a series is there.
FOR_TABLES = {
    "command", "grids", "only", "during", "base", "statistic", "smooth", "window", "score",
    "normals-from", "year-start", "against", "spread", "as", "method", "confidence",
}  # fmt: skip
FOR_OBSERVATIONS = {
    "columns", "input-unit", "kind", "missing", "unit", "every", "combine", "min-steps",
    "by_grid", "variable", "dates", "layer", "encoding",
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Source:
    """One of several sources.

    Parameters
    ----------
    name
        What the user calls it, else that of its file.
    about
        Its provenance: files as `inputs`, and what is known of a grid.
    every
        The sort of its periods, where its table does not say.
    shapes
        Its regions, where it was made from grids.
    """

    name: str
    table: AnyTable
    about: dict[str, Any]
    every: str = ""
    shapes: Shapes | None = None

    @property
    def input(self) -> dict[str, Any]:
        """What provenance says of it as an input."""
        if "grid" in self.about or "grids" in self.about:
            return {"made_of": self.about["inputs"], "grid": self.about.get("grid")}
        found: dict[str, Any] = self.about["inputs"][0]
        return found


def load_sources(request: Request, report: Reporter) -> list[Source]:
    """All sources of a request: tables that are read, and series that are made of grids."""
    arguments = _arguments(request)
    _refuse_grid_options(request, [path for each in arguments for path in each.paths])
    if request.grids.make:
        whole = _of_grids(request, "", report)
        found = [
            replace(whole, name=str(parts[0].labels("variable")[0]), table=group(parts))
            for parts in _by_variable(whole.table)
        ]
    else:
        found = [_source(request, argument, report) for argument in arguments]
    names = [source.name for source in found]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise RequestError("", f"two sources are called {twice}", "name them as NAME=PATH")
    return found


def load_source(request: Request, report: Reporter) -> Source:
    """The one source of a request."""
    (found, *others) = load_sources(request, report)
    if others:
        raise RequestError(
            "", f"several were given: {found.name}, {others[0].name}", "give one at a time"
        )
    return found


def is_observed(path: Path) -> bool:
    """Whether a file may be a table of others: one of rows that no command wrote."""
    return is_sheet(path) and not is_table(path)


def is_series(path: Path) -> bool:
    """Whether a file is a table, so that no grid is behind what is computed from it."""
    return is_table(path) or ending_of(path) in ONLY_TABLES or is_observed(path)


def _arguments(request: Request) -> list[GridArgument]:
    """The arguments of a request, tables each by itself."""
    out: list[GridArgument] = []
    for argument in request.grids.arguments:
        if len(argument.paths) < 2 or not all(map(is_series, argument.paths)):
            out.append(argument)
        elif argument.name is not None:
            raise RequestError(
                "", f"two tables are called {argument.name}", "give each a name of its own"
            )
        else:
            out += [GridArgument(None, (path,)) for path in argument.paths]
    return out


def _refuse_grid_options(request: Request, paths: Sequence[Path]) -> None:
    """Options that say how a series is made mean nothing where all are made already."""
    if not all(map(is_series, paths)):
        return
    allowed = FOR_TABLES | ({"every"} if request.climate.normals_from == MONTHS else set())
    if not all(is_table(path) for path in paths):
        allowed |= FOR_OBSERVATIONS
    for name in asked(request):
        if name not in allowed:
            raise RequestError(
                name.replace("-", "_"),
                f"goes with grids, and {paths[0]} is a table",
                "leave it out, or give it to the command that makes the table",
            )


def _source(request: Request, argument: GridArgument, report: Reporter) -> Source:
    path = argument.paths[0]
    name = argument.name or path.name.split(".")[0]
    if len(argument.paths) > 1 or not is_series(path):
        named = replace(argument, is_source=request.command == "compare")
        return _of_grids(for_one(request, named), name, report)
    if is_observed(path):
        table, about = observed_table(for_one(request, argument), path, report, argument.name)
        return Source(name, _only(table, path, request), about)
    return Source(name, _only(read_table(path), path, request), {"inputs": [parent_of(path)]})


def _of_grids(request: Request, name: str, report: Reporter) -> Source:
    """The whole record of a series, of which only some periods may be reported later."""
    time = replace(request.time, during=None, window=(1,))
    result = series(replace(request, command="series", time=time), report)
    return Source(name, result.table, result.about, result.every, result.shapes)


def _by_variable(table: AnyTable) -> list[list[Table]]:
    """The parts of a table of each variable."""
    found: dict[str, list[Table]] = {}
    for part in parts_of(table):
        found.setdefault(str(part.labels("variable")[0]), []).append(part)
    return list(found.values())


def _only(table: AnyTable, path: Path, request: Request) -> AnyTable:
    """The wanted regions of a table."""
    parts = parts_of(table)
    if parts[0].name not in VALUES or "class" in parts[0].axes:
        raise InputError(
            path,
            f"is a table of {parts[0].name}, not of values by region and period",
            "give what `bavlo series` or `bavlo extremes` wrote, or grids and ‹regions›",
        )
    only = request.regions.reading.only
    kept = [part.take("region", chosen(path, part.labels("region"), only)) for part in parts]
    return kept[0] if len(kept) == 1 else TableGroup(tuple(kept))
