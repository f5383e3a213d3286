"""Regions, and the area that they share with the cells of a grid."""

from __future__ import annotations

import numpy as np
import shapely

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.points import AT_POINTS, point_overlay
from bavlo.core.space.projection import edges_on_grid, overlay_on_grid
from bavlo.core.space.regions import Regions
from bavlo.core.space.spans import Spans
from bavlo.core.space.zones import Zones, zone_overlay
from bavlo.errors import InputError, RequestError
from bavlo.grids.source import GridSource
from bavlo.plan.wording import counted, extent_text, outside_notes, some_of
from bavlo.regions.cache import cached
from bavlo.regions.read import RegionFile, points_as_regions, read_regions
from bavlo.request.reporter import Reporter
from bavlo.request.request import RegionRequest


def overlay_of(
    regions: Regions | Zones, layout: GridLayout, at_points: str, jobs: int = 1
) -> Overlay:
    """Shared areas of polygons, points or zones and the cells of a grid."""
    if at_points != AT_POINTS[0] and (isinstance(regions, Zones) or not regions.are_points):
        raise RequestError("at_points", "changes nothing: no region is a point", "leave it out")
    if isinstance(regions, Zones):
        return zone_overlay(regions, layout)
    if regions.are_points:
        return point_overlay(regions, layout, at_points)
    return cached(regions, layout, lambda: overlay_on_grid(regions, layout, jobs), Overlay)


def open_regions(request: RegionRequest, report: Reporter) -> RegionFile:
    """The regions of a request; what was repaired is reported."""
    if request.at and request.regions is not None:
        raise RequestError("at", "names points, and so does ‹regions›", "use one of them")
    if request.at:
        return points_as_regions(request.at)
    if request.regions is None:
        raise RequestError("regions", "no regions were given", "name a file of regions")
    found = read_regions(request.regions, request.reading)
    for text in found.notes:
        report.warn(text)
    for text in found.repairs:
        report.warn(f"{found.path.name}: {text}")
    report.note(f"{found.path.name}: {len(found.regions)} regions, named by '{found.label}'")
    return found


def check_overlap(
    source: GridSource, region_file: RegionFile, shared: Overlay | Spans, report: Reporter
) -> None:
    """Refuse regions none of which lies on the grid; warn of those that do not or only partly."""
    inside = shared.entries > 0
    if not inside.any():
        raise InputError(
            region_file.path,
            f"no region lies on the grid: the grid covers {extent_text(source.layout.extent)}, "
            f"the regions {_regions_extent(region_file, source)}",
            "check the files, or the reference system of the regions",
        )
    notes = outside_notes(region_file.regions, shared.entries)
    outside = [region_file.regions.labels[i] for i in np.flatnonzero(notes == "outside the grid")]
    if outside:
        report.warn(
            f"{region_file.path.name}: {counted(len(outside), 'region')} outside the grid "
            f"without values: {some_of(outside)}"
        )
    partly = np.flatnonzero(inside & (shared.outside() > 1e-6))
    if partly.size:
        names = [region_file.regions.labels[i] for i in partly]
        report.warn(
            f"{region_file.path.name}: {counted(partly.size, 'region')} partly outside the grid, "
            f"which lowers area_valid: {some_of(names)}"
        )


def _regions_extent(region_file: RegionFile, source: GridSource) -> str:
    regions = region_file.regions
    if isinstance(regions, Zones):
        return extent_text(regions.layout.extent)
    if regions.are_points or source.layout.has_corners:
        return extent_text(tuple(shapely.total_bounds(regions.geometry).tolist()))
    edges = edges_on_grid(regions, source.layout)
    return extent_text(
        (
            float(min(edges.x0.min(), edges.x1.min())),
            float(min(edges.y0.min(), edges.y1.min())),
            float(max(edges.x0.max(), edges.x1.max())),
            float(max(edges.y0.max(), edges.y1.max())),
        )
    )
