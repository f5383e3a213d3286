"""Large rasters without time by districts, and onto coarser cells, beside reading them.

Numbers per cell (float32, deflate with the predictor of floats, tiles of 512) and class codes
(uint8, deflate), districts with jagged outlines; all within `--memory 1GB`. Reading is the raster
library's own, on all cores.
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
PATCH = 8  # cells along a side that share a class
CLASSES, SHARES = (10, 20, 30, 40, 50, 60, 80), (0.3, 0.2, 0.2, 0.1, 0.1, 0.05, 0.05)


def paths(size, districts):
    """Where the rasters and the districts are."""
    rasters = (WORK / f"people_{size}.tif", WORK / f"cover_{size}.tif")
    return *rasters, WORK / f"districts_{districts}.geojson"


def people(rng, shape):
    """Numbers per cell, most of them 0."""
    empty = rng.random(shape) < 0.7
    values = np.round(rng.gamma(0.5, 4, shape), 2)
    values[empty] = 0
    return values.astype("f4")


def cover(rng, shape):
    """Class codes in patches, some cells by themselves."""
    coarse = rng.choice(CLASSES, (shape[0] // PATCH + 1, shape[1] // PATCH + 1), p=SHARES)
    values = np.kron(coarse.astype("u1"), np.ones((PATCH, PATCH), "u1"))[: shape[0], : shape[1]]
    alone = rng.random(shape) < 0.03
    values[alone] = rng.choice(CLASSES[:3], alone.sum())
    return values


def write(path, size, some_rows, **settings):
    """A raster of some rows after the other."""
    rng, cell = np.random.default_rng(1), EXTENT / size
    draft = path.with_suffix(".part.tif")
    with rasterio.open(
        draft, "w", driver="GTiff", width=size, height=size, count=1, crs="EPSG:4326",
        transform=from_origin(WEST, NORTH, cell, cell), compress="deflate", tiled=True,
        blockxsize=512, blockysize=512, num_threads=os.cpu_count(), **settings,
    ) as data:  # fmt: skip
        for row in range(0, size, ROWS):
            count = min(ROWS, size - row)
            data.write(some_rows(rng, (count, size)), 1, window=Window(0, row, size, count))
    draft.rename(path)


def make(size, districts):
    """The rasters and the districts, made once."""
    numbers, classes, regions = paths(size, districts)
    if not numbers.exists():
        write(numbers, size, people, dtype="float32", nodata=-9999, predictor=3)
    if not classes.exists():
        write(classes, size, cover, dtype="uint8", nodata=255)
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
    numbers, classes, regions = paths(given.size, given.districts)
    apart(make, given.size, given.districts)
    by = ["--regions", regions, "--out", WORK / "static.csv"]
    onto = ["--crs", "EPSG:4326", "--cell", "0.05", "--out", WORK / "static.nc"]
    of_numbers, of_classes = [numbers, "--kind", "count"], [classes, "--kind", "class"]
    jobs = {
        "sum": ["series", *of_numbers, *by, "--measure", "sum"],
        "mean and std": ["series", *of_numbers, *by, "--measure", "mean,std"],
        "lowest and highest": ["series", *of_numbers, *by, "--measure", "min,max"],
        "median and p90": ["series", *of_numbers, *by, "--measure", "median,p90"],
        "onto 0.05 degrees": ["grid", *of_numbers, *onto],
        "majority": ["series", *of_classes, *by, "--measure", "majority"],
        "shares": ["series", *of_classes, *by, "--measure", "shares"],
        "classes onto 0.05 degrees": ["grid", *of_classes, *onto],
    }
    readings = {"reading": numbers, "reading classes": classes}
    times = {name: [] for name in (*readings, *jobs)}
    most = {}
    for _ in range(given.runs):
        for name, path in readings.items():
            start = time.perf_counter()
            apart(read, path)
            times[name].append(time.perf_counter() - start)
        for name, words in jobs.items():
            start = time.perf_counter()
            most[name] = bavlo(words)
            times[name].append(time.perf_counter() - start)
    for name, each in times.items():
        own = "reading classes" if classes in jobs.get(name, []) else "reading"
        own = name if name in readings else own
        middle, plain = statistics.median(each), statistics.median(times[own])
        memory = f"{most[name]:,.0f} MB" if name in most else ""
        print(f"| {name} | {middle:.1f} s | {middle / plain:.2f} | {memory} |")


if __name__ == "__main__":
    main()
