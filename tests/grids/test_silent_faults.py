"""Files that would be read wrongly without a word: times, coordinates, limits, masks, marks."""

import h5py
import netCDF4
import numpy as np
import pyproj
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.errors import BavloError, BavloWarning
from bavlo.grids.cells import whole
from bavlo.grids.formats.times import decode_times
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from support import box, rows, run, write_grid, write_regions


def read(path, **options):
    source = open_grid([path], ReadOptions(**options))
    steps = 1 if source.time is None else len(source.time)
    return source, source.read(0, steps, whole(source.layout.shape)).reshape(
        steps, *source.layout.shape
    )


def day(instant):
    return np.datetime64(int(instant), "us").astype("datetime64[m]").astype(str)


@pytest.mark.parametrize("listed", [True, False])
def test_standard_names_decide_which_time_is_that_of_the_values(tmp_path, listed):
    path = write_grid(tmp_path / "f.nc", np.ones((3, 2, 3)))
    with netCDF4.Dataset(path, "a") as data:
        data["time"].standard_name = "forecast_reference_time"
        data.createVariable("valid_time", "f8", ("time",))[:] = np.arange(3) + 1
        data["valid_time"].units = data["time"].units
        data["valid_time"].standard_name = "time"
        if listed:
            data["rain"].coordinates = "valid_time"
    source, _ = read(path)
    assert [day(t)[:10] for t in source.time.start] == ["2001-01-02", "2001-01-03", "2001-01-04"]


@pytest.mark.parametrize(
    ("since", "hours"),
    [
        ("hours since 1992-10-8 15:15:42.5 -6:00", 21),  # CF-1.11, section 4.4
        ("hours since 1992-10-08 15:00 -06:00", 21),
        ("hours since 1992-10-08 15:00:00 -6", 21),
        ("hours since 1992-10-08T15:00:00+5:30", 9),
        ("hours since 1992-10-08 -6:00", 6),
        ("hours since 1992-10-08 15:00:00", 15),
        ("hours since 1992-10-8", 0),
    ],
)
def test_hours_beside_utc_may_have_one_digit(since, hours):
    found = decode_times(np.array([0.0]), since, "standard", "a file")[0]
    assert np.datetime64(int(found), "us").astype("datetime64[h]") == np.datetime64(
        "1992-10-08T00"
    ) + np.timedelta64(hours, "h")


def packed(path, attributes, values):
    """Percent, packed into int16 with a scale of 0.01 and an offset of 50."""
    stored = np.round((np.asarray(values) - 50) / 0.01).astype("i2").reshape(1, 2, 3)
    write_grid(path, stored, name="rh", unit="%")
    with h5py.File(path, "a") as data:  # which leaves attributes in the type that they are given
        data["rh"].attrs.update({"scale_factor": 0.01, "add_offset": 50.0, **attributes})
    return path


VALUES = [0.0, 20.0, 40.0, 60.0, 80.0, 100.0]


@pytest.mark.parametrize(
    "attributes",
    [
        {"valid_min": np.float32(0), "valid_max": np.float32(100)},
        {"valid_range": np.array([0.0, 100.0])},
        {"valid_range": np.array([-5000, 5000], "i2")},  # as it is stored
        {"valid_max": np.int32(100000)},  # which int16 cannot hold
        {"missing_value": np.float64(-99.99)},
    ],
)
def test_limits_of_packed_data_may_be_those_of_values(tmp_path, attributes):
    _, found = read(packed(tmp_path / "rh.nc", attributes, VALUES))
    np.testing.assert_allclose(found.ravel(), VALUES, atol=1e-6)


def test_limits_in_the_type_of_the_stored_numbers_are_judged_by_these(tmp_path):
    limits = {"valid_min": np.int16(0), "valid_max": np.int16(100)}  # as a library turns them
    path = packed(tmp_path / "rh.nc", limits, VALUES)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    done = run("series", path, "--regions", regions, "--every", "step")
    assert "valid range is taken as one of values" in done.stderr
    (row,) = rows("series", path, regions, every=["step"])
    assert float(row["value"]) == pytest.approx(50, abs=0.1)
    assert row["area_valid"] == "1"


