"""`bavlo run`: forty years of daily data, then a month more, by itself or in the one file."""

import argparse
import shutil
import subprocess
import sys
import time
from pathlib import Path

import netCDF4
import numpy as np
import shapely

WORK = Path(__file__).parent / "work" / "study"
PROGRAM = Path(sys.executable).with_name("bavlo")
SIZE = 200  # rows and columns
EVERY = ("month", "year")
FULL = ("month", "year", "season", "JJA", "dekad")
MEASURES = ("mean", "p90", "max")


def write(path, first, last):
    """Days from one date to another, excluded; appended where the file is there."""
    days = np.arange(np.datetime64(first), np.datetime64(last))
    stamps = (days - np.datetime64("1981-01-01")).astype(float)
    is_new = not path.exists()
    with netCDF4.Dataset(path, "w" if is_new else "a") as data:
        if is_new:
            for name, unit in (("lat", "degrees_north"), ("lon", "degrees_east")):
                data.createDimension(name, SIZE)
                data.createVariable(name, "f8", (name,))[:] = 0.05 * (np.arange(SIZE) + 0.5)
                data[name].units = unit
            data.createDimension("time", None)
            data.createVariable("time", "f8", ("time",), chunksizes=(512,))
            data["time"].units = "days since 1981-01-01"
            rain = data.createVariable(
                "rain", "i2", ("time", "lat", "lon"), zlib=True, complevel=1,
                chunksizes=(1, SIZE, SIZE),
            )  # fmt: skip
            rain.units, rain.cell_methods, rain.scale_factor = "mm", "time: sum", 0.1
        start = data["time"].size if not is_new else 0
        data["time"][start : start + days.size] = stamps
        rain = data["rain"]
        wave = np.add.outer(np.sin(np.arange(SIZE) / 9), np.cos(np.arange(SIZE) / 7))
        for n, stamp in enumerate(stamps):
            rng = np.random.default_rng(int(stamp))
            rain[start + n] = np.maximum(wave + rng.normal(size=(SIZE, SIZE)), 0) * 6


def write_regions(path, count=500):
    """Cells of a mesh around points."""
    rng = np.random.default_rng(4)
    points = shapely.MultiPoint(rng.uniform(0.2, 9.8, (count, 2)))
    cells = shapely.get_parts(shapely.voronoi_polygons(points, extend_to=shapely.box(0, 0, 10, 10)))
    cells = shapely.intersection(cells, shapely.box(0, 0, 10, 10))
    features = ",".join(
        f'{{"type":"Feature","properties":{{"name":"r{n}"}},"geometry":{shapely.to_geojson(cell)}}}'
        for n, cell in enumerate(cells)
    )
    path.write_text(f'{{"type":"FeatureCollection","features":[{features}]}}')


def study(folder, grids, *, full):
    """Series of several periods and measures; in full also what is made of their tables."""
    lines = ["[grids]", f'rain = "{grids}"', "[regions]", 'file = "regions.geojson"']
    number = 0
    for every in FULL if full else EVERY:
        for measure in MEASURES:
            number += 1
            lines += [
                "[[result]]", f'name = "s{number}"', 'command = "series"', f'every = "{every}"',
                f'measure = "{measure}"', f'out = "s{number}.csv"',
            ]  # fmt: skip
            lines += [] if not full else [
                "[[result]]", f'name = "a{number}"', 'command = "anomalies"', f'of = "s{number}"',
                'base = "1991..2020"', 'during = "{latest_year}"', f'out = "a{number}.csv"',
            ]  # fmt: skip
    (folder / "s.toml").write_text("\n".join(lines))


def timed(folder):
    began = time.perf_counter()
    subprocess.run([PROGRAM, "run", folder / "s.toml", "--quiet"], check=True)
    return time.perf_counter() - began


def main():
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--full", action="store_true", help="thirty results, with anomalies")
    full = options.parse_args().full
    WORK.mkdir(parents=True, exist_ok=True)
    for name in ("yearly", "one"):
        folder = WORK / name
        folder.mkdir(exist_ok=True)
        write_regions(folder / "regions.geojson")
        for path in folder.iterdir():
            if path.suffix in (".csv", ".json", ".toml") or path.name == ".bavlo":
                shutil.rmtree(path) if path.is_dir() else path.unlink()
    for year in range(1981, 2021):
        path = WORK / "yearly" / f"rain_{year}.nc"
        if not path.exists():
            write(path, f"{year}-01-01", f"{year + 1}-01-01")
    whole = WORK / "one" / "rain.nc"
    whole.unlink(missing_ok=True)
    (WORK / "yearly" / "rain_2021.nc").unlink(missing_ok=True)
    for year in range(1981, 2021):
        write(whole, f"{year}-01-01", f"{year + 1}-01-01")
    for name, grids, more in (
        ("yearly", "rain_*.nc", WORK / "yearly" / "rain_2021.nc"),
        ("one", "rain.nc", whole),
    ):
        folder = WORK / name
        study(folder, grids, full=full)
        first, nothing = timed(folder), timed(folder)
        write(more, "2021-01-01", "2021-02-01")
        again = timed(folder)
        share = (again - 3) / first
        print(
            f"{name:7} first {first:6.1f} s, nothing changed {nothing:5.2f} s, a month more "
            f"{again:5.1f} s: {share:.1%} of the first and 3 s"
        )


if __name__ == "__main__":
    main()
