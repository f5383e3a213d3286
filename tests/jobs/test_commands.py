"""Commands called in this process on small grids, against plain loops over cells and days."""

import json

import netCDF4
import numpy as np
import pandas as pd
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.core.stats.normals import Base
from bavlo.errors import BavloError, OutputError, RequestError
from bavlo.figures.titles import title_of
from bavlo.files import whole_files
from bavlo.grids.source import ReadOptions
from bavlo.grids.writing import GridWriter
from bavlo.jobs.anomalies import anomalies
from bavlo.jobs.chart import chart
from bavlo.jobs.describe import describe
from bavlo.jobs.extremes import extremes
from bavlo.jobs.grid import grid
from bavlo.jobs.map import map_content
from bavlo.jobs.normals import normals
from bavlo.jobs.series import series
from bavlo.jobs.writing import check_outputs
from bavlo.regions.read import RegionOptions
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from bavlo.tables import csv
from bavlo.tables.formats import Companions
from brute import weighted_mean, weighted_percentile
from support import box, rows, run, write_grid, write_regions

DAYS = pd.date_range("1991-01-01", "2020-12-31")
SHAPES = {"east": box(1, 0, 3, 2), "far": box(2, 1, 3, 2)}
# Shares of the six cells, and their areas on the sphere.
ROWS = np.diff(np.sin(np.radians([0, 1, 2])))
AREA = np.repeat(ROWS[:, None], 3, axis=1)
INSIDE = {"east": np.array([[0, 1, 1], [0, 1, 1]]), "far": np.array([[0, 0, 0], [0, 0, 1]])}


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """Thirty years of daily rain and temperature on two rows of three cells."""
    folder = tmp_path_factory.mktemp("small")
    rng = np.random.default_rng(5)
    rain = np.round(rng.gamma(0.5, 9, (DAYS.size, 2, 3)), 1)
    season = 20 + 6 * np.cos(2 * np.pi * DAYS.dayofyear.to_numpy() / 365.25)
    tmax = np.round(season[:, None, None] + rng.normal(0, 2, rain.shape), 1)
    rain[400:430, 1, 2] = np.nan
    write_grid(
        folder / "rain.nc",
        rain,
        since="days since 1991-01-01",
        attributes={"cell_methods": "time: sum", "long_name": "Daily rain"},
    )
    write_grid(folder / "tmax.nc", tmax, name="tmax", unit="degC", since="days since 1991-01-01")
    write_regions(folder / "r.geojson", SHAPES, code=[7, 8])
    with rasterio.open(
        folder / "classes.tif",
        "w",
        driver="GTiff",
        width=3,
        height=2,
        count=1,
        dtype="uint8",
        crs="EPSG:4326",
        transform=from_origin(0, 2, 1, 1),
    ) as out:
        out.write(np.array([[1, 2, 2], [1, 1, 3]], "u1"), 1)
    return folder, rain, tmax


def asked(world, command, names, **options):
    """A request about the grids of the world."""
    folder = world[0]
    given = {name.replace("_", "-"): value for name, value in options.items()}
    return make_request(
        command,
        {
            "grids": [str(folder / name) for name in names],
            "regions": str(folder / "r.geojson"),
            "label": "name",
            "jobs": "2",
            "memory": "8GB",  # of a process that has done other tests before
            **given,
        },
    )


def region_mean(values, name):
    weights = (AREA * INSIDE[name]).ravel()
    return np.array([weighted_mean(day, weights) for day in values.reshape(len(values), -1)])


def frame(result):
    table = result.table
    return pd.DataFrame({name: table.column(name) for name in table.header})


