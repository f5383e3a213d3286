"""Grids as others make them: each tells the same numbers as the plain one, or says what it is."""

import datetime
import gzip
import io
import json
import shutil
import tarfile
import zipfile

import h5py
import netCDF4
import numpy as np
import pyproj
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.errors import BavloError, public
from bavlo.grids.cells import whole
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from bavlo.remembered import OPEN_FILES
from bavlo.request.parse import expand
from support import box, program, rows, run, write_grid, write_regions

RAIN = np.random.default_rng(1).gamma(1, 5, (14, 4, 4)).round(2)


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(
        tmp_path_factory.mktemp("regions") / "r.geojson", {"a": box(0.5, 0.5, 3, 3.5)}
    )


@pytest.fixture(scope="module")
def truth(regions, tmp_path_factory):
    return daily(write_grid(tmp_path_factory.mktemp("plain") / "rain.nc", RAIN), regions)


def daily(path, regions, **more):
    found = rows("series", path, regions, every="day", **more)
    return {row["period"]: float(row["value"]) for row in found}


def made(path, along, extents=(4, 4), unit="mm", dims=None, values=RAIN, **attributes):
    """A grid whose steps run along a dimension that the caller gives its meaning; still open."""
    data = netCDF4.Dataset(path, "w")
    data.createDimension(along, len(values))
    for name, size, of in zip(("lat", "lon"), extents, ("north", "east"), strict=True):
        data.createDimension(name, size)
        data.createVariable(name, "f8", (name,))[:] = np.arange(size) + 0.5
        data[name].units = f"degrees_{of}"
    rain = data.createVariable("rain", "f8", dims or (along, "lat", "lon"))
    rain.setncatts({"units": unit, **attributes})
    rain[:] = values
    return data


def variable(data, name, kind, dims, values, **attributes):
    made_one = data.createVariable(name, kind, dims)
    made_one.setncatts(attributes)
    made_one[:] = values


