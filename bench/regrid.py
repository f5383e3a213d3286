"""`bavlo grid --onto` on a global 0.05° grid, beside reading it and writing as much plainly."""

import argparse
import statistics
import subprocess
import sys
import time
from pathlib import Path

import netCDF4
import numpy as np

WORK = Path(__file__).parent / "work"
STEPS = 10
PROGRAM = Path(sys.executable).with_name("bavlo")


def write(path, size, values, steps=STEPS):
    """A daily grid of global cells of a size, with the compression that Bavlo writes with."""
    ny, nx = round(180 / size), round(360 / size)
    with netCDF4.Dataset(path, "w") as data:
        for name, centres, unit in (
            ("lat", 90 - size / 2 - size * np.arange(ny), "degrees_north"),
            ("lon", -180 + size / 2 + size * np.arange(nx), "degrees_east"),
        ):
            data.createDimension(name, centres.size)
            data.createVariable(name, "f8", (name,))[:] = centres
            data[name].units = unit
        data.createDimension("time", steps)
        data.createVariable("time", "f8", ("time",))[:] = np.arange(steps)
        data["time"].units = "days since 2001-01-01"
        rain = data.createVariable(
            "rain", "f4", ("time", "lat", "lon"), zlib=True, complevel=4, shuffle=True,
            chunksizes=(1, min(ny, 512), min(nx, 512)),
        )  # fmt: skip
        rain.units, rain.cell_methods = "mm", "time: sum"
        for n, field in enumerate(values):
            rain[n] = field


def fields(size):
    """Fields with structure, so that they deflate as rain does."""
    ny, nx = round(180 / size), round(360 / size)
    y, x = np.linspace(0, 60, ny)[:, None], np.linspace(0, 120, nx)
    rng = np.random.default_rng(1)
    for n in range(STEPS):
        wave = np.maximum(np.sin(x + n) * np.cos(y) + 0.3 * rng.random((ny, nx)) - 0.4, 0)
        yield np.round(wave * 40, 1).astype("f4")


def plain(source, target, size):
    """Read one grid and write fields of another size, by the library alone."""
    with netCDF4.Dataset(source) as data:
        for n in range(STEPS):
            data["rain"][n]
    with netCDF4.Dataset(target.with_name(f"like_{size}.nc")) as data:
        like = np.asarray(data["rain"][:])
    began = time.perf_counter()
    write(target, size, like)
    return time.perf_counter() - began


def reading(source):
    began = time.perf_counter()
    with netCDF4.Dataset(source) as data:
        for n in range(STEPS):
            data["rain"][n]
    return time.perf_counter() - began


def main():
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--runs", type=int, default=3)
    runs = options.parse_args().runs
    WORK.mkdir(exist_ok=True)
    fine, coarse = WORK / "fine_0.05.nc", WORK / "coarse_0.25.nc"
    for path, size in ((fine, 0.05), (coarse, 0.25)):
        if not path.exists():
            write(path, size, fields(size))
    for source, onto, size in ((fine, coarse, 0.25), (coarse, fine, 0.05)):
        out = WORK / "out.nc"
        words = [str(PROGRAM), "grid", str(source), "--onto", str(onto), "--out", str(out)]
        own, other = [], []
        for _ in range(runs):
            began = time.perf_counter()
            subprocess.run([*words, "--replace", "--quiet", "--memory", "1GB"], check=True)
            own.append(time.perf_counter() - began)
            out.rename(WORK / f"like_{size}.nc")
            other.append(reading(source) + plain(source, WORK / "plain.nc", size))
        a, b = statistics.median(own), statistics.median(other)
        print(f"{source.name} onto {size}°: {a:.2f} s, plain {b:.2f} s, ratio {a / b:.2f}")


if __name__ == "__main__":
    main()
