"""GRIB: finding 10,000 messages, and a year of daily fields beside decoding its messages.

The library's own walk asks for the same keys of every message. The plain decoding takes all
messages of the year in as many threads as there are processors, and nothing else.
"""

import argparse
import statistics
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date, timedelta

import numpy as np
import shapely

from bavlo.grids.cells import whole
from bavlo.grids.formats.grib_messages import KEYS, library, scan
from bavlo.grids.open import open_grid
from bavlo.regions.vector import Features, write
from bavlo.request.options import usable_cpus
from reading import NX, NY, WORK

eccodes = library(WORK)


def template(columns, rows):
    """A message on cells of 0.05 degrees from 10 E, 25 N."""
    handle = eccodes.codes_grib_new_from_samples("regular_ll_sfc_grib2")
    for key, value in {
        "Ni": columns,
        "Nj": rows,
        "latitudeOfFirstGridPointInDegrees": 24.975,
        "latitudeOfLastGridPointInDegrees": 24.975 - 0.05 * (rows - 1),
        "longitudeOfFirstGridPointInDegrees": 10.025,
        "longitudeOfLastGridPointInDegrees": 10.025 + 0.05 * (columns - 1),
        "iDirectionIncrementInDegrees": 0.05,
        "jDirectionIncrementInDegrees": 0.05,
        "bitsPerValue": 16,
    }.items():
        eccodes.codes_set(handle, key, value)
    return handle


def many(path, count):
    """Small messages of two variables at two leads."""
    if path.exists():
        return
    handle = template(60, 40)
    eccodes.codes_set_values(handle, np.random.default_rng(1).random(2400) + 280)
    with path.open("wb") as file:
        for n in range(count // 4):
            day = date(2000, 1, 1) + timedelta(n)
            eccodes.codes_set(handle, "dataDate", int(day.strftime("%Y%m%d")))
            for name in ("2t", "sp"):
                eccodes.codes_set(handle, "shortName", name)
                for step in (0, 6):
                    eccodes.codes_set(handle, "step", step)
                    file.write(eccodes.codes_get_message(handle))


def year(path):
    """365 daily fields of 600 x 700 cells."""
    if path.exists():
        return
    rng = np.random.default_rng(2)
    handle = template(NX, NY)
    eccodes.codes_set(handle, "shortName", "2t")
    with path.open("wb") as file:
        for n in range(365):
            day = date(2001, 1, 1) + timedelta(n)
            eccodes.codes_set(handle, "dataDate", int(day.strftime("%Y%m%d")))
            eccodes.codes_set_values(handle, 280 + rng.normal(0, 5, NX * NY))
            file.write(eccodes.codes_get_message(handle))


def walked(path):
    """The library's own walk over all messages."""
    count = 0
    with path.open("rb") as file:
        while (handle := eccodes.codes_grib_new_from_file(file, headers_only=True)) is not None:
            for key in (*KEYS, "md5GridSection", "dataDate", "dataTime", "stepRange"):
                eccodes.codes_get(handle, key)
            eccodes.codes_release(handle)
            count += 1
    return count


def decoded(path):
    """All messages of a file decoded in threads."""
    found = scan(path)

    def one(n):
        with path.open("rb") as file:
            file.seek(int(found.offset[n]))
            handle = eccodes.codes_new_from_message(file.read(int(found.length[n])))
        values = eccodes.codes_get_values(handle)
        eccodes.codes_release(handle)
        return values.size

    with ThreadPoolExecutor(usable_cpus()) as pool:
        return sum(pool.map(one, range(found.end.size)))


def read(path):
    """The same fields by the program's own reader, in as many threads."""
    source = open_grid([path])
    cells = whole(source.layout.shape)
    with ThreadPoolExecutor(usable_cpus()) as pool:
        steps = range(len(source.time))
        return sum(pool.map(lambda n: source.read(n, n + 1, cells).size, steps))


def timed(work, *arguments):
    """Seconds that a call takes."""
    began = time.perf_counter()
    work(*arguments)
    return time.perf_counter() - began


def series(path, regions):
    """Monthly means by the program, in a process of its own."""
    command = ["series", path, "--regions", regions, "--out", WORK / "grib.csv", "--replace"]
    subprocess.run([sys.executable, "-m", "bavlo", *map(str, command), "--quiet"], check=True)


def main():
    """Print both ratios."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--messages", type=int, default=10_000)
    runs = parser.parse_args()
    WORK.mkdir(exist_ok=True)
    index, daily, regions = WORK / "many.grib2", WORK / "year.grib2", WORK / "grib_regions.gpkg"
    many(index, runs.messages)
    year(daily)
    shapes = np.array([shapely.box(x, y, x + 2, y + 2) for x in range(12, 40, 3) for y in (0, 6)])
    names = {"name": np.array([str(n) for n in range(shapes.size)], object)}
    write(regions, Features(shapes, names, "OGC:CRS84", "GPKG", "regions"), "Polygon")
    found = [(timed(scan, index), timed(walked, index)) for _ in range(runs.runs)]
    own, library = (statistics.median(column) for column in zip(*found, strict=True))
    print(
        f"{runs.messages} messages: {own:.2f} s, the library {library:.1f} s: {own / library:.3f}"
    )
    found = [
        (timed(read, daily), timed(series, daily, regions), timed(decoded, daily))
        for _ in range(runs.runs)
    ]
    own, whole_run, plain = (statistics.median(column) for column in zip(*found, strict=True))
    print(f"a year of daily fields: {own:.2f} s, decoding {plain:.2f} s: {own / plain:.2f}")
    print(f"the whole of `bavlo series` on it: {whole_run:.2f} s")


if __name__ == "__main__":
    main()