def test_what_lies_beyond_such_limits_is_missing(tmp_path):
    limits = {"valid_min": np.float32(10), "valid_max": np.float32(90)}
    _, found = read(packed(tmp_path / "rh.nc", limits, VALUES))
    assert np.isnan(found.ravel()).tolist() == [True, False, False, False, False, True]
    mark = {"missing_value": np.float32(60.0)}
    _, found = read(packed(tmp_path / "m.nc", mark, VALUES))
    assert np.isnan(found.ravel()).tolist() == [False, False, False, True, False, False]


def test_coordinates_may_be_packed_times_and_bounds_too(tmp_path):
    values = np.arange(24.0).reshape(2, 3, 4)
    plain = write_grid(tmp_path / "plain.nc", values, bounds=[[0, 1], [1, 2]])
    path = tmp_path / "packed.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, size in (("lat", 3), ("lon", 4), ("time", 2), ("nv", 2)):
            data.createDimension(name, size)
        for name, stored, unit in (
            ("lat", [50, 150, 250], "degrees_north"), ("lon", [50, 150, 250, 350], "degrees_east"),
            ("time", [-100, -50], "days since 2001-01-01"),
        ):  # fmt: skip
            axis = data.createVariable(name, "i2", (name,))
            axis.set_auto_maskandscale(False)
            axis[:] = stored
            axis.units = unit
            axis.scale_factor = 0.02 if name == "time" else 0.01
            if name == "time":
                axis.add_offset, axis.bounds = 2.0, "time_bnds"
        bounds = data.createVariable("time_bnds", "i2", ("time", "nv"))
        bounds.set_auto_maskandscale(False)
        bounds[:] = [[-100, -50], [-50, 0]]
        data.createVariable("rain", "f8", ("time", "lat", "lon"))[:] = values
        data["rain"].units = "mm"
    one, other = read(plain)[0], read(path)[0]
    np.testing.assert_allclose(other.layout.x_edges, one.layout.x_edges)
    np.testing.assert_allclose(other.layout.y_edges, one.layout.y_edges)
    assert (other.time.start == one.time.start).all()
    assert (other.time.end == one.time.end).all()


def test_coordinates_of_two_dimensions_may_have_no_gaps(tmp_path):
    path = tmp_path / "curved.nc"
    lon, lat = np.meshgrid(np.linspace(10, 14, 5), np.linspace(40, 43, 4))
    lon[1, 2] = 1e20
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("y", 4)
        data.createDimension("x", 5)
        for name, values, unit in (("lon", lon, "degrees_east"), ("lat", lat, "degrees_north")):
            axis = data.createVariable(name, "f8", ("y", "x"), fill_value=1e20)
            axis[:] = values
            axis.units = unit
        data.createVariable("rain", "f8", ("y", "x"))[:] = 1.0
        data["rain"].units, data["rain"].coordinates = "mm", "lon lat"
    with pytest.raises(BavloError, match="lon has 1 missing values, so that cells have no place"):
        read(path)


def test_bounds_that_do_not_hold_their_centres_are_said(tmp_path):
    path = write_grid(tmp_path / "b.nc", np.ones((1, 3, 4)))
    with netCDF4.Dataset(path, "a") as data:
        data.createDimension("two", 2)
        data["lat"].bounds = "lat_bnds"
        data.createVariable("lat_bnds", "f8", ("lat", "two"))[:] = [[5, 6], [6, 7], [7, 8]]
    with pytest.warns(BavloWarning, match="bounds of lat do not join up or do not hold"):
        source, _ = read(path)
    assert source.layout.y_edges.tolist() == [0, 1, 2, 3]


