"""One made-up grid in every format, calendar, packing and order gives one table."""

import contextlib
import csv
import gzip
import io
import itertools
import re
import zlib
from pathlib import Path

import netCDF4
import numpy as np
import pytest
import rasterio
import rasterio.shutil
from rasterio.transform import from_origin

from bavlo.errors import BavloError
from bavlo.grids.cells import CellSelection, WholeRows
from bavlo.grids.open import open_grid
from bavlo.grids.tiles import TiledGrid
from bavlo.jobs.series import series
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from bavlo.tables import csv as csv_table
from support import box, write_regions

LON, LAT = np.arange(20.5, 28), np.arange(-2.5, 4)
DAYS = 40


@pytest.fixture(scope="module")
def rain():
    """(T, ny, nx) rain in quarters of a mm, so that packing loses nothing; the sea is missing."""
    rng = np.random.default_rng(11)
    values = rng.integers(0, 200, (DAYS, LAT.size, LON.size)) / 4
    values[:, 0, :2] = np.nan
    values[7, 4, 5] = np.nan
    return values


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    shapes = {
        "a": box(21.2, -1.7, 24.6, 2.3),
        "b": box(24.6, -1.7, 27.1, 2.3),
        "sea": box(20.1, -2.9, 21.9, -2.1),
        "dot": box(23.4, 0.2, 23.6, 0.4),
    }
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", shapes)


def table(grids, regions, **options):
    """Rows of the series table, as plain text."""
    grids = [grids] if isinstance(grids, str | Path) else grids
    given = {
        "grids": list(map(str, grids)),
        "regions": str(regions),
        "every": "dekad",
        "measure": ["mean,max,p90"],
        **options,
    }
    result = series(make_request("series", given), SilentReporter())
    text = io.StringIO()
    csv_table.write(result.table, text)
    return list(csv.DictReader(text.getvalue().splitlines()))


def same(found, expected, rel=1e-9):
    assert len(found) == len(expected)
    for row, other in zip(found, expected, strict=True):
        for key in ("region", "period", "start", "end", "measure", "steps", "note"):
            assert row[key] == other[key], (row, other)
        for key in ("value", "area_valid"):
            assert (row[key] == "") == (other[key] == "")
            if row[key]:
                assert float(row[key]) == pytest.approx(float(other[key]), rel=rel)


def write_nc(
    path,
    values,
    *,
    model="NETCDF4",
    lon=LON,
    lat=LAT,
    order=("time", "lat", "lon"),
    dtype="f8",
    scale=None,
    offset=None,
    fill=None,
    time=None,
    unit="days since 2001-01-01",
    calendar="standard",
    names=("lat", "lon"),
    axis_units=("degrees_north", "degrees_east"),
    attributes=(),
    **storage,
):
    """The grid in NetCDF, in one of its many dresses."""
    with netCDF4.Dataset(path, "w", format=model) as data:
        sizes = {"time": len(values), names[0]: len(lat), names[1]: len(lon)}
        dims = tuple({"lat": names[0], "lon": names[1]}.get(d, d) for d in order)
        extra = [d for d in dims if d not in sizes]
        for d in dims:
            data.createDimension(d, sizes.get(d, 1))
        for name, centres, text in zip(names, (lat, lon), axis_units, strict=True):
            data.createVariable(name, "f8", (name,))[:] = centres
            if text:
                data[name].units = text
        stamps = np.arange(len(values), dtype="f8") if time is None else time
        data.createVariable("time", np.asarray(stamps).dtype, ("time",))[:] = stamps
        data["time"].units, data["time"].calendar = unit, calendar
        variable = data.createVariable("rain", dtype, dims, fill_value=fill, **storage)
        variable.set_auto_maskandscale(False)
        variable.units = "mm"
        for key, value in dict(attributes).items():
            setattr(variable, key, value)
        stored = values
        if scale is not None:
            variable.scale_factor, variable.add_offset = scale, offset
            stored = np.rint((values - offset) / scale)
        missing = fill if fill is not None else dict(attributes).get("missing_value", np.nan)
        stored = np.where(np.isnan(values), missing, stored).astype(dtype)
        place = [("time", "lat", "lon").index(d) for d in order if d in ("time", "lat", "lon")]
        stored = stored.transpose(place)
        for d in extra:
            stored = np.expand_dims(stored, dims.index(d))
        variable[:] = stored
    return path


