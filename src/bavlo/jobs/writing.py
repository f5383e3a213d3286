"""Results into the files that `--out` names, which are checked before any work is done."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from bavlo.errors import BavloError, OutputError, RequestError
from bavlo.files import check_name, whole_files
from bavlo.tables.formats import ENDINGS as TABLES
from bavlo.tables.formats import (
    FORMATS,
    Companions,
    beside,
    ending_of,
    format_of,
    holds_about,
    holds_rows,
)
from bavlo.tables.group import only_table
from bavlo.tables.layouts import BY_TIME, LONG

if TYPE_CHECKING:
    from pathlib import Path

    from matplotlib.figure import Figure

    from bavlo.jobs.result import TableResult
    from bavlo.regions.read import RegionFile
    from bavlo.request.request import OutputRequest, Request
    from bavlo.tables.group import AnyTable


def check_outputs(paths: Sequence[Path], *, replace: bool) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    for path in paths:
        if path.is_dir():
            raise OutputError(path, "is a folder", "name a file")
        if not path.parent.is_dir():
            raise OutputError(path, f"there is no folder {path.parent}", "make it first")
        if not os.access(path.parent, os.W_OK):
            raise OutputError(path, f"the folder {path.parent} cannot be written to")
        check_name(path)
        for one in (path,) if holds_about(path) else (path, beside(path)):
            if one.exists() and not replace:
                raise OutputError(one, "exists already", "use another name, or ‹replace›")
    twice = {path for path in paths if list(paths).count(path) > 1}
    if twice:
        raise OutputError(twice.pop(), "is named twice", "name each output once")


def check_columns(
    request: Request, regions: RegionFile, periods: Sequence[int], places: int
) -> None:
    """Refuse outputs with more columns than their format holds, before any value is computed.

    Parameters
    ----------
    periods
        How many there are of each grid and sort of periods.
    places
        Values of a region and period: measures, counts, windows, …

    Raises
    ------
    OutputError
        Which names the limit and a format that holds them.
    """
    for path in request.output.out:
        entry = FORMATS.get(ending_of(path))
        if entry is None or entry.most_columns is None:
            continue
        if entry.of_regions:
            columns = 1 + len(regions.fields) + sum(periods) * places
        elif request.output.layout == LONG:
            continue
        else:
            across = len(regions.regions) if request.output.layout == BY_TIME else sum(periods)
            columns = 3 + across
        if columns > entry.most_columns:
            raise OutputError(
                path,
                f"holds {entry.most_columns:,} columns, and there would be {columns:,}",
                "use .csv or .parquet in the long layout, or fewer periods with ‹during›",
            )


CHARTS = (".png", ".svg", ".pdf")
OWN = "own"  # scale of a panel
DRAWN_TOGETHER = ("extremes", "compare")  # commands whose charts show several grids


def check(request: Request) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    if not request.grids.arguments:
        raise RequestError("", "no grid was given", f"see `bavlo {request.command} --help`")
    check_files(request)


def check_files(request: Request) -> None:
    """Refuse outputs that cannot be written, whatever they are made of."""
    output = request.output
    check_endings(output.out, TABLES + CHARTS)
    grids = len(request.grids.make) or len(request.grids.arguments)
    if request.command in DRAWN_TOGETHER:
        grids = 1
    charts = [path for path in output.out if path.name.lower().endswith(CHARTS)]
    if charts and (grids > 1 or len(request.time.every) > 1):
        raise RequestError(
            "out",
            f"{charts[0]}: a chart shows one variable and one sort of periods",
            "write a table, and draw it with `bavlo chart TABLE ‹pick every=…›`",
        )
    if output.events is not None and not holds_rows(output.events):
        raise RequestError("events", f"{output.events} is no table", f"name a {TABLES[0]}")
    for path in wanted_files(request):
        if ending_of(path):
            format_of(path)  # says which library is missing
    check_outputs(wanted_files(request), replace=output.replace)


def wanted_files(request: Request) -> tuple[Path, ...]:
    """All files that a request names, but for those that stand beside them."""
    events = request.output.events
    return request.output.out + (() if events is None else (events,))


def check_endings(paths: Sequence[Path], known: Sequence[str]) -> None:
    """Refuse endings that say nothing of what to write."""
    for path in paths:
        if not path.name.lower().endswith(tuple(known)):
            raise RequestError(
                "out",
                f"{path}: the ending '{path.suffix}' is not known",
                f"use one of: {' '.join(known)}",
            )


def write_all(request: Request, result: TableResult) -> None:
    """Write every output of a request, each with its provenance in it or beside it."""
    from bavlo.jobs.provenance import as_json

    named = wanted_files(request)
    wanted = [p for out in named for p in ((out,) if holds_about(out) else (out, beside(out)))]
    with whole_files(wanted, replace=request.output.replace) as drafts:
        for path in named:
            table = result.table
            if path == request.output.events and result.events is not None:
                table = result.events
            if ending_of(path):
                layout = request.output.layout if table is result.table else "long"
                companions = Companions(result.about, result.shapes, path.name, layout)
                format_of(path).write_file(table, drafts[path], companions)
            else:
                _save(drawn(path, partial(_chart, result)), path, drafts[path])
            if not holds_about(path):
                written = written_file(drafts[path], table if ending_of(path) else None)
                about = as_json({**result.about, "written": written})
                drafts[beside(path)].write_text(about, encoding="utf-8")


def written_file(path: Path, table: AnyTable | None = None) -> dict[str, Any]:
    """What tells later whether a file is whole and as it was written."""
    from bavlo.jobs.provenance import sha256_of

    rows = {} if table is None else {"rows": len(table)}
    return {**rows, "size": path.stat().st_size, "sha256": sha256_of(path)}


def _chart(result: TableResult) -> Figure:
    """The chart of a result."""
    from bavlo.figures import draw

    return draw([only_table(result.table, "out")], result.title, **result.drawing)


def figure_outputs(output: OutputRequest) -> tuple[Path, ...]:
    """The files that a figure goes to, checked before any work is done."""
    if not output.out:
        raise RequestError("out", "no figure was named", "give a .png, .svg or .pdf")
    check_endings(output.out, CHARTS)
    check_outputs(output.out, replace=output.replace)
    return output.out


def write_figure(request: Request, make: Callable[[], Figure]) -> None:
    """Draw a figure into the files of a request; `make` gives it anew for each."""
    from bavlo.jobs.provenance import about_figure, as_json

    paths, about = request.output.out, about_figure(request)
    from bavlo.figures.style import on_page

    wanted = [path for out in paths for path in (out, beside(out))]
    with (
        on_page(request.figure.size, apart=request.figure.panels == OWN),
        whole_files(wanted, replace=request.output.replace) as drafts,
    ):
        for path in paths:
            _save(drawn(path, make), path, drafts[path])
            text = as_json({**about, "written": written_file(drafts[path])})
            drafts[beside(path)].write_text(text, encoding="utf-8")


def drawn(path: Path, make: Callable[[], Figure]) -> Figure:
    """A figure, or an error that names the file that it was for."""
    try:
        return make()
    except BavloError:
        raise
    except (ArithmeticError, ValueError, IndexError, KeyError, TypeError) as error:
        raise OutputError(
            path, f"cannot be drawn ({error}); nothing was written", "write a table instead"
        ) from error


def _save(figure: Figure, path: Path, draft: Path) -> None:
    from bavlo.figures.style import save

    try:
        save(figure, draft, path.suffix.lower()[1:])
    except (ArithmeticError, ValueError) as error:
        raise OutputError(
            path, f"cannot be drawn ({error}); nothing was written", "write a table instead"
        ) from error
