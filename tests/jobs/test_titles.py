"""What is said of tables in titles, notes and sentences is true."""

import csv
import re
from pathlib import Path

import netCDF4
import numpy as np
import pytest

from bavlo.errors import RequestError
from bavlo.figures import style
from bavlo.figures.maps import draw_map
from bavlo.jobs.chart import chart
from bavlo.jobs.findings import findings, in_words, map_in_words
from bavlo.jobs.map import map_content
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from bavlo.tables.formats import read_table
from support import box, run, write_grid, write_regions

YEARS = 30
DAYS = int((np.datetime64(f"{2001 + YEARS}-01-01") - np.datetime64("2001-01-01")).astype(int))


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = tmp_path_factory.mktemp("titles")
    rng = np.random.default_rng(11)
    rain = rng.gamma(0.5, 8, (DAYS, 2, 3))
    rain[:, 1, 2] = 0.0  # a place without rain
    warm = 20 + rng.normal(0, 3, (DAYS, 2, 3))
    write_grid(
        folder / "rain.nc", rain, name="rain", unit="mm", attributes={"long_name": "Daily rain"}
    )
    write_grid(folder / "tmax.nc", warm, name="tmax", unit="degC")
    shapes = {"wet": box(0, 0, 2, 2), "middle": box(2, 0, 3, 1), "dry": box(2, 1, 3, 2)}
    write_regions(folder / "r.geojson", shapes)
    return folder


def made(world, name, command, grid, *options):
    run(command, grid, "--regions", "r.geojson", *options, "--out", name, "--replace", cwd=world)
    return str(world / name)


def read(path):
    with Path(path).open() as file:
        return list(csv.DictReader(file))


def title(path, **given):
    return chart(make_request("chart", {"grids": [path], **given})).title


def map_of(path, world, **given):
    given = {"grids": [path], "regions": str(world / "r.geojson"), **given}
    return map_content(make_request("map", given), SilentReporter())


@pytest.mark.parametrize(
    ("command", "grid", "options", "charted", "column", "period", "mapped"),
    [
        ("series", "rain.nc", ["--every", "month"], "Rain: total of each month", None, "2018-05",
         "Rain: total, May 2018, mm"),
        ("series", "rain.nc", ["--every", "month", "--window", "3"], "Rain: total of 3 months",
         None, "2018-05", "Rain: total, March to May 2018, mm"),
        ("series", "rain.nc", ["--every", "JFM", "--measure", "max"],
         "Rain: total, max of the cells, from January to March of each year", None, "2018-JFM",
         "Rain: total, max of the cells, January to March 2018, mm"),
        ("series", "tmax.nc", ["--every", "year", "--combine", "max"], "Tmax: highest of each year",
         None, "2018", "Tmax: highest, 2018, degC"),
        ("anomalies", "rain.nc", ["--every", "month", "--base", "2001..2030", "--window", "3"],
         "Anomalies of rain, 3 months", None, "2025-11",
         "Anomaly of rain, September to November 2025, mm"),
        ("anomalies", "rain.nc", ["--every", "month", "--base", "2001..2030", "--window", "3",
         "--score", "spi"], "SPI-3 of rain", "score", "2025-11",
         "SPI-3 of rain, September to November 2025"),
        ("anomalies", "rain.nc", ["--every", "season", "--base", "2001..2030", "--score", "spi"],
         "SPI-3 of rain", "percent_of_normal", "2012/13-DJF",
         "Rain, percent of normal, December 2012 to February 2013"),
        ("normals", "tmax.nc", ["--base", "2001..2030", "--statistic", "mean"],
         "Normals of tmax: mean of each month", None, "07", "Normal of tmax: mean, July, degC"),
        ("extremes", "rain.nc", ["--when", "rain >= 20 mm", "--every", "year"],
         "Rain >= 20 mm: days of each year", None, "2018", "Rain >= 20 mm: days, 2018, days"),
    ],
)  # fmt: skip
def test_a_title_says_quantity_statistic_window_and_period(
    world, command, grid, options, charted, column, period, mapped
):
    path = made(world, "t.csv", command, grid, *options)
    assert title(path) == charted
    given = {"period": [period], **({"column": column} if column else {})}
    if command == "normals":
        given["pick"] = ["statistic=mean"]
    assert map_of(path, world, **given).title == mapped