@pytest.mark.parametrize("how", ["cf", "metres"])
def test_lengths_of_a_grid_mapping_are_of_the_unit_of_the_axes_or_metres(tmp_path, how):
    false = {"cf": (500.0, 10000.0), "metres": (500e3, 10000e3)}[how]
    path = tmp_path / "utm.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, centres in (("y", [6000.0, 6010, 6020]), ("x", [400.0, 410, 420, 430])):
            data.createDimension(name, len(centres))
            axis = data.createVariable(name, "f8", (name,))
            axis[:] = centres
            axis.units, axis.standard_name = "km", f"projection_{name}_coordinate"
        mapping = data.createVariable("crs", "i4", ())
        mapping.setncatts(pyproj.CRS("EPSG:32744").to_cf())
        mapping.false_easting, mapping.false_northing = false
        del mapping.crs_wkt
        data.createVariable("rain", "f8", ("y", "x"))[:] = 1.0
        data["rain"].units, data["rain"].grid_mapping = "mm", "crs"
    source, _ = read(path)
    to_lonlat = pyproj.Transformer.from_crs(source.layout.crs, "OGC:CRS84", always_xy=True)
    true = pyproj.Transformer.from_crs("EPSG:32744", "OGC:CRS84", always_xy=True)
    place = 395e3, 5995e3
    assert (source.layout.x_edges[0], source.layout.y_edges[0]) == place
    np.testing.assert_allclose(to_lonlat.transform(*place), true.transform(*place), atol=1e-6)


def test_a_length_that_could_be_either_is_asked_about(tmp_path):
    path = tmp_path / "odd.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name in ("y", "x"):
            data.createDimension(name, 3)
            axis = data.createVariable(name, "f8", (name,))
            axis[:] = [100.0, 110, 120]
            axis.units, axis.standard_name = "km", f"projection_{name}_coordinate"
        mapping = data.createVariable("crs", "i4", ())
        mapping.setncatts(pyproj.CRS("EPSG:32744").to_cf())
        mapping.false_easting = 20000.0
        del mapping.crs_wkt
        data.createVariable("rain", "f8", ("y", "x"))[:] = 1.0
        data["rain"].units, data["rain"].grid_mapping = "mm", "crs"
    with pytest.raises(BavloError, match="may be metres or the unit of its axes"):
        read(path)


@pytest.mark.parametrize("tiled", [True, False])
@pytest.mark.parametrize("how", ["inside", "beside", "alpha"])
def test_masked_cells_of_a_raster_have_no_data(tmp_path, how, tiled):
    values = np.arange(1, 33 * 40 + 1, dtype="f4").reshape(33, 40)
    mask = np.full(values.shape, 255, np.uint8)
    mask[:, :10] = 0
    values[:, :10] = 0
    path = tmp_path / "rain.tif"
    blocks = {"tiled": True, "blockxsize": 16, "blockysize": 16} if tiled else {}
    blocks |= {"alpha": "yes"} if how == "alpha" else {}
    profile = {
        "driver": "GTiff", "width": 40, "height": 33, "dtype": "float32", "crs": "OGC:CRS84",
        "transform": from_origin(0, 33, 1, 1), "compress": "deflate", **blocks,
    }  # fmt: skip
    with rasterio.Env(GDAL_TIFF_INTERNAL_MASK=how == "inside"):
        bands = 2 if how == "alpha" else 1
        with rasterio.open(path, "w", count=bands, **profile) as data:
            data.write(values, 1)
            if how == "alpha":
                data.write(mask.astype("f4"), 2)
            else:
                data.write_mask(mask)
    source, found = read(path)
    assert np.isnan(found[0, :, :10]).all()
    np.testing.assert_array_equal(found[0, :, 10:], values[:, 10:])
    assert any("tells which cells have data" in note for note in source.notes)