def test_a_series_is_what_plain_loops_give(world):
    request = asked(
        world, "series", ["tmax.nc"], every="year", measure=["mean,p90"], order="region"
    )
    reporter = SilentReporter()
    result = series(request, reporter)
    found = frame(result)
    tmax = world[2]
    for name in SHAPES:
        daily = pd.Series(region_mean(tmax, name), index=DAYS)
        own = found[(found.region == name) & (found.measure == "mean")]
        np.testing.assert_allclose(own["value"], daily.groupby(DAYS.year).mean(), rtol=1e-12)
        weights = (AREA * INSIDE[name]).ravel()
        tops = [weighted_percentile(day, weights, 90) for day in tmax.reshape(len(tmax), -1)]
        own = found[(found.region == name) & (found.measure == "p90")]
        yearly = pd.Series(tops, index=DAYS).groupby(DAYS.year).mean()
        np.testing.assert_allclose(own["value"], yearly, rtol=1e-12)
    assert result.about["request"]["every"] == ["year"]
    assert result.about["grid"]["kind_evidence"]
    assert any("regions, named by 'name'" in note for note in reporter.notes)
    assert "of each year" in result.title


def test_a_gap_leaves_a_period_empty_and_says_why(world):
    found = frame(series(asked(world, "series", ["rain.nc"], every="year"), SilentReporter()))
    gap = found[(found.region == "far") & (found.period == "1992")].iloc[0]
    assert np.isnan(gap["value"])
    assert gap["note"] == "336 of 366 days"
    rest = found[(found.region == "far") & (found.period == "1993")].iloc[0]
    assert rest["value"] == pytest.approx(world[1][DAYS.year == 1993, 1, 2].sum())


def test_normals_and_anomalies_agree_with_plain_statistics(world):
    daily = pd.Series(region_mean(world[2], "east"), index=DAYS)
    months = daily.resample("MS").mean()
    base = months["1991":"2010"]
    options = {"every": "month", "base": "1991..2010", "only": ["east"]}
    found = frame(normals(asked(world, "normals", ["tmax.nc"], **options), SilentReporter()))
    mean = found[found.statistic == "mean"]
    np.testing.assert_allclose(mean["value"], base.groupby(base.index.month).mean(), rtol=1e-12)
    std = found[found.statistic == "std"]
    np.testing.assert_allclose(std["value"], base.groupby(base.index.month).std(), rtol=1e-10)
    away = frame(anomalies(asked(world, "anomalies", ["tmax.nc"], **options), SilentReporter()))
    normal = base.groupby(base.index.month).mean().loc[months.index.month].to_numpy()
    np.testing.assert_allclose(away["anomaly"], months - normal, atol=1e-11)
    assert away["percent_of_normal"].isna().all()
    ranks = months.groupby(months.index.month).rank(method="min")
    np.testing.assert_array_equal(away["rank"], ranks)


def test_what_a_normal_or_an_anomaly_depends_on_stands_in_its_provenance(world):
    daily = {"every": "day", "base": "1991..2020", "only": ["far"], "during": "2001"}
    plain, smooth = (
        anomalies(asked(world, "anomalies", ["tmax.nc"], **daily, **more), SilentReporter())
        for more in ({}, {"smooth": "15"})
    )
    assert not np.array_equal(plain.table.full("normal"), smooth.table.full("normal"))
    assert plain.about["request"]["command"] == "anomalies"
    assert "smooth" not in plain.about["request"]
    assert smooth.about["request"]["smooth"] == 15
    monthly = {"every": "season", "base": "1991..2020", "normals_from": "months"}
    monthly["statistic"] = ["mean"]
    request = normals(asked(world, "normals", ["tmax.nc"], **monthly), SilentReporter()).about
    assert request["request"]["normals-from"] == "months"
    assert request["request"]["statistic"] == ["mean"]
    assert request["request"]["command"] == "normals"
    spi = asked(world, "anomalies", ["rain.nc"], every="month", score="spi", base="1991..2020")
    assert anomalies(spi, SilentReporter()).about["request"]["score"] == "spi"


