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


@pytest.mark.slow
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


@pytest.mark.parametrize("predictor", [1, 2])
def test_geotiffs_by_url_give_the_same_and_only_their_blocks_travel(predictor, served, tmp_path):
    """Deflated ones are read by their blocks; others go through the raster library."""
    folder, address, handler = served
    rasterio = pytest.importorskip("rasterio")
    rng = np.random.default_rng(5)
    names = [f"rain{predictor}_2001-01-{day:02}.tif" for day in range(1, 6)]
    for name in names:
        with rasterio.open(
            folder / name,
            "w",
            driver="GTiff",
            width=700,
            height=600,
            count=1,
            dtype="float32",
            compress="deflate" if predictor == 1 else "lzw",
            predictor=predictor,
            tiled=True,
            blockxsize=64,
            blockysize=64,
            crs="EPSG:4326",
            transform=rasterio.transform.from_origin(0, 60, 0.1, 0.1),
        ) as data:
            data.write(rng.gamma(1, 5, (600, 700)).astype("f4"), 1)
            data.units = ["mm"]
    regions = ["--regions", folder / "r.geojson", "--only", "small", "--every", "day"]
    run("series", *(folder / n for n in names), *regions, "--out", tmp_path / "a.csv")
    before = handler.sent
    run("series", *(f"{address}/{n}" for n in names), *regions, "--out", tmp_path / "b.csv")
    sent = handler.sent - before
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    assert 0 < sent < sum((folder / n).stat().st_size for n in names) / 4


@pytest.mark.parametrize("version", [2, 3])
def test_a_zarr_store_by_url_gives_the_same_and_only_its_chunks_travel(version, served, tmp_path):
    folder, address, handler = served
    zarr = pytest.importorskip("zarr")
    store = folder / f"rain{version}.zarr"
    values = np.random.default_rng(6).gamma(0.5, 9, (365, 60, 70)).astype("f4")
    group = zarr.open_group(store, mode="w", zarr_format=version)
    axes = {
        "time": (np.arange(365.0), "days since 2001-01-01"),
        "lat": (np.arange(60) + 0.5, "degrees_north"),
        "lon": (np.arange(70) + 0.5, "degrees_east"),
    }
    for name, (data, unit, names, chunks) in {
        **{n: (d, u, [n], d.shape) for n, (d, u) in axes.items()},
        "rain": (values, "mm", list(axes), (30, 20, 20)),
    }.items():
        more = {"dimension_names": names} if version == 3 else {}
        array = group.create_array(name, shape=data.shape, dtype=data.dtype, chunks=chunks, **more)
        array[:] = data
        array.attrs["units"] = unit
        if version == 2:
            array.attrs["_ARRAY_DIMENSIONS"] = names
    zarr.consolidate_metadata(store)
    regions = ["--regions", folder / "r.geojson", "--only", "small"]
    run("series", store, *regions, "--out", tmp_path / "a.csv")
    before = handler.sent
    run("series", f"{address}/rain{version}.zarr", *regions, "--out", tmp_path / "b.csv")
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    whole = sum(p.stat().st_size for p in (store / "rain").rglob("*") if p.is_file())
    assert 0 < handler.sent - before < whole / 4


@pytest.mark.slow
def test_what_is_not_there_or_is_no_grid_is_said(served):
    folder, address, _ = served
    (folder / "classic.nc").write_bytes(b"CDF\x01" + bytes(100))
    for name, said in (
        ("none.nc", "there is no such file"),
        ("r.geojson", "is no grid that Bavlo reads by URL"),
        ("classic.nc", "is no NetCDF-4 file"),
    ):
        done = run("series", f"{address}/{name}", "--regions", folder / "r.geojson", check=False)
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr
    done = run("describe", f"{address}/rain_0.nc")
    assert "365 of one day" in done.stdout
