"""Results of any command made and written: what a study does for each of its own."""

from __future__ import annotations

from contextlib import ExitStack

from bavlo.commands.tables import TABLE_COMMANDS, table_of
from bavlo.errors import RequestError
from bavlo.grids.writing import ENDINGS, grid_writer
from bavlo.plan.outputs import check_outputs
from bavlo.plan.placing import whole_files
from bavlo.plan.provenance import as_json
from bavlo.plan.writing import check, check_endings, figure_outputs, write_all, write_figure
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.formats import beside


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
        from bavlo.commands.chart import chart

        write_figure(request, chart(request).draw)
    elif request.command == "map":
        from bavlo.commands.map import map_content
        from bavlo.figures.maps import draw_map

        content = map_content(request, report)
        write_figure(request, lambda: draw_map(content, request.figure.classes))
    return ()


def make_grid(request: Request, report: Reporter) -> tuple[str, ...]:
    """Make a grid and write it; what was written, in words."""
    from bavlo.commands.grid import grid

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