def test_a_season_that_grid_made_is_titled_as_what_it_is(world):
    run("grid", "rain.nc", "--every", "05-01..09-30", "--during", "2018", "--out", "season.nc",
        "--replace", cwd=world)  # fmt: skip
    content = map_content(
        make_request("map", {"grids": [str(world / "season.nc")]}), SilentReporter()
    )
    assert content.title == "Total of daily rain, May to September 2018, mm"


def test_parts_of_years_say_from_which_day_to_which(world):
    path = made(world, "t.csv", "series", "rain.nc", "--every", "year", "--same-span")
    assert title(path, figure="totals") == "Rain: total of each year"
    write_grid(world / "short.nc", np.ones((DAYS - 194, 2, 3)), name="rain", unit="mm")
    path = made(world, "t.csv", "series", "short.nc", "--every", "year", "--same-span")
    assert title(path, figure="totals") == "Rain: total, from 1 January to 20 June of each year"


def test_the_column_window_and_the_steps_of_windows(world):
    path = made(world, "t.csv", "series", "rain.nc", "--every", "month", "--window", "3")
    rows = read(path)
    august = next(r for r in rows if r["period"] == "2018-08")
    assert (august["window"], august["steps"], august["steps_expected"]) == ("3", "92", "92")
    assert rows[0]["note"] == "window not complete"
    path = made(world, "a.csv", "anomalies", "rain.nc", "--every", "month", "--window", "1,3",
                "--base", "2001..2030")  # fmt: skip
    rows = read(path)
    found = {
        r["window"]: r["steps"] for r in rows if (r["region"], r["period"]) == ("wet", "2018-08")
    }
    assert found == {"1": "31", "3": "92"}
    assert {r["note"] for r in rows if r["period"] == "2001-01" and r["window"] == "3"} == {
        "window not complete"
    }


def test_a_window_over_a_gap_says_how_many_of_its_steps_there_are(tmp_path):
    rain = np.ones((365, 2, 3))
    rain[40:45] = np.nan
    write_grid(tmp_path / "rain.nc", rain)
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    for command, more in (("series", []), ("anomalies", ["--base", "2001..2001"])):
        run(command, "rain.nc", "--regions", "r.geojson", "--every", "month", "--window", "3",
            *more, "--out", "t.csv", "--replace", cwd=tmp_path)  # fmt: skip
        rows = {r["period"]: r for r in csv.DictReader((tmp_path / "t.csv").open())}
        assert rows["2001-04"]["note"].startswith("84 of 89")
        assert (rows["2001-04"]["steps"], rows["2001-05"]["note"]) == ("84", "")


def test_ties_are_said_everywhere(world):
    path = made(world, "a.csv", "anomalies", "rain.nc", "--every", "year", "--base", "2001..2030",
                "--during", "2030")  # fmt: skip
    rows = {r["region"]: r for r in read(path)}
    assert rows["dry"]["note"] == "normal is 0, so there is no percent of it"
    table = made(world, "months.csv", "series", "rain.nc", "--every", "year")
    sentences, _ = findings(read_table(world / "months.csv"))
    assert not any(text.startswith("dry") for text in sentences)
    assert "lowest 0 mm (dry, 2001 and 29 others)" in in_words(read_table(world / "months.csv"))
    words = map_in_words(map_of(table, world, period=["all"]))
    assert re.search(r"lowest value is 0 mm \(dry, \d{4} and 29 others\)", words)


