"""Maps: regions coloured by value, and windows of a grid."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import shapely

from bavlo.errors import RequestError
from bavlo.figures.panels import set_words
from bavlo.figures.style import (
    DPI,
    HATCH,
    INK,
    MISSING,
    OTHER_CLASS,
    colour_scale,
    page_size,
    scale_for,
    shortened,
    shown_unit,
    styled,
)
from bavlo.records import dataclass

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

CLASSES = 6
POINT = 70.0  # size of a circle, in square points
TICKS = 5  # longitudes and latitudes at the edge
FAINT_TEXT = "#6b747b"
LEGEND, EDGE = 2.18, 0.58  # inches, of the legend and of the names of latitudes
CROSSED = "..."  # over shapes whose value is in doubt
MOST_PANELS = 36
MOST_NAMES = 150
BORDER, COAST = "#ffffff", "#5b646b"
STEPS = (1, 2, 2.5, 5, 10)  # round numbers for class limits


@dataclass(frozen=True, eq=False)
class GridWindow:
    """A rectangle of cells.

    Parameters
    ----------
    x_edges, y_edges
        As in the grid's layout.
    values : (P, ny, nx) float64
        NaN where there is no data.
    """

    x_edges: np.ndarray
    y_edges: np.ndarray
    values: np.ndarray


@dataclass(frozen=True, eq=False)
class MapContent:
    """What a map shows.

    Parameters
    ----------
    title, unit, caption
        Words around it.
    panels
        Name of each panel.
    shapes : (R,) object array
        Polygons or points in the coordinates of the map; None without regions.
    labels
        Name of each shape.
    values : (P, R) float64
        NaN where there is none; None where the grid alone is coloured.
    held : (R,) bool or None
        Shapes that the values are of; others are drawn in outline. None for all.
    grid
        Cells, coloured where there are no `values`, else drawn in grey beneath.
    lonlat
        Whether the coordinates are longitude and latitude.
    about_zero
        Whether values are anomalies.
    categories
        Code, name and colour of each class, where cells hold class codes.
    hatched : (P, R) bool or None
        Shapes that are hatched over their colour, and what that means in the legend.
    mark
        `max` or `min`: the place of that value is marked.
    heat
        The values count what happens when it is warm.
    scaled : array or None
        Values that the classes are made of, where these are not those on the map.
    """

    title: str
    unit: str
    caption: str
    panels: Sequence[str]
    shapes: np.ndarray | None
    labels: Sequence[str]
    values: np.ndarray | None
    grid: GridWindow | None
    lonlat: bool
    about_zero: bool
    categories: tuple[tuple[int, str, str], ...] = ()
    hatched: np.ndarray | None = None
    hatched_means: str = ""
    mark: str | None = None
    held: np.ndarray | None = None
    heat: bool = False
    scaled: np.ndarray | None = None

    @property
    def are_points(self) -> bool:
        """Whether the regions are points."""
        return self.shapes is not None and bool((shapely.get_type_id(self.shapes) == 0).all())

    @property
    def grid_values(self) -> np.ndarray:
        """(P, ny, nx) values of the cells."""
        assert self.grid is not None
        return self.grid.values


def class_limits(values: np.ndarray, how: str, *, about_zero: bool) -> np.ndarray:
    """Limits of classes, ascending.

    Parameters
    ----------
    values
        All values on the map.
    how
        quantile, equal, or limits with commas between them.
    about_zero
        Equal classes lie as far below as above zero, where there are values on both sides.
    """
    known = values[np.isfinite(values)]
    if not known.size:
        return np.array([0.0, 1.0])
    low, high = float(known.min()), float(known.max())
    if how not in ("quantile", "equal"):
        return _given(how, low, high)
    if low == high:
        return np.array([low, low + (abs(low) or 1.0)])
    if how == "quantile":
        limits = np.unique(np.quantile(known, np.linspace(0, 1, CLASSES + 1)))
        return _rounded(limits) if limits.size > 1 else np.array([low, high])
    if about_zero and low < 0 < high:
        high = max(abs(low), abs(high))
        low = -high
    elif about_zero:
        low, high = min(low, 0.0), max(high, 0.0)
    step = _round_step((high - low) / (CLASSES + 2))
    return np.arange(math.floor(low / step), math.ceil(high / step) + 1) * step


def _given(how: str, low: float, high: float) -> np.ndarray:
    try:
        inner = np.array([float(part) for part in how.split(",")])
    except ValueError:
        raise RequestError(
            "classes", f"'{how}' is not known", "use quantile, equal or limits such as 0,50,100"
        ) from None
    if (np.diff(inner) <= 0).any():
        raise RequestError("classes", f"'{how}' does not rise", "give the limits in order")
    # Values beyond the limits given have classes of their own.
    below = [low] if low < inner[0] else []
    above = [high] if high > inner[-1] else []
    return np.concatenate([below, inner, above])


def _round_step(size: float) -> float:
    power = 10.0 ** math.floor(math.log10(size))
    return next(step for step in STEPS if step * power >= size * 0.999) * power


def _rounded(limits: np.ndarray) -> np.ndarray:
    """Limits with as few digits as keep all of them apart, the ends outwards."""
    for digits in range(-12, 13):
        rounded = np.round(limits, digits)
        unit = 10.0**-digits
        rounded[0] = math.floor(limits[0] / unit) * unit
        rounded[-1] = math.ceil(limits[-1] / unit) * unit
        narrowest = np.diff(limits).min()
        if unit <= narrowest / 2 and (np.diff(rounded) > 0).all():
            return rounded
    return limits


def draw_map(content: MapContent, classes: str = "equal") -> Figure:
    """Regions or cells in classes, a panel a period, with a legend in words."""
    count = len(content.panels)
    if count > MOST_PANELS:
        raise RequestError("period", f"{count} maps do not fit one page", "choose fewer periods")
    from matplotlib.colors import to_rgba

    if content.categories:
        content = _by_category(content)
    coloured = _coloured(content)
    if content.categories:
        limits = np.arange(len(content.categories) + 1) - 0.5
        colours = np.array([to_rgba(colour) for _, _, colour in content.categories])
    else:
        spread = coloured if content.scaled is None else content.scaled
        limits = class_limits(spread, classes, about_zero=content.about_zero)
        scale = scale_for(content.unit, about_zero=content.about_zero, heat=content.heat)
        colours = scale(_positions(limits, about_zero=content.about_zero))
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
                left_out = _name(axes, content)
            if count <= 2:
                _scale(axes, extent, content)
        caption = content.caption
        if left_out < 0:
            caption += "   ·   too many names for the map"
        elif left_out:
            names = "one name" if left_out == 1 else f"{left_out} names"
            caption += f"   ·   {names} left out for want of room"
        caption = caption.removeprefix("   ·   ")
        set_words(figure, content.title, "", caption, placed=True)
        figure.subplots_adjust(
            left=0.01 if count > 2 or not content.lonlat else EDGE / page_size()[0],
            right=1 - _legend_share(),
            bottom=(0.5 if count > 2 else 0.72) / height,
            top=1 - (0.75 if count > 1 else 0.55) / height,
            wspace=0.03,
            hspace=0.16,
        )
        _legend(figure, content, limits, colours, coloured)
    return figure


def _coloured(content: MapContent) -> np.ndarray:
    """The values that are shown in colours."""
    if content.values is None:
        return _grid_of(content).values
    return content.values if content.held is None else content.values[:, content.held]


def _by_category(content: MapContent) -> MapContent:
    """The map with cells or regions numbered by the classes that are on it."""
    coloured = content.values if content.values is not None else _grid_of(content).values
    codes = np.unique(coloured[np.isfinite(coloured)])
    known = {code: (name, colour) for code, name, colour in content.categories}
    shown = tuple((int(code), *known.get(int(code), (f"{code:g}", OTHER_CLASS))) for code in codes)
    number = np.searchsorted(codes, coloured).astype(np.float64)
    number[~np.isfinite(coloured)] = np.nan
    if content.values is not None:
        return replace(content, values=number, categories=shown)
    return replace(content, grid=replace(_grid_of(content), values=number), categories=shown)


def _grid_of(content: MapContent) -> GridWindow:
    assert content.grid is not None
    return content.grid


def _positions(limits: np.ndarray, *, about_zero: bool) -> np.ndarray:
    """Where each class stands on the colour scale, 0 to 1."""
    middles = (limits[1:] + limits[:-1]) / 2
    if about_zero:
        reach = np.abs(middles).max() or 1.0
        return np.asarray(0.5 + middles / reach / 2)
    return np.linspace(0.06, 1, middles.size) if middles.size > 1 else np.array([0.55])


def _extent(content: MapContent) -> tuple[float, float, float, float]:
    if content.shapes is not None:
        west, south, east, north = shapely.total_bounds(content.shapes)
    else:
        grid = _grid_of(content)
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
    width, high = page_size()[0] * (1 - _legend_share()), page_size()[1]

    def size(columns: int) -> float:
        rows = -(-count // columns)
        return min(width / columns, (high - 1.0) / rows / shape)

    columns = max(range(1, count + 1), key=lambda c: (size(c), -c))
    rows = -(-count // columns)
    return columns, rows, high


def _legend_share() -> float:
    """Share of the page's width that the legend takes."""
    return min(0.45, LEGEND / page_size()[0])


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
        for k, ok in zip(_class_of(values, limits), known, strict=True)
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


