"""Commands on a cluster of one and of two workers on this machine, beside no cluster.

The data of `bench/reading.py`. Workers have one thread each and open the file themselves.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import time
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from bavlo.core.reduce.protocol import Block
from bavlo.engine.dask import Cluster, client
from bavlo.engine.protocol import not_needed
from bavlo.engine.segments import Segment
from reading import WORK, make

REGIONS = 3200
DASK = [sys.executable, "-m", "dask"]


@contextmanager
def cluster(workers, threads=1):
    """A scheduler with some workers; gives its address."""
    started = []
    with tempfile.TemporaryDirectory() as folder:
        told = Path(folder) / "scheduler.json"
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": folder}
        common = ["--scheduler-file", told, "--no-dashboard"]
        try:
            started.append(
                subprocess.Popen(
                    [*DASK, "scheduler", "--host", "127.0.0.1", "--port", "0", *common], **quiet
                )
            )
            while not told.exists() or not told.read_text().strip():
                time.sleep(0.1)
            for _ in range(workers):
                started.append(
                    subprocess.Popen(
                        [*DASK, "worker", "--nthreads", str(threads), "--no-nanny", *common],
                        **quiet,
                    )
                )
            time.sleep(5)
            yield json.loads(told.read_text())["address"]
        finally:
            for process in started:
                process.kill()
                process.wait()


def seconds(path, regions, arguments):
    """How long the command takes."""
    start = time.perf_counter()
    subprocess.run(
        [
            *(sys.executable, "-m", "bavlo", arguments[0], path, "--regions", regions),
            *("--every", "month", *arguments[1:], "--out", WORK / "c.csv", "--replace", "--quiet"),
        ],
        check=True,
    )
    return time.perf_counter() - start


class NoReader:
    """Reads nothing."""

    def read(self, unit):
        return None

    def files(self, first, last):
        return "nothing"


class NoWork:
    """Units that take no time and give what 3,200 regions give."""

    def update(self, unit, values):
        return [None]

    def merge(self, earlier, later):
        return None

    def settle(self, state):
        return np.zeros((REGIONS, 4)), None

    def close(self, state):
        return state


def rate(address, count=4000):
    """Segments a second that the scheduler and the command manage when nothing else is done."""
    segments = [Segment((Block(n, n + 1),)) for n in range(count)]
    with client(address, 1) as connected:
        start = time.perf_counter()
        for _ in Cluster(connected, not_needed).reduce(NoReader(), NoWork(), segments):
            pass
        return count / (time.perf_counter() - start)


CONNECTING = """
import sys
from bavlo.engine.dask import client
with client(sys.argv[1], 1):
    pass
"""


def connecting(address):
    """How much longer a program takes that loads Dask and connects than one that does nothing."""
    times = []
    for program in ("import bavlo", CONNECTING):
        start = time.perf_counter()
        subprocess.run([sys.executable, "-c", program, address], check=True)
        times.append(time.perf_counter() - start)
    return times[1] - times[0]


def main():
    """Print the table."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--steps", type=int, default=7300)
    parser.add_argument("--only", default="", help="beginning of the name of one line")
    given = parser.parse_args()
    long, regions = make(given.steps)
    first, short = make(31)[0], make(730)[0]
    for threads in (1, 32):
        with cluster(2, threads) as address:
            print(f"segments a second, 2 x {threads} threads without work: {rate(address):.0f}")
    cells = ["series", "--measure", "p90"]
    spells = ["extremes", "--when", "rain >= 1 mm for 3 days", "--count", "days,longest"]
    percentile = ["extremes", "--when", "rain > p95 of wet days", "--base", "1991..1992"]
    for name, path, words in (
        ("regions first", long, ["series"]),
        ("cells first", long, cells),
        ("spells", long, spells),
        ("percentile condition", short, [*percentile, "--memory", "4GB"]),
    ):
        if not name.startswith(given.only):
            continue
        alone = seconds(path, regions, [*words, "--jobs", "1"])
        here = (WORK / "c.csv").read_bytes()
        print(f"| {name} | here, one job | {alone:.1f} s | 1 |", flush=True)
        for workers in (1, 2):
            with cluster(workers) as address:
                seconds(first, regions, ["series", "--cluster", address])  # so that workers load it
                apart = connecting(address)
                taken = seconds(path, regions, [*words, "--cluster", address]) - apart
            assert (WORK / "c.csv").read_bytes() == here
            print(
                f"| {name} | {workers} worker(s) | {taken:.1f} s, connecting {apart:.1f} s more"
                f" | {taken / alone:.2f} |",
                flush=True,
            )


if __name__ == "__main__":
    main()
