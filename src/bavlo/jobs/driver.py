"""The driver: makes what a request asks for and writes it, for command line and studies alike."""

from __future__ import annotations

from contextlib import ExitStack
from importlib import import_module

from bavlo.errors import RequestError
from bavlo.files import whole_files
from bavlo.grids.writing import ENDINGS, grid_writer
from bavlo.jobs.provenance import as_json
from bavlo.jobs.result import TableResult
from bavlo.jobs.writing import (
    check,
    check_endings,
    check_outputs,
    figure_outputs,
    write_all,
    write_figure,
)
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.formats import beside

# Module and function of each.
TABLE_COMMANDS = {
    "series": ("series", "series"),
    "normals": ("normals", "normals"),
    "anomalies": ("anomalies", "anomalies"),
    "extremes": ("extremes", "extremes"),
    "trends": ("trends", "trends_of_regions"),
    "compare": ("compare", "compare"),
}


def table_of(request: Request, report: Reporter) -> TableResult:
    """The table that a request asks for."""
    module, function = TABLE_COMMANDS[request.command]
    found: TableResult = getattr(import_module(f"bavlo.jobs.{module}"), function)(request, report)
    return found


def make(request: Request, report: Reporter) -> tuple[str, ...]:
    """Make what a request asks for and write all of its outputs, or none; what was made, in words.

    Raises
    ------
    BavloError
        Where it cannot be made; nothing is written then.
    """
    if request.command in TABLE_COMMANDS:
        check(request)
        result = table_of(request, report)
        write_all(request, result)
        return result.summary
    if request.command == "grid":
        return make_grid(request, report)
    figure_outputs(request.output)
    if request.command == "chart":
        from bavlo.jobs.chart import chart

        write_figure(request, chart(request).draw)
    elif request.command == "map":
        from bavlo.figures.maps import draw_map
        from bavlo.jobs.map import map_content

        content = map_content(request, report)
        write_figure(request, lambda: draw_map(content, request.figure.classes))
    return ()


def make_grid(request: Request, report: Reporter) -> tuple[str, ...]:
    """Make a grid and write it; what was written, in words."""
    from bavlo.jobs.grid import grid

    outputs = request.output.out
    if not request.grids.arguments:
        raise RequestError("", "no grid was given", "see `bavlo grid --help`")
    check_endings(outputs, ENDINGS)
    wanted = [path for out in outputs for path in (out, beside(out))]
    check_outputs(wanted, replace=request.output.replace)
    result = grid(request, report)
    with whole_files(wanted, replace=request.output.replace) as drafts:
        with ExitStack() as stack:
            writers = [
                stack.enter_context(grid_writer(drafts[path], path.suffix.lower(), result.output))
                for path in outputs
            ]
            summary = result.write(writers)
        for path in outputs:
            drafts[beside(path)].write_text(as_json(result.about), encoding="utf-8")
    titles = [f"{v.long_name}, in {v.unit or 'no unit'}" for v in result.output.variables]
    return (*titles, *summary)