def _class_of(values: np.ndarray, limits: np.ndarray) -> np.ndarray:
    """Number of the class of each value; where there is none, any."""
    return np.asarray(
        np.clip(np.searchsorted(limits, values, side="right") - 1, 0, limits.size - 2)
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
    face = colours[_class_of(values, limits)[known]]
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
            step = _round_step((high - low) / TICKS)
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
    size = _round_step(wide / 8)
    if size < 1:
        return
    x, y = extent[0] + 0.02 * wide, extent[1] + 0.015 * (extent[3] - extent[1])
    axes.plot([x, x + size], [y, y], color=FAINT_TEXT, linewidth=2, solid_capstyle="butt")
    text = f"{size / 1000:g} km" if size >= 1000 else f"{size:g} m"
    axes.annotate(
        text, (x + size, y), xytext=(5, 0), textcoords="offset points", va="center", fontsize=8,
        color=FAINT_TEXT,
    )  # fmt: skip


def marked_place(content: MapContent, panel: int) -> tuple[float, float, float] | None:
    """Where the highest or lowest value of a panel is, x and y, and the value itself."""
    find = np.nanargmax if content.mark == "max" else np.nanargmin
    if content.values is not None and content.shapes is not None:
        values = content.values[panel]
        if not np.isfinite(values).any():
            return None
        n = int(find(values))
        x, y = shapely.get_coordinates(shapely.point_on_surface(content.shapes[n]))[0]
        return float(x), float(y), float(values[n])
    grid = _grid_of(content)
    cells = grid.values[min(panel, len(grid.values) - 1)]
    if not np.isfinite(cells).any():
        return None
    row, column = np.unravel_index(int(find(cells)), cells.shape)
    x = (grid.x_edges[column] + grid.x_edges[column + 1]) / 2
    y = (grid.y_edges[row] + grid.y_edges[row + 1]) / 2
    return float(x), float(y), float(cells[row, column])


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


def _name(axes: Axes, content: MapContent) -> int:
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
        if len(taken) > MOST_NAMES:
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
    wide, high = page[0] * (1 - _legend_share()) * DPI, (page[1] - 1.0) * DPI
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
        digits = _digits(limits)
        texts = [
            f"{low:,.{digits}f} to {high:,.{digits}f}".replace("-", "−")
            for low, high in itertools.pairwise(limits.tolist())
        ]
    occurs = np.full(len(colours), content.scaled is not None)  # one legend for several maps
    occurs[_class_of(coloured[np.isfinite(coloured)], limits)] = True
    patches = [
        Patch(facecolor=tuple(colour), edgecolor=COAST, linewidth=0.6, label=text)
        for colour, text, shown in zip(colours, texts, occurs, strict=True)
        if shown
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
        bbox_to_anchor=(1 - _legend_share() + 0.005, 0.5),
        title=shown_unit(content.unit),
        alignment="left",
        fontsize=10,
        handlelength=1.8,
        handleheight=1.3,
    )


def _digits(limits: np.ndarray) -> int:
    """Decimals that tell the limits apart."""
    for digits in range(8):
        if np.allclose(np.round(limits, digits), limits, rtol=0, atol=1e-6 * np.ptp(limits)):
            return digits
    narrowest = float(np.diff(limits).min())
    return max(0, 1 - math.floor(math.log10(narrowest)))
