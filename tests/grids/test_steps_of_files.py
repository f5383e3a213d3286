"""Files whose steps are told in odd ways, as data providers lay them out."""

import netCDF4
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.core.time.axis import DAY, to_instant
from bavlo.errors import BavloError
from bavlo.grids.open import open_grid
from bavlo.jobs.describe_grids import describe_grid
from support import box, rows, write_grid, write_regions


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", {"a": box(0, 0, 2, 2)})


def described(grid):
    found = describe_grid(open_grid([grid]))
    return dict(found.facts)


def values(found):
    """The values of rows, without the noise of their last digits."""
    return [round(float(row["value"]), 9) for row in found]


def rasters(folder, values):
    """A GeoTIFF of 2 × 2 cells of one degree for each name and value."""
    for name, value in values.items():
        with rasterio.open(
            folder / f"{name}.tif",
            "w",
            driver="GTiff",
            width=2,
            height=2,
            count=1,
            dtype="float32",
            crs="EPSG:4326",
            transform=from_origin(0, 2, 1, 1),
        ) as data:
            data.write(np.full((1, 2, 2), value, "float32"))
            data.update_tags(units="mm")
    return sorted(folder.glob("*.tif"))


def composites(path, years, value_of, days=8):
    first = to_instant("standard", 2001)
    starts = np.concatenate(
        [
            (to_instant("standard", year) - first) // DAY
            + np.arange(0, 366 if year % 4 == 0 else 365, days)
            for year in years
        ]
    )
    values = np.array([value_of(n) for n in range(starts.size)], float)
    block = np.broadcast_to(values[:, None, None], (values.size, 2, 2))
    return write_grid(path, block, stamps=starts, name="evapotranspiration", unit="mm")


def test_totals_of_composites_do_not_leak_into_the_next_year(tmp_path, regions):
    grid = composites(tmp_path / "et.nc", (2011, 2012, 2013), lambda n: 8.0)
    found = rows("series", grid, regions, every="year")
    assert [(r["period"], r["steps"], r["steps_expected"]) for r in found] == [
        (year, "46", "46") for year in ("2011", "2012", "2013")
    ]
    assert values(found) == [368, 368, 368]
    (step,) = [
        r for r in rows("series", grid, regions, every="step") if r["period"] == "2012-s08-46"
    ]
    assert (step["start"], step["end"]) == ("2012-12-26", "2012-12-31")
    assert "138 of one 8-day composite, 2011-01-01..2013-12-31, no gaps" in described(grid)["steps"]
    assert "anew on each 1 January" in described(grid)["steps"]


def test_normals_of_composites_are_matched_by_number_across_leap_years(tmp_path, regions):
    grid = composites(tmp_path / "et.nc", range(2009, 2017), lambda n: n // 46 + n % 46)
    found = rows("normals", grid, regions, every="step", base="2009..2016", kind=["amount"])
    found = [row for row in found if row["statistic"] == "mean"]
    assert len(found) == 46
    assert [r["period"] for r in found[:2]] == ["s08-01", "s08-02"]
    assert {r["years"] for r in found} == {"8"}
    assert values(found) == [n + 3.5 for n in range(46)]


def test_three_files_of_a_month_are_dekads_and_none_is_dropped(tmp_path, regions):
    files = rasters(tmp_path, {f"rain_2013{m:02d}.{d}": 100 + d for m in (1, 2) for d in (1, 2, 3)})
    found = rows("series", files, regions)
    assert [r["period"] for r in found] == ["2013-01", "2013-02"]
    assert values(found) == [306, 306]


def test_files_whose_names_give_one_date_are_not_answered_with_prefer_first(tmp_path, regions):
    files = rasters(tmp_path, {f"rain_2013_01x{d}": 100 + d for d in (1, 2, 3)})
    with pytest.raises(BavloError, match=r"by its name.*whole date stands.*\{dekad\}"):
        rows("series", files, regions)
    found = rows("series", files, regions, dates="rain_%Y_%mx{dekad}")
    assert values(found) == [306]


@pytest.mark.parametrize("unit", ["day as %Y%m%d.%f", None])
def test_dates_written_as_numbers_are_read(tmp_path, regions, unit):
    stamps = [20130227, 20130228, 20130301]
    grid = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)), stamps=stamps)
    with netCDF4.Dataset(grid, "a") as data:
        data["time"].delncattr("calendar")
        data["time"].delncattr("units")
        if unit:
            data["time"].units = unit
    found = rows("series", grid, regions, every="day")
    assert [r["period"] for r in found] == ["2013-02-27", "2013-02-28", "2013-03-01"]


