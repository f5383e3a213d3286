"""Counting over many cells and years, beside reading the same data once.

The data of `bench/reading.py`, but thirty years of 600 x 840 cells; one region over all of them;
kept to 2 GB. Reading once: the netCDF4 library in blocks of 32 steps, without masking.
"""

import argparse
import os
import subprocess
import sys
import time

import netCDF4
import numpy as np
import shapely

from bavlo.regions.vector import Features, write
from reading import WORK, make

WIDTH = 840
JOBS = {
    "fixed threshold": ["--when", "rain >= 20 mm", "--when", "rain >= 50 mm"],
    "spells": ["--when", "rain < 1 mm for 5 days", "--count", "days,longest"],
    "percentile": ["--when", "rain > p95 by calendar day", "--base", "1991..2020"],
}


def everything():
    """One region over all cells."""
    path = WORK / "everything.gpkg"
    if not path.exists():
        shape = np.array([shapely.box(9.9, -5.1, 52, 25)], object)
        write(
            path,
            Features(shape, {"name": np.array(["all"], object)}, "EPSG:4326", "GPKG", "r"),
            "Polygon",
        )
    return path


def read_once(path):
    """Read all of it, and nothing else."""
    with netCDF4.Dataset(path) as data:
        data.set_auto_maskandscale(False)
        for first in range(0, data["rain"].shape[0], 32):
            data["rain"][first : first + 32]


def run(path, regions, arguments, memory):
    """Seconds and peak memory in MB of one command."""
    start = time.perf_counter()
    process = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "bavlo",
            "extremes",
            path,
            "--regions",
            regions,
            *arguments,
            "--every",
            "year",
            "--memory",
            memory,
            "--out",
            WORK / "x.csv",
            "--replace",
            "--quiet",
        ]
    )
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return time.perf_counter() - start, usage.ru_maxrss / 2**10


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--steps", type=int, default=10957)
    parser.add_argument("--memory", default="2GB")
    given = parser.parse_args()
    path, _ = make(given.steps, WIDTH)
    regions = everything()
    start = time.perf_counter()
    read_once(path)
    once = time.perf_counter() - start
    print(f"| reading once | {once:.0f} s | 1 | |", flush=True)
    for name, arguments in JOBS.items():
        seconds, peak = run(path, regions, arguments, given.memory)
        print(f"| {name} | {seconds:.0f} s | {seconds / once:.2f} | {peak:.0f} MB |", flush=True)


if __name__ == "__main__":
    main()
