"""Grids as models and providers lay them out."""

import netCDF4
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.errors import BavloError
from bavlo.grids.cells import whole
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from support import box, rows, run, write_grid, write_regions


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", {"a": box(0, 0, 4, 4)})


def values(found):
    return [round(float(row["value"]), 9) for row in found]


def raster(path, block, west=0.0, north=4.0, size=1.0, crs="EPSG:4326"):
    block = np.asarray(block, "float32")
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=block.shape[1],
        height=block.shape[0],
        count=1,
        dtype="float32",
        crs=crs,
        transform=from_origin(west, north, size, size),
    ) as data:
        data.write(block[None])
        data.update_tags(units="mm")
    return path


def model_output(path, moves=False):
    """Longitude and latitude for every step, and times as text."""
    with netCDF4.Dataset(path, "w") as data:
        for name, size in (("Time", 3), ("south_north", 4), ("west_east", 4), ("DateStrLen", 19)):
            data.createDimension(name, size)
        data.createVariable("Times", "S1", ("Time", "DateStrLen"))[:] = netCDF4.stringtochar(
            np.array([f"2013-03-0{n}_00:00:00" for n in (1, 2, 3)], "S19")
        )
        dims = ("Time", "south_north", "west_east")
        lat, lon = np.meshgrid(np.arange(4) + 0.5, np.arange(4) + 0.5, indexing="ij")
        for name, field, unit in (("XLAT", lat, "degree_north"), ("XLONG", lon, "degree_east")):
            variable = data.createVariable(name, "f4", dims)
            variable.units = unit
            variable[:] = field + (np.arange(3)[:, None, None] if moves else 0)
        warm = data.createVariable("T2", "f4", dims)
        warm.units, warm.coordinates = "K", "XLONG XLAT"
        warm[:] = 280 + np.arange(3)[:, None, None]
    return path


def test_model_output_with_its_own_coordinates_and_times_as_text(tmp_path, regions):
    path = model_output(tmp_path / "out.nc")
    found = rows("series", path, regions, every="day")
    assert [(r["period"], r["variable"]) for r in found] == [
        (f"2013-03-0{n}", "T2") for n in (1, 2, 3)
    ]
    assert values(found) == [280, 281, 282]
    assert float(found[0]["area_valid"]) == pytest.approx(1)


def test_cells_that_move_are_refused(tmp_path, regions):
    with pytest.raises(BavloError, match="differs from step to step: its cells move"):
        rows("series", model_output(tmp_path / "nest.nc", moves=True), regions)


def test_a_text_that_is_no_time_is_refused(tmp_path, regions):
    path = model_output(tmp_path / "out.nc")
    with netCDF4.Dataset(path, "a") as data:
        data["Times"][1] = netCDF4.stringtochar(np.array(["2013-13-41_00:00:00"], "S19"))[0]
    with pytest.raises(BavloError, match="has a time '2013-13-41_00:00:00'"):
        rows("series", path, regions)


def with_dimensions(path, block, **further):
    """A grid with dimensions between time and rows."""
    sizes = dict(zip(("time", *further, "lat", "lon"), block.shape, strict=True))
    with netCDF4.Dataset(path, "w") as data:
        for name, size in sizes.items():
            data.createDimension(name, size)
            coordinate = data.createVariable(name, "f8", (name,))
            coordinate[:] = further.get(name, np.arange(size) + 0.5 * (name in ("lat", "lon")))
        data["lat"].units, data["lon"].units = "degrees_north", "degrees_east"
        data["time"].units = "days since 2013-03-01"
        rain = data.createVariable("rain", "f8", tuple(sizes), fill_value=-1e9)
        rain.units = "mm"
        rain[:] = block
    return path


def test_lead_time_and_member_are_chosen_by_name(tmp_path, regions):
    block = np.zeros((2, 3, 2, 4, 4))
    block += np.arange(3)[:, None, None, None] * 10 + np.arange(2)[:, None, None]
    path = with_dimensions(tmp_path / "f.nc", block, step=[0, 24, 48], number=[1, 2])
    with pytest.raises(BavloError, match=r"further dimension step of 3 values.*as level='step=0'"):
        rows("series", path, regions)
    with pytest.raises(BavloError, match="several further dimensions: step, number"):
        rows("series", path, regions, level=["24"])
    found = rows("series", path, regions, every="day", level=["step=24", "number=2"])
    assert values(found) == [11, 11]
    assert {r["level"] for r in found} == {"step 24, number 2"}
    named = f"rain={path}"
    again = rows("normals", named, regions, level=["step=24", "number=2"], base="2013..2013",
                 every="day")  # fmt: skip
    assert {r["level"] for r in again} == {"step 24, number 2"}


def test_all_values_of_further_dimensions_stand_in_one_table(tmp_path, regions):
    block = np.zeros((2, 3, 2, 4, 4))
    block += np.arange(3)[:, None, None, None] * 10 + np.arange(2)[:, None, None]
    path = with_dimensions(tmp_path / "f.nc", block, step=[0, 24, 48], number=[1, 2])
    found = rows("series", path, regions, every="day", level=["all"])
    assert values(found) == [0, 0, 1, 1, 10, 10, 11, 11, 20, 20, 21, 21]
    assert [r["level"] for r in found[::2]] == [
        f"step {step}, number {number}" for step in (0, 24, 48) for number in (1, 2)
    ]
    found = rows("series", path, regions, every="day", level=["step=all", "number=2"])
    assert values(found) == [1, 1, 11, 11, 21, 21]
    with pytest.raises(BavloError, match="further dimension number"):
        rows("series", path, regions, level=["step=all"])


