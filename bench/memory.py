"""Peak memory of commands for 1, 10 and 40 years of daily rain on 600 x 700 cells.

The data of `bench/reading.py`, twice in a row; 3,200 regions; monthly values.
"""

import argparse
import os
import shutil
import subprocess
import sys

import netCDF4

from reading import WORK, make

STEPS = 7300
YEARS = (1, 10, 40)
JOBS = {
    "series": ["series"],
    "series, p90 of the cells' totals": ["series", "--measure", "p90"],
    "extremes, two thresholds": ["extremes", "--when", "rain >= 20 mm", "--when", "rain >= 50 mm"],
}


def peak_of(arguments):
    """Run a command and return its own peak resident memory in MB (Linux and macOS)."""
    process = subprocess.Popen(
        [sys.executable, "-m", "bavlo", *map(str, arguments)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return usage.ru_maxrss / (2**20 if sys.platform == "darwin" else 2**10)


def later(path):
    """The same file for the time after it."""
    copy = path.with_name(f"{path.stem}_later.nc")
    if not copy.exists():
        draft = copy.with_suffix(".part")
        shutil.copyfile(path, draft)
        with netCDF4.Dataset(draft, "a") as data:
            data["time"][:] = data["time"][:] + STEPS
        draft.rename(copy)
    return copy


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--memory", default="1GB")
    given = parser.parse_args()
    path, regions = make(STEPS)
    grids = [path, later(path)]
    for name, command in JOBS.items():
        peaks = [
            peak_of(
                [
                    *(command[0], *grids, *command[1:], "--regions", regions),
                    *("--every", "month", "--during", f"1991..{1990 + years}"),
                    *("--memory", given.memory, "--out", WORK / "m.csv", "--replace"),
                ]
            )
            for years in YEARS
        ]
        print(f"| {name} | {' | '.join(f'{peak:.0f} MB' for peak in peaks)} |", flush=True)


if __name__ == "__main__":
    main()
