"""`bavlo series` beside merely reading the same data, as ratios in one run.

The data: daily float32 rain with a constant sea, deflate and shuffle, one step a chunk, 600 x 700
cells; 3,200 regions over about half of them; monthly totals to CSV.
"""

import argparse
import os
import statistics
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import deflate
import h5py
import netCDF4
import numpy as np
import shapely

from bavlo.regions.vector import Features, write

WORK = Path(__file__).parent / "work"
NY, NX = 600, 700
RUNS = 5
MISSING = -9999


def write_axes(data, time, lat, lon, since):
    """The coordinates of a grid, in an open file; times in days."""
    for name, centres, unit in (
        ("time", time, f"days since {since}"),
        ("lat", lat, "degrees_north"),
        ("lon", lon, "degrees_east"),
    ):
        data.createDimension(name, len(centres))
        data.createVariable(name, "f8", (name,))[:] = centres
        data[name].units = unit


def make(steps, width=NX, packed=False):
    """The grid and the regions, made once."""
    WORK.mkdir(exist_ok=True)
    name = f"rain_{steps}{'' if width == NX else f'_{width}'}{'_packed' if packed else ''}.nc"
    path, regions = WORK / name, WORK / "regions.gpkg"
    if not path.exists():
        rng = np.random.default_rng(1)
        sea = np.hypot(*np.meshgrid(np.linspace(-1, 1, width), np.linspace(-1, 1, NY))) > 1.1
        with netCDF4.Dataset(path, "w") as data:
            lat, lon = np.linspace(-5, 24.95, NY), 10 + 0.05 * np.arange(width)
            write_axes(data, np.arange(steps), lat, lon, "1991-01-01")
            rain = data.createVariable(
                "rain",
                "i2" if packed else "f4",
                ("time", "lat", "lon"),
                zlib=True,
                shuffle=True,
                complevel=4,
                fill_value=MISSING,
                chunksizes=(1, NY, width),
            )
            rain.units = "mm"
            if packed:
                rain.scale_factor = 0.1
                data.set_auto_maskandscale(False)
            coarse = rng.gamma(0.3, 8, (steps, NY // 20, width // 20)).astype("f4")
            for n in range(steps):
                field = np.kron(coarse[n], np.ones((20, 20), "f4"))
                field = np.round(field * rng.uniform(0.5, 1.5, (NY, width)), 2).astype("f4")
                if packed:
                    field = np.round(field * 10).astype("i2")
                field[sea] = MISSING
                rain[n] = field
    if not regions.exists():
        edges_x, edges_y = np.linspace(14, 38, 65), np.linspace(0, 21, 51)
        rng = np.random.default_rng(2)
        x, y = np.meshgrid(edges_x, edges_y)
        x, y = x + rng.uniform(-0.1, 0.1, x.shape), y + rng.uniform(-0.1, 0.1, y.shape)
        corners = np.stack([x, y], axis=-1)
        rings = np.stack(
            [corners[:-1, :-1], corners[:-1, 1:], corners[1:, 1:], corners[1:, :-1]], axis=2
        ).reshape(-1, 4, 2)
        shapes = shapely.polygons(rings)
        names = np.array([f"r{n:04d}" for n in range(len(shapes))], object)
        write(regions, Features(shapes, {"name": names}, "EPSG:4326", "GPKG", "r"), "Polygon")
    return path, regions


def plain_loop(path):
    """The netCDF4 library reads the window in blocks of 32 steps, without masking."""
    with netCDF4.Dataset(path) as data:
        data.set_auto_maskandscale(False)
        rain = data["rain"]
        for first in range(0, rain.shape[0], 32):
            rain[first : first + 32, 100:520, 80:560]


def floor(path):
    """Fetch, inflate and unshuffle the same chunks on all cores."""
    with h5py.File(path) as file:
        places = []
        item = file["rain"].dtype.itemsize
        file["rain"].id.chunk_iter(lambda info: places.append((info.byte_offset, info.size)))
    descriptor = os.open(path, os.O_RDONLY)

    def one(place):
        data = deflate.zlib_decompress(os.pread(descriptor, place[1], place[0]), NY * NX * item)
        mixed = np.empty((NY * NX, item), np.uint8)
        for n, plane in enumerate(np.frombuffer(data, np.uint8).reshape(item, -1)):
            mixed[:, n] = plane

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        list(pool.map(one, places))
    os.close(descriptor)


def bavlo(path, regions):
    """All of it, from start to written CSV."""
    out = WORK / "out.csv"
    subprocess.run(
        [
            sys.executable,
            "-m",
            "bavlo",
            "series",
            path,
            "--regions",
            regions,
            "--every",
            "month",
            "--out",
            out,
            "--replace",
            "--quiet",
        ],
        check=True,
    )


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--steps", type=int, default=730)
    parser.add_argument("--runs", type=int, default=RUNS, help="timed runs after one to warm up")
    parser.add_argument("--packed", action="store_true", help="int16 instead of float32")
    given = parser.parse_args()
    steps = given.steps
    path, regions = make(steps, packed=given.packed)
    times = {"bavlo": [], "plain": [], "floor": []}
    for _ in range(given.runs + 1):
        for name, work in (
            ("bavlo", lambda: bavlo(path, regions)),
            ("plain", lambda: plain_loop(path)),
            ("floor", lambda: floor(path)),
        ):
            start = time.perf_counter()
            work()
            times[name].append(time.perf_counter() - start)
    ours, plain, least = (statistics.median(times[name][1:]) for name in times)
    kind = "int16" if given.packed else "float32"
    print(
        f"| {steps:,} | {kind} | {ours:.2f} s | {plain:.2f} s | {least:.2f} s "
        f"| {ours / plain:.2f} | {ours / least:.2f} |"
    )


if __name__ == "__main__":
    main()
