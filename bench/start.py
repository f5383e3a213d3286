"""A small job beside importing NumPy: CPU of `bavlo series` on the demo's monthly file."""

import argparse
import os
import resource
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("bavlo")
LIBRARIES = ("shapely", "netCDF4", "h5py", "pyproj", "pyogrio", "cf_units", "scipy.sparse")


def cpu(command, folder):
    """Seconds of all processors that a command takes."""
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        command, check=True, cwd=folder, env=environment,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return sum(getattr(after, n) - getattr(before, n) for n in ("ru_utime", "ru_stime"))


def main():
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--runs", type=int, default=9)
    runs = options.parse_args().runs
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([PROGRAM, "demo", "sorrel", "--quiet"], check=True, cwd=folder,
                       stdout=subprocess.DEVNULL)  # fmt: skip
        job = [
            PROGRAM, "series", "sorrel/monthly_rain.nc", "--regions", "sorrel/watersheds.geojson",
            "--every", "year",
        ]  # fmt: skip
        commands = {
            "python": [sys.executable, "-c", "pass"],
            "numpy": [sys.executable, "-c", "import numpy"],
            **{f"numpy and {n}": [sys.executable, "-c", f"import numpy, {n}"] for n in LIBRARIES},
            "bavlo --version": [PROGRAM, "--version"],
            "the job": job,
        }
        took = {name: [] for name in commands}
        for _ in range(runs):
            for name, command in commands.items():
                took[name].append(cpu(command, folder))
    numpy = statistics.median(took["numpy"])
    for name, each in took.items():
        middle = statistics.median(each)
        print(f"{name:24} {1000 * middle:6.0f} ms  {middle / numpy:5.2f} of importing NumPy")


if __name__ == "__main__":
    main()
