"""The driver: makes what a request asks for and writes it, for command line and studies alike."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from dataclasses import dataclass
from importlib import import_module
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from bavlo.errors import RequestError
from bavlo.files import whole_files
from bavlo.jobs.writing import (
    check,
    check_endings,
    check_outputs,
    figure_outputs,
    wanted_files,
    write_all,
    write_figure,
)
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.formats import beside

if TYPE_CHECKING:
    from bavlo.jobs.result import TableResult

# Commands that give a table, and the functions of their modules that make it.
TABLE_COMMANDS = {
    "series": "series",
    "normals": "normals",
    "anomalies": "anomalies",
    "extremes": "extremes",
    "trends": "trends_of_regions",
    "compare": "compare",
}


@dataclass(frozen=True, eq=False)
class Made:
    """What was made and written.

    Parameters
    ----------
    summary
        What was computed and what was left empty, in sentences.
    written
        The files, but for those that stand beside them.
    table
        The table, of commands that give one.
    words
        What a figure shows, where that was asked for.
    """

    summary: tuple[str, ...]
    written: tuple[Path, ...]
    table: TableResult | None = None
    words: tuple[str, ...] = ()


def make(request: Request, report: Reporter, *, in_words: bool = False) -> Made:
    """Make what a request asks for and write all of its outputs, or none.

    Parameters
    ----------
    in_words
        Say what a figure shows; then it need not be written.

    Raises
    ------
    BavloError
        Where it cannot be made; nothing is written then.
    """
    if request.command in TABLE_COMMANDS:
        check(request)
        result = table_of(request, report)
        if wanted_files(request):
            report.stage("writing")
            write_all(request, result)
        return Made(result.summary, wanted_files(request), result)
    others: dict[str, Callable[[Request, Reporter], Made]] = {"grid": _grid, "report": _report}
    if request.command in others:
        return others[request.command](request, report)
    return _figure(request, report, in_words=in_words)


def table_of(request: Request, report: Reporter) -> TableResult:
    """The table that a request asks for."""
    module = import_module(f"bavlo.jobs.{request.command}")
    found: TableResult = getattr(module, TABLE_COMMANDS[request.command])(request, report)
    return found


def _figure(request: Request, report: Reporter, *, in_words: bool) -> Made:
    """A chart or a map."""
    outputs = request.output.out
    if outputs or not in_words:
        figure_outputs(request.output)
    if request.command == "chart":
        from bavlo.jobs.chart import chart
        from bavlo.jobs.findings import in_words as table_in_words

        content = chart(request)
        words = tuple(map(table_in_words, content.tables)) if in_words else ()
        if outputs:
            write_figure(request, content.draw)
        return Made((), outputs, words=words)
    from bavlo.figures.maps import draw_map
    from bavlo.jobs.findings import map_in_words
    from bavlo.jobs.map import map_content

    shown = map_content(request, report)
    if outputs:
        write_figure(request, lambda: draw_map(shown, request.figure.classes))
    return Made((), outputs, words=(map_in_words(shown),) if in_words else ())


def _report(request: Request, report: Reporter) -> Made:
    """A page."""
    if find_spec("jinja2") is None:
        raise RequestError("", "pages need a further library", "pip install 'bavlo[report]'")
    from bavlo.jobs.report import page_of

    outputs = request.output.out
    if len(outputs) != 1:
        raise RequestError("out", "one page is written", "name an .html")
    check_endings(outputs, (".html", ".htm"))
    check_outputs(outputs, replace=request.output.replace)
    text = page_of(request)
    with whole_files(outputs, replace=request.output.replace) as drafts:
        drafts[outputs[0]].write_text(text, encoding="utf-8")
    return Made((f"a page of {len(text.encode()) / 1e6:.1f} MB",), outputs)


def _grid(request: Request, report: Reporter) -> Made:
    """A grid, which is written as it is computed."""
    from bavlo.grids.writing import ENDINGS, grid_writer
    from bavlo.jobs.grid import grid
    from bavlo.jobs.provenance import as_json

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
    return Made((*titles, *summary), outputs)
