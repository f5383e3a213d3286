"""How a number came to be: what stands beside every output."""

from __future__ import annotations

import hashlib
import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from bavlo import __version__
from bavlo.core.time.axis import iso_day
from bavlo.grids.source import GridSource
from bavlo.grids.urls import first_bytes, information, url_of
from bavlo.plan.series import SeriesPlan
from bavlo.regions.read import RegionFile
from bavlo.request.options import asked
from bavlo.request.reporter import Reporter
from bavlo.tables.table import Table


def about_series(
    plan: SeriesPlan, table: Table, summary: tuple[str, ...], report: Reporter
) -> dict[str, Any]:
    """Provenance of a table as plain data; nothing in it depends on the clock or the machine."""
    source, time, regions = plan.source, plan.time, plan.regions
    units = dict(
        zip(table.along("measure", "measure"), table.along("unit", "measure"), strict=True)
    )
    return {
        "bavlo": __version__,
        "request": asked(plan.request),
        "inputs": [
            *inputs_of(source),
            input_of_regions(regions),
        ],
        "grid": {
            "variable": source.variable.name,
            "kind": plan.what.kind,
            "kind_evidence": plan.what.why,
            "unit": plan.what.unit,
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
            "combine": plan.combine,
            "weights": "exact shared area of cell and region"
            + (" on the sphere" if source.layout.is_lonlat else ""),
            "min_steps": plan.request.time.least_share,
            "min_area": plan.request.measuring.least_area,
            "units": units,
        },
        "reported": f"{plan.periods.labels[0]}..{plan.periods.labels[-1]}",
        "summary": list(summary),
        "warnings": list(report.warnings),
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


def input_of_regions(regions: RegionFile) -> dict[str, Any]:
    """The file of some regions, with the fingerprint of their names."""
    return _input(regions.path, _fingerprint(*regions.regions.labels))


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