@pytest.fixture(scope="module")
def expected(rain, regions, tmp_path_factory):
    path = tmp_path_factory.mktemp("plain") / "plain.nc"
    return table(write_nc(path, rain), regions)


def test_the_plain_grid_is_right_to_begin_with(expected, rain):
    """Region `dot` lies in one cell, so its dekads are sums of that cell."""
    dots = [r for r in expected if r["region"] == "dot" and r["measure"] == "mean"]
    assert [float(r["value"]) for r in dots[:2]] == pytest.approx(
        [rain[:10, 3, 3].sum(), rain[10:20, 3, 3].sum()]
    )
    sea = [r for r in expected if r["region"] == "sea" and r["measure"] == "mean"]
    assert sea[0]["note"] == "area_valid 0.00"


MODELS = [
    "NETCDF3_CLASSIC",
    "NETCDF3_64BIT_OFFSET",
    "NETCDF3_64BIT_DATA",
    "NETCDF4",
    "NETCDF4_CLASSIC",
]
DRESSES = {
    "float32 with a fill value": {"dtype": "f4", "fill": -9999.0},
    "missing_value": {"dtype": "f4", "attributes": {"missing_value": np.float32(-1e30)}},
    "packed int16": {"dtype": "i2", "scale": 0.25, "offset": 100.0, "fill": -32768},
    "packed int32": {"dtype": "i4", "scale": 0.25, "offset": 0.0, "fill": -1},
    "unsigned bytes": {
        "dtype": "i1",
        "scale": 0.25,
        "offset": 0.0,
        "fill": -1,
        "attributes": {"_Unsigned": "true"},
    },
    "valid range": {
        "dtype": "i2",
        "scale": 0.25,
        "offset": 0.0,
        "attributes": {"valid_range": np.array([0, 1000], "i2"), "missing_value": np.int16(-5)},
    },
    "valid min": {"dtype": "f8", "attributes": {"valid_min": 0.0, "missing_value": -1.0}},
    "longitude first": {"order": ("lon", "lat", "time")},
    "time last": {"order": ("lat", "lon", "time")},
    "a further dimension of one": {"order": ("time", "height", "lat", "lon")},
    "axes with odd names": {"names": ("phi", "lambda")},
    "axes told by names": {"axis_units": ("", "")},
    "axes in plain degrees": {
        "axis_units": ("degrees", "degrees"),
        "names": ("latitude", "longitude"),
    },
    "degreesN": {"axis_units": ("degreesN", "degreesE"), "names": ("yc", "xc")},
    "hours since year 1": {
        "time": (np.arange(DAYS) + 730487) * 24.0,
        "unit": "hours since 1-1-1",
    },
    "time as float32": {"time": np.arange(DAYS, dtype="f4")},
    "time in seconds at noon": {
        "time": (np.arange(DAYS) + 0.5) * 86400,
        "unit": "seconds since 2001-01-01",
    },
}


@pytest.mark.parametrize("model", MODELS)
def test_every_netcdf_model_gives_the_same(model, rain, regions, expected, tmp_path):
    same(table(write_nc(tmp_path / "g.nc", rain, model=model), regions), expected)


@pytest.mark.parametrize("dress", DRESSES)
def test_every_dress_gives_the_same(dress, rain, regions, expected, tmp_path):
    found = table(write_nc(tmp_path / "g.nc", rain, **DRESSES[dress]), regions)
    same(found, expected, rel=1e-6)


@pytest.mark.parametrize(("north_up", "westward"), itertools.product([0, 1], [0, 1]))
def test_direction_of_the_axes_does_not_matter(
    north_up, westward, rain, regions, expected, tmp_path
):
    y, x = (-1 if north_up else 1), (-1 if westward else 1)
    path = write_nc(tmp_path / "g.nc", rain[:, ::y, ::x], lat=LAT[::y], lon=LON[::x])
    same(table(path, regions), expected)


def test_a_global_grid_in_either_convention_gives_the_same(rain, regions, expected, tmp_path):
    """Also where the grid's seam runs through a region."""
    lon = np.arange(360) + 0.5
    globe = np.full((DAYS, LAT.size, 360), np.nan)
    globe[:, :, 20:28] = rain
    for name, first in (("east", 0), ("west", 180), ("cut", 23)):
        order = np.argsort((lon - first) % 360)
        shown = (lon[order] - first) % 360 + first
        path = write_nc(tmp_path / f"{name}.nc", globe[:, :, order], lon=shown)
        same(table(path, regions), expected)


