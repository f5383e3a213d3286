"""How a number came to be: what stands beside every output."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import shapely

from bavlo import __version__
from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import TimeAxis, iso_day
from bavlo.core.values.kinds import CLASS, Variable
from bavlo.errors import public
from bavlo.grids.digest import digest_of
from bavlo.grids.source import GridFile, GridSource
from bavlo.grids.urls import sizes_of, url_of
from bavlo.held import content_of
from bavlo.regions.read import NO_FILE, RegionFile
from bavlo.request.filling import asked
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.formats import about_of, is_table
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from bavlo.jobs.series import SeriesPlan


def provenance_of(
    request: Request,
    report: Reporter,
    inputs: list[dict[str, Any]],
    summary: Sequence[str] = (),
    **own: Any,
) -> dict[str, Any]:
    """Provenance of a result as plain data; nothing in it depends on the clock or the machine.

    Parameters
    ----------
    own
        What only the command knows.
    """
    return {
        "bavlo": __version__,
        "request": asked(request),
        "inputs": inputs,
        **own,
        "summary": list(summary),
        "warnings": list(report.warnings),
    }


def inputs_of_job(
    request: Request,
    sources: Iterable[GridSource],
    regions: RegionFile | None = None,
    weights: GridSource | None = None,
) -> list[dict[str, Any]]:
    """The files of grids, of regions and of further weights."""
    found = [each for source in sources for each in inputs_of(source)]
    if regions is not None:
        found.append(input_of_regions(regions))
    return found + inputs_of(weights)


def about_series(
    plan: SeriesPlan, table: Table, summary: tuple[str, ...], report: Reporter
) -> dict[str, Any]:
    """Provenance of a series."""
    inputs, request = plan.inputs, plan.request
    source, regions, what = inputs.source, inputs.regions, inputs.what
    units = dict(
        zip(table.along("measure", "measure"), table.along("unit", "measure"), strict=True)
    )
    on_sphere = " on the sphere" if source.layout.is_lonlat else ""
    return provenance_of(
        request,
        report,
        inputs_of_job(request, [source], regions, inputs.weights.source),
        summary,
        grid={
            "variable": source.variable.name,
            "kind": what.kind,
            "kind_evidence": what.why,
            "unit": what.unit,
            **({} if source.time is None else _steps_of(plan.time)),
            **({"classes": classes_of(source.variable)} if what.kind == CLASS else {}),
        },
        regions=of_regions(regions) | {"reference_system": regions.regions.crs},
        rules={
            "combine": plan.combine,
            "weights": f"exact shared area of cell and region{on_sphere}",
            "min_steps": request.time.least_share,
            "min_area": request.measuring.least_area,
            "units": units,
        },
        reported=f"{plan.chosen.axis.labels[0]}..{plan.chosen.axis.labels[-1]}",
    )


def of_regions(regions: RegionFile) -> dict[str, Any]:
    """How many regions there are, what names them, and what was repaired."""
    return {
        "count": len(regions.regions),
        "label": regions.label,
        "repairs": list(regions.repairs),
    }


def _steps_of(time: TimeAxis) -> dict[str, str]:
    first, last = int(time.start[0]), int(time.end[-1]) - 1
    return {
        "calendar": time.calendar,
        "step": time.step_name,
        "steps_from": time.how,
        "range": f"{iso_day(first, time.calendar)}..{iso_day(last, time.calendar)}",
    }


def classes_of(variable: Variable) -> list[list[Any]]:
    """Code, name and colour of each class; the file's colours where it has them."""
    from bavlo.figures.style import class_colour

    colours, names = dict(variable.colours), dict(variable.flags)
    return [
        [code, names.get(code, str(code)), colours.get(code, class_colour(n))]
        for n, code in enumerate(sorted(names) or sorted(colours))
    ]


