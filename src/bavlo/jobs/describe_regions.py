"""What is in a region file, and what Bavlo would do with it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import shapely

from bavlo.core.space.overlay import ellipsoid_areas
from bavlo.core.space.projection import transformed_edges
from bavlo.core.space.regions import LONLAT, Regions, region_edges
from bavlo.errors import BavloError, InputError
from bavlo.jobs.describe_grids import Description, system_text
from bavlo.jobs.wording import some_of
from bavlo.regions import vector
from bavlo.regions.read import (
    RegionOptions,
    choose_label,
    label_candidates,
    pairs_of_labels,
    text_of,
)
from bavlo.regions.repair import repaired
from bavlo.regions.vector import Features


def describe_regions(path: Path, options: RegionOptions) -> Description:
    """Regions, label candidates, invalid shapes and reference system of a vector file."""
    layers = vector.layers(path)
    if len(layers) > 1 and options.layer is None:
        return Description(str(path), (("layers", f"{', '.join(layers)}; choose with ‹layer›"),))
    features = vector.read(path, options.layer, options.encoding)
    count = features.geometry.size
    if not count:
        raise InputError(path, "holds no regions", "give a file with polygons in it")
    doubts: list[str] = []
    kinds = sorted({g.geom_type for g in features.geometry if g is not None})
    facts = [("regions", f"{count} ({features.driver}, {' and '.join(kinds)})")]
    facts.append(("fields", "; ".join(_field_text(n, v) for n, v in features.fields.items())))
    facts.append(("label", _label_text(path, features)))
    crs = options.region_crs or features.crs
    facts.append(("system", system_text(crs)))
    if not crs:
        doubts.append("no reference system is named; give it with ‹input_crs regions=EPSG:4326›")
    names = [str(n + 1) for n in range(count)]
    if candidates := label_candidates(features):
        names = text_of(features.fields[candidates[0]])
    try:
        geometry, repairs = repaired(path, names, features.geometry, lonlat=_degrees(crs))
    except InputError as error:
        doubts.append(f"{error.what}; {error.remedy}")
    else:
        doubts.extend(repairs)
        placed = np.flatnonzero(~shapely.is_empty(geometry))
        numbered = Regions(tuple(map(str, placed)), geometry[placed], crs or LONLAT)
        facts.extend(_size_facts(numbered, [names[n] for n in placed.tolist()]))
        if not repairs:
            facts.append(("shapes", "all valid"))
    return Description(str(path), tuple(facts), tuple(doubts))


def _degrees(crs: str) -> bool:
    if crs in ("", LONLAT, "EPSG:4326"):
        return True
    import pyproj

    return bool(pyproj.CRS.from_user_input(crs).is_geographic)


def _field_text(name: str, values: np.ndarray) -> str:
    text = text_of(values)
    return f"{name} ({text[0]}{', …' if len(text) > 1 else ''})"


def _label_text(path: Path, features: Features) -> str:
    try:
        field = choose_label(path, features, None)
    except BavloError as error:
        text = f"{error.what}; {error.remedy}"
        pairs = pairs_of_labels(features)
        if pairs and not label_candidates(features):
            text += f"; two together name each differently: {some_of(pairs, 3)}"
        return text
    if not field:
        return "no fields; regions are numbered from 1"
    return f"{field} names the regions: {', '.join(text_of(features.fields[field])[:4])}, …"


def _size_facts(regions: Regions, names: list[str]) -> list[tuple[str, str]]:
    """Extent in longitude and latitude, and smallest and largest region."""
    import pyproj

    if regions.are_points:
        x0, y0, x1, y1 = shapely.total_bounds(regions.geometry)
        return [("extent", f"x {x0:.6g} to {x1:.6g}, y {y0:.6g} to {y1:.6g}")]
    edges = region_edges(regions.geometry)
    crs = pyproj.CRS.from_user_input(regions.crs)
    if not crs.is_geographic:
        transformer = pyproj.Transformer.from_crs(crs, LONLAT, always_xy=True)
        edges = transformed_edges(edges, transformer.transform, 1e-4, to_lonlat=True)
    areas = ellipsoid_areas(edges)
    small, large = int(np.argmin(areas)), int(np.argmax(areas))
    extent = (
        f"longitude {min(edges.x0.min(), edges.x1.min()):.6g} to "
        f"{max(edges.x0.max(), edges.x1.max()):.6g}, latitude "
        f"{min(edges.y0.min(), edges.y1.min()):.6g} to {max(edges.y0.max(), edges.y1.max()):.6g}"
    )
    points = int(shapely.get_num_coordinates(regions.geometry).sum())
    return [
        ("extent", f"{extent}; {points} points"),
        (
            "areas",
            f"{areas.sum():.6g} km² in all; smallest {names[small]} ({areas[small]:.5g} km²), "
            f"largest {names[large]} ({areas[large]:.5g} km²)",
        ),
    ]