@pytest.mark.parametrize(
    ("calendar", "length"),
    [
        ("noleap", 59),
        ("all_leap", 60),
        ("360_day", 60),
        ("julian", 59),
        ("proleptic_gregorian", 59),
    ],
)
def test_every_calendar_has_its_own_february(calendar, length, regions, tmp_path):
    days = np.ones((90, LAT.size, LON.size))
    path = write_nc(tmp_path / "g.nc", days, calendar=calendar)
    rows = table(path, regions, every="month", only=["a"], measure=["mean"])
    assert float(rows[0]["value"]) + float(rows[1]["value"]) == pytest.approx(length)
    assert ("calendar" in rows[0]) == (calendar != "proleptic_gregorian")


def test_months_since_are_calendar_months_and_fractions_parts_of_them(rain, regions, tmp_path):
    path = write_nc(
        tmp_path / "g.nc", rain[:14], time=np.arange(14.0), unit="months since 2000-01-15"
    )
    rows = table(path, regions, every="month", only=["a"], measure=["mean"])
    assert [r["period"] for r in rows][:3] == ["2000-01", "2000-02", "2000-03"]
    assert rows[1]["steps_expected"] == "1"
    path = write_nc(
        tmp_path / "h.nc", rain[:14], time=np.arange(14) + 0.5, unit="months since 2000-01-01"
    )
    again = table(path, regions, every="month", only=["a"], measure=["mean"])
    assert [row["value"] for row in again] == [row["value"] for row in rows]


def test_groups_and_levels_are_found(rain, regions, expected, tmp_path):
    path = tmp_path / "g.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, values, unit in (
            ("lat", LAT, "degrees_north"),
            ("lon", LON, "degrees_east"),
            ("time", np.arange(DAYS), "days since 2001-01-01"),
            ("height", [2.0, 10.0], "m"),
        ):
            data.createDimension(name, len(values))
            data.createVariable(name, "f8", (name,))[:] = values
            data[name].units = unit
        data.createVariable("label", "S1", ("lat", "lon"))
        inner = data.createGroup("model").createGroup("run")
        variable = inner.createVariable("rain", "f8", ("time", "height", "lat", "lon"))
        variable.units = "mm"
        variable[:] = np.stack([rain, rain * 2], axis=1)
    with pytest.raises(BavloError, match=r"height of 2 values \(2, 10\); choose one with level"):
        table(path, regions)
    same(table(path, regions, level=["2"]), expected)
    double = table(path, regions, level=["10"])
    assert float(double[0]["value"]) == pytest.approx(2 * float(expected[0]["value"]))


@pytest.mark.parametrize("version", [2, 3])
@pytest.mark.parametrize("consolidated", [True, False])
def test_zarr_gives_the_same(version, consolidated, rain, regions, expected, tmp_path):
    import zarr

    path = tmp_path / "g.zarr"
    group = zarr.open_group(path, mode="w", zarr_format=version)
    for name, values, dims, unit in (
        ("lat", LAT, ("lat",), "degrees_north"),
        ("lon", LON, ("lon",), "degrees_east"),
        ("time", np.arange(DAYS), ("time",), "days since 2001-01-01"),
        ("rain", rain, ("time", "lat", "lon"), "mm"),
    ):
        named = {"dimension_names": dims} if version == 3 else {}
        chunks = (7, 4, 3) if name == "rain" else values.shape
        array = group.create_array(name, data=np.asarray(values), chunks=chunks, **named)
        array.attrs["units"] = unit
        if version == 2:
            array.attrs["_ARRAY_DIMENSIONS"] = list(dims)
    if consolidated:
        zarr.consolidate_metadata(path)
    same(table(path, regions), expected)


