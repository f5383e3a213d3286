"""What the digests in the provenance cost `bavlo series`, as a share of its own time.

The same 730 steps of 600 x 700 cells by 3,200 regions, monthly totals to CSV: in deflated chunks of
a step, as one contiguous variable, and as a folder of deflated GeoTIFFs. Beside each run stands one
in which no digest is taken.
"""

import argparse
import subprocess
import sys
import time

import netCDF4
import numpy as np
import rasterio
from rasterio.transform import from_origin

from reading import NX, NY, WORK, make

STEPS = 730
WITHOUT = """
import sys
from bavlo.jobs import opening as grids
from bavlo.jobs import provenance
provenance.digest_of = lambda file: None
grids.take_ahead = lambda files: None
from bavlo.cli.main import main
sys.exit(main(sys.argv[1:]))
"""


def contiguous(path):
    """The same values in one run of bytes."""
    out = WORK / f"rain_{STEPS}_contiguous.nc"
    if not out.exists():
        with netCDF4.Dataset(path) as source, netCDF4.Dataset(out, "w") as data:
            for name, size in (("time", STEPS), ("lat", NY), ("lon", NX)):
                data.createDimension(name, size)
                data.createVariable(name, "f8", (name,))[:] = source[name][:]
                data[name].units = source[name].units
            rain = data.createVariable("rain", "f4", ("time", "lat", "lon"), fill_value=-9999)
            rain.units = "mm"
            data.set_auto_maskandscale(False)
            source.set_auto_maskandscale(False)
            for n in range(STEPS):
                rain[n] = source["rain"][n]
    return out


def rasters(path):
    """The same values, a deflated GeoTIFF for each day."""
    folder = WORK / f"rain_{STEPS}_tif"
    folder.mkdir(exist_ok=True)
    days = np.datetime64("1991-01-01") + np.arange(STEPS)
    profile = {
        "driver": "GTiff",
        "width": NX,
        "height": NY,
        "count": 1,
        "dtype": "float32",
        "crs": "EPSG:4326",
        "transform": from_origin(10 - 0.025, 24.975, 0.05, 0.05),
        "nodata": -9999,
        "compress": "deflate",
        "tiled": True,
    }
    with netCDF4.Dataset(path) as source:
        source.set_auto_maskandscale(False)
        for n, day in enumerate(days):
            out = folder / f"rain_{str(day).replace('-', '')}.tif"
            if not out.exists():
                with rasterio.open(out, "w", **profile) as file:
                    file.write(source["rain"][n][::-1], 1)
    return folder


def run(grid, regions, more, without):
    """Seconds of the command, as it is or without digests."""
    out = WORK / "digests.csv"
    command = ["series", grid, "--regions", regions, "--every", "month", *more]
    asked = [*map(str, command), "--out", str(out), "--replace", "--quiet"]
    program = ["-c", WITHOUT] if without else ["-m", "bavlo"]
    start = time.perf_counter()
    subprocess.run([sys.executable, *program, *asked], check=True)
    return time.perf_counter() - start


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=9, help="timed runs after one to warm up")
    given = parser.parse_args()
    path, regions = make(STEPS)
    raster = ["--kind", "amount", "--input-unit", "mm"]
    kinds = {
        "NetCDF, a step a chunk, deflated": (path, []),
        "NetCDF, contiguous": (contiguous(path), []),
        f"{STEPS} GeoTIFFs, deflated": (rasters(path), raster),
    }
    for name, (grid, more) in kinds.items():
        times = np.array(
            [
                [run(grid, regions, more, without) for without in (False, True)]
                for _ in range(given.runs + 1)
            ]
        )[1:]
        ours, without = np.median(times, axis=0)
        print(f"| {name} | {ours:.2f} s | {without:.2f} s | {100 * (ours / without - 1):.1f} % |")


if __name__ == "__main__":
    main()