def test_a_score_of_volumes_is_refused_for_what_it_is(world):
    request = asked(
        world, "anomalies", ["rain.nc"], measure=["volume"], score="spi", base="1991..2020"
    )
    with pytest.raises(RequestError, match="depths of rain, and the volume is in m3"):
        anomalies(request, SilentReporter())


def test_counts_and_events_are_those_of_a_plain_loop(world, tmp_path):
    rain = world[1]
    request = asked(
        world,
        "extremes",
        ["rain.nc"],
        when=["rain >= 20 mm"],
        count=["days,longest,total"],
        every="year",
        only=["far"],
        events=str(tmp_path / "e.csv"),
    )
    result = extremes(request, SilentReporter())
    found = frame(result)
    own = pd.Series(rain[:, 1, 2], index=DAYS)
    met = own >= 20
    yearly = met.groupby(DAYS.year).sum()
    counted = found[found["count"] == "days"].set_index("period")["value"]
    assert np.isnan(counted["1992"])
    for year in (1991, 1993, 2020):
        assert counted[str(year)] == yearly[year]
        total = found[(found["count"] == "total") & (found.period == str(year))]["value"].iloc[0]
        assert total == pytest.approx(own[met & (DAYS.year == year)].sum())
    starts = (met & ~met.shift(fill_value=False)).sum()
    assert len(result.events) == starts
    assert result.about["tested_on"] == "cell"


def test_a_percentile_condition_counts_days_beyond_that_of_their_calendar_day(world):
    request = asked(
        world, "extremes", ["tmax.nc"], when=["tmax > p90"], every="year", base="1991..2020"
    )
    found = frame(extremes(request, SilentReporter()))
    # By construction a tenth of the days of the base.
    assert found["value"].mean() == pytest.approx(36.5, abs=2)


def test_indices_of_regions_follow_their_definitions(world):
    folder = world[0]
    request = asked(world, "extremes", [], index=["SU,TXx"], test_on="region", only=["far"])
    grids = make_request("extremes", {"grids": [f"tmax={folder / 'tmax.nc'}"]}).grids
    found = frame(extremes(type(request)(**{**vars(request), "grids": grids}), SilentReporter()))
    own = pd.Series(world[2][:, 1, 2], index=DAYS).groupby(DAYS.year)
    summer = found[found.condition == "SU"]["value"]
    np.testing.assert_array_equal(summer, own.apply(lambda days: (days > 25).sum()))
    np.testing.assert_allclose(found[found.condition == "TXx"]["value"], own.max())


def test_return_levels_grow_with_the_years_and_are_drawn_with_what_they_were_fitted_to(
    world, tmp_path
):
    request = asked(world, "extremes", ["rain.nc"], return_levels="2,10,50")
    reporter = SilentReporter()
    result = extremes(request, reporter)
    levels = result.table.full("value")
    assert (np.diff(levels, axis=1) > 0).all()
    yearly = pd.Series(world[1][:, 1, 2], index=DAYS).groupby(DAYS.year).max()
    highest = result.drawing["highest"].values["far"]
    np.testing.assert_allclose(highest, np.sort(yearly.drop(1992)))
    median = np.median(yearly)
    assert result.table.full("value")[1, 0] == pytest.approx(median, rel=0.2)
    for wrong, said in (
        ({"when": ["rain > 1 mm"]}, "stands for itself"),
        ({"every": "month"}, "yearly highest values"),
        ({"measure": ["mean,max"]}, "one measure"),
    ):
        again = asked(world, "extremes", ["rain.nc"], return_levels="2", **wrong)
        with pytest.raises(RequestError, match=said):
            extremes(again, reporter)


class Kept(GridWriter):
    """A writer that keeps what it is given."""

    def __init__(self):
        self.fields = {}

    def put(self, variable, period, values, rows):
        assert rows.start == 0
        assert (variable, period) == (0, len(self.fields))
        self.fields[period] = values.copy()