def write_tif(
    path,
    bands,
    *,
    lon=LON,
    lat=LAT,
    crs="EPSG:4326",
    driver="GTiff",
    dates=None,
    nodata=-1.0,
    **options,
):
    """Bands with north at the top."""
    size = lon[1] - lon[0]
    bands = np.atleast_3d(np.where(np.isnan(bands), nodata, bands)).astype("f4")
    bands = bands.reshape(-1, lat.size, lon.size)
    settings = {
        "driver": driver,
        "height": lat.size,
        "width": lon.size,
        "count": len(bands),
        "dtype": "float32",
        "crs": crs,
        "nodata": nodata,
        "transform": from_origin(lon[0] - size / 2, lat[-1] + size / 2, size, size),
    }
    with rasterio.open(path, "w", **settings, **options) as data:
        data.write(bands[:, ::-1])
        for n in range(len(bands)):
            if dates is not None:
                data.set_band_description(n + 1, dates[n])
            if driver != "AAIGrid":
                data.update_tags(n + 1, units="mm")
    return path


def day(n):
    return str(np.datetime64("2001-01-01") + n)


NAMES = {
    "dashes": lambda n: f"rain_{day(n)}",
    "plain": lambda n: f"rain.{day(n).replace('-', '')}",
    "dots": lambda n: f"rain.{day(n).replace('-', '.')}.v2",
    "day of year": lambda n: f"rain_2001{n + 1:03d}_fin",
}


@pytest.mark.parametrize("naming", NAMES)
def test_a_geotiff_a_day_gives_the_same(naming, rain, regions, expected, tmp_path):
    for n in range(DAYS):
        write_tif(tmp_path / f"{NAMES[naming](n)}.tif", rain[n], compress="deflate")
    same(table(tmp_path, regions, **{"input-unit": "mm"}), expected)


def test_bands_with_dates_in_their_descriptions_give_the_same(rain, regions, expected, tmp_path):
    dates = [day(n) for n in range(DAYS)]
    for name, options in (
        ("plain", {}),
        ("tiled", {"tiled": True, "blockxsize": 16, "blockysize": 16, "compress": "lzw"}),
        ("big", {"BIGTIFF": "YES"}),
        ("cog", {}),
    ):
        path = write_tif(tmp_path / f"rain_{name}.tif", rain, dates=dates, **options)
        if name == "cog":
            rasterio.shutil.copy(path, tmp_path / "rain_cloud.tif", driver="COG")
            path = tmp_path / "rain_cloud.tif"
        same(table(path, regions), expected)
        packed = tmp_path / f"rain_{name}.tif.gz"
        packed.write_bytes(gzip.compress(path.read_bytes()))
        same(table(packed, regions), expected)


def test_ascii_grids_give_the_same(rain, regions, expected, tmp_path):
    for n in range(DAYS):
        rows = "\n".join(
            " ".join("-1" if v != v else f"{v:g}" for v in row) for row in rain[n, ::-1]
        )
        (tmp_path / f"rain_{day(n)}.asc").write_text(
            f"ncols 8\nnrows 7\nxllcorner 20\nyllcorner -3\ncellsize 1\nNODATA_value -1\n{rows}\n"
        )
    same(table(tmp_path, regions, **{"input-unit": "mm"}), expected)


def test_grib_gives_the_same_to_its_own_precision(rain, regions, tmp_path):
    kelvin = 280 + np.nan_to_num(rain[:1]) / 10
    plain = write_tif(tmp_path / "t_2001-01-01.tif", kelvin, nodata=-9999.0, driver="GTiff")
    with rasterio.open(plain) as data:
        rasterio.shutil.copy(
            data,
            tmp_path / "t.grib2",
            driver="GRIB",
            PDTN="0",
            IDS="CENTER=0 REF_TIME=2001-01-01T00:00:00Z",
        )
    told = {"every": "step", "measure": ["mean"], "input-unit": "K"}
    rows = table(tmp_path / "t.grib2", regions, **told)
    other = table(plain, regions, every="step", measure=["mean"], **{"input-unit": "K"})
    found = [float(r["value"]) for r in rows]
    assert found == pytest.approx([float(r["value"]) for r in other], abs=0.05)


