"""Grids by URL: the same numbers, and only the bytes that are needed."""

import http.server
import json
import re
import threading
from collections import Counter
from pathlib import Path

import netCDF4
import numpy as np
import pytest

from bavlo.errors import InputError
from bavlo.grids.formats import classic as remote_classic
from bavlo.grids.open import open_grid
from bavlo.grids.urls import Ahead
from bavlo.request.filling import make_request
from bavlo.request.options import usable_cpus
from bavlo.request.parse import expand
from support import box, run, write_grid, write_regions

pytest.importorskip("fsspec")
pytest.importorskip("aiohttp")


class Ranges(http.server.BaseHTTPRequestHandler):
    """Serves a folder by byte ranges, as object stores do, and counts what it sends."""

    folder = None
    sent = 0
    asked = None

    def do_HEAD(self):
        self._answer(body=False)

    def do_GET(self):
        self._answer(body=True)

    def _answer(self, body):
        path = self.folder / self.path.lstrip("/")
        if path.is_dir():  # as servers list a folder
            names = sorted(each.name for each in path.iterdir())
            page = "".join(f'<a href="{name}">{name}</a>' for name in names).encode()
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.send_header("Content-Length", str(len(page)))
            self.end_headers()
            if body:
                self.wfile.write(page)
            return
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
        if self.asked is not None:
            self.asked[self.command, self.path.lstrip("/")] += 1
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
    handler = type("Handler", (Ranges,), {"folder": folder, "asked": Counter()})
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
        "--out",
        "-",
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


def test_small_geotiffs_by_url_that_are_wanted_whole_take_one_request_each(served, tmp_path):
    folder, address, handler = served
    rasterio = pytest.importorskip("rasterio")
    names = [f"small_2001-01-{day:02}.tif" for day in range(1, 21)]
    for day, name in enumerate(names):
        transform = rasterio.transform.from_origin(40, 9, 0.1, 0.1)
        with rasterio.open(
            folder / name, "w", driver="GTiff", width=40, height=60, count=1, dtype="float32",
            compress="deflate", crs="EPSG:4326", transform=transform,
        ) as data:  # fmt: skip
            data.write(np.full((60, 40), day, "f4"), 1)
            data.units = ["mm"]
    regions = ["--regions", folder / "r.geojson", "--only", "small", "--every", "day"]
    regions += ["--kind", "amount"]
    run("series", *(folder / n for n in names), *regions, "--out", tmp_path / "a.csv")
    ran = run("series", *(f"{address}/{n}" for n in names), *regions, "--out", tmp_path / "b.csv")
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    assert "Exception" not in ran.stderr
    for name in names[1:]:
        assert handler.asked["GET", name] == handler.asked["HEAD", name] == 1
    inputs = json.loads((tmp_path / "b.csv.about.json").read_text())["inputs"]
    sizes = [each["size"] for each in inputs if "small_" in each["file"]]
    assert sizes == [(folder / name).stat().st_size for name in names]


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
    (folder / "torn.nc").write_bytes(b"CDF\x01" + bytes(4) + b"\xff" * 9)
    for name, said in (
        ("none.nc", "there is no such file"),
        ("r.geojson", "is no grid that Bavlo reads by URL"),
        ("classic.nc", f"{address}/classic.nc: holds no grid"),
        ("torn.nc", f"{address}/torn.nc: cannot be read"),
    ):
        done = run("series", f"{address}/{name}", "--regions", folder / "r.geojson", check=False)
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr
    done = run("describe", f"{address}/rain_0.nc")
    assert "365 of one day" in done.stdout


def test_a_dimension_without_a_coordinate_is_none_by_url_either(tmp_path):
    fsspec = pytest.importorskip("fsspec")
    path = tmp_path / "bare.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, length in (("time", 3), ("lat", 1), ("lon", 1)):
            data.createDimension(name, length)
        data.createVariable("time", "f8", ("time",))[:] = [0.5, 1.5, 2.5]
        data["time"].units = "days since 2001-01-01"
        data.createVariable("rain", "f4", ("time", "lat", "lon"))[:] = 1
    fsspec.filesystem("memory").pipe("/bare/bare.nc", path.read_bytes())
    for place in (path, Path("memory://bare/bare.nc")):
        with pytest.raises(InputError, match="holds no grid"):
            open_grid([place])