def about_figure(request: Request) -> dict[str, Any]:
    """Provenance of a figure: what was asked, and the tables or files that it shows."""
    paths = [path for grid in request.grids.arguments for path in grid.paths]
    others = [request.regions.file, request.figure.beneath]
    inputs = [parent_of(path) if is_table(path) else of_file(path) for path in paths]
    inputs += [of_file(path) for path in others if path is not None]
    return {"bavlo": __version__, "request": asked(request), "inputs": inputs}


def parent_of(path: Path) -> dict[str, Any]:
    """A table that something was made from, with its own provenance."""
    digest = {} if content_of(path) is not None else {"sha256": sha256_of(path)}
    return {**of_file(path), **digest, "about": about_of(path)}


def sha256_of(path: Path) -> str:
    """SHA-256 of a whole file, read piece by piece."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def of_file(path: Path) -> dict[str, Any]:
    """Name and size of a file."""
    url = url_of(path)
    if url is not None:
        return {"file": public(url)}
    size = {} if content_of(path) is not None else {"size": path.stat().st_size}
    return {"file": public(str(path)), **size}


def inputs_of(source: GridSource | None) -> list[dict[str, Any]]:
    """The files of a grid, each with the fingerprint of its metadata and a digest of its values."""
    files = () if source is None else source.files
    sizes = sizes_of([url for file in files if (url := url_of(file.path)) is not None])
    fingerprints = Fingerprints()
    return [
        _input(file.path, fingerprints.of(file), sizes) | (digest_of(file) or {}) for file in files
    ]


class Fingerprints:
    """SHA-256 of the metadata of files, which many of them share but for their times."""

    def __init__(self) -> None:
        self.shared: tuple[Variable, GridLayout, Any] | None = None

    def of(self, file: GridFile) -> str:
        """That of a file."""
        variable, layout = file.variable, file.layout
        if self.shared is None or self.shared[0] is not variable or self.shared[1] is not layout:
            self.shared = variable, layout, _digest_of(variable, layout.extent, layout.shape)
        digest = self.shared[2].copy()
        _add(digest, file.times)
        return str(digest.hexdigest())


def input_of_regions(regions: RegionFile) -> dict[str, Any]:
    """The file of some regions, with the fingerprint of their names and a digest of outlines."""
    if regions.path == NO_FILE:
        return {"places": list(regions.regions.labels)}
    names = _fingerprint(*regions.regions.labels)
    found = _input(regions.path, names, {})
    outlines = regions.regions.outlines
    if outlines is not None:
        digest = hashlib.sha256()
        for outline in shapely.to_wkb(outlines).tolist():
            digest.update(outline or b"")
        found |= {"digest": digest.hexdigest(), "digest_of": "outlines as used"}
    elif regions.path.is_file():
        found |= {"digest": sha256_of(regions.path), "digest_of": "the whole file"}
    return found


def as_json(provenance: dict[str, Any]) -> str:
    """The text that stands beside an output."""
    return json.dumps(provenance, indent=2, ensure_ascii=False) + "\n"


def _input(path: Path, fingerprint: str, sizes: Mapping[str, int | None]) -> dict[str, Any]:
    url = url_of(path)
    if url is not None:
        return {"file": public(url), "size": sizes.get(url), "metadata_sha256": fingerprint}
    if content_of(path) is not None:
        return {"file": str(path), "metadata_sha256": fingerprint}
    status = path.stat()
    changed = datetime.fromtimestamp(int(status.st_mtime), UTC)
    return {
        "file": public(str(path)),
        "size": status.st_size,
        "modified": changed.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "metadata_sha256": fingerprint,
    }


def _fingerprint(*parts: object) -> str:
    """SHA-256 of metadata."""
    return str(_digest_of(*parts).hexdigest())


def _digest_of(*parts: object) -> Any:
    digest = hashlib.sha256()
    for part in parts:
        _add(digest, part)
    return digest


def _add(digest: Any, part: object) -> None:
    stamps = getattr(part, "stamps", None)
    digest.update(repr(part).encode() if stamps is None else stamps.tobytes())