def test_a_mask_of_a_later_file_of_a_folder_is_not_overlooked(tmp_path):
    profile = {
        "driver": "GTiff", "width": 4, "height": 3, "dtype": "float32", "crs": "OGC:CRS84",
        "count": 1, "transform": from_origin(0, 3, 1, 1), "compress": "deflate",
    }  # fmt: skip
    for how in ("inside", "beside"):
        folder = tmp_path / how
        folder.mkdir()
        for n in range(1, 4):
            with (
                rasterio.Env(GDAL_TIFF_INTERNAL_MASK=how == "inside"),
                rasterio.open(folder / f"rain_2001-01-0{n}.tif", "w", **profile) as data,
            ):
                data.write(np.ones((1, 3, 4), "f4"))
                if n == 3:
                    data.write_mask(np.zeros((3, 4), np.uint8))
        paths = sorted(folder.glob("*.tif"))
        source = open_grid(paths, ReadOptions())
        with pytest.raises(BavloError, match="other bands, scale, mask"):
            source.read(0, 3, whole(source.layout.shape))


def test_totals_of_hours_end_at_their_stamps(tmp_path):
    hourly = np.zeros((48, 2, 3))
    hourly[23] = 5.0  # what fell up to midnight at the end of 1 January
    path = write_grid(
        tmp_path / "h.nc", hourly, name="rain", unit="mm", since="hours since 2001-01-01",
        stamps=np.arange(48) + 1,
    )  # fmt: skip
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    found = rows("series", path, regions, every=["day"])
    assert [row["value"] for row in found] == ["5", "0"]
    states = write_grid(
        tmp_path / "t.nc", hourly + 280, name="t2m", unit="K", since="hours since 2001-01-01",
        stamps=np.arange(48),
    )  # fmt: skip
    assert {row["steps"] for row in rows("series", states, regions, every=["day"])} == {"24"}


HELD = {
    "prw": "Monthly mean of precipitable water",
    "pr_wtr": "Monthly mean of precipitable water",
    "tcwv": "Total column water vapour",
    "swe": "Snow water equivalent",
    "mrso": "Soil moisture of the whole column",
}


@pytest.mark.parametrize("name", HELD)
def test_water_that_is_held_is_a_state_whatever_its_unit(tmp_path, name):
    path = write_grid(
        tmp_path / "w.nc", np.full((59, 2, 3), 20.0), name=name, unit="kg m-2",
        attributes={"long_name": HELD[name]},
    )  # fmt: skip
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    found = rows("series", path, regions, every=["month"])
    assert [(row["value"], row["combine"]) for row in found] == [("20", "mean")] * 2


def byte_raster(path, values, dtype="uint8"):
    with rasterio.open(
        path, "w", driver="GTiff", width=40, height=50, count=1, dtype=dtype, crs="OGC:CRS84",
        transform=from_origin(0, 50, 1, 1),
    ) as data:  # fmt: skip
        data.write(values.astype(dtype), 1)
    return path


@pytest.mark.parametrize(("highest", "mark"), [(249, 255), (250, 254), (200, 255), (240, 253)])
def test_a_mark_at_the_end_of_the_bytes_is_asked_about(tmp_path, highest, mark):
    rng = np.random.default_rng(2)
    values = rng.integers(0, highest + 1, (50, 40))
    values[0, :5] = mark
    path = byte_raster(tmp_path / "ndvi.tif", values)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 40, 50)})
    given = ["series", path, "--regions", regions, "--kind", "state"]
    asked = run(*given, check=False)
    assert (asked.returncode, f"--missing {mark}" in asked.stderr) == (1, True)
    run(*given, "--missing", mark)
    run(*given, "--missing", "none")


def test_bytes_that_go_up_to_their_end_are_no_marks(tmp_path):
    values = np.arange(50 * 40).reshape(50, 40) % 256
    path = byte_raster(tmp_path / "grey.tif", values)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 40, 50)})
    run("series", path, "--regions", regions, "--kind", "state")


def test_infinite_numbers_are_marks_and_can_be_named(tmp_path):
    values = np.ones((31, 2, 3))
    values[:, 0, 0] = np.inf
    path = write_grid(tmp_path / "i.nc", values)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    given = ["series", path, "--regions", regions, "--every", "month"]
    done = run(*given)
    assert "inf is taken for missing" in done.stderr
    assert " 31 " in done.stdout or "31.00" in done.stdout
    assert "inf" not in done.stdout
    assert "inf is taken" not in run(*given, "--missing", "inf").stderr