def test_a_shared_rank_is_noted_and_read_back(tmp_path):
    yearly = np.repeat([3.0, 1, 5, 1, 4, 1, 6, 7, 8, 9, 2, 10], 12)
    lines = ["region,month,rain (mm)"]
    lines += [f"a,{2001 + n // 12}-{n % 12 + 1:02},{value}" for n, value in enumerate(yearly)]
    (tmp_path / "t.csv").write_text("\n".join(lines) + "\n")
    said = run("anomalies", "t.csv", "--every", "year", "--base", "2001..2012", "--during", "2006",
               "--out", "a.csv", cwd=tmp_path)  # fmt: skip
    assert "driest of 12, with 2 others" in said.stdout
    (row,) = csv.DictReader((tmp_path / "a.csv").open())
    assert (row["rank"], row["note"]) == ("1", "rank shared with 2 others")
    (sentence,), _ = findings(read_table(tmp_path / "a.csv"))
    assert "the lowest of 12, with 2 others" in sentence


@pytest.mark.parametrize(
    ("head", "unit", "words"),
    [
        ("rain", "mm", "est of 12"),
        ("evaporation", "mm", "owest of 12"),
        ("days", "days", "owest of 12"),
    ],
)
def test_only_rain_is_dry_or_wet(tmp_path, head, unit, words):
    lines = [f"region,year,{head} ({unit})"] + [f"a,{2000 + n},{n + 1}" for n in range(12)][::-1]
    (tmp_path / "t.csv").write_text("\n".join(lines) + "\n")
    said = run("anomalies", "t.csv", "--base", "2000..2011", "--kind", "amount", "--during", "2000",
               cwd=tmp_path).stdout  # fmt: skip
    assert words in said
    assert ("driest" in said) == (head == "rain")


@pytest.mark.parametrize("name", ["p0.9", "p0.5"])
def test_a_share_is_no_percentile(world, name):
    for command, options in (
        ("normals", ["--statistic", name, "--base", "2001..2030"]),
        ("series", ["--measure", name]),
        ("extremes", ["--when", f"rain > {name}"]),
        ("series", ["--make", f"x = rain / {name}(rain)"]),
    ):
        done = run(command, "rain.nc", "--regions", "r.geojson", *options, check=False, cwd=world)
        assert (done.returncode, "percentiles go from p0 to p100" in done.stderr) == (2, True)


SIDES = [
    ("anomalies", "anomaly", [], 0.0),
    ("anomalies", "percent_of_normal", [], 100.0),
    ("anomalies", "score", [], 0.0),
    ("normals", "value", ["statistic=mean", "base=2016..2030 minus 2001..2015"], 0.0),
    ("trends", "slope", [], 0.0),
]


@pytest.mark.parametrize(("command", "column", "pick", "neutral"), SIDES)
def test_what_has_a_neutral_value_is_coloured_to_both_sides_of_it(
    world, command, column, pick, neutral
):
    base = ["--base", "2001..2015", "--base", "2016..2030"] if command == "normals" else []
    if command == "anomalies":
        base = ["--base", "2001..2030"]
    path = made(world, "t.csv", command, "tmax.nc" if command != "anomalies" else "rain.nc",
                "--every", "year", *base)  # fmt: skip
    content = map_of(path, world, column=column, pick=pick)
    assert content.neutral == neutral
    figure = draw_map(content)
    texts = [text.get_text().replace("−", "-") for text in figure.legends[0].get_texts()]
    ends = np.array([[float(n) for n in t.split(" to ")] for t in texts if " to " in t])
    colours = [patch.get_facecolor()[:3] for patch in figure.legends[0].get_patches()]
    lightness = [sum(colour) for colour, t in zip(colours, texts, strict=True) if " to " in t]
    nearest = np.argmin(np.abs(ends.mean(axis=1) - neutral))
    assert lightness[nearest] == max(lightness)  # pale at what is neutral, dark on both sides
    below, above = ends.mean(axis=1) < neutral, ends.mean(axis=1) > neutral
    if below.any() and above.any():
        assert set(np.array(colours)[: len(ends)][below][:, 0]).isdisjoint(
            np.array(colours)[: len(ends)][above][:, 0]
        )


def test_bias_has_two_sides_and_an_error_has_one(world):
    grids = ["a=rain.nc", "b=rain.nc"]
    run("compare", *grids, "--regions", "r.geojson", "--every", "year", "--out", "c.csv",
        "--replace", cwd=world)  # fmt: skip
    table = read_table(world / "c.csv")
    for name, neutral in (("bias", 0.0), ("rmse", None), ("correlation", None)):
        assert style.neutral_of(table.where("statistic", name), "value") == neutral


