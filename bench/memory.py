"""Peak memory of `bavlo series` for 1, 5 and 30 years of demo data."""

import os
import subprocess
import sys
from pathlib import Path

WORK = Path(__file__).parent / "work"
SPANS = {1: ("2001", "2001"), 5: ("2001", "2005"), 30: ("1991", "2020")}


def peak_of(arguments):
    """Run a command and return its own peak resident memory in MB (Linux and macOS)."""
    process = subprocess.Popen(
        [sys.executable, "-m", "bavlo", *arguments], stdout=subprocess.DEVNULL
    )
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    return usage.ru_maxrss / (2**20 if sys.platform == "darwin" else 2**10)


def main():
    """Print the table."""
    data = WORK / "sorrel"
    if not data.exists():
        from bavlo.demo.files import make_files

        data.mkdir(parents=True)
        make_files(data, lambda done, parts: None)
    for years, (first, last) in SPANS.items():
        files = sorted(map(str, data.glob("rain_*.nc")))
        arguments = ["series", *files, "--regions", str(data / "watersheds.geojson")]
        peak = peak_of([*arguments, "--during", f"{first}..{last}"])
        print(f"| {years} | {years * 365.25:.0f} | {peak:.0f} MB |", flush=True)


if __name__ == "__main__":
    main()
