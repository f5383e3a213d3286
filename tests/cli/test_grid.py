"""`bavlo grid` and what --make, --window and their like give, as installed."""

import netCDF4
import numpy as np
import pandas as pd
import pytest
import rasterio

from support import box, run, write_grid, write_regions


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Ten years of daily values on six cells, one of them without data."""
    folder = tmp_path_factory.mktemp("small")
    rng = np.random.default_rng(5)
    days = pd.date_range("2001-01-01", "2010-09-17")
    rain = rng.gamma(0.5, 6, (days.size, 2, 3))
    tmax = 20 + 5 * np.cos(np.arange(days.size) / 58)[:, None, None] + rng.normal(0, 2, rain.shape)
    for values in (rain, tmax):
        values[:, 0, 0] = np.nan
    write_grid(folder / "rain.nc", rain, attributes={"cell_methods": "time: sum"})
    write_grid(folder / "tmax.nc", tmax, name="tmax", unit="degC")
    write_grid(folder / "tmin.nc", tmax[:-5] - 7 + 273.15, name="tmin", unit="K")
    write_regions(folder / "r.geojson", {"east": box(1, 0, 3, 2), "far": box(2, 1, 3, 2)})
    return folder, days, rain, tmax


def table(folder, *arguments):
    out = folder / "out.csv"
    run(*arguments, "--regions", folder / "r.geojson", "--out", out, "--replace")
    return pd.read_csv(out)


def test_tables_name_the_weight_and_what_is_made_of_them_does_too(world, tmp_path):
    folder, *_ = world
    people = write_grid(tmp_path / "p.nc", np.ones((2, 3)), name="folk", unit="people", time=False)
    files = [folder / "rain.nc", "--regions", folder / "r.geojson", "--weight", people]
    for command, *options in (
        ("series", "--every", "year"),
        ("extremes", "--when", "rain > 9 mm"),
        ("normals", "--base", "2001..2009"),
        ("anomalies", "--base", "2001..2009"),
    ):
        run(command, *files, *options, "--out", tmp_path / f"{command}.csv")
        assert set(pd.read_csv(tmp_path / f"{command}.csv").weight) == {"folk"}
    run("normals", tmp_path / "series.csv", "--base", "2001..2009", "--out", tmp_path / "n.csv")
    assert set(pd.read_csv(tmp_path / "n.csv").weight) == {"folk"}
    run("chart", tmp_path / "series.csv", "--out", tmp_path / "s.png")


def test_a_depth_of_which_nothing_tells_the_kind_is_asked_for_and_never_averaged(tmp_path):
    values = np.arange(59.0)[:, None, None] * np.ones((1, 2, 3))
    grid = write_grid(tmp_path / "def.nc", values, name="def")
    regions = write_regions(tmp_path / "r.geojson", {"all": box(0, 0, 3, 2)})
    ask = "say --kind amount to add steps up, or --kind state to average them"
    for command, *options in (
        ("series", "--every", "month"),
        ("normals",),
        ("anomalies",),
        ("extremes", "--when", "def > 1 mm"),
        ("grid", "--every", "month", "--out", tmp_path / "g.nc"),
        ("series", "x=def.nc", "y=def.nc", "--make", "z = x + y"),
    ):
        grids = [] if "--make" in options else [grid]
        done = run(command, *grids, "--regions", regions, *options, check=False, cwd=tmp_path)
        said = done.stderr.replace("--kind z=", "--kind ")
        assert (done.returncode, ask in said) == (2, True), said
    assert not (tmp_path / "g.nc").exists()
    assert "kind     not told (only unit mm)" in run("describe", grid).stdout
    first = values[:31, 0, 0]
    for options, expected in (
        (["--kind", "amount"], first.sum()),
        (["--kind", "state"], first.mean()),
        (["--combine", "total"], first.sum()),
        (["--combine", "max"], first.max()),
    ):
        out = tmp_path / "out.csv"
        run("series", grid, "--regions", regions, *options, "--out", out, "--replace")
        assert pd.read_csv(out).value[0] == pytest.approx(expected, rel=1e-12)
    run("series", grid, "--regions", regions, "--every", "step", "--out", out, "--replace")
    assert pd.read_csv(out).value.to_numpy() == pytest.approx(values[:, 0, 0], rel=1e-12)
    made = [
        "x=def.nc",
        "y=def.nc",
        "--make",
        "z = x + y",
        "--kind",
        "x=amount",
        "--kind",
        "y=amount",
        "--kind",
        "z=amount",
    ]
    run("series", *made, "--regions", regions, "--out", out, "--replace", cwd=tmp_path)
    assert pd.read_csv(out).value[0] == pytest.approx(2 * first.sum(), rel=1e-12)
    wrong = run("series", grid, "--regions", regions, "--kind", "amont", check=False)
    assert (
        "'amont' is not known; use one of: amount rate state accumulated count class"
        in wrong.stderr
    )
    old = run("chart", out, "--kind", "lines", "--out", tmp_path / "c.png", check=False)
    assert "say --figure NAME" in old.stderr


def test_anomalies_of_cells_agree_with_plain_pandas(world, tmp_path):
    folder, days, rain, _ = world
    out = tmp_path / "a.nc"
    options = ["--every", "month", "--as", "anomaly", "--base", "2001..2009"]
    run("grid", folder / "rain.nc", *options, "--during", "2005..2006-02", "--out", out)
    monthly = pd.DataFrame(rain.reshape(days.size, -1), index=days).resample("MS").sum(min_count=28)
    base = monthly["2001":"2009"]
    expected = monthly - base.groupby(base.index.month).mean().loc[monthly.index.month].to_numpy()
    with netCDF4.Dataset(out) as data:
        found = np.ma.filled(data["rain_anomaly"][:].astype(float), np.nan)
        bounds = netCDF4.num2date(data["time_bounds"][:], data["time"].units)
        assert data["rain_anomaly"].units == "mm"
        assert str(bounds[0, 0])[:10] == "2005-01-01"
        assert str(bounds[-1, 1])[:10] == "2006-03-01"
    np.testing.assert_allclose(
        found.reshape(14, -1), expected["2005":"2006-02"].to_numpy(), rtol=1e-5, atol=1e-4
    )


def test_a_grid_is_cut_to_its_regions_or_to_their_box(world, tmp_path):
    folder, _, rain, _ = world
    shapes = {}
    for how in ("missing", "crop", "both"):
        out = tmp_path / f"{how}.tif"
        regions = ["--regions", folder / "r.geojson", "--only", "far", "--outside", how]
        run("grid", folder / "rain.nc", *regions, "--during", "2001-01-05", "--out", out)
        with rasterio.open(out) as data:
            shapes[how] = data.shape
            found = data.read(1)
            assert data.descriptions == ("2001-01-05",)
            assert data.tags(ns="IMAGE_STRUCTURE")["LAYOUT"] == "COG"
            # North is up, whatever the order of the rows in the file.
            assert data.transform.e < 0
            np.testing.assert_allclose(found[0, -1], rain[4, 1, 2], rtol=1e-6)
            assert np.isnan(found).sum() == (5 if how == "missing" else 0)
    assert shapes == {"missing": (2, 3), "crop": (1, 1), "both": (1, 1)}


def test_regridding_keeps_the_mean_over_an_area(world, tmp_path):
    folder, _, rain, _ = world
    edges = np.sin(np.radians([0, 1, 2]))
    write_grid(tmp_path / "onto.nc", np.zeros((1, 1, 1)), lon=[2.0], lat=[1.0], time=True)
    with netCDF4.Dataset(tmp_path / "onto.nc", "a") as data:
        data.createDimension("nv", 2)
        for name in ("lon", "lat"):
            data[name].bounds = f"{name}_bnds"
            data.createVariable(f"{name}_bnds", "f8", (name, "nv"))[:] = (
                [1, 3] if name == "lon" else [0, 2]
            )
    onto = ["--onto", tmp_path / "onto.nc", "--during", "2001-01-05"]
    run("grid", folder / "rain.nc", *onto, "--out", tmp_path / "o.nc")
    weights = np.diff(edges)[:, None] * [1, 1]
    with netCDF4.Dataset(tmp_path / "o.nc") as data:
        expected = (rain[4, :, 1:] * weights).sum() / weights.sum()
        np.testing.assert_allclose(data["rain"][0, 0, 0], expected, rtol=1e-6)


def test_normals_are_marked_as_such_and_not_taken_for_a_series(world, tmp_path):
    folder, _, _, tmax = world
    for out in (tmp_path / "n.nc", tmp_path / "n.tif"):
        run("grid", folder / "tmax.nc", "--as", "normal", "--base", "2001..2009", "--out", out)
        done = run("series", out, "--regions", folder / "r.geojson", check=False)
        assert done.returncode == 1
        assert "climatology" in done.stderr
        assert "normals, not a time series" in run("describe", out).stdout
    with netCDF4.Dataset(tmp_path / "n.nc") as data:
        january = np.concatenate([tmax[:, 1, 1][days_of(2001 + n)] for n in range(9)])
        np.testing.assert_allclose(data["tmax_normal"][0, 1, 1], january.mean(), rtol=1e-6)


def days_of(year):
    first = (pd.Timestamp(year, 1, 1) - pd.Timestamp(2001, 1, 1)).days
    return slice(first, first + 31)


def test_a_grid_made_of_two_uses_their_common_days(world):
    folder, days, _, tmax = world
    named = [f"tmax={folder / 'tmax.nc'}", f"tmin={folder / 'tmin.nc'}"]
    made = ["--make", "tmean = (tmax + tmin) / 2", "--every", "day", "--during", "2010-09"]
    found = table(folder, "series", *named, *made)
    far = found[found.region == "far"]
    assert far["end"].iloc[-1] == "2010-09-12"
    start = list(days).index(pd.Timestamp("2010-09-01"))
    np.testing.assert_allclose(far["value"], tmax[start:-5, 1, 2] - 3.5, rtol=1e-9)


def test_degree_days_windows_and_running_values_agree_with_pandas(world):
    folder, days, rain, tmax = world
    heat = pd.Series(tmax[:, 1, 2], index=days)
    wet = pd.Series(rain[:, 1, 2], index=days)
    only = ["--only", "far"]
    degrees = table(
        folder, "series", folder / "tmax.nc", "--combine", "degree-days above 68 degF", *only
    )
    above = ((heat * 1.8 + 32) - 68).clip(lower=0).resample("MS").sum()
    np.testing.assert_allclose(degrees["value"][:-1], above[:-1], rtol=1e-9)
    assert set(degrees["unit"]) == {"degF day"}
    window = table(folder, "series", folder / "rain.nc", "--window", "3", *only)
    months = wet.resample("MS").sum()[:-1]
    np.testing.assert_allclose(window["value"][:-1], months.rolling(3).sum(), rtol=1e-9)
    part = table(
        folder, "series", folder / "rain.nc", "--window", "3", "--during", "2004-02..2004-06", *only
    )
    columns = ["period", "start", "value", "steps", "steps_expected"]
    same = window[window.period.between("2004-02", "2004-06")]
    assert part[columns].equals(same[columns].reset_index(drop=True))
    running = table(
        folder, "series", folder / "rain.nc", "--every", "year", "--combine", "running", *only
    )
    np.testing.assert_allclose(running["value"], wet.groupby(wet.index.year).cumsum(), rtol=1e-9)
    assert running["end"].iloc[-1] == "2010-09-17"
    assert running["start"].iloc[-1] == "2010-01-01"


def test_a_year_under_way_is_compared_with_the_same_days(world):
    folder, days, rain, _ = world
    wet = pd.Series(rain[:, 1, 2], index=days)
    so_far = wet[(wet.index.month * 100 + wet.index.day) <= 917].groupby(lambda d: d.year).sum()
    options = ["--every", "year", "--same-span", "--base", "2001..2009", "--only", "far"]
    found = table(folder, "anomalies", folder / "rain.nc", *options)
    np.testing.assert_allclose(found["value"], so_far, rtol=1e-9)
    np.testing.assert_allclose(found["normal"], so_far.loc[:2009].mean(), rtol=1e-9)
    assert set(found["end"].str[5:]) == {"09-17"}


def test_normals_from_months_are_sums_and_means_of_theirs(world):
    folder, days, rain, tmax = world
    options = [
        "--every",
        "season",
        "--normals-from",
        "months",
        "--base",
        "2001..2009",
        "--only",
        "far",
    ]
    for name, values, how in (("rain", rain, "sum"), ("tmax", tmax, "mean")):
        found = table(folder, "normals", folder / f"{name}.nc", *options)
        months = pd.Series(values[:, 1, 2], index=days)["2001":"2009"].resample("MS").agg(how)
        normal = months.groupby(months.index.month).mean()
        winter = getattr(normal.loc[[12, 1, 2]], how)()
        np.testing.assert_allclose(found.set_index("period").loc["DJF", "value"], winter, rtol=1e-9)


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["rain.nc", "--out", "x.csv"], "ending '.csv'"),
        (["rain.nc"], "no file was named"),
        (["rain.nc", "--outside", "crop", "--out", "x.nc"], "goes with --regions"),
        (
            ["rain.nc", "--onto", "rain.nc", "--every", "day", "--as", "anomaly", "--out", "x.nc"],
            "",
        ),
        (["rain.nc", "tmax.nc", "--out", "x.nc"], "no variable"),
        (["rain.nc", "--make", "m = rain + snow", "--out", "x.nc"], "there is no grid snow"),
    ],
)
def test_what_makes_no_sense_is_refused_and_nothing_written(world, tmp_path, arguments, said):
    folder = world[0]
    given = [
        tmp_path / a if a.startswith("x.") else folder / a if a.endswith(".nc") else a
        for a in arguments
    ]
    done = run("grid", *given, check=False)
    assert done.returncode in (1, 2)
    assert said in done.stderr
    assert done.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())


def test_maps_and_charts_are_drawn_of_what_they_suit(demo, tmp_path):
    regions = ["--regions", demo / "watersheds.geojson"]
    run("map", demo / "rain_years.csv", *regions, "--period", "2007", "--out", tmp_path / "m.png")
    run("map", demo / "people.tif", "--classes", "quantile", "--out", tmp_path / "g.svg")
    run("normals", demo / "rain_months.csv", "--out", tmp_path / "rn.csv")
    heat = [*sorted(demo.glob("tmax_*.nc")), *regions, "--unit", "degC"]
    run("normals", *heat, "--out", tmp_path / "tn.csv")
    run("chart", tmp_path / "rn.csv", tmp_path / "tn.csv", "--out", tmp_path / "d.png")
    for kind in ("years", "matrix"):
        run("chart", demo / "rain_months.csv", "--figure", kind, "--out", tmp_path / f"{kind}.png")
    run("chart", demo / "rain_years.csv", "--figure", "totals", "--out", tmp_path / "t.pdf")
    assert all(path.stat().st_size > 9000 for path in tmp_path.glob("*.png"))
    for arguments, said in (
        (["chart", demo / "rain_years.csv", "--figure", "years"], "use totals"),
        (["chart", tmp_path / "rn.csv", "--figure", "lines"], "use normals, diagram"),
        (["map", demo / "rain_years.csv"], "needs its regions"),
        (["map", demo / "heat.csv", *regions], "choose one"),
        (["map", demo / "rain_years.csv", *regions, "--period", "1900"], "no period 1900"),
        (["map", demo / "people.tif", "--classes", "5,1"], "does not rise"),
    ):
        done = run(*arguments, "--out", tmp_path / "x.png", check=False)
        assert done.returncode in (1, 2)
        assert said in done.stderr
        assert not (tmp_path / "x.png").exists()