def test_a_trend_is_drawn_of_one_period_and_with_its_values(world):
    path = made(world, "t.csv", "trends", "tmax.nc", "--every", "season")
    with pytest.raises(RequestError, match="trend draws one period, and the table has 4"):
        chart(make_request("chart", {"grids": [path], "figure": "trend"})).draw()
    picked = {"grids": [path], "figure": "trend", "pick": ["period=JJA"]}
    with pytest.raises(RequestError, match="does not hold"):
        chart(make_request("chart", picked)).draw()
    made(world, "t.png", "trends", "tmax.nc", "--every", "year")


def test_events_of_hours_keep_their_hours(tmp_path):
    rain = np.zeros((72, 2, 3))
    rain[10:14] = 5.0
    rain[12] = 9.0
    write_grid(tmp_path / "rain.nc", rain, since="hours since 2001-03-05", stamps=np.arange(72))
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 3, 2)})
    run("extremes", "rain.nc", "--regions", "r.geojson", "--when", "rain > 1 mm", "--every",
        "month", "--min-steps", "0", "--events", "e.csv", cwd=tmp_path)  # fmt: skip
    (event,) = csv.DictReader((tmp_path / "e.csv").open())
    assert (event["start"], event["end"]) == ("2001-03-05T09:00", "2001-03-05T13:00")
    assert event["peak_on"] == "2001-03-05T11:00"
    for figure in ("timeline", "calendar", "longest"):
        run("chart", "e.csv", "--figure", figure, "--out", f"{figure}.png", cwd=tmp_path)


def test_a_ratio_of_seasons_has_no_gaps_in_time(world):
    made = ("--make", "r = x / y", "--make-on", "cell", "--every", "JJA")
    done = run("series", "x=rain.nc", "y=tmax.nc", "--regions", "r.geojson", *made, cwd=world)
    assert "gap" not in done.stderr


def test_a_repair_of_what_was_no_area_gives_no_percent(tmp_path):
    write_grid(tmp_path / "rain.nc", np.ones((31, 2, 3)))
    ring = [[0, 0], [2, 2], [2, 0], [0, 2.001], [0, 0]]  # crosses itself; encloses next to nothing
    (tmp_path / "r.geojson").write_text(
        '{"type":"FeatureCollection","features":[{"type":"Feature","properties":{"name":"a"},'
        f'"geometry":{{"type":"Polygon","coordinates":[{ring}]}}}}]}}'
    )
    said = run("series", "rain.nc", "--regions", "r.geojson", cwd=tmp_path).stderr
    assert "repaired; what it enclosed before was no area to compare with" in said
    assert not re.search(r"\d{3,}[.\d]* ?%", said)


def test_a_mean_by_people_is_called_one(world):
    run("grid", "rain.nc", "--every", "all", "--out", "w.nc", "--replace", cwd=world)
    with netCDF4.Dataset(world / "w.nc", "a") as data:
        data["rain"].units = "people"
        data["rain"].delncattr("cell_methods")
    given = ["--when", "rain > 20 mm", "--weight", "w.nc", "--every", "year", "--out", "d.csv"]
    said = run("extremes", "rain.nc", "--regions", "r.geojson", *given, "--replace", cwd=world)
    assert "the mean weighted by rain is taken" in said.stdout
    said = run("trace", "d.csv", "--region", "wet", "--period", "2018", cwd=world)
    assert "the mean weighted by rain is taken" in said.stdout


def test_sentences_of_windows_name_their_time(world):
    words = ("--every", "month", "--base", "2001..2030", "--during", "2025-11")
    for window, named in (("1", "wet, 2025-11: "), ("3", "wet, September to November 2025: ")):
        done = run("anomalies", "rain.nc", "--regions", "r.geojson", *words, "--window", window,
                   "--out", f"w{window}.csv", cwd=world)  # fmt: skip
        assert named in done.stdout