def test_versions_that_complete_each_other_are_put_together(tmp_path, regions):
    block = np.full((4, 2, 4, 4), np.nan)
    block[:2, 0], block[2:, 1] = 3, 4
    path = with_dimensions(tmp_path / "v.nc", np.nan_to_num(block, nan=-1e9), expver=[1, 5])
    assert values(rows("series", path, regions, every="day")) == [3, 3, 4, 4]
    only = rows("series", path, regions, every="day", level=["expver=5"])
    assert [bool(r["value"]) for r in only] == [False, False, True, True]
    block[1, 1] = 9
    other = with_dimensions(tmp_path / "w.nc", np.nan_to_num(block, nan=-1e9), expver=[1, 5])
    with pytest.raises(BavloError, match=r"expver 1 and 5 that differ.*expver=5"):
        rows("series", other, regions, every="day")


def test_a_named_grid_is_the_variable_of_that_name(tmp_path, regions):
    path = write_grid(tmp_path / "two.nc", np.ones((2, 4, 4)), name="pre")
    write_grid(path, np.full((2, 4, 4), 7), name="stn", unit="")
    with pytest.raises(
        BavloError, match=r"pre \(mm, amount\); stn .*choose one, as variable='pre'"
    ):
        rows("series", path, regions)
    assert values(rows("series", f"pre={path}", regions, every="day")) == [1, 1]
    found = rows("series", f"stn={path}", regions, every="day", kind=["state"])
    assert values(found) == [7, 7]
    assert found[0]["variable"] == "stn"


def test_what_stands_beside_a_variable_is_not_proposed(tmp_path, regions):
    path = write_grid(tmp_path / "p.nc", np.ones((2, 4, 4)), name="randomError")
    write_grid(path, np.ones((2, 4, 4)), name="precipitation")
    with pytest.raises(BavloError, match="choose one, as variable='precipitation'"):
        rows("series", path, regions)


def test_static_grids_stay_static_when_they_are_written(tmp_path):
    height = write_grid(
        tmp_path / "h.nc", np.arange(16.0).reshape(4, 4), name="height", unit="m", time=False
    )
    for ending in ("nc", "tif"):
        out = tmp_path / f"out.{ending}"
        run("grid", height, "--out", out)
        source = open_grid([out])
        assert source.time is None
        found = source.read(0, 1, whole(source.layout.shape))
        assert sorted(found.ravel().tolist()) == list(range(16))
    with netCDF4.Dataset(tmp_path / "out.nc") as data:
        assert data["height"].dimensions == ("lat", "lon")


def test_tiles_of_several_sizes_make_one_raster_of_the_finest_cells(tmp_path):
    raster(tmp_path / "a_2013-03-01.tif", np.full((4, 4), 1.0))
    fine = np.arange(16.0).reshape(4, 4)
    raster(tmp_path / "b_2013-03-01.tif", fine, west=4.0, north=2.0, size=0.5)
    out = tmp_path / "joined.tif"
    run("grid", *sorted(tmp_path.glob("?_2013*.tif")), "--out", out)
    source = open_grid([out])
    assert source.layout.cell_size == pytest.approx((0.5, 0.5))
    assert source.layout.shape == (8, 12)
    found = source.read(0, 1, whole(source.layout.shape))[0].reshape(8, 12)
    np.testing.assert_allclose(found[:, :8], 1)
    np.testing.assert_allclose(found[4:, 8:], fine)
    assert np.isnan(found[:4, 8:]).all()


def test_a_stated_reference_system_is_not_overruled_unless_it_is_the_same(tmp_path, regions):
    path = raster(tmp_path / "rain_2013-03-01.tif", np.ones((4, 4)))
    with pytest.raises(BavloError, match=r"states the reference system WGS 84, and input_crs says"):
        rows("series", path, regions, **{"input-crs": "EPSG:32744"})
    assert values(rows("series", path, regions, every="day", **{"input-crs": "EPSG:4326"})) == [1]


def test_regions_cut_a_grid_that_is_brought_onto_other_cells(tmp_path):
    fine = write_grid(tmp_path / "rain.nc", np.arange(16.0).reshape(1, 4, 4))
    onto = write_grid(
        tmp_path / "onto.nc", np.ones((2, 2)), lon=[1, 3], lat=[1, 3], name="z", time=False
    )
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0.1, 0.1, 1.9, 1.9)})
    out = tmp_path / "cut.nc"
    run("grid", fine, "--onto", onto, "--regions", regions, "--every", "step", "--out", out)
    whole_out = tmp_path / "whole.nc"
    run("grid", fine, "--onto", onto, "--every", "step", "--out", whole_out)
    with netCDF4.Dataset(out) as cut, netCDF4.Dataset(whole_out) as uncut:
        assert cut["rain"].shape == (1, 1, 1)
        assert cut["rain"][0, 0, 0] == uncut["rain"][0, 0, 0]
    run("grid", fine, "--onto", onto, "--regions", regions, "--outside", "missing", "--every",
        "step", "--out", out, "--replace")  # fmt: skip
    with netCDF4.Dataset(out) as cut:
        assert cut["rain"].shape == (1, 2, 2)
        assert np.ma.filled(cut["rain"][:], np.nan)[0, 1, 1] != cut["rain"][0, 0, 0]
        assert np.isnan(np.ma.filled(cut["rain"][:], np.nan)).sum() == 3


def test_describe_shows_the_first_of_several_levels(tmp_path):
    path = with_dimensions(tmp_path / "f.nc", np.ones((2, 3, 4, 4)), height=[2, 10, 100])
    said = " ".join(run("describe", path).stdout.split())
    assert "further dimension height of 3 values (2, 10, 100)" in said
    assert "here at height=2" in said
    assert ReadOptions().level == ()
