"""Digests of inputs change when a value does, and only then."""

import json
import os
import shutil

import netCDF4
import numpy as np
import pytest
import rasterio

from bavlo.grids.digest import BYTES, CHUNKS, digest_of
from bavlo.grids.open import open_grid
from support import box, run, write_grid, write_regions

VALUES = np.random.default_rng(3).integers(0, 90, (20, 8, 10)).astype("f4")
STORED = {
    "chunked.nc": ({"zlib": True, "chunksizes": (5, 8, 10)}, CHUNKS),
    "fletcher.nc": ({"fletcher32": True, "chunksizes": (5, 8, 10)}, CHUNKS),
    "plain.nc": ({"chunksizes": (5, 8, 10)}, CHUNKS),
    "classic.nc": ({}, BYTES),
}


def digest(path):
    (file,) = open_grid((path,)).files
    return digest_of(file)


@pytest.mark.parametrize("name", STORED)
def test_one_changed_value_changes_the_digest_of_a_netcdf_file(tmp_path, name):
    storage, how = STORED[name]
    changed = VALUES.copy()
    changed[7, 3, 4] += 1

    def written(prefix, values):
        path = tmp_path / f"{prefix}_{name}"
        if not storage:
            netCDF4.Dataset(path, "w", format="NETCDF3_CLASSIC").close()
        return write_grid(path, values, **storage)

    one, same, other = written("one", VALUES), written("same", VALUES), written("other", changed)
    assert digest(one) == digest(same)
    assert digest(one)["digest_of"] == how
    assert digest(one)["digest"] != digest(other)["digest"]
    assert one.stat().st_size == other.stat().st_size or "zlib" in storage


@pytest.mark.parametrize("compress", ["deflate", "lzw", None])
def test_one_changed_value_changes_the_digest_of_a_raster(tmp_path, compress):
    def raster(name, values):
        path = tmp_path / name
        profile = {"compress": compress} if compress else {}
        with rasterio.open(
            path,
            "w",
            driver="GTiff",
            width=10,
            height=8,
            count=1,
            dtype="float32",
            crs="EPSG:4326",
            transform=rasterio.transform.from_origin(0, 8, 1, 1),
            **profile,
        ) as data:
            data.write(values, 1)
        return path

    changed = VALUES[0].copy()
    changed[2, 2] += 1
    one, other = raster("one.tif", VALUES[0]), raster("other.tif", changed)
    assert digest(one)["digest_of"] == BYTES
    assert digest(one)["digest"] != digest(other)["digest"]


def test_files_that_differ_in_no_more_than_a_value_are_told_apart_in_the_provenance(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 5, 5)})
    grid = write_grid(tmp_path / "rain.nc", VALUES, zlib=True, chunksizes=(20, 8, 10))
    run("series", grid, "--regions", regions, "--every", "day", "--out", tmp_path / "a.csv")
    status = grid.stat()
    again = tmp_path / "again.nc"
    shutil.copy(grid, again)
    with netCDF4.Dataset(again, "a") as data:
        data["rain"][19, 7, 9] += 1  # outside the region
    again.replace(grid)
    os.utime(grid, ns=(status.st_atime_ns, status.st_mtime_ns))
    run("series", grid, "--regions", regions, "--every", "day", "--out", tmp_path / "b.csv")
    assert (tmp_path / "a.csv").read_bytes() == (tmp_path / "b.csv").read_bytes()
    one, other = (
        json.loads((tmp_path / f"{name}.csv.about.json").read_text())["inputs"] for name in "ab"
    )
    assert one[0]["metadata_sha256"] == other[0]["metadata_sha256"]
    assert one[0]["digest"] != other[0]["digest"]
    assert one[1] == other[1]


def test_moved_outlines_and_other_weights_are_told_in_the_provenance(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", VALUES)
    people = write_grid(
        tmp_path / "people.nc", VALUES[0] + 1, name="people", unit="count", time=False
    )
    tables = []
    for n, edge in enumerate((5, 5.001)):
        regions = write_regions(tmp_path / f"r{n}.geojson", {"a": box(1, 1, edge, 5)})
        out = tmp_path / f"t{n}.csv"
        words = ("--every", "day", "--weight", people, "--kind", "weight=count", "--out", out)
        run("series", grid, "--regions", regions, *words)
        tables.append(json.loads((tmp_path / f"{out.name}.about.json").read_text())["inputs"])
    assert [each["file"].rsplit("/", 1)[-1] for each in tables[0]] == [
        "rain.nc",
        "r0.geojson",
        "people.nc",
    ]
    assert tables[0][1]["digest"] != tables[1][1]["digest"]
    assert tables[0][2]["digest"] == tables[1][2]["digest"]