def test_a_grid_of_normals_scores_and_percents_is_that_of_each_cell(world):
    rain = pd.DataFrame(world[1].reshape(DAYS.size, -1), index=DAYS)
    years = rain.groupby(DAYS.year).sum(min_count=365)
    base = years.loc[1991:2010]
    expected = {
        "normal": base.mean().to_frame().T,
        "anomaly": years - base.mean(),
        "percent": years / base.mean() * 100,
        "score": (years - base.mean()) / base.std(),
        "value": years,
    }
    for product, values in expected.items():
        options = {"every": "year", "as": product, "base": "1991..2010", "outside": "missing"}
        reporter = SilentReporter()
        request = asked(world, "grid", ["rain.nc"], **options)
        result = grid(request, reporter)
        kept = Kept()
        said = result.write([kept])
        found = np.array([kept.fields[n].ravel() for n in range(len(values))])
        inside = INSIDE["east"].ravel().astype(bool)
        np.testing.assert_allclose(found[:, inside], values.to_numpy()[:, inside], rtol=1e-10)
        assert np.isnan(found[:, ~inside]).all()
        assert result.about["request"].get("as") == (None if product == "value" else product)
        assert "2 rows × 3 columns" in said[0]


def test_percent_of_a_temperature_is_refused(world):
    request = asked(
        world, "grid", ["tmax.nc"], every="month", base="1991..2020", **{"as": "percent"}
    )
    with pytest.raises(RequestError, match="means of a state in degC have no percent of normal"):
        grid(request, SilentReporter())


def test_shares_of_classes_add_up_and_have_their_areas(world):
    request = asked(world, "series", ["classes.tif"], measure=["shares"])
    folder = world[0]
    # Without flags the codes are told to be classes by what they are measured with.
    axes = (("lat", [0.5, 1.5], "degrees_north"), ("lon", [0.5, 1.5, 2.5], "degrees_east"))
    with netCDF4.Dataset(folder / "c.nc", "w") as data:
        for axis, centres, unit in axes:
            data.createDimension(axis, len(centres))
            data.createVariable(axis, "f8", (axis,))[:] = centres
            data[axis].units = unit
        codes = data.createVariable("cover", "i1", ("lat", "lon"))
        codes.flag_values = np.array([1, 2, 3], "i1")
        codes.flag_meanings = "sea wood field"
        codes[:] = [[1, 1, 3], [1, 2, 2]]
    request = asked(world, "series", ["c.nc"], measure=["shares"])
    found = frame(series(request, SilentReporter()))
    east = found[(found.region == "east") & (found.measure == "share")].set_index("class")["value"]
    assert east.sum() == pytest.approx(1)
    weights = AREA * INSIDE["east"]
    assert east["wood"] == pytest.approx(weights[1, 1:].sum() / weights.sum())
    area = found[(found.region == "far") & (found.measure == "area")].set_index("class")["value"]
    assert area["wood"] > 12_000
    assert area["sea"] == 0


def test_a_grid_without_time_is_a_table_and_no_chart_and_nothing_is_lost(world, tmp_path):
    folder = world[0]
    write_grid(tmp_path / "height.nc", np.arange(6.0).reshape(2, 3), name="z", unit="m", time=False)
    words = ["series", tmp_path / "height.nc", "--regions", folder / "r.geojson"]
    run(*words, "--out", tmp_path / "a.csv")
    assert (tmp_path / "a.csv").exists()
    done = run(*words, "--out", tmp_path / "b.csv", "--out", tmp_path / "b.png", check=False)
    assert done.returncode == 2
    assert done.stderr.count("\n") == 1
    assert "no chart of a grid without time" in done.stderr
    assert not list(tmp_path.glob("b.*"))
    done = run("chart", tmp_path / "a.csv", "--out", tmp_path / "c.png", check=False)
    assert "no chart of a grid without time" in done.stderr
    assert not list(tmp_path.glob("*c.*"))


