"""Results into the files that `--out` names."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from bavlo.core.errors import RequestError
from bavlo.core.table import Table
from bavlo.formats.outputs import check_outputs, whole_files
from bavlo.study.request import Request

TABLES = (".csv",)
CHARTS = (".png", ".svg", ".pdf")


def beside(path: Path) -> Path:
    """The provenance file that stands beside an output."""
    return path.with_name(path.name + ".about.json")


def check(request: Request, *, charts: bool) -> None:
    """Refuse outputs that cannot be written, before any work is done."""
    known = TABLES + CHARTS if charts else TABLES
    for path in request.outputs:
        if path.suffix.lower() not in known:
            raise RequestError(
                "--out",
                f"{path}: the ending '{path.suffix}' is not known",
                f"use one of: {' '.join(known)}",
            )
    check_outputs(request.outputs, replace=request.replace)


def write_all(request: Request, table: Table, title: str, provenance: dict[str, Any]) -> None:
    """Write every output, each with its provenance beside it."""
    from bavlo.study.provenance import as_json

    wanted = [path for out in request.outputs for path in (out, beside(out))]
    with whole_files(wanted) as drafts:
        for path in request.outputs:
            if path.suffix.lower() in TABLES:
                from bavlo.formats.tables import csv

                with drafts[path].open("w", encoding="utf-8", newline="") as file:
                    csv.write(table, file)
            else:
                from bavlo.figures.series import draw_series
                from bavlo.figures.style import save

                kind = path.suffix.lower()[1:]
                save(draw_series(table, title), drafts[path], kind)
            drafts[beside(path)].write_text(as_json(provenance), encoding="utf-8")
