"""Several grids in one file, and tiles of several reference systems in one grid."""

import netCDF4
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from support import run

UTM = "EPSG:32744"  # metres around longitude 81


def tile(path, values, left, top, size, crs, unit="mm"):
    """A GeoTIFF of square cells."""
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=values.shape[1],
        height=values.shape[0],
        count=1,
        dtype=values.dtype,
        crs=crs,
        transform=from_origin(left, top, size, size),
        nodata=-9999 if values.dtype.kind == "f" else None,
    ) as data:
        data.write(values, 1)
        data.update_tags(1, units=unit)


def held(path, name):
    with netCDF4.Dataset(path) as data:
        return np.ma.filled(data[name][:], np.nan)


def test_several_named_grids_stand_in_one_file_as_each_alone(demo, tmp_path):
    grids = [f"{n}={demo / f'{n}_1991-2000.nc'}" for n in ("tmax", "tmin")]
    rest = ("--every", "year", "--unit", "degC", "--during", "1991..1993")
    run("grid", *grids, *rest, "--out", tmp_path / "both.nc")
    for grid in grids:
        name = grid.split("=")[0]
        run("grid", grid, *rest, "--out", tmp_path / f"{name}.nc")
        np.testing.assert_array_equal(
            held(tmp_path / "both.nc", name), held(tmp_path / f"{name}.nc", name)
        )
    with netCDF4.Dataset(tmp_path / "both.nc") as data:
        assert data["tmax"].units == data["tmin"].units == "degC"


def test_several_grids_need_common_cells_common_periods_and_a_format_that_holds_them(
    demo, tmp_path
):
    tmax, tmin = (f"{n}={demo / f'{n}_1991-2000.nc'}" for n in ("tmax", "tmin"))
    done = run("grid", tmax, tmin, "--every", "year", "--out", tmp_path / "b.tif", check=False)
    assert "a GeoTIFF holds one grid; use .nc" in done.stderr
    later = f"tmin={demo / 'tmin_2001-2010.nc'}"
    done = run("grid", tmax, later, "--every", "year", "--out", tmp_path / "b.nc", check=False)
    assert "have other periods" in done.stderr
    people = f"people={demo / 'people.tif'}"
    done = run("grid", tmax, people, "--out", tmp_path / "b.nc", check=False)
    assert done.returncode
    assert not list(tmp_path.iterdir())


@pytest.fixture
def tiles(tmp_path):
    """A fine tile in metres and a coarse one in degrees around it."""
    rng = np.random.default_rng(1)
    fine = rng.uniform(0, 10, (20, 20)).astype("f4")
    fine[3, 4] = -9999
    coarse = np.full((4, 4), 7, "f4")
    tile(tmp_path / "fine_rain.tif", fine, 480_000, 6_140_000, 2_000, UTM)
    tile(tmp_path / "coarse_rain.tif", coarse, 80.5, -34.5, 0.25, "EPSG:4326")
    return tmp_path, fine


def test_tiles_of_two_systems_make_one_grid_on_the_cells_of_the_finer(tiles):
    folder, fine = tiles
    done = run(
        "grid", folder / "coarse_rain.tif", folder / "fine_rain.tif", "--out", folder / "one.tif"
    )
    assert "coarse_rain.tif: brought onto the cells of" in done.stderr
    assert "means over shared areas" in done.stderr
    with rasterio.open(folder / "one.tif") as data:
        assert data.crs.to_epsg() == 32744
        assert data.res == (2_000, 2_000)
        values = data.read(1)
        row, column = data.index(480_001, 6_139_999)
    inner = values[row : row + 20, column : column + 20]
    present = fine != -9999
    np.testing.assert_array_equal(inner[present], fine[present])
    assert inner[3, 4] == 7  # where the finer has no value, the coarser one's
    outer = np.ones(values.shape, bool)
    outer[row : row + 20, column : column + 20] = False
    known = values[outer & ~np.isnan(values)]
    assert known.size > 1000
    assert (known == 7).all()


def test_series_of_tiles_of_two_systems_are_refused(tiles, demo):
    folder, _ = tiles
    done = run(
        "series",
        folder / "coarse_rain.tif",
        folder / "fine_rain.tif",
        "--regions",
        demo / "watersheds.geojson",
        check=False,
    )
    assert done.returncode == 1
    assert "join them into one grid on common cells first" in done.stderr