@pytest.mark.parametrize("records", [True, False])
@pytest.mark.parametrize("form", ["NETCDF3_CLASSIC", "NETCDF3_64BIT_OFFSET", "NETCDF3_64BIT_DATA"])
def test_a_classic_file_by_url_gives_what_the_library_gives(served, tmp_path, form, records):
    folder, address, _ = served
    rng = np.random.default_rng(6)
    name = f"{form}_{records}.nc"
    with netCDF4.Dataset(folder / name, "w", format=form) as data:
        for axis, length in (("time", 50), ("lat", 30), ("lon", 41)):
            data.createDimension(axis, None if records and axis == "time" else length)
            data.createVariable(axis, "f8", (axis,))[:] = np.arange(length) + 0.5
        data["time"].units, data["lat"].units = "days since 2001-01-01", "degrees_north"
        data["lon"].units = "degrees_east"
        data.createVariable("odd", "i2", ("time",))[:] = np.arange(50)  # records of 2 bytes
        rain = data.createVariable("rain", "i2", ("time", "lat", "lon"), fill_value=-9)
        rain.setncatts({"units": "mm", "scale_factor": 0.1, "cell_methods": "time: sum"})
        rain[:] = rng.gamma(0.5, 9, (50, 30, 41)).round(1)
        rain[:, :5, :5] = np.ma.masked
    with netCDF4.Dataset(folder / name) as data:
        data.set_auto_maskandscale(False)
        found = remote_classic.container(f"{address}/{name}")
        for one in data.variables.values():
            stored = found[one.name]
            assert stored.dimensions == one.dimensions
            assert stored.shape == one.shape
            for attribute in one.ncattrs():
                np.testing.assert_array_equal(
                    stored.attributes[attribute], one.getncattr(attribute)
                )
            np.testing.assert_array_equal(stored.read(slice(None)), one[:])
        for key in (
            (slice(3, 9), slice(4, 11), slice(2, 40)),
            (7, slice(0, 30), slice(5, 6)),
            (slice(0, 50, 7), slice(20, 3, -4), slice(None)),
            (slice(2, 2), slice(1, 3), slice(0, 4)),
            (slice(49, 50), 29, 40),
        ):
            np.testing.assert_array_equal(found["rain"].read(key), data["rain"][key])
    words = ["--regions", folder / "r.geojson", "--only", "coast", "--every", "month"]
    run("series", f"{address}/{name}", *words, "--during", "2001-01", "--out", tmp_path / "u.csv")
    run("series", folder / name, *words, "--during", "2001-01", "--out", tmp_path / "h.csv")
    assert (tmp_path / "u.csv").read_bytes() == (tmp_path / "h.csv").read_bytes()


@pytest.mark.parametrize("given", ["/rain_[01].nc", "/rain_?.nc", "/rain_*.nc"])
def test_a_pattern_of_urls_is_listed_where_the_server_lists_its_files(served, given):
    _, address, _ = served
    if "?" in given:  # which begins a query, and is no pattern
        assert expand(f"{address}{given}") == [Path(f"{address}{given}")]
        return
    assert expand(f"{address}{given}") == [Path(f"{address}/rain_{n}.nc") for n in (0, 1)]
    with pytest.raises(InputError, match="no file matches, or the server does not list them"):
        expand(f"{address}/snow_*.nc")


def test_a_folder_of_a_store_is_all_of_its_files():
    fsspec = pytest.importorskip("fsspec")
    store = fsspec.filesystem("memory")
    for name in ("b.nc", "a.nc", "deep/c.nc"):
        store.pipe(f"/rain/{name}", b"...")
    assert expand("memory://rain/") == [Path("memory://rain/a.nc"), Path("memory://rain/b.nc")]
    assert expand("memory://rain/*.nc") == [Path("memory://rain/a.nc"), Path("memory://rain/b.nc")]
    with pytest.raises(InputError, match="holds no files"):
        expand("memory://snow/")


def test_ranges_are_fetched_together_and_are_the_bytes_of_each():
    fsspec = pytest.importorskip("fsspec")
    content = bytes(np.random.default_rng(1).integers(0, 256, 3_000_000, dtype=np.uint8))
    fsspec.filesystem("memory").pipe("/ranges", content)
    rng = np.random.default_rng(2)
    offsets, sizes = rng.integers(0, 2_900_000, 200), rng.integers(1, 90_000, 200)
    ranges = list(zip(offsets.tolist(), sizes.tolist(), strict=True))
    ahead = Ahead("memory://ranges", [*ranges, ranges[0]])
    for offset, size in [*ranges, (5, 17), ranges[0]]:
        assert ahead(offset, size) == content[offset : offset + size]


def test_files_by_url_wait_with_more_workers_unless_somebody_says_how_many():
    def jobs(grid, **given):
        return make_request("series", {"grids": [grid], "regions": "r", **given}).run.jobs

    assert jobs("https://example.org/rain.nc") == usable_cpus() + 3
    assert jobs("https://example.org/rain.nc", jobs="1") == 1
    assert jobs(__file__) == usable_cpus()
