"""`bavlo series` on a folder of daily `.tif.gz`, beside only unpacking them on all cores.

1600 x 1500 float32 cells a file, as they stand in the file; half of the cells are used. *Floor*:
every file read and unpacked once by libdeflate, on all cores.
"""

import argparse
import gzip
import os
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta

import numpy as np
from deflate import gzip_decompress
from rasterio.io import MemoryFile
from rasterio.transform import from_origin

from chunks import bavlo, beside
from reading import WORK
from static import apart

ROWS, COLUMNS = 1600, 1500
DIFFERENT = 20
WEST, NORTH, SOUTH, EAST = 78.0, -32.0, -38.0, 86.0  # of the demo's grids


def make(folder, count):
    """The files, made once; only some are different, which is as much to unpack."""
    if folder.exists():
        return
    draft = folder.with_suffix(".part")
    draft.mkdir(parents=True)
    rng = np.random.default_rng(3)
    transform = from_origin(WEST, NORTH, (EAST - WEST) / COLUMNS, (NORTH - SOUTH) / ROWS)
    noise = rng.uniform(0.5, 1.5, (ROWS, COLUMNS))
    packed = []
    for _ in range(min(DIFFERENT, count)):
        coarse = rng.gamma(0.3, 8, (ROWS // 20, COLUMNS // 20))
        field = np.round(np.kron(coarse, np.ones((20, 20))) * noise, 2).astype("f4")
        with MemoryFile() as memory:
            with memory.open(
                driver="GTiff", width=COLUMNS, height=ROWS, count=1, dtype="float32",
                nodata=-9999, crs="EPSG:4326", transform=transform,
            ) as data:  # fmt: skip
                data.write(field, 1)
                data.units = ["mm"]
            packed.append(gzip.compress(memory.read(), 6))
    for n in range(count):
        name = f"rain_{date(2001, 1, 1) + timedelta(n)}.tif.gz"
        (draft / name).write_bytes(packed[n % len(packed)])
    draft.rename(folder)


def floor(folder):
    """Read and unpack every file once, on all cores."""

    def one(path):
        content = path.read_bytes()
        return len(gzip_decompress(content, int.from_bytes(content[-4:], "little")))

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        sum(pool.map(one, sorted(folder.iterdir())))


def main():
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=365)
    parser.add_argument("--runs", type=int, default=3)
    given = parser.parse_args()
    WORK.mkdir(exist_ok=True)
    folder, regions = WORK / f"gz_{given.files}", WORK / "sorrel" / "watersheds.geojson"
    if not regions.exists():
        bavlo(["demo", WORK / "sorrel"])
    apart(make, folder, given.files)
    command = ["series", folder, "--regions", regions, "--every", "month"]
    ours, least, memory = beside(command, floor, folder, given.runs)
    print(
        f"| {given.files} | {ours:.1f} s | {least:.1f} s | {ours / least:.2f} | {memory:.0f} MB |"
    )


if __name__ == "__main__":
    main()
