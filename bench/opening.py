"""Time from nothing to the first block of a grid in many small files."""

import multiprocessing
import shutil
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import netCDF4
import numpy as np
import rasterio
from rasterio.transform import from_origin

from bavlo.grids.cells import whole
from bavlo.grids.open import open_grid
from bavlo.request.parse import expand

WORK = Path(__file__).parent / "work"
NY, NX = 40, 50


def write_tifs(folder, count):
    """One small GeoTIFF a day, dated by its name."""
    folder.mkdir(parents=True)
    values = np.random.default_rng(1).random((NY, NX), np.float32)
    settings = {
        "driver": "GTiff",
        "height": NY,
        "width": NX,
        "count": 1,
        "dtype": "float32",
        "crs": "EPSG:4326",
        "transform": from_origin(0, NY, 1, 1),
        "compress": "deflate",
    }
    for n in range(count):
        day = np.datetime64("1980-01-01") + n
        with rasterio.open(folder / f"rain_{day}.tif", "w", **settings) as data:
            data.write(values, 1)


def write_netcdfs(folder, count):
    """One NetCDF file a month of 30 days."""
    folder.mkdir(parents=True)
    values = np.random.default_rng(1).random((30, NY, NX), np.float32)
    for n in range(count):
        with netCDF4.Dataset(folder / f"rain_{n:04d}.nc", "w") as data:
            for name, centres, unit in (
                ("lat", np.arange(NY) + 0.5, "degrees_north"),
                ("lon", np.arange(NX) + 0.5, "degrees_east"),
                ("time", np.arange(30.0) + 30 * n, "days since 1980-01-01"),
            ):
                data.createDimension(name, centres.size)
                data.createVariable(name, "f8", (name,))[:] = centres
                data[name].units = unit
            data["time"].calendar = "360_day"
            rain = data.createVariable("rain", "f4", ("time", "lat", "lon"), zlib=True)
            rain.units = "mm"
            rain[:] = values


def first_block(folder):
    """Seconds until the first 30 steps are there."""
    start = time.perf_counter()
    grid = open_grid(expand(str(folder)))
    block = grid.read(0, 30, whole(grid.layout.shape))
    assert block.shape == (30, NY * NX)
    return time.perf_counter() - start


def anew(folder):
    """The same in a process that has opened none of them before."""
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("fork")) as pool:
        return pool.submit(first_block, folder).result()


def main():
    """Print the table."""
    for kind, write, counts in (
        ("GeoTIFF", write_tifs, (1500, 15000)),
        ("NetCDF", write_netcdfs, (48, 480)),
    ):
        times = {}
        for count in counts:
            folder = WORK / f"{kind}_{count}"
            if not folder.exists():
                write(folder, count)
            anew(folder)  # so that the files are in the cache of the system
            times[count] = min(anew(folder) for _ in range(3))
            shutil.rmtree(folder)
        few, many = (times[count] for count in counts)
        print(
            f"| {kind} | {counts[0]:,}: {few:.2f} s | {counts[1]:,}: {many:.2f} s "
            f"| {many / few:.1f} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
