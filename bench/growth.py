"""How time grows with steps, cells and vertices, over two factors of ten of each."""

import argparse
import json
import math
import os
import resource
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import netCDF4
import numpy as np

from reading import write_axes

PROGRAM = Path(sys.executable).with_name("bavlo")


def write_grid(path, steps, side):
    """Rain of so many days on a square of side × side cells, a step a chunk, deflated."""
    rng = np.random.default_rng(1)
    field = np.round(rng.gamma(0.4, 8, (32, side, side)), 1).astype("f4")
    with netCDF4.Dataset(path, "w") as data:
        lat, lon = np.linspace(-32, -38, side), np.linspace(78, 86, side)
        write_axes(data, np.arange(steps), lat, lon, "1901-01-01")
        rain = data.createVariable(
            "rain", "f4", ("time", "lat", "lon"), zlib=True, complevel=1, chunksizes=(1, side, side)
        )
        rain.units, rain.cell_methods = "mm", "time: sum"
        for first in range(0, steps, 32):
            rain[first : first + 32] = field[: min(32, steps - first)]


def write_regions(path, count, vertices):
    """So many star-shaped regions side by side, with so many vertices in all."""
    across = math.isqrt(count)
    angle = np.linspace(0, 2 * np.pi, vertices // count)
    reach = 0.45 * (1 + 0.05 * np.sin(31 * angle))
    features = []
    for n in range(across * across):
        row, column = divmod(n, across)
        x = 78 + 8 / across * (column + 0.5 + reach * np.cos(angle))
        y = -38 + 6 / across * (row + 0.5 + reach * np.sin(angle))
        ring = np.column_stack([x, y])
        ring[-1] = ring[0]
        shape = {"type": "Polygon", "coordinates": [ring.tolist()]}
        features.append({"type": "Feature", "properties": {"name": f"r{n}"}, "geometry": shape})
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))


def cpu(folder, grid, regions):
    """Seconds of all processors that monthly totals take, the overlay made anew."""
    cache = tempfile.mkdtemp(dir=folder)
    environment = {**os.environ, "BAVLO_CACHE": cache}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    words = ["series", grid, "--regions", regions, "--every", "month", "--out", "o.csv"]
    subprocess.run(
        [PROGRAM, *words, "--replace", "--quiet"], check=True, cwd=folder, env=environment
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return sum(getattr(after, n) - getattr(before, n) for n in ("ru_utime", "ru_stime"))


def table(folder, what, sizes, runs, make):
    """A line for each size, with the exponent since the one before; starting is left out."""
    print(f"\n| {what} | CPU | without starting | exponent |\n|---|---|---|---|")
    earlier = None
    for size in sizes:
        grid, regions = make(size)
        took = statistics.median(cpu(folder, grid, regions) for _ in range(runs))
        own = took - table.start
        exponent = "" if earlier is None else f"{math.log10(own / earlier):.2f}"
        print(f"| {size:,} | {took:.2f} s | {own:.2f} s | {exponent} |", flush=True)
        earlier = own


def main():
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--runs", type=int, default=3)
    runs = options.parse_args().runs
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_grid(folder / "tiny.nc", 31, 10)
        write_regions(folder / "few.geojson", 4, 40)
        table.start = statistics.median(
            cpu(folder, "tiny.nc", "few.geojson") for _ in range(runs + 2)
        )
        print(f"starting and ending, with next to nothing to do: {table.start:.2f} s")

        def of_steps(steps):
            write_grid(folder / "g.nc", steps, 100)
            write_regions(folder / "r.geojson", 16, 800)
            return "g.nc", "r.geojson"

        def of_cells(cells):
            write_grid(folder / "g.nc", 120, math.isqrt(cells))
            write_regions(folder / "r.geojson", 16, 800)
            return "g.nc", "r.geojson"

        def of_vertices(vertices):
            write_grid(folder / "g.nc", 31, 500)
            write_regions(folder / "r.geojson", 400, vertices)
            return "g.nc", "r.geojson"

        table(folder, "steps of 10,000 cells", (730, 7_300, 73_000), runs, of_steps)
        table(folder, "cells, 120 steps", (40_000, 400_000, 4_000_000), runs, of_cells)
        table(folder, "vertices, 250,000 cells", (20_000, 200_000, 2_000_000), runs, of_vertices)


if __name__ == "__main__":
    main()