def test_files_in_any_order_with_overlaps_and_gaps(rain, regions, expected, tmp_path):
    parts = [
        write_nc(tmp_path / f"{name}.nc", rain[a:b], time=np.arange(a, b, dtype="f8"))
        for name, a, b in (("z", 0, 15), ("m", 12, 30), ("a", 30, 40))
    ]
    same(table(parts, regions), expected)
    same(table(parts[::-1], regions), expected)
    other = write_nc(tmp_path / "other.nc", rain[:3] + 1, time=np.arange(3.0))
    with pytest.raises(BavloError, match="with other values; leave one of them out, or use pref"):
        table([*parts, other], regions)
    first = table([*parts, other], regions, prefer="first")
    same(first, expected)
    last = table([*parts, other], regions, prefer="last")
    assert float(last[0]["value"]) == pytest.approx(float(first[0]["value"]) + 3)
    gap = table([parts[0], parts[2]], regions, only=["a"], measure=["mean"])
    assert gap[1]["note"] == "5 of 10 days"


def test_other_cells_or_variables_are_refused_by_name(rain, regions, tmp_path):
    a = write_nc(tmp_path / "a.nc", rain)
    b = write_nc(
        tmp_path / "b.nc", rain, lat=np.linspace(-2.5, 3.5, 7) * 1.01, time=np.arange(50, 90)
    )
    with pytest.raises(BavloError, match=r"b.nc: has other cells than a.nc"):
        table([a, b], regions)


def test_tiles_beside_each_other_give_the_same(rain, regions, expected, tmp_path):
    dates = [day(n) for n in range(DAYS)]
    tiles = [
        write_tif(tmp_path / "west.tif", rain[:, :, :3], lon=LON[:3], dates=dates),
        write_tif(tmp_path / "north.tif", rain[:, 3:, 3:], lon=LON[3:], lat=LAT[3:], dates=dates),
        write_tif(tmp_path / "south.tif", rain[:, :3, 3:], lon=LON[3:], lat=LAT[:3], dates=dates),
    ]
    same(table(tiles, regions, combine="total"), expected)


def test_where_tiles_overlap_the_finer_one_wins(rain, regions, expected, tmp_path):
    fine = np.repeat(np.repeat(rain, 2, axis=1), 2, axis=2)[:, 4:12, 4:16]
    fine_lon, fine_lat = np.arange(22.25, 28, 0.5), np.arange(-0.75, 3, 0.5)
    dates = [day(n) for n in range(DAYS)]
    wrong = rain.copy()
    wrong[:, 2:6, 2:8] += 1000
    tiles = [
        write_tif(tmp_path / "coarse.tif", wrong, dates=dates),
        write_tif(tmp_path / "fine.tif", fine, lon=fine_lon, lat=fine_lat, dates=dates),
    ]
    only = {"only": ["dot"], "measure": ["mean"], "combine": "total"}
    rows = table(tiles, regions, **only)
    plain = [r for r in expected if r["region"] == "dot" and r["measure"] == "mean"]
    assert [r["value"] for r in rows[:2]] == [r["value"] for r in plain[:2]]
    assert float(rows[0]["value"]) < 1000


def test_projected_grids_weigh_by_true_area(regions, tmp_path):
    """A field of 1 over a region away from the middle of its projection keeps the true area."""
    x, y = np.arange(-500e3, 900e3, 50e3) + 25e3, np.arange(-400e3, 400e3, 50e3) + 25e3
    crs = "+proj=laea +lat_0=0 +lon_0=22 +datum=WGS84"
    path = write_tif(
        tmp_path / "rain_2001-01-01.tif", np.ones((1, y.size, x.size)), lon=x, lat=y, crs=crs
    )
    rows = table(path, regions, every="step", measure=["volume"], **{"input-unit": "mm"})
    plain = write_nc(tmp_path / "p.nc", np.ones((1, LAT.size, LON.size)))
    other = table(plain, regions, every="step", measure=["volume"])
    for row, same_row in zip(rows[:2], other[:2], strict=True):
        assert float(row["value"]) == pytest.approx(float(same_row["value"]), rel=2e-5)


