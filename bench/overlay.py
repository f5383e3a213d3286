"""Time of the exact overlay, beside the same by Shapely cell by cell."""

import os
import time

import numpy as np
import shapely
from shapely import Polygon

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regions import region_edges
from bavlo.core.space.shared_areas import overlay

GRID = GridLayout(np.linspace(-180, 180, 7201), np.linspace(90, -90, 3601))


def outline(rng, x, y, radius, points):
    """An irregular outline around a point."""
    angle = np.linspace(0, 2 * np.pi, points, endpoint=False)
    wander = np.cumsum(rng.normal(size=points)) / np.sqrt(points) * np.sin(angle / 2)
    reach = radius * (1 + 0.3 * wander)
    return Polygon(np.column_stack([x + reach * np.cos(angle), y + reach * np.sin(angle)]))


def national(rng):
    """3,200 small regions with 70,000 vertices in all."""
    return [outline(rng, rng.uniform(60, 100), rng.uniform(-40, -5), 0.4, 22) for _ in range(3200)]


def detailed(rng):
    """255 large regions with 550,000 vertices in all."""
    return [outline(rng, rng.uniform(-150, 150), rng.uniform(-60, 60), 5, 2157) for _ in range(255)]


def by_shapely(shapes):
    """Covered fraction of every cell that a region's box touches."""
    x, y = GRID.x_edges, np.sort(GRID.y_edges)
    for shape in shapes:
        west, south, east, north = shape.bounds
        columns = np.arange(np.searchsorted(x, west) - 1, np.searchsorted(x, east))
        rows = np.arange(np.searchsorted(y, south) - 1, np.searchsorted(y, north))
        i, j = (a.ravel() for a in np.meshgrid(columns, rows))
        cells = shapely.box(x[i], y[j], x[i + 1], y[j + 1])
        shapely.prepare(shape)
        shapely.area(shapely.intersection(shape, cells))


def timed(work, *arguments, runs=3):
    """Median time of some runs, and the last result."""
    times, result = [], None
    for _ in range(runs):
        start = time.perf_counter()
        result = work(*arguments)
        times.append(time.perf_counter() - start)
    return sorted(times)[len(times) // 2], result


def main():
    """Print the table."""
    rng = np.random.default_rng(1)
    for name, shapes, sample in (("3,200", national(rng), 3200), ("255", detailed(rng), 8)):
        shapes = [s for s in shapes if s.is_valid]
        vertices = int(shapely.get_num_coordinates(shapes).sum())
        array = np.array(shapes)
        ours, shared = timed(lambda array=array: overlay(region_edges(array), GRID))
        many, _ = timed(lambda array=array: overlay(region_edges(array), GRID, os.cpu_count()))
        theirs, _ = timed(by_shapely, shapes[:sample], runs=1)
        theirs *= len(shapes) / min(sample, len(shapes))
        print(
            f"| {name} | {vertices:,} | {shared.index.size:,} | {ours:.2f} s | {many:.2f} s "
            f"| {theirs:.0f} s | {theirs / ours:.0f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
