"""`bavlo series` on a folder of daily GeoTIFFs, beside a plain loop that only reads them.

3,650 files of 600 x 700 float32 cells, deflate, 256-pixel tiles; regions over 80 % of each side.
The plain loop reads the same window of each file with rasterio on one core, and nothing else.
"""

import argparse
import shutil
import statistics
import subprocess
import sys
import time
from datetime import date, timedelta

import numpy as np
import rasterio
import shapely
from rasterio.windows import Window

from bavlo.regions.vector import Features, write
from reading import NX, NY, WORK

DIFFERENT = 730
ROWS, COLUMNS = (60, 540), (70, 630)


def make(count):
    """The files and the regions, made once."""
    folder, regions = WORK / f"tif_{count}", WORK / "tif_regions.gpkg"
    if not folder.exists():
        draft = WORK / f"tif_{count}.part"
        shutil.rmtree(draft, ignore_errors=True)
        draft.mkdir(parents=True)
        rng = np.random.default_rng(3)
        transform = rasterio.transform.from_origin(10, 25, 0.05, 0.05)
        noise = rng.uniform(0.5, 1.5, (NY, NX))
        names = [f"rain_{date(2001, 1, 1) + timedelta(n)}.tif" for n in range(count)]
        for n, name in enumerate(names):
            if n >= DIFFERENT:  # as much to read, and much sooner made
                shutil.copyfile(draft / names[n % DIFFERENT], draft / name)
                continue
            coarse = rng.gamma(0.3, 8, (NY // 20, NX // 20))
            field = np.round(np.kron(coarse, np.ones((20, 20))) * noise, 2).astype("f4")
            with rasterio.open(
                draft / name,
                "w",
                driver="GTiff",
                width=NX,
                height=NY,
                count=1,
                dtype="float32",
                compress="deflate",
                tiled=True,
                blockxsize=256,
                blockysize=256,
                nodata=-9999,
                crs="EPSG:4326",
                transform=transform,
            ) as data:
                data.write(field, 1)
                data.units = ["mm"]
        draft.rename(folder)
    if not regions.exists():
        west, east = 10 + COLUMNS[0] * 0.05, 10 + COLUMNS[1] * 0.05
        north, south = 25 - ROWS[0] * 0.05, 25 - ROWS[1] * 0.05
        x, y = np.linspace(west, east, 21), np.linspace(south, north, 11)
        shapes = [
            shapely.box(a, b, a + x[1] - x[0], b + y[1] - y[0]) for b in y[:-1] for a in x[:-1]
        ]
        names = np.array([f"r{n:03d}" for n in range(len(shapes))], object)
        write(
            regions,
            Features(np.array(shapes, object), {"name": names}, "EPSG:4326", "GPKG", "r"),
            "Polygon",
        )
    return folder, regions


def plain_loop(folder):
    """Read the window of each file, one after the other."""
    window = Window.from_slices(ROWS, COLUMNS)
    for path in sorted(folder.iterdir()):
        with rasterio.open(path) as data:
            data.read(1, window=window)


def bavlo(folder, regions):
    """All of it, from start to written CSV."""
    subprocess.run(
        [
            sys.executable,
            "-m",
            "bavlo",
            "series",
            folder,
            "--regions",
            regions,
            "--every",
            "month",
            "--out",
            WORK / "tif.csv",
            "--replace",
            "--quiet",
        ],
        check=True,
    )


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--files", type=int, default=3650)
    parser.add_argument("--runs", type=int, default=3)
    given = parser.parse_args()
    folder, regions = make(given.files)
    times = {"bavlo": [], "plain": []}
    for _ in range(given.runs + 1):
        for name, work in (
            ("bavlo", lambda: bavlo(folder, regions)),
            ("plain", lambda: plain_loop(folder)),
        ):
            start = time.perf_counter()
            work()
            times[name].append(time.perf_counter() - start)
    ours, plain = (statistics.median(times[name][1:]) for name in ("bavlo", "plain"))
    print(f"| {given.files:,} | {ours:.1f} s | {plain:.1f} s | {ours / plain:.2f} |")


if __name__ == "__main__":
    main()