def test_grid_mappings_and_two_dimensional_coordinates_agree(regions, tmp_path):
    """A rotated grid told by its mapping, and by the centres of its cells."""
    import pyproj

    rlon, rlat = np.arange(-6, 6, 0.25) + 0.125, np.arange(-5, 5, 0.25) + 0.125
    mapping = {
        "grid_mapping_name": "rotated_latitude_longitude",
        "grid_north_pole_latitude": 70.0,
        "grid_north_pole_longitude": -156.0,
    }
    crs = pyproj.CRS.from_cf(mapping)
    to_lonlat = pyproj.Transformer.from_crs(crs, "OGC:CRS84", always_xy=True)
    lon, lat = to_lonlat.transform(*np.meshgrid(rlon, rlat))
    rlat = rlat + 0.0
    values = (lon * 2 + lat)[None]
    paths = []
    for name in ("mapped", "corners"):
        path = tmp_path / f"{name}.nc"
        with netCDF4.Dataset(path, "w") as data:
            for axis, centres, standard in (
                ("rlat", rlat, "grid_latitude"),
                ("rlon", rlon, "grid_longitude"),
            ):
                data.createDimension(axis, centres.size)
                if name == "mapped":
                    data.createVariable(axis, "f8", (axis,))[:] = centres
                    data[axis].standard_name, data[axis].units = standard, "degrees"
            data.createDimension("time", 1)
            data.createVariable("time", "f8", ("time",))[:] = 0
            data["time"].units = "days since 2001-01-01"
            field = data.createVariable("t", "f8", ("time", "rlat", "rlon"))
            field.units = "K"
            field[:] = values
            if name == "mapped":
                field.grid_mapping = "pole"
                data.createVariable("pole", "i4", ())
                for key, value in mapping.items():
                    setattr(data["pole"], key, value)
            else:
                field.coordinates = "lon lat"
                for axis, centres, unit in (
                    ("lon", lon, "degrees_east"),
                    ("lat", lat, "degrees_north"),
                ):
                    data.createVariable(axis, "f8", ("rlat", "rlon"))[:] = centres
                    data[axis].units = unit
        paths.append(path)
    moved = write_regions(tmp_path / "r.geojson", {"here": box(22.3, 18.6, 26.4, 21.3)})
    one, other = (
        float(table(path, moved, every="step", measure=["mean"])[0]["value"]) for path in paths
    )
    assert one == pytest.approx(other, rel=1e-5)
    # The field is linear, so its mean over a small box is near that at the middle.
    assert one == pytest.approx(2 * 24.35 + 19.95, abs=0.05)


def test_what_the_user_says_about_silent_files_is_used(rain, regions, expected, tmp_path):
    path = write_nc(tmp_path / "g.nc", rain / 25.4 * 10 - 3)
    found = table(path, regions, **{"input-unit": "inch", "unit": "mm", "scale": "0.1,0.3"})
    same(found, expected, rel=1e-6)
    shifted = write_nc(tmp_path / "s.nc", rain, time=np.arange(DAYS) * 1.0 + 1)
    same(table(shifted, regions, stamp="end"), expected)
    local = write_nc(tmp_path / "u.nc", rain, time=np.arange(DAYS) - 0.25)
    same(table(local, regions, **{"utc-offset": "06:00"}), expected)


DAMAGE = ["classic", "netcdf4", "tif", "tif.gz"]


@pytest.mark.slow
@pytest.mark.parametrize("kind", DAMAGE)
def test_damage_is_an_error_or_changes_nothing_but_is_never_another_number(
    kind, rain, regions, expected, tmp_path
):
    """Files cut short, and single bytes rechunked over, wherever the format keeps checksums."""
    dates = [day(n) for n in range(DAYS)]
    if kind == "classic":
        path = write_nc(tmp_path / "g.nc", rain, model="NETCDF3_CLASSIC")
    elif kind == "netcdf4":
        path = write_nc(tmp_path / "g.nc", rain, zlib=True, shuffle=True, fletcher32=True)
    else:
        path = write_tif(tmp_path / "rain.tif", rain, dates=dates, compress="deflate")
        if kind == "tif.gz":
            packed = tmp_path / "rain.tif.gz"
            packed.write_bytes(gzip.compress(path.read_bytes()))
            path = packed
    whole = path.read_bytes()
    rng = np.random.default_rng(2)
    bad = tmp_path / f"bad.{path.name}"
    for n, cut in enumerate(np.linspace(0, len(whole) - 1, 25).astype(int)):
        bad = tmp_path / f"cut{n}.{path.name}"
        bad.write_bytes(whole[:cut])
        with pytest.raises(BavloError):
            table(bad, regions)
    # Classic files have no checksums, so there only the header must not lead astray.
    last = 600 if kind == "classic" else len(whole)
    for n, at in enumerate(rng.integers(0, last, 60).tolist()):
        flipped = bytearray(whole)
        flipped[at] ^= 1 << int(rng.integers(0, 8))
        bad = tmp_path / f"flip{n}.{path.name}"
        bad.write_bytes(flipped)
        try:
            found = table(bad, regions)
        except BavloError:
            continue
        if kind in ("tif.gz", "netcdf4"):
            same(found, expected)


