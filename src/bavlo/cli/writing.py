"""Results into the files that `--out` names."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bavlo.core.errors import RequestError
from bavlo.formats.outputs import check_outputs, whole_files

if TYPE_CHECKING:
    from bavlo.core.table import Table
    from bavlo.study.request import Request

TABLES = (".csv",)
CHARTS = (".png", ".svg", ".pdf")


def beside(path: Path) -> Path:
    """The provenance file that stands beside an output."""
    return path.with_name(path.name + ".about.json")


def check(request: Request) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    check_endings(request.outputs)
    if request.events is not None and request.events.suffix.lower() not in TABLES:
        raise RequestError("--events", f"{request.events} is no table", "name a .csv")
    check_outputs(wanted_files(request), replace=request.replace)


def wanted_files(request: Request) -> tuple[Path, ...]:
    """All files that a request names, but for those that stand beside them."""
    return request.outputs + (() if request.events is None else (request.events,))


def check_endings(paths: Sequence[Path], *, charts_only: bool = False) -> None:
    """Refuse endings that say nothing of what to write."""
    known = CHARTS if charts_only else TABLES + CHARTS
    for path in paths:
        if path.suffix.lower() not in known:
            raise RequestError(
                "--out",
                f"{path}: the ending '{path.suffix}' is not known",
                f"use one of: {' '.join(known)}",
            )


def write_all(
    request: Request, result: Any, events: Table | None = None, drawing: Any = None
) -> None:
    """Write every output, each with its provenance beside it.

    Parameters
    ----------
    result
        Table, title and provenance.
    events
        A table of its own.
    drawing
        Settings for the chart.
    """
    from bavlo.study.provenance import as_json

    named = wanted_files(request)
    wanted = [path for out in named for path in (out, beside(out))]
    with whole_files(wanted) as drafts:
        for path in named:
            table = events if path == request.events and events is not None else result.table
            if path.suffix.lower() in TABLES:
                from bavlo.formats.tables import csv

                with drafts[path].open("w", encoding="utf-8", newline="") as file:
                    csv.write(table, file)
            else:
                _draw(table, result.title, path, drafts[path], drawing or {})
            drafts[beside(path)].write_text(as_json(result.about), encoding="utf-8")


def figure_outputs(names: Sequence[str] | None, *, replace: bool) -> list[Path]:
    """The files that a figure goes to, checked before any work is done."""
    if not names:
        raise RequestError("--out", "no figure was named", "give a .png, .svg or .pdf")
    outputs = [Path(text).expanduser() for text in names]
    check_endings(outputs, charts_only=True)
    check_outputs(outputs, replace=replace)
    return outputs


def write_figure(paths: Sequence[Path], make: Callable[[], Any]) -> None:
    """Draw a figure into one or more files; `make` gives it anew for each."""
    from bavlo.figures.style import save

    with whole_files(paths) as drafts:
        for path in paths:
            save(make(), drafts[path], path.suffix.lower()[1:])


def _draw(table: Table, title: str, path: Path, draft: Path, drawing: Any) -> None:
    from bavlo.figures import draw
    from bavlo.figures.style import save

    save(draw([table], title, **drawing), draft, path.suffix.lower()[1:])
