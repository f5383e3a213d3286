"""`bavlo series` by URL, over a stand-in server with a delay and a rate, beside the bytes it sends.

The server answers each request after 50 ms, and all of them together at 50 MB/s. What it sent at
that rate is the least time. Daily rain on 600 x 700 cells as NetCDF-4 (a chunk a step), classic
NetCDF and GeoTIFFs.
"""

import argparse
import http.server
import multiprocessing
import os
import re
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path

import netCDF4

import rasters
from reading import WORK, make

PROGRAM = Path(sys.executable).with_name("bavlo")
DELAY, RATE = 0.05, 50e6  # seconds, bytes a second
PIECE = 2**18  # bytes that are sent at once


class Server(http.server.BaseHTTPRequestHandler):
    """Byte ranges of the files of a folder, slowly."""

    protocol_version = "HTTP/1.1"
    folder, sent, requests = WORK, None, None
    lock, free_at = threading.Lock(), 0.0

    def do_HEAD(self):
        self.answer(body=False)

    def do_GET(self):
        self.answer(body=True)

    def answer(self, body):
        """The whole file, or the range of it that is asked for."""
        time.sleep(DELAY)
        path = self.folder / self.path.lstrip("/")
        if not path.is_file():
            self.send_response(404)
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        size = path.stat().st_size
        match = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
        first, last = (
            (int(match[1]), min(int(match[2] or size), size - 1)) if match else (0, size - 1)
        )
        self.send_response(206 if match else 200)
        self.send_header("Accept-Ranges", "bytes")
        if match:
            self.send_header("Content-Range", f"bytes {first}-{last}/{size}")
        self.send_header("Content-Length", str(last + 1 - first))
        self.end_headers()
        with self.requests.get_lock():
            self.requests.value += 1
        if body:
            with path.open("rb") as file:
                file.seek(first)
                for start in range(first, last + 1, PIECE):
                    self.send(file.read(min(PIECE, last + 1 - start)))

    def send(self, data):
        """Some bytes, when it is their turn."""
        with Server.lock:
            Server.free_at = max(Server.free_at, time.monotonic()) + len(data) / RATE
            until = Server.free_at
        time.sleep(max(0.0, until - time.monotonic()))
        self.wfile.write(data)
        with self.sent.get_lock():
            self.sent.value += len(data)

    def log_message(self, *_):
        pass


def serve(port, sent, requests):
    """Serve until the process is ended."""
    Server.sent, Server.requests = sent, requests
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Server)
    port.value = server.server_address[1]
    server.serve_forever()


def classic(path):
    """The same grid as a classic file."""
    copy = path.with_name(f"{path.stem}_classic.nc")
    if not copy.exists():
        draft = copy.with_suffix(".part")
        with (
            netCDF4.Dataset(path) as old,
            netCDF4.Dataset(draft, "w", format="NETCDF3_64BIT_OFFSET") as new,
        ):
            for name, length in old.dimensions.items():
                new.createDimension(name, len(length))
            for name, variable in old.variables.items():
                fill = getattr(variable, "_FillValue", None)
                own = new.createVariable(name, variable.dtype, variable.dimensions, fill_value=fill)
                own.units = variable.units
                own[:] = variable[:]
        shutil.move(draft, copy)
    return copy


def main():
    """Print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--steps", type=int, default=365)
    parser.add_argument("--files", type=int, default=200, help="GeoTIFFs")
    parser.add_argument("--only", default="", help="a part of the name of the lines to measure")
    parser.add_argument("--runs", type=int, default=2)
    given = parser.parse_args()
    path, regions = make(given.steps)
    folder, _ = rasters.make(given.files)
    files = {"NetCDF-4": [path], "classic NetCDF": [classic(path)]}
    files[f"{given.files:,} GeoTIFFs"] = sorted(folder.iterdir())
    port, sent, requests = (multiprocessing.Value(kind, 0) for kind in ("i", "q", "q"))
    server = multiprocessing.Process(target=serve, args=(port, sent, requests), daemon=True)
    server.start()
    while not port.value:
        time.sleep(0.05)
    for name, own in files.items():
        if given.only not in name:
            continue
        place = f"http://127.0.0.1:{port.value}"
        of = WORK / "tif_regions.gpkg" if len(own) > 1 else regions
        words = ["--regions", of, "--every", "month", "--kind", "amount"]
        words += ["--out", WORK / "remote.csv", "--replace", "--quiet"]
        remote = [f"{place}/{file.relative_to(WORK)}" for file in own]
        for addresses in (own, remote):
            for _ in range(given.runs):
                sent.value = requests.value = 0
                start = time.perf_counter()
                ended = subprocess.run(
                    [PROGRAM, "series", *addresses, *words],
                    env={**os.environ, "BAVLO_CACHE": str(WORK / "cache")},
                    capture_output=True,
                    text=True,
                )
                took = time.perf_counter() - start
                least = sent.value / RATE
                ratio = f"{took / least:.2f}" if least else ""
                print(
                    f"| {name} | {'by URL' if least else 'here'} | {took:.1f} s | "
                    f"{requests.value:,} | {sent.value / 1e6:,.0f} MB | {least:.1f} s | {ratio} |",
                    ended.stderr.strip()[-200:],
                )
    server.terminate()


if __name__ == "__main__":
    main()