def test_class_tiles_of_two_systems_stay_classes(tmp_path):
    tile(tmp_path / "a.tif", np.full((10, 10), 2, "u1"), 480_000, 6_140_000, 2_000, UTM, "")
    tile(tmp_path / "b.tif", np.full((4, 4), 5, "u1"), 80.5, -34.5, 0.25, "EPSG:4326", "")
    a, b = tmp_path / "a.tif", tmp_path / "b.tif"
    run("grid", a, b, "--kind", "class", "--out", tmp_path / "one.tif")
    with rasterio.open(tmp_path / "one.tif") as data:
        assert set(np.unique(data.read(1, masked=True).compressed())) == {2, 5}
    done = run(
        "grid", a, b, "--kind", "class", "--resample", "linear", "--out", tmp_path / "t.tif",
        check=False,
    )  # fmt: skip
    assert "class codes have no linear" in done.stderr


METRES = ("--crs", UTM, "--cell", 9000)


@pytest.mark.parametrize(
    "onto",
    [
        (),
        ("--onto", "people.tif", "--resample", "area"),
        ("--onto", "people.tif", "--resample", "linear"),
        *((*METRES, "--resample", how) for how in ("area", "linear", "cubic", "nearest")),
    ],
)
@pytest.mark.parametrize("ending", ["nc", "tif"])
def test_bands_of_rows_give_what_the_whole_grid_gives(demo, tmp_path, monkeypatch, onto, ending):
    from bavlo.engine import choices

    words = ["grid", demo / "tmax_1991-2000.nc", "--every", "year", "--as", "anomaly"]
    words += ["--base", "1991..2000", "--regions", demo / "watersheds.geojson"]
    words += [demo / word if str(word).endswith(".tif") else word for word in onto]
    run(*words, "--out", tmp_path / f"whole.{ending}")
    monkeypatch.setattr(choices, "BAND_CELLS", dict.fromkeys(choices.BAND_CELLS, 1000))
    run(*words, "--out", tmp_path / f"bands.{ending}")
    if ending == "tif":
        with (
            rasterio.open(tmp_path / "whole.tif") as a,
            rasterio.open(tmp_path / "bands.tif") as b,
        ):
            np.testing.assert_array_equal(a.read(), b.read())
        return
    whole = held(tmp_path / "whole.nc", "tmax_anomaly")
    assert np.isfinite(whole).any()
    np.testing.assert_array_equal(held(tmp_path / "bands.nc", "tmax_anomaly"), whole)


def test_cells_with_corners_of_their_own_go_onto_bands_of_rows_by_every_way(tmp_path, monkeypatch):
    from bavlo.engine import choices

    grid = tmp_path / "bent.nc"
    column, row = np.meshgrid(np.arange(20.0), np.arange(15.0))
    with netCDF4.Dataset(grid, "w") as data:
        for name, size in (("time", 2), ("y", 15), ("x", 20)):
            data.createDimension(name, size)
        data.createVariable("time", "f8", ("time",))[:] = [0, 1]
        data["time"].units = "days since 2001-01-01"
        places = (("lat", -38 + 0.2 * row + 0.03 * column), ("lon", 78 + 0.2 * column + 0.1 * row))
        for name, place in places:
            data.createVariable(name, "f8", ("y", "x"))[:] = place
        data["lat"].units, data["lon"].units = "degrees_north", "degrees_east"
        data.createVariable("tmax", "f4", ("time", "y", "x"))[:] = np.random.default_rng(5).normal(
            20, 5, (2, 15, 20)
        )
        data["tmax"].units, data["tmax"].coordinates = "degC", "lat lon"
    for onto in (("--cell", 0.1), METRES):
        for how in ("area", "linear", "cubic", "nearest"):
            words = ["grid", grid, *onto, "--resample", how, "--every", "day", "--replace"]
            with monkeypatch.context() as patch:
                run(*words, "--out", tmp_path / "whole.nc")
                patch.setattr(choices, "BAND_CELLS", dict.fromkeys(choices.BAND_CELLS, 500))
                run(*words, "--out", tmp_path / "bands.nc")
            whole = held(tmp_path / "whole.nc", "tmax")
            assert 0.3 < np.isfinite(whole).mean() < 1
            np.testing.assert_array_equal(held(tmp_path / "bands.nc", "tmax"), whole)
