"""How a number came to be: what stands beside every output."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bavlo import __version__
from bavlo.core.table import Table
from bavlo.core.timeaxis import iso_day
from bavlo.formats.grids.addresses import first_bytes, information, url_of
from bavlo.study.job import Job
from bavlo.study.listener import Listener

if TYPE_CHECKING:
    from bavlo.formats.grids.source import GridSource
    from bavlo.formats.grids.writing import GridOutput
    from bavlo.study.extremesjob import ExtremesJob
    from bavlo.study.gridding import GridJob


def about(job: Job, table: Table, summary: tuple[str, ...], listener: Listener) -> dict[str, Any]:
    """Provenance of a table as plain data; nothing in it depends on the clock or the machine."""
    source, time, regions = job.source, job.time, job.regions
    units = dict(
        zip(table.along("measure", "measure"), table.along("unit", "measure"), strict=True)
    )
    return {
        "bavlo": __version__,
        "request": job.request.about(),
        "inputs": [
            *inputs_of(source),
            _input(regions.path, _fingerprint(*regions.regions.labels)),
        ],
        "grid": {
            "variable": source.variable.name,
            "kind": job.what.kind,
            "kind_told_by": job.what.why,
            "unit": job.what.unit,
            "calendar": time.calendar,
            "step": time.step_name,
            "steps_from": time.how,
            "range": f"{iso_day(int(time.start[0]), time.calendar)}.."
            f"{iso_day(int(time.end[-1]) - 1, time.calendar)}",
        },
        "regions": {
            "count": len(regions.regions),
            "label": regions.label,
            "reference_system": regions.regions.crs,
            "repairs": list(regions.repairs),
        },
        "rules": {
            "combine": job.combine,
            "weights": "exact shared area of cell and region"
            + (" on the sphere" if source.layout.is_lonlat else ""),
            "min_steps": job.request.min_steps,
            "min_area": job.request.min_area,
            "units": units,
        },
        "reported": f"{job.periods.labels[0]}..{job.periods.labels[-1]}",
        "summary": list(summary),
        "warnings": list(getattr(listener, "warnings", [])),
    }


def grid_about(job: GridJob, output: GridOutput, listener: Listener) -> dict[str, Any]:
    """Provenance of a grid that was made."""
    source = job.source
    return {
        "bavlo": __version__,
        "request": job.request.about(),
        "inputs": inputs_of(source),
        "variable": {"name": output.name, "unit": output.unit, "stored": "float32"},
        "combine": job.combine,
        "base": output.attributes.get("base"),
        "periods": f"{output.labels[0]}..{output.labels[-1]}",
        "warnings": list(getattr(listener, "warnings", [])),
    }


def about_extremes(
    job: ExtremesJob, table: Table, summary: tuple[str, ...], listener: Listener
) -> dict[str, Any]:
    """Provenance of counts and indices."""
    regions = job.regions
    return {
        "bavlo": __version__,
        "request": job.request.about(),
        "inputs": [
            *(each for source in job.aligned.sources.values() for each in inputs_of(source)),
            _input(regions.path, _fingerprint(*regions.regions.labels)),
        ],
        "variables": {
            name: {"unit": one.unit, "kind": one.what.kind, "kind_told_by": one.what.why}
            for name, one in job.tested.items()
        },
        "regions": {
            "count": len(regions.regions),
            "label": regions.label,
            "repairs": list(regions.repairs),
        },
        "definitions": {index.name: index.definition for index in job.indices},
        "tested_on": job.request.test_on,
        "base": job.base_text or None,
        "rules": {
            "spells": "cut at the edges of periods"
            if job.places.cut
            else "run on over the edges of periods and count where they end",
            "missing": "at most 3 days of a month and 15 of a year"
            if job.indices and job.request.own_rule
            else f"min_steps {job.request.min_steps:g}",
            "min_area": job.request.min_area,
        },
        "reported": f"{job.periods.labels[0]}..{job.periods.labels[-1]}",
        "rows": len(table),
        "summary": list(summary),
        "warnings": list(getattr(listener, "warnings", [])),
    }


def inputs_of(source: GridSource) -> list[dict[str, Any]]:
    """The files of a grid, each with the fingerprint of its metadata."""
    return [
        _input(
            file.path,
            _fingerprint(file.variable, file.layout.extent, file.layout.shape, file.times),
        )
        for file in source.files
    ]


def as_json(provenance: dict[str, Any]) -> str:
    """The text that stands beside an output."""
    return json.dumps(provenance, indent=2, ensure_ascii=False) + "\n"


def _input(path: Path, fingerprint: str) -> dict[str, Any]:
    url = url_of(path)
    if url is not None:
        size = information(url).get("size") if first_bytes(url) else None
        return {"file": url, "size": size, "metadata_sha256": fingerprint}
    status = path.stat()
    changed = datetime.fromtimestamp(int(status.st_mtime), UTC)
    return {
        "file": str(path),
        "size": status.st_size,
        "modified": changed.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "metadata_sha256": fingerprint,
    }


def _fingerprint(*parts: object) -> str:
    """SHA-256 of metadata."""
    digest = hashlib.sha256()
    for part in parts:
        stamps = getattr(part, "stamps", None)
        digest.update(repr(part).encode() if stamps is None else stamps.tobytes())
    return digest.hexdigest()