def deflated_bytes(data):
    """Positions of the bytes within deflated blocks, their two-byte heads left out."""
    places = []
    for match in re.finditer(rb"\x78[\x01\x5e\x9c\xda]", data):
        inflater = zlib.decompressobj()
        with contextlib.suppress(zlib.error):
            inflater.decompress(data[match.start() :])
            if inflater.eof:
                places += range(match.start() + 2, len(data) - len(inflater.unused_data))
    return places


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["netcdf", "strips", "tiles"])
def test_a_turned_bit_in_a_deflated_block_is_an_error_and_never_a_number(
    kind, rain, regions, tmp_path
):
    dates = [day(n) for n in range(DAYS)]
    if kind == "netcdf":
        path = write_nc(tmp_path / "g.nc", rain, zlib=True, shuffle=True)
    else:
        tiled = {"tiled": True, "blockxsize": 16, "blockysize": 16} if kind == "tiles" else {}
        path = write_tif(tmp_path / "g.tif", rain, dates=dates, compress="deflate", **tiled)
    whole = path.read_bytes()
    places = deflated_bytes(whole)
    assert len(places) > 2000
    plain = table(path, regions, combine="total")
    rng = np.random.default_rng(6)
    for n, at in enumerate(rng.choice(places, 120).tolist()):
        flipped = bytearray(whole)
        flipped[at] ^= 1 << int(rng.integers(0, 8))
        bad = tmp_path / f"bad{n}.{path.name}"
        bad.write_bytes(flipped)
        try:
            found = table(bad, regions, combine="total")
        except BavloError:
            continue
        same(found, plain)


def test_a_coordinate_of_another_length_than_its_dimension_is_refused(tmp_path):
    import zarr

    group = zarr.open_group(tmp_path / "g.zarr", mode="w", zarr_format=2)
    for name, size, unit in (
        ("time", 5, "days since 2001-01-01"),
        ("lat", 4, "degrees_north"),
        ("lon", 3, "degrees_east"),
    ):
        array = group.create_array(name, data=np.arange(float(size)))
        array.attrs.update({"units": unit, "_ARRAY_DIMENSIONS": [name]})
    array = group.create_array("rain", data=np.ones((5, 4, 3), "f4"))
    array.attrs.update({"units": "mm", "_ARRAY_DIMENSIONS": ["lat", "time", "lon"]})
    with pytest.raises(BavloError, match="rain has 5 along lat, whose coordinate has 4"):
        open_grid([tmp_path / "g.zarr"])


def test_whole_rows_of_tiles_are_their_cells(rain, tmp_path):
    dates = [day(n) for n in range(DAYS)]
    fine = np.repeat(np.repeat(rain, 2, axis=1), 2, axis=2)[:, 4:12, 4:16] + 3
    fine_lon, fine_lat = np.arange(22.25, 28, 0.5), np.arange(-0.75, 3, 0.5)
    paths = [
        write_tif(tmp_path / "west.tif", rain[:, :, :3], lon=LON[:3], dates=dates),
        write_tif(
            tmp_path / "north.tif", rain[4:20, 3:, 3:], lon=LON[3:], lat=LAT[3:], dates=dates[4:20]
        ),
        write_tif(tmp_path / "fine.tif", fine, lon=fine_lon, lat=fine_lat, dates=dates),
    ]
    grid = open_grid(paths)
    assert isinstance(grid, TiledGrid)
    ny, nx = grid.layout.shape
    for rows in (slice(0, ny), slice(2, 5), slice(ny - 1, ny)):
        numbers = np.arange(rows.start * nx, rows.stop * nx)
        plain = CellSelection(grid.layout.shape, numbers)
        object.__setattr__(plain, "whole_rows", None)  # so that they are taken one by one
        whole = WholeRows(grid.layout.shape, rows)
        np.testing.assert_array_equal(whole.cells, numbers)
        assert whole.size == numbers.size
        found = grid.read(2, 25, whole)
        assert np.isnan(found).any()
        np.testing.assert_array_equal(found, grid.read(2, 25, plain))