def test_an_error_in_drawing_is_one_line_and_leaves_nothing_half_written(
    world, tmp_path, monkeypatch
):
    from bavlo.figures import series as figures

    monkeypatch.setattr(figures, "lines_of", lambda *_: 1 / 0)
    words = ["series", world[0] / "rain.nc", "--regions", world[0] / "r.geojson", "--every", "year"]
    outs = ["--out", tmp_path / "a.csv", "--out", tmp_path / "a.png"]
    done = run(*words, *outs, check=False)
    assert done.returncode == 1
    assert "a.png: cannot be drawn (division by zero); nothing was written" in done.stderr
    assert done.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())


def test_a_map_takes_a_column_and_period_of_a_table_or_the_cells_of_a_grid(world, tmp_path):
    folder = world[0]
    table = tmp_path / "t.csv"
    csv.write_file(
        series(asked(world, "series", ["rain.nc"], every="year"), SilentReporter()).table,
        table,
        Companions(),
    )
    given = {"grids": [str(table)], "regions": str(folder / "r.geojson"), "label": "name"}
    reporter = SilentReporter()
    content = map_content(make_request("map", given), reporter)
    assert content.panels == ["2020"]
    assert reporter.notes == ["period 2020, the last with values; others by ‹period›"]
    years = map_content(make_request("map", {**given, "period": ["1992", "1993"]}), reporter)
    assert np.isnan(years.values[0, 1])
    assert years.values[1, 1] == pytest.approx(world[1][DAYS.year == 1993, 1, 2].sum())
    cells = {"grids": [str(folder / "tmax.nc")], "period": ["2001-03-05"]}
    content = map_content(make_request("map", cells), reporter)
    day = list(DAYS).index(pd.Timestamp("2001-03-05"))
    np.testing.assert_array_equal(content.grid.values[0], world[2][day])
    assert content.scaled is None
    scaled = map_content(make_request("map", {**cells, "classes-of": "all"}), reporter).scaled
    assert scaled.tolist() == [np.nanmin(world[2]), np.nanmax(world[2])]
    scaled = map_content(make_request("map", {**given, "classes-of": "all"}), reporter).scaled
    assert scaled.shape[1] > len(years.panels)
    assert np.nanmax(scaled) >= np.nanmax(years.values)
    with pytest.raises(BavloError, match="would need them all at once"):
        map_content(
            make_request("map", {**cells, "classes-of": "all", "classes": "quantile"}), reporter
        )
    for wrong, said in (
        ({"column": "snow"}, "the table has no snow"),
        ({"period": ["1066"]}, "there is no period 1066"),
        ({"regions": None}, "needs its regions"),
        ({"pick": ["measure=p90"]}, "measure has no p90"),
        ({"label": "code"}, "none of its regions is in the table"),
    ):
        with pytest.raises(BavloError, match=said):
            map_content(make_request("map", {**given, **wrong}), reporter)


def test_a_chart_shows_the_regions_that_are_asked_for(world, tmp_path):
    table = tmp_path / "t.csv"
    csv.write_file(
        series(asked(world, "series", ["rain.nc"], every="year"), SilentReporter()).table,
        table,
        Companions(),
    )
    given = {"grids": [str(table)], "only": ["f*"], "kind": "totals", "base": "1995..2000"}
    content = chart(make_request("chart", given))
    assert content.tables[0].labels("region") == ["far"]
    assert content.base == Base(1995, 2000)
    assert content.title == title_of(content.tables[0]) == "Rain: total of each year"
    figure = content.draw()
    assert any("1995..2000" in text.get_text() for text in figure.texts)