def test_the_steps_of_one_forecast_run_have_their_valid_times(truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    with made(path, "step", coordinates="time step valid_time") as data:
        variable(data, "time", "i8", (), 0, units="hours since 2001-01-01", standard_name="time")
        variable(data, "step", "f8", ("step",), np.arange(14) * 24, units="hours")
        variable(
            data, "valid_time", "i8", ("step",), np.arange(14) * 24, units="hours since 2001-01-01"
        )
    assert daily(path, regions) == truth


def test_nanoseconds_since_a_date_are_times(truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    stamps = np.arange(14) * 86400 * 10**9
    with made(path, "time") as data:
        variable(data, "time", "i8", ("time",), stamps, units="nanoseconds since 2001-01-01")
    assert daily(path, regions) == truth


@pytest.mark.parametrize("fill", [None, -999.0, np.nan])
def test_steps_at_the_end_that_have_no_time_are_left_out_and_said(fill, truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    with made(path, "time", values=np.concatenate([RAIN, RAIN[:2] * 0])) as data:
        data.createVariable("time", "f8", ("time",), fill_value=fill)
        data["time"].units = "days since 2001-01-01"
        data["time"][:14] = np.arange(14)
        data.set_auto_mask(False)
        if fill is not None:
            data["time"][14:] = fill
    assert daily(path, regions) == truth
    assert "g.nc: 2 steps at its end have no time: left out" in open_grid([path]).notes


@pytest.mark.parametrize("with_day", [True, False])
def test_years_and_months_as_variables_are_dates(with_day, truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    with made(path, "record") as data:
        variable(data, "record", "i4", ("record",), np.arange(1, 15))
        variable(data, "year", "i4", ("record",), 2001 if with_day else 2001 + np.arange(14) // 12)
        variable(data, "month", "i4", ("record",), 1 if with_day else np.arange(14) % 12 + 1)
        if with_day:
            variable(data, "day", "i4", ("record",), np.arange(1, 15))
    if with_day:
        assert daily(path, regions) == truth
    else:
        months = rows("series", path, regions, every="month")
        assert [row["period"] for row in months][::13] == ["2001-01", "2002-02"]
        assert [float(row["value"]) for row in months] == list(truth.values())


def test_dates_as_whole_texts_are_times(truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    texts = [f"2001-01-{day:02d}" for day in range(1, 15)]
    with made(path, "time") as data:
        variable(data, "time", str, ("time",), np.array(texts, object))
    assert daily(path, regions) == truth
    path = tmp_path / "h.nc"
    with made(path, "time") as data:
        variable(data, "time", str, ("time",), np.array(["soon", *texts[1:]], object))
    with pytest.raises(BavloError, match="has a time 'soon'") as told:
        open_grid([path])
    assert "damaged" not in str(told.value)


def test_files_of_one_field_have_the_times_of_their_scalar_coordinates(truth, regions, tmp_path):
    for day, field in enumerate(RAIN):
        path = tmp_path / f"{day}.nc"
        with made(path, "unused", dims=("lat", "lon"), values=field, coordinates="time") as data:
            variable(data, "time", "f8", (), day, units="days since 2001-01-01")
    assert daily(tmp_path, regions) == truth
    assert open_grid([path]).time is None


def member_names(data, kind):
    if kind == "text":
        variable(data, "member", str, ("member",), np.array(["r1i1", "r2i1"], object))
        return
    data.createDimension("length", 4)
    variable(
        data, "names", "S1", ("member", "length"),
        netCDF4.stringtochar(np.array(["r1i1", "r2i1"], "S4")),
    )  # fmt: skip


@pytest.mark.parametrize("kind", ["text", "characters"])
def test_names_of_members_choose_them(kind, truth, regions, tmp_path):
    path = tmp_path / "g.nc"
    both = np.stack([RAIN * 2, RAIN], axis=1)
    with made(path, "time", dims=("time", "lat", "lon")) as data:
        data.createDimension("member", 2)
        variable(data, "time", "f8", ("time",), np.arange(14), units="days since 2001-01-01")
        variable(data, "wet", "f8", ("time", "member", "lat", "lon"), both, units="mm")
        member_names(data, kind)
    with pytest.raises(BavloError, match=r"member of 2 values \(r1i1, r2i1\).*level='r1i1'"):
        open_grid([path], ReadOptions(variable="wet"))
    # Left to whichever thread collects it, it would be closed while another reads.
    assert str(path) in [key[1] for key, _ in OPEN_FILES.items("NetCDF")]
    wet = {"variable": "wet", "kind": "amount"}
    assert daily(path, regions, level="r2i1", **wet) == truth
    every = rows("series", path, regions, every="day", level=["all"], **wet)
    assert {row["level"] for row in every} == {"member r1i1", "member r2i1"}


def test_a_satellite_that_scans_in_radians_has_its_cells_where_metres_have_them(tmp_path):
    height, grid = 35_786_023.0, {}
    lon, lat = 82.0, -35.0
    geo = pyproj.CRS.from_cf(
        {
            "grid_mapping_name": "geostationary", "perspective_point_height": height,
            "longitude_of_projection_origin": 80.0, "sweep_angle_axis": "y",
            "semi_major_axis": 6378137.0, "semi_minor_axis": 6356752.31414,
        }
    )  # fmt: skip
    x, y = pyproj.Transformer.from_crs("OGC:CRS84", geo, always_xy=True).transform(lon, lat)
    xs, ys = x + (np.arange(8) - 4) * 3000.0, y + (np.arange(8) - 4) * 3000.0
    values = np.random.default_rng(2).random((1, 8, 8))
    for unit, size in (("m", 1.0), ("rad", height)):
        path = tmp_path / f"{unit}.nc"
        with netCDF4.Dataset(path, "w") as data:
            for name, centres in (("y", ys), ("x", xs)):
                data.createDimension(name, 8)
                data.createVariable(name, "f8", (name,))[:] = centres / size
                data[name].units = unit
                data[name].standard_name = f"projection_{name}_coordinate"
            data.createDimension("time", 1)
            variable(data, "time", "f8", ("time",), [0], units="days since 2001-01-01")
            variable(
                data, "geo", "i4", (), 0, **{k: v for k, v in geo.to_cf().items() if k != "crs_wkt"}
            )
            variable(data, "rain", "f8", ("time", "y", "x"), values, units="mm", grid_mapping="geo")
        shape = box(lon - 0.05, lat - 0.05, lon + 0.05, lat + 0.05)
        regions = write_regions(tmp_path / f"{unit}.geojson", {"a": shape})
        (row,) = rows("series", path, regions, every="day")
        grid[unit] = float(row["value"]), float(row["area_valid"])
    assert grid["rad"] == pytest.approx(grid["m"], rel=1e-9)
    assert grid["m"][1] == 1


@pytest.mark.parametrize("word", ["unspecified", "unknown", "-", "N/A"])
def test_a_unit_that_says_nothing_is_none(word, tmp_path):
    path = write_grid(tmp_path / "g.nc", RAIN, name="index", unit=word)
    assert open_grid([path]).variable.unit == ""
    assert "has no unit and is taken as a state" in run("describe", path).stdout


def test_two_spellings_of_a_unit_are_one(tmp_path):
    a = write_grid(tmp_path / "a.nc", RAIN, name="t", unit="Celsius")
    b = write_grid(tmp_path / "b.nc", RAIN, name="t", unit="deg C", since="days since 2001-01-15")
    grid = open_grid([a, b])
    assert len(grid.time) == 28
    c = write_grid(tmp_path / "c.nc", RAIN, name="t", unit="K", since="days since 2001-02-15")
    with pytest.raises(BavloError, match=r"unit 'K', a.nc 'Celsius'"):
        open_grid([a, b, c])


def bands(path, described, values):
    with rasterio.open(
        path, "w", driver="GTiff", width=4, height=4, count=len(values), dtype="float64",
        crs="EPSG:4326", transform=from_origin(0, 4, 1, 1),
    ) as data:  # fmt: skip
        data.write(values[:, ::-1])
        data.descriptions = described
        data.units = ["mm"] * len(values)
    return path


@pytest.mark.parametrize(
    "named", ["{:%b}", "{:%B}", "rain_{:%b}", "month {:%m}", "M{:%m}", "{:%b} mean"]
)
def test_bands_called_by_months_are_those_of_the_year_in_the_name(named, truth, regions, tmp_path):
    words = [named.format(datetime.date(2013, month, 1)) for month in range(1, 13)]
    path = bands(tmp_path / "rain_2013.tif", words, RAIN[:12])
    if named.endswith("mean"):
        with pytest.raises(BavloError, match="12 bands that name no dates"):
            open_grid([path])
        return
    months = rows("series", path, regions, every="month", kind="amount")
    assert [row["period"] for row in months] == [f"2013-{month:02d}" for month in range(1, 13)]
    assert [float(row["value"]) for row in months] == pytest.approx(list(truth.values())[:12])
    path = path.rename(tmp_path / "rain.tif")
    with pytest.raises(BavloError, match="12 bands that are months, and no year in its name"):
        open_grid([path])


@pytest.mark.parametrize("packed", [False, True])
def test_numbers_with_decimal_commas_are_read_and_said(packed, truth, regions, tmp_path):
    head = "ncols 4\nnrows 4\nxllcorner 0,0\nyllcorner 0,0\ncellsize 1,0\nNODATA_value -9999,0\n"
    for day, field in enumerate(RAIN, 1):
        text = "\n".join(" ".join(f"{value:.2f}" for value in row) for row in field[::-1])
        content = (head + text.replace(".", ",")).encode()
        name = tmp_path / f"rain_2001-01-{day:02d}.asc"
        if packed:
            (tmp_path / f"{name.name}.gz").write_bytes(gzip.compress(content))
        else:
            name.write_bytes(content)
    options = {"kind": "amount", "input_unit": "mm"}
    assert daily(tmp_path, regions, **options) == pytest.approx(truth, rel=1e-6)
    assert "its numbers have decimal commas" in " ".join(open_grid(expand(str(tmp_path))).notes)


SWATH = np.meshgrid(np.linspace(80, 85, 6), np.linspace(-33, -37, 8))


def swath(path, kind):
    """A swath whose attributes are strings, as different makers write it."""
    lon, lat = SWATH[0], SWATH[1] + SWATH[0] * 0.05 - 4
    rain = np.arange(48).reshape(8, 6)
    if kind == "HDF5 without dimensions":
        with h5py.File(path, "w") as file:
            for name, values, unit in (
                ("Latitude", lat, "degrees"),
                ("Longitude", lon, "degrees"),
                ("rain", rain, "mm"),
            ):
                file[f"S1/{name}"] = values
                file[f"S1/{name}"].attrs["units"] = np.bytes_(unit)
        return
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("scan", 8)
        data.createDimension("pixel", 6)
        for name, values in (("Latitude", lat), ("Longitude", lon)):
            variable(data, name, "f8", ("scan", "pixel"), values)
            if kind == "strings":
                data[name].setncattr_string("units", "degrees")
        stored = data.createVariable("rain", "i2", ("scan", "pixel"))
        stored.set_auto_maskandscale(False)
        for name, text in (("units", "mm"), ("scale_factor", "0.1")):
            stored.setncattr_string(name, text)
        stored[:] = rain * 10


@pytest.mark.parametrize("kind", ["strings", "names alone", "HDF5 without dimensions"])
def test_a_swath_is_read_by_its_corners_whatever_its_attributes_are(kind, tmp_path):
    path = tmp_path / "g.nc"
    swath(path, kind)
    regions = write_regions(tmp_path / "r.geojson", {"a": box(81, -36, 84, -34)})
    (row,) = rows("series", path, regions)
    assert float(row["area_valid"]) == pytest.approx(1)
    assert 12 < float(row["value"]) < 36
    assert row["unit"] == "mm"


def stations(data):
    data.createDimension("station", 5)
    variable(data, "lat", "f8", ("station",), np.arange(5), units="degrees_north")
    variable(data, "lon", "f8", ("station",), np.arange(5), units="degrees_east")
    variable(data, "rain", "f8", ("station", "time"), np.zeros((5, 14)), units="mm")


def track(data):
    variable(data, "lat", "f8", ("time",), np.arange(14), units="degrees_north")
    variable(data, "lon", "f8", ("time",), np.arange(14), units="degrees_east")
    variable(data, "rain", "f8", ("time",), np.zeros(14), units="mm")


def mesh(data):
    data.createDimension("face", 6)
    variable(data, "mesh", "i4", (), 0, cf_role="mesh_topology", topology_dimension=2)
    variable(data, "lat", "f8", ("face",), np.arange(6), units="degrees_north")
    variable(data, "lon", "f8", ("face",), np.arange(6), units="degrees_east")
    variable(
        data, "rain", "f8", ("time", "face"), np.zeros((14, 6)), mesh="mesh", location="face",
        coordinates="lat lon",
    )  # fmt: skip


def nowhere(data):
    data.createDimension("row", 3)
    data.createDimension("column", 4)
    variable(data, "rain", "f8", ("time", "row", "column"), np.zeros((14, 3, 4)))


@pytest.mark.parametrize(
    ("layout", "said"),
    [
        (stations, "holds values at 5 stations"),
        (track, "along a track"),
        (mesh, "on a mesh of 6 faces"),
        (nowhere, "rain has no coordinates along row, column"),
    ],
)
@pytest.mark.parametrize("command", ["describe", "series"])
def test_what_is_no_grid_is_told_apart(layout, said, command, regions, tmp_path):
    path = tmp_path / "g.nc"
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("time", 14)
        variable(data, "time", "f8", ("time",), np.arange(14), units="days since 2001-01-01")
        layout(data)
    words = ["--regions", regions] if command == "series" else []
    done = run(command, path, *words, check=False)
    assert done.returncode == 1
    assert said in done.stderr
    assert "describe" not in done.stderr


def flipped(path, values, *, north_up=False, west=0.0, since="days since 2001-01-01"):
    lat = np.arange(values.shape[1]) + 0.5
    return write_grid(
        path, values[:, ::-1] if north_up else values, lat=lat[::-1] if north_up else lat,
        lon=west + np.arange(values.shape[2]) + 0.5, since=since,
    )  # fmt: skip


def test_cells_from_north_to_south_in_a_later_file_are_the_same(truth, regions, tmp_path):
    flipped(tmp_path / "a.nc", RAIN[:7])
    flipped(tmp_path / "b.nc", RAIN[7:], north_up=True, since="days since 2001-01-08")
    assert daily(tmp_path, regions) == truth
    grid = open_grid(expand(str(tmp_path)))
    assert "b.nc: the same cells in another order than in other files" in grid.notes
    every = grid.read(0, 14, whole(grid.layout.shape)).reshape(RAIN.shape)
    np.testing.assert_array_equal(every, RAIN)


def test_globes_from_0_and_from_minus_180_are_the_same(tmp_path):
    globe = np.random.default_rng(4).random((4, 3, 360))
    flipped(tmp_path / "a.nc", globe[:2], west=-180)
    flipped(tmp_path / "b.nc", np.roll(globe[2:], 180, axis=2), since="days since 2001-01-03")
    shape = {"a": box(-2.5, 0.5, 3.5, 2)}
    regions = write_regions(tmp_path / "r.geojson", shape)
    flipped(tmp_path / "whole.nc", globe, west=-180)
    found, wanted = (
        [r["value"] for r in rows("series", [tmp_path / n for n in names], regions, every="day")]
        for names in (("a.nc", "b.nc"), ("whole.nc",))
    )
    assert found == wanted


def test_a_dated_raster_may_have_its_cells_in_another_order(tmp_path):
    globe = np.random.default_rng(5).random((2, 3, 360)).astype("float32")
    turned = np.roll(globe[1], 180, axis=1)
    for day, west, values in ((1, -180, globe[0]), (2, 0, turned), (3, 9.5, globe[0])):
        with rasterio.open(
            tmp_path / f"rain_2001-01-0{day}.tif", "w", driver="GTiff", width=360, height=3,
            count=1, dtype="float32", crs="EPSG:4326", transform=from_origin(west, 3, 1, 1),
        ) as data:  # fmt: skip
            data.write(values[None])
    grid = open_grid(sorted(tmp_path.glob("*.tif")))
    every = whole(grid.layout.shape)
    np.testing.assert_array_equal(grid.read(0, 2, every).reshape(globe.shape), globe)
    with pytest.raises(BavloError, match="has other cells than the first file"):
        grid.read(2, 3, every)


DATED = {
    "a folder a year": "{:%Y/rain_%m%d}",
    "a folder a month": "{:%Y/%m/%d}",
    "the year twice": "{:%Y/%Y%m/%d}",
    "days of the year": "{:%Y/%j}",
    "days of the year in folders": "{:%Y/%j/rain}",
    "named folders": "{:year=%Y/month=%m/day=%d/rain}",
    "months by name": "{:%Y/%b/%d}",
    "months with dashes": "{:%Y-%m/rain_v2_%d}",
}


def of_bands(folder, name, values):
    path = folder / f"{name}.tif"
    path.parent.mkdir(parents=True, exist_ok=True)
    return bands(path, [""] * len(values), values)


@pytest.mark.parametrize("named", DATED.values(), ids=DATED)
def test_folders_and_names_tell_a_date_together(named, truth, regions, tmp_path):
    for number, field in enumerate(RAIN):
        day = datetime.date(2001, 1, 1) + datetime.timedelta(number)
        of_bands(tmp_path / "grids", named.format(day), field[None])
    found = daily(tmp_path / "grids", regions, kind="amount", variable=None)
    assert found == pytest.approx(truth)
    grid = open_grid(expand(str(tmp_path / "grids")))
    assert "dates from the names of folders and files" in grid.notes


@pytest.mark.parametrize(
    ("named", "first", "last"),
    [
        ("{:%Y/%m}", "2001-01", "2002-02"),
        ("{:%m/rain_%Y}", "2001-01", "2002-02"),
        ("{:%Y/rain_%b_v2}", "2001-01", "2002-02"),
    ],
)
def test_folders_and_names_tell_a_month_together(named, first, last, regions, truth, tmp_path):
    for number, field in enumerate(RAIN):
        month = datetime.date(2001 + number // 12, number % 12 + 1, 1)
        of_bands(tmp_path / "grids", named.format(month), field[None])
    months = rows("series", tmp_path / "grids", regions, every="month", kind="amount")
    assert [months[0]["period"], months[-1]["period"]] == [first, last]
    assert [float(row["value"]) for row in months] == pytest.approx(list(truth.values()))


def test_dates_of_folders_are_asked_where_they_may_be_dekads_and_a_pattern_says(tmp_path):
    for part, field in zip((1, 2, 3), RAIN, strict=False):
        of_bands(tmp_path, f"2001/01/{part}", field[None])
    with pytest.raises(BavloError, match="neither a time axis nor a date in its name"):
        open_grid(expand(str(tmp_path)))
    grid = open_grid(expand(str(tmp_path)), ReadOptions(dates="%Y/%m/{dekad}"))
    assert len(grid.time) == 3
    assert grid.time.step_name == "dekad"


def test_what_stands_beside_grids_is_left_out_and_counted(truth, regions, tmp_path):
    folder = tmp_path / "grids"
    (folder / "later").mkdir(parents=True)
    write_grid(folder / "a.nc", RAIN[:7])
    write_grid(folder / "later" / "b.nc", RAIN[7:], since="days since 2001-01-08")
    for name in ("readme.txt", "Thumbs.db", "later/a.tif.ovr", ".hidden", "~$a.nc"):
        (folder / name).write_text("These are grids of rain.")
    shutil.copy(folder / "a.nc", folder / "c.nc.part")
    (folder / "later" / "again").symlink_to(folder)
    with pytest.warns(UserWarning, match=r"left out 4 files beside the grids: Thumbs\.db, c\.nc"):
        assert daily(folder, regions) == truth
    done = run("series", folder, "--regions", regions)
    assert "left out 4 files beside the grids" in done.stderr
    (folder / "notes.csv").write_text("a;b")
    assert (
        "notes.csv: is no grid that Bavlo reads"
        in run("series", folder, "--regions", regions, check=False).stderr
    )


def test_a_folder_without_grids_says_what_it_holds(tmp_path):
    (tmp_path / "inner").mkdir()
    with pytest.raises(BavloError, match="holds no files"):
        expand(str(tmp_path))
    (tmp_path / "inner" / "readme.txt").write_text("Nothing.")
    with pytest.raises(BavloError, match=r"holds no grids, only readme\.txt"):
        expand(str(tmp_path))


def packed(kind, folder, out):
    if kind == "zip":
        shutil.make_archive(str(out / "rain"), "zip", folder)
    else:
        shutil.make_archive(str(out / "rain"), {"tar": "tar", "tar.gz": "gztar"}[kind], folder)
    return out / f"rain.{kind}"


@pytest.mark.parametrize("kind", ["zip", "tar", "tar.gz"])
def test_archives_of_grids_are_read_under_their_own_names(kind, truth, regions, tmp_path):
    folder = tmp_path / "grids"
    (folder / "late").mkdir(parents=True)
    write_grid(folder / "a.nc", RAIN[:7])
    write_grid(folder / "late" / "b.nc", RAIN[7:], since="days since 2001-01-08")
    (folder / "readme.txt").write_text("Rain.")
    path = packed(kind, folder, tmp_path)
    assert daily(path, regions) == truth
    words = ["--regions", regions, "--every", "day", "--out", tmp_path / "o.csv"]
    done = program("series", path.name, *words, cwd=tmp_path)
    assert f"{path.name}: left out 1 file beside the grids: readme.txt" in done.stderr
    about = json.loads((tmp_path / "o.csv.about.json").read_text())
    files = [each["file"] for each in about["inputs"]]
    assert files[:2] == [f"rain.{kind}/a.nc", f"rain.{kind}/late/b.nc"]
    assert (
        f"rain.{kind}/a.nc … rain.{kind}/late/b.nc"
        in run("describe", path.name, cwd=tmp_path).stdout
    )
    traced = program("trace", "o.csv", "--region", "a", "--period", "2001-01-09", cwd=tmp_path)
    assert "the same digest" in traced.stdout
    assert f"rain.{kind}/late/b.nc" in traced.stdout


def test_archives_within_archives_and_packed_files_are_read(truth, regions, tmp_path):
    write_grid(tmp_path / "a.nc", RAIN)
    (tmp_path / "a.nc.gz").write_bytes(gzip.compress((tmp_path / "a.nc").read_bytes()))
    assert daily(tmp_path / "a.nc.gz", regions) == truth
    for outer, inner in (("inner.zip", "a.nc"), ("outer.zip", "inner.zip")):
        with zipfile.ZipFile(tmp_path / outer, "w") as archive:
            archive.write(tmp_path / inner, inner)
    assert daily(tmp_path / "outer.zip", regions) == truth
    assert [public(str(path)) for path in expand(str(tmp_path / "outer.zip"))] == [
        f"{tmp_path}/outer.zip/inner.zip/a.nc"
    ]
    assert expand(f"{tmp_path}/outer.zip/inner.zip/a.nc") == expand(f"{tmp_path}/outer.zip")


def test_a_zipped_store_is_a_grid(truth, regions, tmp_path):
    zarr = pytest.importorskip("zarr")
    group = zarr.open_group(tmp_path / "rain.zarr", mode="w", zarr_format=2)
    for name, dims, values, unit in (
        ("time", ["time"], np.arange(14), "days since 2001-01-01"),
        ("lat", ["lat"], np.arange(4) + 0.5, "degrees_north"),
        ("lon", ["lon"], np.arange(4) + 0.5, "degrees_east"),
        ("rain", ["time", "lat", "lon"], RAIN, "mm"),
    ):
        array = group.create_array(name, data=values)
        array.attrs.update({"_ARRAY_DIMENSIONS": dims, "units": unit})
    for root in (tmp_path / "rain.zarr", tmp_path):
        name = tmp_path / f"{root.name[:4]}.zarr.zip"
        with zipfile.ZipFile(name, "w") as archive:
            for each in (tmp_path / "rain.zarr").rglob("*"):
                if each.is_file():
                    archive.write(each, each.relative_to(root))
        assert daily(name, regions) == truth


def test_a_study_does_not_read_an_archive_again_that_is_the_same(regions, tmp_path):
    (tmp_path / "grids").mkdir()
    write_grid(tmp_path / "grids" / "a.nc", RAIN)
    packed("zip", tmp_path / "grids", tmp_path)
    (tmp_path / "s.toml").write_text(
        f'[grids]\nrain = "rain.zip"\n[regions]\nfile = "{regions}"\n'
        '[[result]]\nname = "m"\ncommand = "series"\nevery = "month"\nout = "m.csv"\n'
    )
    assert "m: made" in program("run", "s.toml", cwd=tmp_path).stdout
    assert "up to date" in program("run", "s.toml", cwd=tmp_path).stdout


def test_archives_that_cannot_be_used_say_why(regions, tmp_path):
    torn = tmp_path / "torn.zip"
    torn.write_bytes(b"PK\x03\x04" + bytes(40))
    with tarfile.open(tmp_path / "out.tar", "w") as archive:
        about = tarfile.TarInfo("../a.nc")
        archive.addfile(about, io.BytesIO(b""))
    for name, said in (
        ("torn.zip", "damaged or incomplete"),
        ("out.tar", "leads out of its folder"),
    ):
        done = run("series", tmp_path / name, "--regions", regions, check=False)
        assert done.returncode == 1
        assert said in done.stderr
        assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b'<VRTDataset rasterXSize="4">', "is a VRT, which only names other files"),
        (b"\n<!DOCTYPE html><p>Log in", "is a web page, as of a login or an error"),
        (b"\x0e\x03\x13\x01" + bytes(20), "is HDF4, which Bavlo does not read; convert it"),
        (b"", "is empty; fetch it again"),
        (b"BUFR....", "holds messages of stations"),
        (b"GIF89a", "is a picture, no grid"),
    ],
)
@pytest.mark.parametrize("command", ["describe", "series"])
def test_files_that_no_format_reads_are_told_apart(content, said, command, regions, tmp_path):
    path = tmp_path / "a.dat"
    path.write_bytes(content)
    words = ["--regions", regions] if command == "series" else []
    done = run(command, path, *words, check=False)
    assert done.returncode == 1
    assert said in done.stderr


def test_describe_looks_at_some_of_very_many_files_and_says_so(tmp_path):
    for number in range(450):
        day = datetime.date(2001, 1, 1) + datetime.timedelta(number)
        of_bands(tmp_path, f"rain_{day:%Y%m%d}", RAIN[number % 14][None])
    said = run("describe", tmp_path).stdout
    assert "files    200 of 450 looked at for what they hold, spread evenly" in said
    assert "450 of one day, 2001-01-01..2002-03-26, no gaps" in said
    assert "(200 of 450 steps, spread over time)" in said
    write_grid(tmp_path / "warm.nc", RAIN, name="tmax", unit="degC")
    said = run("describe", tmp_path).stdout
    assert "variable tmax in degC" in said
    assert "(all values)" in said


@pytest.mark.parametrize("ending", ["txt", "dat"])
def test_an_ascii_grid_of_any_ending_is_a_grid(ending, tmp_path):
    path = tmp_path / f"rain_2001-01.{ending}"
    head = "ncols 2\nnrows 2\nxllcorner 0\nyllcorner 0\ncellsize 1\nNODATA_value -9999\n"
    path.write_text(head + "1 2\n3 4\n")
    assert "2 rows × 2 columns" in run("describe", path).stdout
