"""Regions, the area that they share with the cells of a grid, and what cells weigh besides."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.points import point_overlay
from bavlo.core.space.projection import edges_on_grid, overlay_on_grid
from bavlo.core.space.regions import Regions
from bavlo.core.space.spans import Spans
from bavlo.core.space.zones import Zones, brought_onto, zone_overlay
from bavlo.core.stats.measures import BILINEAR
from bavlo.core.values.kinds import COUNT, STATE, quantity
from bavlo.engine import choices
from bavlo.errors import InputError, RequestError
from bavlo.grids.cells import CellSelection, WholeRows
from bavlo.grids.open import open_grid
from bavlo.grids.source import GridSource, where
from bavlo.jobs.missing import inspected
from bavlo.jobs.wording import counted, extent_text, outside_notes, some_of
from bavlo.regions.cache import cached
from bavlo.regions.read import RegionFile
from bavlo.request.parse import expand
from bavlo.request.reporter import Reporter
from bavlo.request.request import MeasureRequest, RegionRequest


def overlay_of(
    regions: Regions | Zones, layout: GridLayout, measures: Sequence[str] = (), jobs: int = 1
) -> Overlay:
    """Shared areas of polygons, points or zones and the cells of a grid.

    Raises
    ------
    RequestError
        Where values between the centres of cells are wanted, and not of points only.
    """
    between = BILINEAR in measures
    if between and not regions.are_points:
        raise RequestError("measure", "bilinear is of points, and no region is one", "use mean")
    if between and len(set(measures)) > 1:
        raise RequestError("measure", "bilinear stands for itself", "leave out the others")
    if isinstance(regions, Zones):
        return zone_overlay(regions, layout)
    if regions.are_points:
        return point_overlay(regions, layout, bilinear=between)
    return cached(regions, layout, lambda: overlay_on_grid(regions, layout, jobs), Overlay)


def open_regions(request: RegionRequest, report: Reporter) -> RegionFile:
    """The regions of a request; what was repaired is reported."""
    if not request.regions:
        raise RequestError(
            "regions", "no regions were given", "name a file of regions, or LON,LAT of a point"
        )
    found = request.read()
    if request.file is None:
        return found
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


@dataclass(frozen=True, eq=False)
class FurtherWeights:
    """What cells weigh besides their shared areas.

    Parameters
    ----------
    name
        Of the variable, as in tables; None where nothing was asked for.
    values : (N,) float64 or None
        Of each used cell.
    is_count
        Whether they are a number in each cell, which is shared out by covered fraction.
    source
        The grid that they are from.
    """

    name: str | None = None
    values: np.ndarray | None = None
    is_count: bool = False
    source: GridSource | None = None


def further_weights(
    request: MeasureRequest, source: GridSource, shared: Overlay, report: Reporter
) -> FurtherWeights:
    """The further weight of each used cell, none where none is asked for."""
    if request.weight is None and request.weight_kind is not None:
        raise RequestError("kind", "weight=… changes nothing without ‹weight›", "leave it out")
    if request.weight is None:
        return FurtherWeights()
    weights = open_grid(expand(str(request.weight)))
    weights = inspected(weights, quantity(weights.variable, where(weights)), report)
    if weights.time is not None and len(weights.time) > 1:
        raise InputError(request.weight, "has several steps", "give a grid without time")
    kind = request.weight_kind or _weight_kind(weights)
    a_kind = "number per cell" if kind == COUNT else "density"
    report.note(f"weights from {request.weight}: {weights.variable.name}, a {a_kind}")
    if weights.layout.same_cells(source.layout):
        extra = _values(weights, CellSelection(weights.layout.shape, shared.cells))
    else:
        width = weights.layout.shape[1]

        def rows(first: int, last: int) -> np.ndarray:
            cells = WholeRows(weights.layout.shape, slice(first, last))
            return _values(weights, cells).reshape(-1, width)

        bands = [(s.first, s.last) for s in choices.bands_of(0, *weights.layout.shape)]
        brought = brought_onto(rows, weights.layout, source.layout, bands, total=kind == COUNT)
        report.note(f"{request.weight}: brought onto the cells of the grid, keeping its total")
        extra = brought.ravel()[shared.cells]
    if not extra.any():
        raise InputError(request.weight, "is 0 or missing in all regions", "check the file")
    return FurtherWeights(weights.variable.name, extra, kind == COUNT, weights)


def _values(weights: GridSource, cells: CellSelection) -> np.ndarray:
    """(C,) float64 weights of cells; 0 where there is none."""
    read = weights.read(0, 1, cells)[0]
    values: np.ndarray = np.nan_to_num(read)
    if values.min(initial=0) < 0:
        raise InputError(where(weights), "has values below 0", "weights are 0 or more")
    return values


def _weight_kind(weights: GridSource) -> str:
    unit = weights.variable.unit
    if quantity(weights.variable, where(weights)).kind == COUNT:
        return COUNT
    if unit in ("1", "%") or re.search(r"(km|m)\s*(\^|\*\*)?-?2|/\s*(km|m)2|per", unit):
        return STATE
    raise InputError(
        where(weights),
        f"does not tell whether it is a count per cell or a density (unit '{unit}')",
        "say so with ‹kind weight=count› or ‹kind weight=state›",
    )
