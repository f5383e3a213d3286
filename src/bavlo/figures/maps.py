"""Maps: regions coloured by value, and windows of a grid."""

from __future__ import annotations

import itertools
import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely

from bavlo.errors import RequestError
from bavlo.figures.map_classes import (
    class_limits,
    class_of,
    limit_digits,
    round_step,
    scale_positions,
)
from bavlo.figures.map_content import MapContent, marked_place
from bavlo.figures.map_names import legend_share, write_names
from bavlo.figures.panels import set_words
from bavlo.figures.style import (
    HATCH,
    INK,
    MISSING,
    OTHER_CLASS,
    Fits,
    colour_scale,
    page_size,
    scale_for,
    shortened,
    shown_unit,
    styled,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

POINT = 70.0  # size of a circle, in square points
TICKS = 5  # longitudes and latitudes at the edge
FAINT_TEXT = "#6b747b"
EDGE = 0.58  # inches, of the names of latitudes
CROSSED = "..."  # over shapes whose value is in doubt
BORDER, COAST = "#ffffff", "#5b646b"


def draw_map(content: MapContent, classes: str = "equal") -> Figure:
    """Regions or cells in classes, a panel a period, with a legend in words."""
    count = len(content.panels)
    if count > Fits.maps:
        raise RequestError("period", f"{count} maps do not fit one page", "choose fewer periods")
    if content.categories:
        content = _by_category(content)
    coloured = _coloured(content)
    limits, colours = _classes_of(content, coloured, classes)
    extent = _extent(content)
    columns, rows, height = _arrangement(count, extent, content.lonlat)
    with styled():
        from matplotlib.figure import Figure

        figure = Figure(figsize=page_size())
        grid = figure.subplots(rows, columns, squeeze=False).ravel()
        left_out = 0
        for n, axes in enumerate(grid):
            if n >= count:
                axes.set_visible(False)
                continue
            _frame(axes, extent, content.lonlat)
            if count > 1:
                axes.set_title(shortened(content.panels[n], 108 // columns), fontsize=10)
            _fill(axes, content, n, limits, colours)
            if content.mark is not None:
                _mark(axes, content, n)
            if count <= 2 and content.shapes is not None:
                left_out = write_names(axes, content)
            if count <= 2:
                _scale(axes, extent, content)
        set_words(figure, content.title, "", _caption(content, left_out), placed=True)
        figure.subplots_adjust(
            left=0.01 if count > 2 or not content.lonlat else EDGE / page_size()[0],
            right=1 - legend_share(),
            bottom=(0.5 if count > 2 else 0.72) / height,
            top=1 - (0.75 if count > 1 else 0.55) / height,
            wspace=0.03,
            hspace=0.16,
        )
        _legend(figure, content, limits, colours, coloured)
    return figure


def _classes_of(
    content: MapContent, coloured: np.ndarray, classes: str
) -> tuple[np.ndarray, np.ndarray]:
    """(n + 1,) limits of classes of the coloured values, and (n, 4) the colour of each."""
    from matplotlib.colors import to_rgba

    if content.categories:
        limits = np.arange(len(content.categories) + 1) - 0.5
        return limits, np.array([to_rgba(colour) for _, _, colour in content.categories])
    spread = coloured if content.scaled is None else content.scaled
    limits = class_limits(spread, classes, neutral=content.neutral)
    scale = scale_for(content.unit, neutral=content.neutral, heat=content.heat)
    return limits, scale(scale_positions(limits, neutral=content.neutral))


def _caption(content: MapContent, left_out: int) -> str:
    """The words below, and how many names found no room; -1 stands for all of them."""
    caption = content.caption
    if left_out < 0:
        caption += "   ·   too many names for the map"
    elif left_out:
        names = "one name" if left_out == 1 else f"{left_out} names"
        caption += f"   ·   {names} left out for want of room"
    return caption.removeprefix("   ·   ")


def _coloured(content: MapContent) -> np.ndarray:
    """The values that are shown in colours."""
    if content.values is None:
        return content.window.values
    return content.values if content.held is None else content.values[:, content.held]


def _by_category(content: MapContent) -> MapContent:
    """The map with cells or regions numbered by the classes that are on it."""
    coloured = content.values if content.values is not None else content.window.values
    codes = np.unique(coloured[np.isfinite(coloured)])
    known = {code: (name, colour) for code, name, colour in content.categories}
    shown = tuple((int(code), *known.get(int(code), (f"{code:g}", OTHER_CLASS))) for code in codes)
    number = np.searchsorted(codes, coloured).astype(np.float64)
    number[~np.isfinite(coloured)] = np.nan
    if content.values is not None:
        return replace(content, values=number, categories=shown)
    return replace(content, grid=replace(content.window, values=number), categories=shown)


def _extent(content: MapContent) -> tuple[float, float, float, float]:
    if content.shapes is not None:
        west, south, east, north = shapely.total_bounds(content.shapes)
    else:
        grid = content.window
        west, east = grid.x_edges.min(), grid.x_edges.max()
        south, north = grid.y_edges.min(), grid.y_edges.max()
    pad = 0.02 * max(east - west, north - south)
    return float(west - pad), float(south - pad), float(east + pad), float(north + pad)


def _degree_ratio(extent: tuple[float, float, float, float], lonlat: bool) -> float:
    """How much longer a unit of y is than one of x."""
    if not lonlat:
        return 1.0
    middle = math.radians((extent[1] + extent[3]) / 2)
    return 1 / max(math.cos(middle), 0.05)


def _arrangement(
    count: int, extent: tuple[float, float, float, float], lonlat: bool
) -> tuple[int, int, float]:
    """Columns, rows and height of the page that give the largest maps."""
    shape = (extent[3] - extent[1]) * _degree_ratio(extent, lonlat) / (extent[2] - extent[0])
    width, high = page_size()[0] * (1 - legend_share()), page_size()[1]

    def size(columns: int) -> float:
        rows = -(-count // columns)
        return min(width / columns, (high - 1.0) / rows / shape)

    columns = max(range(1, count + 1), key=lambda c: (size(c), -c))
    rows = -(-count // columns)
    return columns, rows, high


def _frame(axes: Axes, extent: tuple[float, float, float, float], lonlat: bool) -> None:
    axes.set_xlim(extent[0], extent[2])
    axes.set_ylim(extent[1], extent[3])
    axes.set_aspect(_degree_ratio(extent, lonlat))
    axes.set_xticks([])
    axes.set_yticks([])
    axes.grid(visible=False)
    for spine in axes.spines.values():
        spine.set_visible(False)


def _fill(
    axes: Axes, content: MapContent, panel: int, limits: np.ndarray, colours: np.ndarray
) -> None:
    from matplotlib.collections import PathCollection
    from matplotlib.colors import BoundaryNorm, ListedColormap

    if content.grid is not None:
        values = np.ma.masked_invalid(content.grid.values[min(panel, len(content.grid.values) - 1)])
        edges = content.grid.x_edges, content.grid.y_edges
        if content.values is None:
            norm = BoundaryNorm(limits, len(colours))
            axes.pcolormesh(*edges, values, cmap=ListedColormap(colours), norm=norm)
        else:
            axes.pcolormesh(*edges, values, cmap=colour_scale("grey", ("#ffffff", "#c4cace")))
    if content.shapes is None:
        return
    if content.are_points:
        _fill_points(axes, content, panel, limits, colours)
        return
    paths = [_path(shape) for shape in content.shapes]
    if content.values is None:
        axes.add_collection(PathCollection(paths, facecolor="none", edgecolor=INK, linewidth=0.8))
        return
    values = content.values[panel]
    known = np.isfinite(values)
    face: list[Any] = [
        tuple(colours[k]) if ok else MISSING
        for k, ok in zip(class_of(values, limits), known, strict=True)
    ]
    if content.held is not None:
        face = [f if ok else "none" for f, ok in zip(face, content.held, strict=True)]
        known = known | ~content.held
    see_through = 0.85 if content.grid is not None else 1.0
    axes.add_collection(
        PathCollection(paths, facecolor=face, edgecolor=COAST, linewidth=0.6, alpha=see_through)
    )
    if content.hatched is not None:
        over = content.hatched[panel] & np.isfinite(values)
        crossed = [path for path, ok in zip(paths, over, strict=True) if ok]
        axes.add_collection(
            PathCollection(crossed, facecolor="none", edgecolor=COAST, hatch=CROSSED, linewidth=0.6)
        )
    gaps = [path for path, ok in zip(paths, known, strict=True) if not ok]
    axes.add_collection(
        PathCollection(gaps, facecolor="none", edgecolor=HATCH, hatch="////", linewidth=0.6)
    )


def _fill_points(
    axes: Axes, content: MapContent, panel: int, limits: np.ndarray, colours: np.ndarray
) -> None:
    """Points as circles in the colour of their value, hollow where there is none."""
    x, y = shapely.get_coordinates(content.shapes).T
    if content.values is None:
        axes.scatter(x, y, s=POINT, facecolor="none", edgecolor=INK, linewidth=0.8, zorder=3)
        return
    values = content.values[panel]
    known = np.isfinite(values)
    face = colours[class_of(values, limits)[known]]
    axes.scatter(x[known], y[known], s=POINT, c=face, edgecolor=COAST, linewidth=0.8, zorder=3)
    axes.scatter(
        x[~known], y[~known], s=POINT, facecolor="none", edgecolor=HATCH, linewidth=1.0, zorder=3
    )


def _scale(axes: Axes, extent: tuple[float, float, float, float], content: MapContent) -> None:
    """Longitudes and latitudes at the edge, or a bar of kilometres in a projection of metres."""
    if content.lonlat:
        for axis, (low, high), names in (
            (axes.xaxis, (extent[0], extent[2]), "WE"),
            (axes.yaxis, (extent[1], extent[3]), "SN"),
        ):
            step = round_step((high - low) / TICKS)
            ticks = np.arange(math.ceil(low / step), math.floor(high / step) + 1) * step
            turned = (ticks + 180) % 360 - 180 if names == "WE" else ticks
            digits = max(0, -math.floor(math.log10(step) + 1e-9))
            digits += step * 10**digits % 1 > 1e-6  # steps of 2.5
            axis.set_ticks(
                ticks,
                [f"{abs(t):.{digits}f}°{names[int(t > 0)] if t else ''}" for t in turned],
                fontsize=8,
                color=FAINT_TEXT,
            )
            axis.set_tick_params(length=3, color=FAINT_TEXT)
        return
    wide = extent[2] - extent[0]
    size = round_step(wide / 8)
    if size < 1:
        return
    x, y = extent[0] + 0.02 * wide, extent[1] + 0.015 * (extent[3] - extent[1])
    axes.plot([x, x + size], [y, y], color=FAINT_TEXT, linewidth=2, solid_capstyle="butt")
    text = f"{size / 1000:g} km" if size >= 1000 else f"{size:g} m"
    axes.annotate(
        text, (x + size, y), xytext=(5, 0), textcoords="offset points", va="center", fontsize=8,
        color=FAINT_TEXT,
    )  # fmt: skip


def _mark(axes: Axes, content: MapContent, panel: int) -> None:
    """A ring at the highest or lowest value, with the value beside it."""
    from matplotlib.patheffects import withStroke

    place = marked_place(content, panel)
    if place is None:
        return
    x, y, value = place
    axes.plot(x, y, "o", markersize=11, markerfacecolor="none", markeredgecolor="white", mew=3.2)
    axes.plot(x, y, "o", markersize=11, markerfacecolor="none", markeredgecolor=INK, mew=1.6)
    west, east = axes.get_xlim()
    right = x < (west + east) / 2
    axes.annotate(
        f"{content.mark} {value:.4g} {shown_unit(content.unit)}".rstrip(),
        (x, y),
        xytext=(10 if right else -10, 10),
        textcoords="offset points",
        ha="left" if right else "right",
        fontsize=10,
        weight="bold",
        path_effects=[withStroke(linewidth=3, foreground="#ffffffdd")],
    )


def _path(shape: Any) -> Any:
    """A polygon with its holes and parts as one path."""
    from matplotlib.path import Path

    vertices, codes = [np.zeros((0, 2))], [np.zeros(0, np.uint8)]
    for part in shapely.get_parts(shape):
        if shapely.get_type_id(part) != 3:
            continue
        for n, ring in enumerate(shapely.get_rings(part)):
            points = shapely.get_coordinates(ring)
            # Holes run the other way round, so that they stay open.
            if shapely.is_ccw(ring) != (n == 0):
                points = points[::-1]
            code = np.full(len(points), Path.LINETO, np.uint8)
            code[0], code[-1] = Path.MOVETO, Path.CLOSEPOLY
            vertices.append(points)
            codes.append(code)
    return Path(np.concatenate(vertices), np.concatenate(codes))


def _legend(
    figure: Figure,
    content: MapContent,
    limits: np.ndarray,
    colours: np.ndarray,
    coloured: np.ndarray,
) -> None:
    from matplotlib.patches import Patch

    texts = [shortened(name, 24) for _, name, _ in content.categories]
    if not texts:
        digits = limit_digits(limits)
        texts = [
            f"{low:,.{digits}f} to {high:,.{digits}f}".replace("-", "−")
            for low, high in itertools.pairwise(limits.tolist())
        ]
    patches = [
        Patch(facecolor=tuple(colour), edgecolor=COAST, linewidth=0.6, label=text)
        for colour, text in zip(colours, texts, strict=True)
    ]
    if not content.categories:
        patches = patches[::-1]  # the highest values stand at the top
    if content.held is not None and not content.held.all():
        patches.append(
            Patch(facecolor="none", edgecolor=COAST, linewidth=0.6, label="not in the table")
        )
    if content.values is not None and np.isnan(coloured).any():
        patches.append(
            Patch(facecolor=MISSING, edgecolor=HATCH, hatch="////", linewidth=0, label="no value")
        )
    if content.hatched is not None and content.hatched.any():
        patches.append(
            Patch(
                facecolor="white",
                edgecolor=COAST,
                hatch=CROSSED,
                linewidth=0.6,
                label=content.hatched_means,
            )
        )
    figure.legend(
        handles=patches,
        loc="center left",
        bbox_to_anchor=(1 - legend_share() + 0.005, 0.5),
        title=shown_unit(content.unit),
        alignment="left",
        fontsize=10,
        handlelength=1.8,
        handleheight=1.3,
    )
