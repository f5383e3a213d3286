"""What a map shows: regions with values, windows of a grid, and words around them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely


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
    neutral
        The value that they lie about, as 0 of anomalies; None where there is none.
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
    neutral: float | None
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
    def window(self) -> GridWindow:
        """The cells, where there are any."""
        assert self.grid is not None
        return self.grid

    @property
    def grid_values(self) -> np.ndarray:
        """(P, ny, nx) values of the cells."""
        return self.window.values


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
    grid = content.window
    cells = grid.values[min(panel, len(grid.values) - 1)]
    if not np.isfinite(cells).any():
        return None
    row, column = np.unravel_index(int(find(cells)), cells.shape)
    x = (grid.x_edges[column] + grid.x_edges[column + 1]) / 2
    y = (grid.y_edges[row] + grid.y_edges[row + 1]) / 2
    return float(x), float(y), float(cells[row, column])
