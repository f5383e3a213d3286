"""Overlays that took long to compute, kept between runs as plain arrays.

An entry is found by the content of the grid layout and of the regions, never by names or dates.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import fields
from pathlib import Path
from typing import TypeVar

import numpy as np
import shapely

from bavlo.core.space.layout import CurvilinearLayout, GridLayout
from bavlo.core.space.overlay import Overlay
from bavlo.core.space.regions import Regions
from bavlo.core.space.spans import Spans
from bavlo.kept import OVERLAY, folder, keep, load

FORMAT = "5"  # of the entries; another number makes all older ones useless
SMALL = 100_000  # cells and vertices up to which an overlay takes some 0.2 s
Kept = TypeVar("Kept", Overlay, Spans)


def key_of(regions: Regions, layout: GridLayout) -> str:
    """SHA-256 of everything that the overlay depends on."""
    digest = hashlib.sha256(FORMAT.encode())
    digest.update(repr((layout.crs, layout.shape, regions.crs, len(regions))).encode())
    edges = (layout.x_edges, layout.y_edges)
    if isinstance(layout, CurvilinearLayout):
        edges = (layout.lon, layout.lat)
    for array in edges:
        digest.update(np.ascontiguousarray(array, np.float64).tobytes())
    types, points, offsets = shapely.to_ragged_array(regions.geometry)
    digest.update(repr(types).encode())
    for array in (points, *offsets):
        digest.update(np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


def cached(
    regions: Regions, layout: GridLayout, compute: Callable[[], Kept], form: type[Kept]
) -> Kept:
    """The overlay from the cache, else computed and kept; small ones are just computed.

    Parameters
    ----------
    form
        As lists of cells, or as spans.
    """
    cells = layout.shape[0] * layout.shape[1]
    if max(cells, int(shapely.get_num_coordinates(regions.geometry).sum())) <= SMALL:
        return compute()
    try:
        key = key_of(regions, layout)
    except (ValueError, AttributeError):  # shapes of several kinds have no one layout
        return compute()
    path = folder() / f"{key}-{form.__name__.lower()}{OVERLAY}"
    found = _read(path, form)
    if found is not None:
        return found
    computed = compute()
    keep(path, {each.name: np.asarray(getattr(computed, each.name)) for each in fields(form)})
    return computed


def _read(path: Path, form: type[Kept]) -> Kept | None:
    """An entry, None where there is none or it is not sound."""
    parts = load(path, [each.name for each in fields(form)])
    if parts is None:
        return None
    shape = parts.pop("shape")
    found = form(tuple(int(n) for n in shape), **parts)  # type: ignore[arg-type]
    return found if shape.size == 2 and found.is_sound else None