def test_what_is_in_files_is_told_in_words(world):
    folder, _, tmax = world
    found = describe(
        [folder / "tmax.nc", folder / "r.geojson"], ReadOptions(), RegionOptions(), (2.5, 1.5)
    )
    told = {each.heading: dict(each.facts) for each in found}
    heat = told[str(folder / "tmax.nc")]
    assert "state" in heat["kind"]
    assert heat["steps"].startswith("10958 of one day, 1991-01-01..2020-12-31, no gaps")
    assert f"{tmax[:, 1, 2].max():.6g} degC" in heat["there"]
    regions = told[str(folder / "r.geojson")]
    assert regions["regions"].startswith("2 (GeoJSON")
    assert "name" in regions["label"]
    overlay = next(each for each in found if "on the cells of" in each.heading)
    assert "a region touches 1 to 4" in dict(overlay.facts)["cells"]
    said = run("describe", folder / "tmax.nc", "--format", "json").stdout
    assert json.loads(said)[0]["what"] == str(folder / "tmax.nc")


def test_outputs_appear_together_or_not_at_all(tmp_path):
    one, other = tmp_path / "a.csv", tmp_path / "b.csv"

    def fail():
        with whole_files([one, other], replace=True) as drafts:
            drafts[one].write_text("x")
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        fail()
    assert not list(tmp_path.iterdir())
    with whole_files([one, other], replace=True) as drafts:
        for path, draft in drafts.items():
            draft.write_text(path.name)
    assert [p.read_text() for p in (one, other)] == ["a.csv", "b.csv"]
    for paths, said in (
        ([one], "exists already"),
        ([tmp_path], "is a folder"),
        ([tmp_path / "no" / "c.csv"], "there is no folder"),
        ([tmp_path / "c.csv"] * 2, "named twice"),
    ):
        with pytest.raises(OutputError, match=said):
            check_outputs(paths, replace=False)
    check_outputs([one], replace=True)


@pytest.mark.parametrize(
    ("command", "options", "said"),
    [
        ("series", {"measure": ["sum"]}, "depends on the size of the cells"),
        ("series", {"measure": ["volume"], "combine": "mean"}, "volume is that of a total"),
        ("series", {"window": ["3,12"]}, "a series has one window"),
        ("series", {"window": ["3"], "measure": ["p90"]}, "is not made of those of its parts"),
        ("series", {"combine": "running", "window": ["3"]}, "do not go together"),
        ("series", {"min_steps": "wmo", "every": "year"}, "months made of days"),
        ("extremes", {"min_steps": "wmo", "when": ["rain > 20 mm"]}, "not counts"),
        ("series", {"unit": "degC"}, "cannot be converted"),
        ("series", {"during": "1900"}, "is outside the data"),
        ("series", {"during": "2001-03-02..2001-03-09"}, "holds no whole period"),
        ("series", {"regions": None}, "no regions were given"),
        ("series", {"combine": "degree-days above 3 degC"}, "degree days are of temperatures"),
        ("normals", {"base": "1901..1930"}, "is outside the data"),
        ("normals", {"normals_from": "months", "every": "dekad"}, "makes seasons, years and runs"),
        ("anomalies", {"score": "spi", "combine": "max"}, "spi is for totals"),
        ("extremes", {}, "say what to look for"),
        ("extremes", {"when": ["snow > 1 mm"]}, "there is no grid snow"),
        ("extremes", {"when": ["rain > 20"]}, "20 has no unit"),
        ("extremes", {"when": ["rain > 20 degC"]}, "cannot be compared"),
        ("extremes", {"when": ["rain > p95"]}, "of which days is p95"),
        ("extremes", {"index": ["TX90p"]}, "needs tmax"),
        ("extremes", {"index": ["CDD"], "every": "month"}, "is defined by year"),
        ("grid", {"outside": "crop", "regions": None}, "goes with regions"),
    ],
)
def test_what_makes_no_sense_is_refused_before_anything_is_read(world, command, options, said):
    names = ["rain.nc"]
    functions = {
        "series": series,
        "normals": normals,
        "anomalies": anomalies,
        "extremes": extremes,
        "grid": grid,
    }
    with pytest.raises(BavloError, match=said):
        functions[command](asked(world, command, names, **options), SilentReporter())


