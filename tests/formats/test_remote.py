"""Grids by URL: the same numbers, and only the bytes that are needed."""

import http.server
import re
import threading

import numpy as np
import pytest

from support import box, run, write_grid, write_regions

pytest.importorskip("fsspec")
pytest.importorskip("aiohttp")


class Ranges(http.server.BaseHTTPRequestHandler):
    """Serves a folder by byte ranges, as object stores do, and counts what it sends."""

    folder = None
    sent = 0

    def do_HEAD(self):
        self._answer(body=False)

    def do_GET(self):
        self._answer(body=True)

    def _answer(self, body):
        path = self.folder / self.path.lstrip("/")
        if not path.is_file():
            self.send_error(404)
            return
        data = path.read_bytes()
        match = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
        self.send_response(206 if match else 200)
        self.send_header("Accept-Ranges", "bytes")
        if match:
            first, last = int(match[1]), int(match[2] or len(data) - 1)
            last = min(last, len(data) - 1)
            self.send_header("Content-Range", f"bytes {first}-{last}/{len(data)}")
            data = data[first : last + 1]
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        if body:
            type(self).sent += len(data)
            self.wfile.write(data)

    def log_message(self, *_):
        pass


@pytest.fixture(scope="module")
def served(tmp_path_factory):
    """Two files of a grid with the sea in it, and a server of their folder."""
    folder = tmp_path_factory.mktemp("served")
    rng = np.random.default_rng(4)
    values = rng.gamma(0.5, 9, (730, 60, 70)).astype("f4")
    values[:, :20, :20] = -9999
    storage = {"zlib": True, "shuffle": True, "chunksizes": (1, 30, 35), "fill_value": -9999.0}
    for part in (0, 1):
        steps = slice(365 * part, 365 * part + 365)
        write_grid(
            folder / f"rain_{part}.nc",
            values[steps],
            stamps=np.arange(730)[steps],
            attributes={"cell_methods": "time: sum"},
            **storage,
        )
    write_regions(
        folder / "r.geojson", {"small": box(40.2, 3, 44, 8.5), "coast": box(15, 15, 30, 25)}
    )
    handler = type("Handler", (Ranges,), {"folder": folder})
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield folder, f"http://127.0.0.1:{server.server_address[1]}", handler
    server.shutdown()


def test_a_grid_by_url_gives_the_same_table(served, tmp_path):
    folder, address, _ = served
    regions = ["--regions", folder / "r.geojson", "--measure", "mean,max"]
    run("series", folder / "rain_0.nc", folder / "rain_1.nc", *regions, "--out", tmp_path / "a.csv")
    run(
        "series",
        f"{address}/rain_0.nc",
        f"{address}/rain_1.nc",
        *regions,
        "--out",
        tmp_path / "b.csv",
    )
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    assert f"{address}/rain_0.nc" in (tmp_path / "b.csv.about.json").read_text()


def test_only_the_bytes_of_the_region_and_time_are_fetched(served):
    folder, address, handler = served
    before = handler.sent
    run(
        "series",
        f"{address}/rain_0.nc",
        "--regions",
        folder / "r.geojson",
        "--only",
        "small",
        "--during",
        "2001-03",
        "--format",
        "csv",
    )
    sent = handler.sent - before
    assert 0 < sent < (folder / "rain_0.nc").stat().st_size / 4


def test_what_is_not_there_or_is_no_grid_is_said(served):
    folder, address, _ = served
    for name, said in (("none.nc", "there is no such file"), ("r.geojson", "no NetCDF-4 file")):
        done = run("series", f"{address}/{name}", "--regions", folder / "r.geojson", check=False)
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr
    done = run("describe", f"{address}/rain_0.nc")
    assert "365 of one day" in done.stdout
