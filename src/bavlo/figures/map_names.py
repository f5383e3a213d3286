"""Names of regions, written on a map where they do not collide."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import shapely

from bavlo.figures.map_content import MapContent
from bavlo.figures.style import DPI, Fits, page_size, shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes

LEGEND = 2.18  # inches


def legend_share() -> float:
    """Share of the page's width that the legend takes."""
    return min(0.45, LEGEND / page_size()[0])


def write_names(axes: Axes, content: MapContent) -> int:
    """Write names where they do not collide, large shapes first.

    Returns
    -------
    left_out
        How many find no room; -1 where most do not, and none is written.
    """
    from matplotlib.patheffects import withStroke
    from matplotlib.textpath import TextPath

    assert content.shapes is not None
    width = (axes.get_xlim()[1] - axes.get_xlim()[0]) / _pixels_wide(axes)
    height = width / _aspect(axes)
    taken: list[tuple[float, float, float, float]] = []
    named: list[tuple[float, float, str]] = []
    lift = 2.2 * height * 9 if content.are_points else 0.0  # above the circle
    for n in np.argsort(-shapely.area(content.shapes)):
        shape, name = content.shapes[n], shortened(content.labels[n], 22)
        x, y = shapely.get_coordinates(shapely.point_on_surface(shape))[0]
        box = TextPath((0, 0), name, size=9 * 100 / 72).get_extents()
        half = (box.width / 2 + 4) * width, (box.height / 2 + 4) * height
        y += lift
        placed = (x - half[0], y - half[1], x + half[0], y + half[1])
        if any(_meet(placed, other) for other in taken):
            continue
        taken.append(placed)
        named.append((x, y, name))
        if len(taken) > Fits.names_on_map:
            return -1
    left_out = len(content.shapes) - len(named)
    if left_out > len(named):
        return -1
    for x, y, name in named:
        axes.text(
            x,
            y,
            name,
            fontsize=9,
            ha="center",
            va="center",
            path_effects=[withStroke(linewidth=2.5, foreground="#ffffffcc")],
        )
    return left_out


def _pixels_wide(axes: Axes) -> float:
    """Pixels that the map is wide once its aspect is kept."""
    figure = axes.get_figure()
    assert figure is not None
    page = page_size()
    wide, high = page[0] * (1 - legend_share()) * DPI, (page[1] - 1.0) * DPI
    spec = axes.get_gridspec()
    if spec is not None:
        wide, high = wide / spec.ncols, high / spec.nrows
    x0, x1 = axes.get_xlim()
    y0, y1 = axes.get_ylim()
    return min(wide, high * (x1 - x0) / ((y1 - y0) * _aspect(axes)))


def _aspect(axes: Axes) -> float:
    aspect = axes.get_aspect()
    return 1.0 if isinstance(aspect, str) else float(aspect)


def _meet(a: tuple[float, ...], b: tuple[float, ...]) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]
