"""`bavlo series` on files whose chunks hold many steps, beside inflating every chunk once.

The data: daily float32 rain, deflate and shuffle, in chunks of many steps, one row, one cell or one
year; the demo's watersheds, which use half of the cells. The floor fetches and inflates every chunk
of the file, also those that no region has, on all cores, and does nothing else.
"""

import argparse
import math
import os
import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import h5py
import netCDF4
import numpy as np
from deflate import zlib_decompress

from reading import WORK, write_axes
from static import apart

PROGRAM = Path(sys.executable).with_name("bavlo")
SHAPES = {  # steps, rows and columns of the grid; of a chunk; whether time comes last
    "730 × 7 × 7": ((1460, 840, 840), (730, 7, 7), False),
    "30 × 1 × 840": ((1460, 840, 840), (30, 1, 840), False),
    "1 × 1 × 1,460": ((1460, 420, 420), (1460, 1, 1), True),
    "365 × 420 × 420": ((1460, 420, 420), (365, 420, 420), False),
}


def make(path, shape, chunk, is_last):
    """The grid of one sort of chunks, made once."""
    if path.exists():
        return
    steps, rows, columns = shape
    rng = np.random.default_rng(1)
    draft = path.with_suffix(".part.nc")
    order, sizes = ("time", "lat", "lon"), chunk
    if is_last:
        order, sizes = ("lat", "lon", "time"), (*chunk[1:], chunk[0])
    with netCDF4.Dataset(draft, "w") as data:
        lat, lon = np.linspace(-32, -38, rows), np.linspace(78, 86, columns)
        write_axes(data, np.arange(steps), lat, lon, "2001-01-01")
        rain = data.createVariable(
            "rain", "f4", order, zlib=True, complevel=1, shuffle=True, chunksizes=sizes
        )
        rain.units, rain.standard_name = "mm", "precipitation_amount"
        height, deep = chunk[:2]
        base = np.round(rng.gamma(0.4, 8, (height, deep, columns)).astype("f4"), 1)
        base[base < 2] = 0
        for first in range(0, steps, height):
            for row in range(0, rows, deep):
                part = np.roll(base, 7 * row + first, axis=0)
                part = part[: min(height, steps - first), : min(deep, rows - row)]
                if is_last:
                    rain[row : row + deep, :, first : first + height] = part.transpose(1, 2, 0)
                else:
                    rain[first : first + height, row : row + deep] = part
    draft.rename(path)


def floor(path):
    """Fetch and inflate every chunk once, on all cores."""
    with h5py.File(path) as file:
        places = []
        size = math.prod(file["rain"].chunks) * 4
        file["rain"].id.chunk_iter(lambda info: places.append((info.byte_offset, info.size)))
    descriptor = os.open(path, os.O_RDONLY)

    def one(place):
        return len(zlib_decompress(os.pread(descriptor, place[1], place[0]), size))

    with ThreadPoolExecutor(os.cpu_count()) as pool:
        sum(pool.map(one, sorted(places)))
    os.close(descriptor)


def bavlo(words):
    """Seconds of a command, from its start to the written file, and its peak memory, MB."""
    start = time.perf_counter()
    process = subprocess.Popen([PROGRAM, *words], stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    assert status == 0, words
    return time.perf_counter() - start, used.ru_maxrss / 1024


def beside(words, floor, path, runs):
    """Medians of interleaved runs of a command and of the least that it could do, and peak memory.

    Parameters
    ----------
    words
        Of the command, without its output.
    floor
        Does the least, given the path.

    Returns
    -------
    ours, least
        Seconds.
    memory
        MB.
    """
    ours, least, memory = [], [], []
    with tempfile.TemporaryDirectory(dir=WORK) as folder:
        command = [*words, "--memory", "1GB", "--quiet", "--out", f"{folder}/out.csv", "--replace"]
        for _ in range(runs):
            seconds, most = bavlo(command)
            ours.append(seconds)
            memory.append(most)
            start = time.perf_counter()
            apart(floor, path)
            least.append(time.perf_counter() - start)
    return statistics.median(ours), statistics.median(least), max(memory)


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--only", type=int, help="number of the sort of chunks, from 0 on")
    parser.add_argument("--regions", type=Path, help="the demo's watersheds by default")
    given = parser.parse_args()
    WORK.mkdir(exist_ok=True)
    regions = given.regions or WORK / "sorrel" / "watersheds.geojson"
    if not regions.exists():
        bavlo(["demo", WORK / "sorrel"])
    print("| chunk (time × y × x) | cells | Bavlo | floor | of the floor | peak memory |")
    print("|---|---|---|---|---|---|")
    for number, (name, (shape, chunk, is_last)) in enumerate(SHAPES.items()):
        if given.only not in (None, number):
            continue
        path = WORK / f"chunks_{'_'.join(map(str, chunk))}.nc"
        apart(make, path, shape, chunk, is_last)
        command = ["series", path, "--regions", regions, "--every", "month"]
        ours, least, memory = beside(command, floor, path, given.runs)
        print(
            f"| {name} | {shape[1]} × {shape[2]} | {ours:.1f} s | {least:.1f} s "
            f"| {ours / least:.2f} | {memory:.0f} MB |"
        )


if __name__ == "__main__":
    main()