@pytest.fixture
def arid(tmp_path):
    """Thirty years of months without rain but for two wet years, and of a constant temperature."""
    stamps = [(day - pd.Timestamp(1991, 1, 1)).days for day in pd.date_range(
        "1991-01-01", "2020-12-01", freq="MS"
    )]  # fmt: skip
    rain = np.zeros((360, 2, 3))
    rain[7 * 12 : 9 * 12] = np.arange(1.0, 25)[:, None, None]
    write_grid(tmp_path / "rain.nc", rain, since="days since 1991-01-01", stamps=stamps)
    days = np.full((DAYS.size, 2, 3), 12.9)
    write_grid(
        tmp_path / "tmax.nc",
        days.astype("f4"),
        name="tmax",
        unit="degC",
        since="days since 1991-01-01",
    )
    write_regions(tmp_path / "r.geojson", SHAPES)
    return tmp_path, None, None


def test_a_constant_temperature_has_no_warm_days_and_no_warm_spell(arid):
    options = {"index": ["TX90p,WSDI"], "base": "1991..2020", "test_on": "region"}
    found = frame(extremes(asked(arid, "extremes", ["tmax.nc"], **options), SilentReporter()))
    assert set(found["value"]) == {0.0}
    when = {"when": ["tmax > p90"], "every": "year", "base": "1991..2020"}
    found = frame(extremes(asked(arid, "extremes", ["tmax.nc"], **when), SilentReporter()))
    assert set(found["value"]) == {0.0}


def test_a_shared_rank_is_said_to_be_shared(arid):
    options = {"every": "month", "base": "1991..2020", "during": "2020-12", "only": ["far"]}
    result = anomalies(asked(arid, "anomalies", ["rain.nc"], **options), SilentReporter())
    assert result.summary[-1].endswith("driest of 30, with 27 others")
    assert frame(result)["rank"].tolist() == [1]
    assert "tied" not in result.table.header


def test_a_score_needs_four_fifths_of_the_base_and_notes_a_base_of_mostly_zeros(world, arid):
    options = {"every": "month", "score": "spi", "only": ["far"]}
    wet = asked(world, "anomalies", ["rain.nc"], base="1981..2010", **options)
    found = frame(anomalies(wet, SilentReporter()))
    assert found["score"].isna().all()  # 20 of 30 years
    assert set(found["note"]) >= {"normal from 20 years only"}
    rain = np.zeros((DAYS.size, 2, 3))
    rain[DAYS.year % 5 < 2] = np.random.default_rng(3).gamma(
        1, 9, ((DAYS.year % 5 < 2).sum(), 2, 3)
    )
    write_grid(arid[0] / "dry.nc", rain, since="days since 1991-01-01")
    dry = asked(arid, "anomalies", ["dry.nc"], base="1991..2020", **options)
    found = frame(anomalies(dry, SilentReporter()))
    assert not found["score"].isna().any()
    assert set(found["note"]) == {"60% of the base values are 0"}


def test_grids_of_normals_have_a_time_axis_that_ascends(world):
    options = {"every": "season", "as": "normal", "base": "1992..2020"}
    result = grid(asked(world, "grid", ["tmax.nc"], **options), SilentReporter())
    assert result.output.labels == ("DJF", "MAM", "JJA", "SON")
    assert (np.diff(result.output.start) > 0).all()


def test_a_mean_volume_is_refused_for_what_it_is(world):
    request = asked(world, "series", ["rain.nc"], measure=["volume"], combine="mean")
    with pytest.raises(RequestError, match="volume is that of a total"):
        series(request, SilentReporter())


def sums_of(folder, block, regions, **options):
    """Value and note of each day's sum, of a grid of people per cell."""
    name = f"people{len(list(folder.iterdir()))}.nc"
    grid = write_grid(folder / name, block, name="people", unit="people")
    options = {"every": "day", "measure": ["sum"], **options}
    return [(row["value"], row["note"]) for row in rows("series", grid, regions, **options)]


