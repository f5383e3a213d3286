"""A large raster without time by districts, and onto coarser cells, beside reading it.

Numbers per cell (float32, deflate with the predictor of floats, tiles of 512), districts with
jagged outlines; all within `--memory 1GB`. Reading is the raster library's own, on all cores.
"""

import argparse
import json
import multiprocessing
import os
import statistics
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import rasterio
import shapely
from rasterio.transform import from_origin
from rasterio.windows import Window

from reading import WORK

PROGRAM = Path(sys.executable).with_name("bavlo")
WEST, NORTH, EXTENT = 78.0, -32.0, 8.0  # degrees
ROWS = 512


def paths(size, districts):
    """Where the raster and the districts are."""
    return WORK / f"people_{size}.tif", WORK / f"districts_{districts}.geojson"


def make(size, districts):
    """The raster and the districts, made once."""
    path, regions = paths(size, districts)
    if not path.exists():
        rng = np.random.default_rng(1)
        cell = EXTENT / size
        draft = path.with_suffix(".part.tif")
        with rasterio.open(
            draft, "w", driver="GTiff", width=size, height=size, count=1, dtype="float32",
            crs="EPSG:4326", transform=from_origin(WEST, NORTH, cell, cell), nodata=-9999,
            compress="deflate", predictor=3, tiled=True, blockxsize=512, blockysize=512,
            num_threads=os.cpu_count(),
        ) as data:  # fmt: skip
            for row in range(0, size, ROWS):
                count = min(ROWS, size - row)
                empty = rng.random((count, size)) < 0.7
                values = np.round(rng.gamma(0.5, 4, (count, size)), 2)
                values[empty] = 0
                window = Window(0, row, size, count)
                data.write(values.astype("f4"), 1, window=window)
        draft.rename(path)
    if not regions.exists():
        features = [
            {"type": "Feature", "properties": {"name": f"d{n}"},
             "geometry": json.loads(shapely.to_geojson(shape))}
            for n, shape in enumerate(jagged(districts))
        ]  # fmt: skip
        regions.write_text(json.dumps({"type": "FeatureCollection", "features": features}))


def jagged(count):
    """About so many districts that share their jagged outlines with their neighbours."""
    rng = np.random.default_rng(2)
    side = int(np.sqrt(count)) + 1
    x, y = np.meshgrid(
        np.linspace(WEST + 0.05, WEST + EXTENT - 0.05, side),
        np.linspace(NORTH - EXTENT + 0.05, NORTH - 0.05, side),
    )
    share = np.linspace(0, 1, 61)[:, None]

    def border(a, b):
        points = a + (b - a) * share
        points[1:-1] += rng.normal(0, 0.004, (59, 2))
        return points

    corner = np.stack([x, y], axis=-1)
    along = {(i, j): border(corner[i, j], corner[i, j + 1])
             for i in range(side) for j in range(side - 1)}  # fmt: skip
    up = {(i, j): border(corner[i, j], corner[i + 1, j])
          for i in range(side - 1) for j in range(side)}  # fmt: skip
    for i in range(side - 1):
        for j in range(side - 1):
            ring = [along[i, j], up[i, j + 1], along[i + 1, j][::-1], up[i, j][::-1]]
            yield shapely.make_valid(shapely.Polygon(np.concatenate(ring)))


def read(path):
    """Read all of it with the raster library, strip by strip."""
    with rasterio.open(path, num_threads=os.cpu_count()) as data:
        for row in range(0, data.height, ROWS):
            data.read(1, window=Window(0, row, data.width, min(ROWS, data.height - row)))


def apart(work, *arguments):
    """Do work in a process of its own, whose memory is not counted as that of others."""
    child = multiprocessing.get_context("fork").Process(target=work, args=arguments)
    child.start()
    child.join()
    assert child.exitcode == 0


def bavlo(words):
    """A command from its start to the written file, and the memory that it took at most, MB."""
    command = [PROGRAM, *words, "--memory", "1GB", "--replace", "--quiet"]
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    assert status == 0, words
    return used.ru_maxrss / 1024


def main():
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--size", type=int, default=8000)
    parser.add_argument("--districts", type=int, default=300)
    parser.add_argument("--runs", type=int, default=3)
    given = parser.parse_args()
    path, regions = paths(given.size, given.districts)
    apart(make, given.size, given.districts)
    by = ["series", path, "--kind", "count", "--regions", regions, "--out", WORK / "static.csv"]
    cells = ["--crs", "EPSG:4326", "--cell", "0.05", "--out", WORK / "static.nc"]
    jobs = {
        "sum": [*by, "--measure", "sum"],
        "mean and std": [*by, "--measure", "mean,std"],
        "lowest and highest": [*by, "--measure", "min,max"],
        "onto 0.05 degrees": ["grid", path, "--kind", "count", *cells],
    }
    times = {name: [] for name in ("reading", *jobs)}
    most = {}
    for _ in range(given.runs):
        start = time.perf_counter()
        apart(read, path)
        times["reading"].append(time.perf_counter() - start)
        for name, words in jobs.items():
            start = time.perf_counter()
            most[name] = bavlo(words)
            times[name].append(time.perf_counter() - start)
    plain = statistics.median(times["reading"])
    for name, each in times.items():
        middle = statistics.median(each)
        memory = f"{most[name]:,.0f} MB" if name in most else ""
        print(f"| {name} | {middle:.1f} s | {middle / plain:.2f} | {memory} |")


if __name__ == "__main__":
    main()
