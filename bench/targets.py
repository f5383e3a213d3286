"""Other commands beside `bavlo series` on the same data, and what a small job and a script take.

The data of `bench/reading.py`. Each figure is the median of interleaved runs.
"""

import argparse
import statistics
import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from bavlo.regions.vector import Features, read, write
from reading import WORK, make

BAVLO = [sys.executable, "-m", "bavlo"]
QUIET = ["--replace", "--quiet", "--memory", "4GB"]


def seconds(command):
    """How long a command takes."""
    start = time.perf_counter()
    subprocess.run(
        [*map(str, command)], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    return time.perf_counter() - start


def ratios(commands, runs):
    """Print the median of each command and its ratio to the first one's."""
    times = {name: [] for name in commands}
    for _ in range(runs + 1):
        for name, command in commands.items():
            times[name].append(seconds(command))
    first = None
    for name, taken in times.items():
        middle = statistics.median(taken[1:] or taken)
        first = first or middle
        print(f"| {name} | {middle:.2f} s | {middle / first:.2f} |", flush=True)


def few_regions(regions):
    """200 of the regions."""
    path = WORK / "regions_200.gpkg"
    if not path.exists():
        features = read(regions, None)
        keep = np.arange(0, 3200, 16)
        write(
            path,
            Features(
                features.geometry[keep],
                {"name": features.fields["name"][keep]},
                "EPSG:4326",
                "GPKG",
                "r",
            ),
            "Polygon",
        )
    return path


def main():
    """Print the tables."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--steps", type=int, default=7300)
    parser.add_argument("--runs", type=int, default=1)
    given = parser.parse_args()
    path, regions = make(given.steps)
    base = f"1991..{1990 + given.steps // 365}"
    common = [path, "--regions", regions, *QUIET, "--out", WORK / "t.csv"]
    extremes = [*BAVLO, "extremes", *common, "--every", "month"]
    whens = [word for mm in (5, 20, 50) for word in ("--when", f"rain >= {mm} mm")]
    ratios(
        {
            "series": [*BAVLO, "series", *common, "--every", "month"],
            "normals": [*BAVLO, "normals", *common, "--every", "month", "--base", base],
            "anomalies": [*BAVLO, "anomalies", *common, "--every", "month", "--base", base],
            "median, p90 by region": [
                *BAVLO,
                "series",
                *common,
                "--every",
                "month",
                "--measure",
                "median,p90",
                "--order",
                "region",
            ],
            "three fixed conditions": [*extremes, *whens],
            "percentile condition": [
                *extremes,
                "--when",
                "rain > p95 by calendar day",
                "--base",
                base,
            ],
        },
        given.runs,
    )
    small, few = make(730)[0], few_regions(regions)
    ratios(
        {
            "series, 200 regions, 730 steps": [
                *BAVLO,
                "series",
                small,
                "--regions",
                few,
                "--every",
                "month",
                *QUIET,
                "--out",
                WORK / "t.csv",
            ],
            "plain_script.py": [
                sys.executable,
                "bench/plain_script.py",
                small,
                few,
                WORK / "p.csv",
            ],
        },
        given.runs,
    )
    program = Path(sys.executable).with_name("bavlo")
    ratios(
        {
            "python -c pass": [sys.executable, "-c", "pass"],
            "bavlo --version": [program, "--version"],
            "bavlo --help": [program, "--help"],
            "bavlo series --help": [program, "series", "--help"],
        },
        5,
    )


if __name__ == "__main__":
    main()