def test_numbers_that_are_no_dates_are_refused(tmp_path, regions):
    grid = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)))
    with netCDF4.Dataset(grid, "a") as data:
        data["time"].delncattr("units")
    with pytest.raises(BavloError, match="no unit such as 'days since 1991-01-01'"):
        rows("series", grid, regions)


def test_months_of_thirty_days_may_have_fractions(tmp_path, regions):
    path = tmp_path / "rain.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, size, unit in (
            ("T", 12, "months since 1960-01-01"),
            ("Y", 2, "degree_north"),
            ("X", 2, "degree_east"),
        ):
            data.createDimension(name, size)
            data.createVariable(name, "f4", (name,))[:] = np.arange(size) + 0.5
            data[name].units = unit
        data["T"].calendar = "360"
        rain = data.createVariable("prcp", "f4", ("T", "Y", "X"))
        rain.units = "mm/month"
        rain[:] = 30
    found = rows("series", path, regions)
    assert [r["period"] for r in found] == [f"1960-{m:02d}" for m in range(1, 13)]
    assert set(values(found)) == {30}
    assert {r["calendar"] for r in found} == {"360_day"}


@pytest.mark.parametrize("since", ["0000-01-01", "0001-01-01", "1500-01-01"])
def test_the_cycle_of_a_year_before_all_data_is_a_climatology(tmp_path, regions, since):
    months = np.cumsum([15, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30])
    grid = write_grid(
        tmp_path / "rain.nc", np.ones((12, 2, 2)), stamps=months, since=f"days since {since}"
    )
    assert "normals, not a time series" in described(grid)["steps"]
    with pytest.raises(BavloError, match="holds a climatology, not a time series"):
        rows("series", grid, regions)


@pytest.mark.parametrize("every", ["dekad", "pentad"])
def test_october_1582_has_a_series(tmp_path, regions, every):
    grid = write_grid(tmp_path / "rain.nc", np.ones((21, 2, 2)), since="days since 1582-10-01")
    found = rows("series", grid, regions, every=every)
    assert values(found) == {"dekad": [4, 6, 11], "pentad": [4, 1, 5, 5, 6]}[every]


def test_bounds_that_overlap_are_refused_with_both_steps(tmp_path, regions):
    bounds = [[0, 1], [1, 3], [2, 3]]
    grid = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)), bounds=bounds)
    with pytest.raises(BavloError, match="2001-01-02T00:00 ends after the one from 2001-01-03T00"):
        rows("series", grid, regions)
    assert len(rows("series", grid, regions, stamp="start", every="day")) == 3


def test_hours_accumulated_to_their_stamp_belong_to_the_day_before_midnight(tmp_path, regions):
    block = np.broadcast_to(np.arange(1.0, 49)[:, None, None], (48, 2, 2))
    grid = write_grid(
        tmp_path / "tp.nc",
        block,
        name="tp",
        since="hours since 2001-01-01 01:00",
        attributes={"GRIB_stepType": "accum"},
    )
    found = rows("series", grid, regions, every="day")
    assert values(found) == [sum(range(1, 25)), sum(range(25, 49))]


def test_monthly_means_of_daily_totals_are_rates_per_day(tmp_path, regions):
    months = np.cumsum([0, 31, 28])
    grid = write_grid(
        tmp_path / "tp.nc",
        np.full((3, 2, 2), 0.002),
        name="tp",
        unit="m",
        stamps=months,
        attributes={"GRIB_stepType": "avgad"},
    )
    found = rows("series", grid, regions)
    assert values(found) == [62, 56, 62]
    assert "rate (told by step type avgad" in described(grid)["kind"]