def test_a_sum_over_cells_with_gaps_has_no_value_unless_it_is_asked_for(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4)})
    block = np.ones((3, 4, 4))
    block[1, 0, :2] = np.nan
    found = sums_of(tmp_path, block, regions)
    assert found[0][0] == found[2][0] == "16"
    assert found[1] == ("", "area_valid 0.87")
    by_month = sums_of(tmp_path, block, regions, every="all", measure=["sum,mean"])
    assert by_month[0] == ("", "area_valid 0.96")
    assert float(by_month[1][0]) == pytest.approx(1)
    assert sums_of(tmp_path, block, regions, **{"min-area": "0.5"})[1] == ("14", "")


def test_cells_that_never_have_data_are_left_out_of_sums_and_said(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4)})
    block = np.ones((3, 4, 4))
    block[:, :3] = np.nan
    found = sums_of(tmp_path, block, regions)
    assert found == [("4", "75 % of the area never has data")] * 3
    block[1, 3, 0] = np.nan
    found = sums_of(tmp_path, block, regions)
    assert [value for value, _ in found] == ["4", "", "4"]
    # Another cell is missing on each day, so that no day has all of them.
    block[0, 3, 1] = block[2, 3, 2] = np.nan
    assert [value for value, _ in sums_of(tmp_path, block, regions)] == ["", "", ""]


def test_a_volume_over_cells_with_gaps_has_no_value(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4)})
    block = np.ones((3, 4, 4))
    block[1, 0] = np.nan
    for packed in (False, True):
        grid = tmp_path / f"rain{packed}.nc"
        if packed:
            write_grid(grid, np.nan_to_num(block, nan=-9).astype("i2"), fill_value=-9)
        else:
            write_grid(grid, block)
        found = rows("series", grid, regions, every="day", measure=["volume"])
        assert [bool(row["value"]) for row in found] == [True, False, True]
        found = rows("series", grid, regions, every="all", measure=["volume"])
        assert found[0]["value"] == ""


def test_regions_whose_sums_are_tested_need_all_cells_too(tmp_path):
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 4, 4)})
    block = np.ones((4, 4, 4))
    block[1, 0, 0] = np.nan
    grid = write_grid(tmp_path / "people.nc", block, name="people", unit="people")
    options = {
        "when": ["people >= 10 people"],
        "measure": ["sum"],
        "test-on": "region",
        "every": "all",
    }
    strict = rows("extremes", grid, regions, **options)
    assert (strict[0]["value"], strict[0]["steps"]) == ("", "3")
    loose = rows("extremes", grid, regions, **options, **{"min-area": "0.5"})
    assert loose[0]["value"] == "4"


@pytest.mark.parametrize("order", ["cell", "region"])
def test_periods_between_others_that_have_no_step_have_no_value(tmp_path, order):
    stamps = np.r_[np.arange(59), np.arange(181, 273), np.arange(730, 790)]
    rain = np.random.default_rng(4).gamma(0.5, 8, (len(stamps), 30, 40))
    write_grid(tmp_path / "rain.nc", rain, stamps=stamps)
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 40, 30)})
    found = rows("series", tmp_path / "rain.nc", tmp_path / "r.geojson", every="month", order=order)
    valued = {row["period"]: row["value"] for row in found if row["value"]}
    days = np.datetime64("2001-01-01") + stamps
    weights = cell_areas(30)
    for month in ("2001-01", "2001-02", "2001-07", "2001-08", "2001-09", "2003-01", "2003-02"):
        total = rain[days.astype("M8[M]") == np.datetime64(month)].sum(0)
        wanted = np.average(total, weights=np.broadcast_to(weights, total.shape))
        assert float(valued.pop(month)) == pytest.approx(wanted, rel=1e-3)
    assert not valued
    assert len(found) == 27


def cell_areas(rows):
    """(rows, 1) areas of cells of one degree on a sphere, from the equator on."""
    return np.diff(np.sin(np.radians(np.arange(rows + 1))))[:, None]
